"""The one door to the compiler: functions compiled once per installation and kept on disk."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numba

__all__ = ["compiled", "is_cached"]

F = TypeVar("F", bound=Callable[..., object])


def compiled(function: F) -> F:
    """Compile ``function`` with Numba: cached on disk, IEEE division, free of the interpreter lock.

    Compiled functions work in arrays that their callers own and never allocate, so reference counting
    is left out: counted, the handing of a dozen arrays from function to function takes two thirds of
    a derivative evaluation.
    """
    options: dict[str, Any] = {"cache": True, "error_model": "numpy", "nogil": True, "_nrt": False}
    wrapper: F = numba.njit(**options)(function)
    return wrapper


def is_cached(function: Any) -> bool:
    """Whether a compiled function lies on disk, so that its first call loads instead of compiling."""
    folder = Path(function.stats.cache_path)
    return any(folder.glob(f"*.{function.__name__}-*.nbi"))
