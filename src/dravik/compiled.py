"""The one door to the compiler: functions compiled once per installation and kept on disk.

The compiler is loaded with the first call: who reads an aircraft's tables or a recording does not wait for it.
"""

import functools
import os
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar, cast

__all__ = ["compiled", "inlined", "intrinsic", "is_cached"]

F = TypeVar("F", bound=Callable[..., object])


class Compiled:
    """A function that is compiled when it is first called, or when another that calls it is compiled."""

    def __init__(self, function: Callable[..., object], options: dict[str, Any]) -> None:
        functools.update_wrapper(self, function)
        self._function, self._options = function, options

    def __call__(self, *args: Any) -> Any:
        return self.dispatcher(*args)

    @functools.cached_property
    def dispatcher(self) -> Any:
        """Numba's own object of the function."""
        return _dispatcher(self._function, self._options)

    @property
    def _numba_type_(self) -> Any:
        # what Numba asks of a global that it does not know
        return self.dispatcher._numba_type_


class Internal(Compiled):
    """A function that only compiled ones can call: without what Python needs for a call it compiles faster."""

    def __call__(self, *args: Any) -> Any:
        """Raise TypeError."""
        raise TypeError(f"{self._function.__name__} is called from compiled functions only")


class Intrinsic:
    """A function whose instructions are written out for the compiler; only compiled functions call it."""

    def __init__(self, function: Callable[..., object]) -> None:
        self.__name__, self.__doc__, self._function = function.__name__, function.__doc__, function

    @functools.cached_property
    def _made(self) -> Any:
        from numba.extending import intrinsic as made

        return made(self._function)

    @property
    def _numba_type_(self) -> Any:
        from numba.core.registry import cpu_target

        made, context = self._made, cpu_target.typing_context
        context.refresh()
        return context.resolve_value_type(made)


def compiled(function: F) -> F:
    """Compile ``function`` with Numba: cached on disk, IEEE division, free of the interpreter lock.

    Compiled functions work in arrays that their callers own and never allocate, so reference counting
    is left out: counted, the handing of a dozen arrays from function to function takes two thirds of
    a derivative evaluation.
    """
    return cast(F, Compiled(function, {}))


def inlined(function: F) -> F:
    """Compile a ``function`` that only compiled ones call, into each of them: a call costs more than most do."""
    return cast(F, Internal(function, {"no_cpython_wrapper": True, "forceinline": True}))


def intrinsic(function: F) -> F:
    """Make a function known to the compiler that returns a signature and a generator of its instructions."""
    return cast(F, Intrinsic(function))


def _dispatcher(function: Callable[..., object], more: dict[str, Any]) -> Any:
    import numba

    options: dict[str, Any] = {"error_model": "numpy", "nogil": True, "_nrt": False, "no_cfunc_wrapper": True, **more}
    try:
        return numba.njit(cache=True, **options)(function)
    except RuntimeError:
        # the installation is read-only and there is no home folder: cache in the temporary directory
        try:
            numba.config.CACHE_DIR = _temporary_folder()  # type: ignore[attr-defined]
            return numba.njit(cache=True, **options)(function)
        except (RuntimeError, OSError):
            return numba.njit(**options)(function)


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
    path = function.dispatcher.stats.cache_path
    return path is not None and any(Path(path).glob(f"*.{function.__name__}-*.nbi"))
