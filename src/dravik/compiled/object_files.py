"""Machine code on disk and in memory: an object file beside what it is called, in a folder of the user's own."""

import ctypes
import hashlib
import json
import os
import platform
import stat
import tempfile
from collections.abc import Callable
from functools import cache
from importlib import metadata
from pathlib import Path
from typing import Any

__all__ = ["MachineCode", "host_machine", "kept"]

MOST = 100  # files of a name that are kept
MARK = b"dravik machine code 2\n"


class MachineCode:
    """Machine code in memory, with facts about it such as the names of its functions."""

    def __init__(self, compiled: bytes, facts: dict[str, Any]) -> None:
        import llvmlite.binding as llvm

        self.facts = facts
        for name in facts["needs"]:
            _provide(name)
        self._engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), host_machine())
        self._engine.add_object_file(llvm.ObjectFileRef.from_data(compiled))
        self._engine.finalize_object()

    def address(self, name: str) -> int:
        """Return where a function begins."""
        return int(self._engine.get_function_address(name))


def kept(name: str, key: str, make: Callable[[], tuple[str, dict[str, Any]]]) -> MachineCode:
    """Return machine code by its name and a key for all that it depends on: from disk, or made now and kept.

    ``make`` returns the text of a module in LLVM's language, and facts about it that JSON can hold.
    """
    path = _path(name, key)
    if path is not None:
        found = _read(path)
        if found is not None:
            return found
    text, facts = make()
    compiled, needs = _compiled(text)
    facts["needs"] = needs
    if path is not None:
        _write(path, compiled, facts)
    return MachineCode(compiled, facts)


def _path(name: str, key: str) -> Path | None:
    folder = _folder()
    return None if folder is None else folder / f"{name}-{key}-{_maker()}.o"


@cache
def _maker() -> str:
    """Return a short text for what machine code depends on besides its source: compiler, processor, call wrappers."""
    import llvmlite.binding as llvm

    parts = [
        metadata.version("numba"), metadata.version("llvmlite"), metadata.version("numpy"), platform.python_version(),
        llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten(), platform.system(), platform.machine(),
    ]  # fmt: skip
    found = hashlib.sha256("\n".join(parts).encode())
    for source in ("compiler.py", "call_wrappers.py", "modules.py", "object_files.py"):
        found.update(Path(__file__).with_name(source).read_bytes())
    return found.hexdigest()[:12]


def host_machine() -> Any:
    """Return LLVM's description of this processor: a new one, because what is run with it takes it with it."""
    import llvmlite.binding as llvm

    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    features = llvm.get_host_cpu_features().flatten()
    return llvm.Target.from_default_triple().create_target_machine(
        cpu=llvm.get_host_cpu_name(), features=features, opt=3, reloc="default", codemodel="jitdefault", jit=True
    )


def _compiled(text: str) -> tuple[bytes, list[str]]:
    """Return machine code, and the functions that it needs of others: those of the mathematical library."""
    import llvmlite.binding as llvm

    module = llvm.parse_assembly(text)
    module.verify()
    needs = [f.name for f in module.functions if f.is_declaration]
    # of what LLVM itself knows, some become calls of the mathematical library's functions, others instructions
    names = [n.removeprefix("llvm.").removesuffix(".f64") for n in needs]
    return bytes(host_machine().emit_object(module)), sorted({n for n in names if "." not in n})


def _provide(name: str) -> None:
    """Let machine code find a function of this process; what is none of its functions is none that is needed."""
    import llvmlite.binding as llvm

    if llvm.address_of_symbol(name) is None:
        library = ctypes.CDLL("ucrtbase") if os.name == "nt" else ctypes.CDLL(None)
        found = getattr(ctypes.pythonapi if name.startswith("Py") else library, name, None)
        if found is not None:
            llvm.add_symbol(name, ctypes.cast(found, ctypes.c_void_p).value)


@cache
def _folder() -> Path | None:
    """Return the user's own folder for machine code; None where there is none that others could not write to.

    A relative path is none: machine code that lay in a folder where somebody works would be run.
    """
    home = Path(os.environ.get("XDG_CACHE_HOME", ""))
    if not home.is_absolute():  # as the XDG specification asks
        home = Path(os.path.expanduser("~")) / ".cache"
    user = os.getuid() if hasattr(os, "getuid") else 0
    for folder in (home / "dravik" / "machine-code", Path(tempfile.gettempdir()) / f"dravik-machine-code-{user}"):
        if not folder.is_absolute():
            continue
        try:
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            own = _is_own(folder, stat.S_ISDIR) and all(map(_is_safe, folder.parents))
        except OSError:
            continue
        if own and os.access(folder, os.W_OK):
            return folder
    return None


def _is_own(path: Path, kind: Callable[[int], bool]) -> bool:
    """Whether a file or folder itself, not a link, is the user's and nobody else may write to it."""
    status = path.lstat()
    if not hasattr(os, "getuid"):
        return kind(status.st_mode)
    return kind(status.st_mode) and status.st_uid == os.getuid() and not status.st_mode & 0o022


def _is_safe(folder: Path) -> bool:
    """Whether nobody but the user and the system can put another folder in the place of one that lies in this one."""
    status = folder.stat()
    if not hasattr(os, "getuid"):
        return True
    return status.st_uid in (0, os.getuid()) and (not status.st_mode & 0o002 or bool(status.st_mode & stat.S_ISVTX))


def _read(path: Path) -> MachineCode | None:
    """Return what lies on disk; None where there is nothing, or not to the bit what was written by this user."""
    try:
        if not _is_own(path, stat.S_ISREG):
            return None
        data = path.read_bytes()
    except OSError:
        return None
    mark, _, rest = data.partition(b"\n")
    digest, _, content = rest.partition(b"\n")
    if mark + b"\n" != MARK or digest.decode("ascii", "replace") != hashlib.sha256(content).hexdigest():
        return None
    facts, _, compiled = content.partition(b"\n")
    return MachineCode(compiled, json.loads(facts))


def _write(path: Path, compiled: bytes, facts: dict[str, Any]) -> None:
    """Keep machine code, whole or not at all; a disk that takes nothing only costs time."""
    content = json.dumps(facts).encode() + b"\n" + compiled
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, suffix=".part")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(MARK + hashlib.sha256(content).hexdigest().encode() + b"\n" + content)
                file.flush()
                os.fsync(file.fileno())  # or a power cut could leave the name without the content
            os.replace(temporary, path)
        finally:
            Path(temporary).unlink(missing_ok=True)
        # of each name by itself: a study of many aircraft must not push the kernel out
        held = sorted(path.parent.glob(f"{path.name.split('-')[0]}-*.o"), key=lambda p: p.stat().st_mtime)
        for old in held[: max(0, len(held) - MOST)]:
            old.unlink(missing_ok=True)
    except OSError:
        return
