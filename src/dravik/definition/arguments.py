"""Arguments as Python gives them: names, numbers and mappings, checked where they come in."""

import inspect
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, nearest

__all__ = ["curve", "mapping", "names", "number", "numbers", "real", "spelled_out", "word"]

Floats = NDArray[np.float64]
F = TypeVar("F", bound=Callable[..., Any])
LARGEST = 1e100  # of numbers in an array: products of three are still finite


def names(value: Any, what: str) -> list[str]:
    """Return names as a list; raises DravikError for anything but a sequence of text."""
    if isinstance(value, str) or not isinstance(value, Iterable):
        raise DravikError(f"{what} cannot be {shown(value)}", expected="a list of names")
    found = list(value)
    for name in found:
        if not isinstance(name, str):
            raise DravikError(f"{what} cannot hold {shown(name)}", expected="text")
    return found


def mapping(value: Any, what: str) -> dict[str, Any]:
    """Return a mapping as a dict; raises DravikError for anything but one by text."""
    if not isinstance(value, Mapping):
        raise DravikError(f"{what} cannot be {shown(value)}", expected="a dict by name")
    for name in value:
        if not isinstance(name, str):
            raise DravikError(f"{what} cannot have the name {shown(name)}", expected="text")
    return dict(value)


def number(value: Any, what: str) -> float:
    """Return a finite number; raises DravikError for anything else."""
    if isinstance(value, bool) or not isinstance(value, int | float | np.number) or not np.isfinite(value):
        raise DravikError(f"{what} cannot be {shown(value)}", expected="a finite number")
    return float(value)


def real(value: Any, what: str) -> Floats:
    """Return real numbers as an array, finite or not; raises DravikError for what is none."""
    try:
        if np.iscomplexobj(value):  # as floats they would lose what makes them complex
            raise TypeError
        return np.asarray(value, dtype=float)
    except (TypeError, ValueError, OverflowError):
        raise DravikError(f"{what} cannot be {shown(value)}", expected="real numbers") from None


def numbers(value: Any, what: str) -> Floats:
    """Return numbers as an array; raises DravikError for what is none, not finite, or too large to be multiplied."""
    found = real(value, what)
    if not np.all(np.isfinite(found)):
        raise DravikError(f"{what} holds values that are not finite")
    if np.any(np.abs(found) > LARGEST):
        raise DravikError(f"{what} holds values beyond {LARGEST:g}", expected="numbers that can be multiplied")
    return found


def word(value: Any, what: str, among: Iterable[str]) -> str:
    """Return one of some words; raises DravikError, naming the nearest, for anything else."""
    known = list(among)
    if not isinstance(value, str) or value not in known:
        text = value if isinstance(value, str) else ""
        hint = nearest(text, known) or nearest(text.upper(), known)
        raise DravikError(f"{what} cannot be {shown(value)}", expected="one of " + ", ".join(known), hint=hint)
    return value


def curve(x: Any, y: Any, what: str, least: int = 3) -> tuple[Floats, NDArray[np.complex128]]:
    """Return rising places and as many complex values; raises DravikError for what is none."""
    places = numbers(x, what)
    try:
        values = np.asarray(y, dtype=complex)
    except (TypeError, ValueError, OverflowError):
        raise DravikError(f"responses cannot be {shown(y)}", expected="complex numbers") from None
    if places.ndim != 1 or places.shape != values.shape or len(places) < least:
        raise DravikError(
            f"{what} have the shape {places.shape}, the responses {values.shape}",
            expected=f"as many of both, {least} or more",
        )
    if np.any(np.diff(places) <= 0.0) or not np.all(np.abs(values) <= LARGEST):
        raise DravikError(
            f"{what} do not rise, or responses are not finite",
            expected=f"{what} that rise, responses that are finite and below 1e100",
        )
    return places, values


def shown(value: Any) -> str:
    """Return a value in words short enough for a message."""
    text = repr(value)
    return (
        text if len(text) <= 60 and text.isprintable() and " object at 0x" not in text else f"a {type(value).__name__}"
    )


class _NotGiven:
    """Stands for an argument that is not given, where ``help`` shows it."""

    def __repr__(self) -> str:
        return "not given"


def spelled_out(function: F) -> F:
    """Let ``help`` show each key of a function's ``**`` argument, a ``TypedDict``, as an argument of its own.

    Editors read the type itself.
    """
    signature = inspect.signature(function)
    plain = [p for p in signature.parameters.values() if p.kind is not p.VAR_KEYWORD]
    (keys,) = (p.annotation for p in signature.parameters.values() if p.kind is p.VAR_KEYWORD)
    own = keys.__args__[0].__annotations__
    more = [
        inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=_NotGiven(), annotation=kind)
        for name, kind in own.items()
    ]
    function.__signature__ = signature.replace(parameters=[*plain, *more])  # type: ignore[attr-defined]
    return function
