"""Quantity strings such as ``"62 m/s"`` to SI numbers, at the boundary only; inside, everything is SI.

Angles are a kind of their own: a bare number never passes for an angle, because nobody can
tell degrees from radians by looking at it. Pint knows all units; those of every day are read without it.
"""

import hashlib
import math
import os
import re
from functools import lru_cache
from typing import TYPE_CHECKING, cast

from dravik.errors import DravikError
from dravik.units.everyday import Root, common_unit

if TYPE_CHECKING:
    from pint import UnitRegistry

__all__ = ["KINDS", "in_si", "kind_of_unit", "quantity", "to_si"]

#: Each kind of quantity: the SI unit Dravik keeps inside, and an example for messages.
KINDS: dict[str, tuple[str, str]] = {
    "number": ("", "0.3"),
    "length": ("m", "2.5 m"),
    "area": ("m^2", "54 m^2"),
    "speed": ("m/s", "62 m/s"),
    "angle": ("rad", "5 deg"),
    "angular rate": ("rad/s", "60 deg/s"),
    "time": ("s", "0.05 s"),
    "mass": ("kg", "9500 kg"),
    "inertia": ("kg*m^2", "42000 kg*m^2"),
    "force": ("N", "25 kN"),
    "moment": ("N*m", "300 N*m"),
    "power": ("W", "1100 kW"),
    "pressure": ("Pa", "1013 hPa"),
    "density": ("kg/m^3", "1.225 kg/m^3"),
    "voltage": ("V", "22.2 V"),
    "current": ("A", "30 A"),
    "resistance": ("ohm", "0.05 ohm"),
    "charge": ("A*s", "5 A*h"),
    "speed constant": ("rad/s/V", "920 rpm/V"),
    "fuel consumption": ("kg/J", "0.3 kg/kW/h"),
    "mass flow": ("kg/s", "0.1 kg/s"),
    "temperature": ("K", "15 degC"),
    "temperature difference": ("K", "15 K"),
    "acceleration": ("m/s^2", "9.81 m/s^2"),
    "angular acceleration": ("rad/s^2", "10 deg/s^2"),
    "frequency": ("1/s", "50 Hz"),
    "stiffness": ("N/m", "60 kN/m"),
    "damping": ("N*s/m", "6 kN*s/m"),
    "angular momentum": ("N*m*s", "40 N*m*s"),
    "magnetic field": ("T", "48 uT"),
}

ANGULAR = ("angle", "angular rate", "angular acceleration")  # a bare number is refused in files: it could be degrees
SMALLEST, LARGEST = 1e-60, 1e60  # of any quantity: outside, its square or its inverse over- or underflows
_NUMBER = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$", re.DOTALL)
_UNIT_PART = re.compile(
    r"(?P<name>[^\W\d_][\w%°]*|[%°µ]\w*)|(?P<one>1(?![\d.]))|(?P<power>(?:\^|\*\*)\s*(?:\d(?![\d.])|-\d(?![\d.])"
    r"|\d\.\d(?!\d)|\(-?\d\)))|(?P<joined>[*/]|\s+|-)|(?P<open>\()|(?P<close>\))"
)


@lru_cache(maxsize=1)
def _registry() -> "UnitRegistry[float]":
    import pint

    # The cache holds paths: shared between installations, one that is deleted makes every start of the others slow. So
    # each has its own, and an installation without a home that can be written to has none.
    own = hashlib.sha256(f"{pint.__file__} {pint.__version__}".encode()).hexdigest()[:12]
    home = os.environ.get("XDG_CACHE_HOME") or os.path.join(os.path.expanduser("~"), ".cache")
    try:
        return pint.UnitRegistry(cache_folder=os.path.join(home, "dravik", f"units-{own}"))
    except (OSError, ValueError):
        return pint.UnitRegistry()


#: Base units by Pint's names: how many of ours one is, and its symbol.
_BASES = {
    "meter": (1.0, "m"), "gram": (1e-3, "kg"), "second": (1.0, "s"), "ampere": (1.0, "A"), "kelvin": (1.0, "K"),
    "radian": (1.0, "rad"),
}  # fmt: skip


@lru_cache(maxsize=512)
def _root(unit: str) -> tuple[float, float, Root]:
    """Return scale, offset and root of a unit's text: value in base units = scale * value + offset."""
    return common_unit(unit) or read_unit(unit)


def read_unit(unit: str) -> tuple[float, float, Root]:
    """Return what ``common_unit`` does, as Pint reads it; raises DravikError for what is no unit."""
    registry = _registry()
    if len(unit) > 60 or not _is_plain(unit):
        raise DravikError(
            f"{unit[:60]!r} is not a unit", hint="names joined by * and /, powers of one digit such as m/s^2"
        )
    try:
        parsed = registry.parse_units(unit.replace("^", "**").replace("°", "deg").replace("%", "percent"))
        one = registry.Quantity(1.0, parsed).to_root_units()
        zero = registry.Quantity(0.0, parsed).to_root_units()
        powers = {name: float(cast(float, power)) for name, power in one.unit_items()}
    except Exception as error:
        # pint, and the tokenizer below it, raise many kinds of error on arbitrary text
        raise DravikError(f"{unit!r} is not a unit", hint="units such as m, ft, kt, deg, kg, N, s") from error
    size = math.prod(_BASES.get(name, (1.0, ""))[0] ** power for name, power in powers.items())
    scale, offset = float(one.magnitude - zero.magnitude) * size, float(zero.magnitude) * size
    if not (math.isfinite(scale) and scale != 0 and math.isfinite(offset)):
        raise DravikError(f"{unit!r} is not a unit with a finite size")
    return scale, offset, frozenset((_BASES.get(name, (1.0, name))[1], power) for name, power in powers.items())


def _is_plain(unit: str) -> bool:
    """Whether a unit's text is names, joined, with parentheses and powers of one digit: all that Pint gets to read.

    It works out any arithmetic that it finds, 9**9**9 too.
    """
    place, depth, before = 0, 0, ""
    while place < len(unit):
        match = _UNIT_PART.match(unit, place)
        if match is None:
            return False
        kind = str(match.lastgroup)
        depth += {"open": 1, "close": -1}.get(kind, 0)
        if not 0 <= depth <= 2 or (kind == "power" and before not in ("name", "close")):
            return False
        place, before = match.end(), kind
    return depth == 0


@lru_cache(maxsize=64)
def _kind_root(kind: str) -> tuple[float, Root]:
    scale, _, root = _root(KINDS[kind][0])
    return scale, root


def to_si(unit: str, kind: str) -> tuple[float, float]:
    """Return ``(scale, offset)`` so that SI value = scale * value + offset.

    Parameters
    ----------
    unit : str
        The unit as text.
    kind : str
        What it measures: a key of KINDS.

    Returns
    -------
    tuple (float, float)
        Scale and offset.

    Raises
    ------
    DravikError
        When ``unit`` does not measure ``kind`` (a key of KINDS).
    """
    si_scale, si_root = _kind_root(kind)
    scale, offset, root = _root(unit)
    if kind == "temperature difference":
        offset = 0.0
    if root != si_root:
        raise DravikError(f"{unit!r} does not measure {kind}", expected=f"a quantity such as {KINDS[kind][1]!r}")
    return scale / si_scale, offset / si_scale


def kind_of_unit(unit: str) -> str:
    """Return the kind of quantity a unit measures; ``"number"`` for an empty unit.

    Parameters
    ----------
    unit : str
        The unit as text.

    Returns
    -------
    str

    Raises
    ------
    DravikError
        For text that is no unit, or a unit of a kind that Dravik has no use for.
    """
    if not unit.strip():
        return "number"
    _, _, root = _root(unit)
    for kind in KINDS:
        if _kind_root(kind)[1] == root:
            return kind
    raise DravikError(f"{unit!r} is a unit of no kind that Dravik uses", expected="one of " + ", ".join(KINDS))


def kind_of_quantity(value: object, *, where: str = "") -> str:
    """Return the kind of what a quantity measures; a number, or text without a unit, is a ``"number"``.

    Parameters
    ----------
    value : object
        The number, or text with a unit.
    where : str, default ""
        What stands ahead of an error: file and key.

    Returns
    -------
    str

    Raises
    ------
    DravikError
        For text that does not begin with a number, and for a unit of no kind that Dravik uses.
    """
    if not isinstance(value, str):
        return "number"
    match = _NUMBER.match(value)
    if match is None:
        raise DravikError(f"{value[:60]!r} does not begin with a number", where=where, expected="a number and its unit")
    try:
        return kind_of_unit(match[2])
    except DravikError as error:
        raise DravikError(f"{value[:60]!r}: {error.what}", where=where, expected=error.expected) from None


def quantity(value: object, kind: str, *, where: str = "") -> float:
    """Return a quantity in SI.

    Parameters
    ----------
    value : str or float
        Text with a unit such as ``"62 m/s"``, or a number that is SI already.
    kind : str
        What it measures: a key of ``dravik.units.KINDS`` such as ``"speed"``.
    where : str, optional
        What is put in front of the message.

    Returns
    -------
    float
        The number, SI.

    Raises
    ------
    DravikError
        For a wrong or missing unit, for text that is no number, for NaN and infinity, and for a bare number or a
        unitless text where an angle is meant.

    Examples
    --------
    >>> import dravik as dv
    >>> round(dv.quantity("1000 ft", "length"), 6)
    304.8
    """
    example = KINDS[kind][1]
    expected = f"{'an' if kind[0] in 'aeiou' else 'a'} {kind} such as {example!r}"
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise DravikError(f"{value!r} is no quantity", where=where, expected=expected)
    if isinstance(value, str):
        match = _NUMBER.match(value)
        if match is None:
            raise DravikError(f"{value[:60]!r} does not begin with a number", where=where, expected=expected)
        number, unit = float(match[1]), match[2]
    else:
        try:
            number, unit = float(value), ""
        except OverflowError:
            number, unit = math.inf, ""
    if not math.isfinite(number):
        raise DravikError(f"{str(value)[:60]!r} is not a finite number", where=where, expected=expected)
    if number != 0.0 and not SMALLEST < abs(number) < LARGEST:
        size = "large" if abs(number) > 1.0 else "small"
        raise DravikError(f"{str(value)[:60]!r} is too {size} to be meant", where=where, expected=expected)
    if not unit:
        if kind in ANGULAR:
            raise DravikError(
                f"{value!r} has no unit, and nobody can tell degrees from radians",
                where=where,
                expected=expected,
            )
        return _above_zero(number, value, kind, where, expected)
    try:
        scale, offset = to_si(unit, kind)
    except DravikError as error:
        raise DravikError(f"{value!r}: {error.what}", where=where, expected=expected) from error
    found = number * scale + offset
    return _above_zero(found, value, kind, where, expected)


def _above_zero(found: float, value: object, kind: str, where: str, expected: str) -> float:
    if kind == "temperature" and found < 0.0:
        raise DravikError(f"{value!r} is below absolute zero", where=where, expected=expected)
    return found


def _is_usual(value: float) -> bool:
    """Whether a number is of a size that a quantity can have."""
    return bool(SMALLEST < abs(value) < LARGEST)


def _is_taken(value: float, kind: str) -> bool:
    """Whether a bare number can be a quantity of a kind as it is."""
    return (value == 0 or _is_usual(value)) and (kind != "temperature" or value >= 0)


def in_si(value: object, kind: str, *, where: str = "") -> float:
    """Return an argument of a Python call in SI: here a bare number is SI, angles in rad; a string carries its unit.

    Parameters
    ----------
    value : object
        The number, or text with a unit.
    kind : str
        What it measures: a key of KINDS.
    where : str, default ""
        What stands ahead of an error: file and key.

    Returns
    -------
    float
        SI.

    Raises
    ------
    DravikError
        As ``quantity`` does, and for a number that is not finite.
    """
    if isinstance(value, int | float) and not isinstance(value, bool) and _is_taken(value, kind):
        return float(value)
    return quantity(value, kind, where=where)
