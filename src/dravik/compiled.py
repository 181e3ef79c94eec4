"""The one door to the compiler: functions compiled once per installation and kept on disk."""

import os
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numba

__all__ = ["compiled", "inlined", "is_cached"]

F = TypeVar("F", bound=Callable[..., object])


def inlined(function: F) -> F:
    """Compile a small ``function`` as ``compiled`` does, into each of its callers: a call costs more than its work."""
    return compiled(function, forceinline=True)


def compiled(function: F, **more: bool) -> F:
    """Compile ``function`` with Numba: cached on disk, IEEE division, free of the interpreter lock.

    Compiled functions work in arrays that their callers own and never allocate, so reference counting
    is left out: counted, the handing of a dozen arrays from function to function takes two thirds of
    a derivative evaluation.
    """
    options: dict[str, Any] = {"error_model": "numpy", "nogil": True, "_nrt": False, **more}
    wrapper: F
    try:
        wrapper = numba.njit(cache=True, **options)(function)
    except RuntimeError:
        # the installation is read-only and there is no home folder: cache in the temporary directory
        try:
            numba.config.CACHE_DIR = _temporary_folder()  # type: ignore[attr-defined]
            wrapper = numba.njit(cache=True, **options)(function)
        except (RuntimeError, OSError):
            wrapper = numba.njit(**options)(function)
    return wrapper


def _temporary_folder() -> str:
    """Return a folder of one's own among the temporary files; raises OSError where another user has it."""
    user = os.getuid() if hasattr(os, "getuid") else 0
    folder = os.path.join(tempfile.gettempdir(), f"dravik-kernel-{user}")
    os.makedirs(folder, mode=0o700, exist_ok=True)
    status = os.lstat(folder)
    if hasattr(os, "getuid") and (status.st_uid != user or not stat.S_ISDIR(status.st_mode) or status.st_mode & 0o022):
        raise OSError(f"{folder} is not this user's own")
    return folder


def is_cached(function: Any) -> bool:
    """Whether a compiled function lies on disk, so that its first call loads instead of compiling."""
    if function.stats.cache_path is None:
        return False
    folder = Path(function.stats.cache_path)
    return any(folder.glob(f"*.{function.__name__}-*.nbi"))
