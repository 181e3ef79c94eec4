"""Arguments as Python gives them: names, numbers and mappings, checked where they come in."""

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError

__all__ = ["mapping", "names", "number", "numbers"]

Floats = NDArray[np.float64]


def names(value: Any, what: str) -> list[str]:
    """Return names as a list; raises DravikError for anything but a sequence of text."""
    if isinstance(value, str) or not isinstance(value, Iterable):
        raise DravikError(f"{what}: {shown(value)}", expected="a list of names")
    found = list(value)
    for name in found:
        if not isinstance(name, str):
            raise DravikError(f"{what}: {shown(name)} among the names", expected="text")
    return found


def mapping(value: Any, what: str) -> dict[str, Any]:
    """Return a mapping as a dict; raises DravikError for anything but one by text."""
    if not isinstance(value, Mapping):
        raise DravikError(f"{what}: {shown(value)}", expected="a dict by name")
    for name in value:
        if not isinstance(name, str):
            raise DravikError(f"{what}: {shown(name)} as a name", expected="text")
    return dict(value)


def number(value: Any, what: str) -> float:
    """Return a finite number; raises DravikError for anything else."""
    if isinstance(value, bool) or not isinstance(value, int | float | np.number) or not np.isfinite(value):
        raise DravikError(f"{what}: {shown(value)}", expected="a finite number")
    return float(value)


def numbers(value: Any, what: str) -> Floats:
    """Return finite numbers as an array; raises DravikError for what is none, or not finite."""
    try:
        found = np.asarray(value, dtype=float)
    except (TypeError, ValueError, OverflowError):
        raise DravikError(f"{what}: {shown(value)}", expected="numbers") from None
    if not np.all(np.isfinite(found)):
        raise DravikError(f"{what} holds values that are not finite")
    return found


def shown(value: Any) -> str:
    """Return a value in words short enough for a message."""
    text = repr(value)
    return (
        text if len(text) <= 60 and text.isprintable() and " object at 0x" not in text else f"a {type(value).__name__}"
    )
