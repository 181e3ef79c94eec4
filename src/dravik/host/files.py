"""All reading and writing of files: only plain files of bounded size are read, and files are written atomically."""

import errno
import io
import os
import stat
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from functools import cache
from pathlib import Path
from typing import BinaryIO, TypeVar

from dravik.errors import DravikError, OutputError, readable

try:
    import fcntl
except ImportError:  # a system without advisory locks
    fcntl = None  # type: ignore[assignment]

__all__ = [
    "allowing",
    "as_path",
    "checked_file",
    "exists",
    "inside",
    "is_folder",
    "locked",
    "not_written",
    "read_text",
    "reason",
    "replace_file",
    "saved",
    "shown",
    "write_text",
]

T = TypeVar("T")
MEGABYTE = 1 << 20
TEXT_LIMIT = 16 * MEGABYTE  # definitions, side files
TABLE_LIMIT = 2048 * MEGABYTE
NO_ROOM = (errno.ENOSPC, errno.EIO, errno.EPIPE, errno.EFBIG, getattr(errno, "EDQUOT", errno.ENOSPC))

_allowed: ContextVar[tuple[Path, ...]] = ContextVar("allowed", default=())


def as_path(path: object) -> Path:
    """Return a path from a string or a path; raises DravikError for anything else."""
    if not isinstance(path, str | Path):
        raise DravikError(f"a file cannot be given as a {type(path).__name__}", expected="a path, as text or as Path")
    return Path(path)


@contextmanager
def allowing(*folders: str | Path) -> Iterator[None]:
    """Have definitions read files in some folders besides their own.

    >>> with allowing("shared_tables"):
    ...     pass
    """
    before = _allowed.set((*_allowed.get(), *(Path(f).resolve() for f in folders)))
    try:
        yield
    finally:
        _allowed.reset(before)


def inside(path: Path, folders: tuple[Path, ...]) -> Path:
    """Return a path that a definition names, if it leads into one of some folders or those allowed, links followed.

    Raises DravikError for any other: a folder from elsewhere must not be able to read the files of who opens it.
    """
    try:
        real = path.resolve()
    except (OSError, ValueError, RuntimeError) as error:
        raise DravikError(f"the path leads nowhere ({reason(error)})", where=shown(path)) from None
    for folder in (*(f.resolve() for f in folders), *_allowed.get()):
        if real == folder or folder in real.parents:
            return path
    raise DravikError(
        f"{shown(path)} leads outside the definition's folder", expected=f"a file in {shown(folders[0].resolve())}",
        hint="a copy in that folder, or dravik --root FOLDER ..., in Python load(..., root=FOLDER)",
    )  # fmt: skip


def exists(path: str | Path) -> bool:
    """Whether a path exists; False for paths that the system cannot represent (NUL, too long)."""
    try:
        return Path(path).exists()
    except (OSError, ValueError):
        return False


def is_folder(path: str | Path) -> bool:
    """Whether a path leads to a folder; one that no system can have leads nowhere."""
    try:
        return Path(path).is_dir()
    except (OSError, ValueError):
        return False


def checked_file(path: str | Path, *, what: str = "file", limit: int = TEXT_LIMIT, hint: str = "") -> Path:
    """Return a path that leads to a plain file of at most ``limit`` bytes.

    Raises DravikError for one that is not there, a folder, a pipe or a device (reading one might never end), or a file
    that is too large to be meant.
    """
    place = shown(path)
    try:
        status = os.stat(path)
    except FileNotFoundError:
        raise DravikError(f"there is no such {what}", where=place, hint=hint) from None
    except (OSError, ValueError) as error:
        raise DravikError(f"the {what} cannot be read ({reason(error)})", where=place) from None
    if not stat.S_ISREG(status.st_mode):
        kind = "a folder" if stat.S_ISDIR(status.st_mode) else "no plain file"
        raise DravikError(f"the {what} cannot be read: it is {kind}", where=place, hint=hint)
    if status.st_size > limit:
        size = f"{status.st_size / MEGABYTE:.0f} MB"
        raise DravikError(f"the {what} has {size}", where=place, expected=f"at most {limit // MEGABYTE} MB")
    return Path(path)


def read_text(path: str | Path, *, what: str = "file", limit: int = TEXT_LIMIT, hint: str = "") -> str:
    """Return a plain file's text (UTF-8, with or without its mark).

    Raises DravikError as ``checked_file`` does, and for bytes that are not UTF-8, with their place.
    """
    source = checked_file(path, what=what, limit=limit, hint=hint)
    try:
        return source.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        where = f"byte {error.start}"
        raise DravikError(
            f"the {what} cannot be read: it is not UTF-8 text ({where})", where=shown(path), hint="save it as UTF-8"
        ) from None
    except OSError as error:
        raise DravikError(f"the {what} cannot be read ({reason(error)})", where=shown(path)) from None


def saved(act: Callable[[], T], path: str | Path, *, what: str = "file") -> T:
    """Return what ``act`` returns, with errors of writing told as DravikError: a full disk, no right to, a bad name."""
    try:
        return act()
    except (OSError, ValueError) as error:
        if isinstance(error, DravikError):
            raise
        raise not_written(error, path, what) from None


def not_written(error: Exception, path: str | Path, what: str, hint: str = "") -> DravikError:
    """Return an error of writing in words: OutputError where the system had no room or no reader."""
    kind = OutputError if isinstance(error, OSError) and error.errno in NO_ROOM else DravikError
    return kind(f"the {what} cannot be written ({reason(error)})", where=shown(path), hint=hint)


@cache
def _mask() -> int:
    """Return what the user takes away of a new file's permissions; asked for once: asking changes it briefly."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def replace_file(path: str | Path, write: Callable[[BinaryIO], object]) -> None:
    """Write a file beside ``path`` and put it in its place when it is whole; a link there is replaced, not followed.

    Into a device or a pipe it is written as it comes: nothing could take its place.
    """
    target = Path(path)
    if is_device(target):
        with target.open("wb", buffering=0) as device:
            whole = io.BytesIO()
            write(whole)
            device.write(whole.getvalue())
        return
    handle, name = tempfile.mkstemp(prefix=f".{target.name[:40]}.", dir=target.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            write(file)
        os.chmod(name, 0o666 & ~_mask())
        os.replace(name, target)
    except BaseException:
        with suppress(OSError):
            os.unlink(name)
        raise


def is_device(path: Path) -> bool:
    """Whether a path is that of a device, pipe or socket, which has no file beside it."""
    try:
        mode = os.lstat(path).st_mode
    except (OSError, ValueError):
        return False
    return not (stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode))


def write_text(path: str | Path, text: str, *, what: str = "file") -> Path:
    """Write a text file as a whole, or not at all; raises DravikError when it cannot be written."""
    data = text.encode("utf-8", errors="replace")
    saved(lambda: replace_file(path, lambda file: file.write(data)), path, what=what)
    return Path(path)


def locked(path: Path) -> BinaryIO:
    """Return a file opened to be written anew, held against other writers until it is closed.

    A link of that name is replaced, not followed.

    Raises DravikError where another writer has it, and OSError where it cannot be opened.
    """
    if path.is_symlink():
        path.unlink()
    handle = os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0), 0o666)
    try:
        if fcntl is not None and stat.S_ISREG(os.fstat(handle).st_mode):
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            os.ftruncate(handle, 0)
    except BlockingIOError:
        os.close(handle)
        raise DravikError("another run is writing this recording", where=str(path), hint="another name") from None
    except OSError:
        os.close(handle)
        raise
    return os.fdopen(handle, "wb")


def reason(error: Exception) -> str:
    """Return why the system refused, in short words."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return str(error)[:120]


def shown(path: str | Path) -> str:
    """Return a path for a message: short, and without characters that a terminal would act on."""
    text = readable(str(path))
    return text if len(text) <= 200 else f"{text[:120]}...{text[-60:]}"
