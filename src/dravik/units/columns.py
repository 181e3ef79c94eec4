"""Columns of tables for people: the unit shown for an SI unit, and headers with a name and a unit."""

import math
import re

from dravik.errors import DravikError

__all__ = ["column_name", "from_si", "split_column"]

_COLUMN = re.compile(r"\s*([A-Za-z_]\w*)\s*(?:\[([^\]]*)\])?\s*$")


#: How recordings and figures show an SI unit to people, with the suffix of ANSI/AIAA S-119 names.
_DISPLAY: dict[str, tuple[str, float, str]] = {
    "": ("", 1.0, ""),
    "rad": ("deg", 180.0 / math.pi, "deg"),
    "rad/s": ("deg/s", 180.0 / math.pi, "deg_s"),
    "rad/s^2": ("deg/s^2", 180.0 / math.pi, "deg_s2"),
    "m": ("m", 1.0, "m"),
    "m^2": ("m^2", 1.0, "m2"),
    "m/s": ("m/s", 1.0, "m_s"),
    "m/s^2": ("m/s^2", 1.0, "m_s2"),
    "s": ("s", 1.0, "s"),
    "kg": ("kg", 1.0, "kg"),
    "kg*m^2": ("kg*m^2", 1.0, "kgm2"),
    "kg/m^3": ("kg/m^3", 1.0, "kg_m3"),
    "N": ("N", 1.0, "N"),
    "N*m": ("N*m", 1.0, "Nm"),
    "W": ("W", 1.0, "W"),
    "Pa": ("Pa", 1.0, "Pa"),
    "K": ("K", 1.0, "K"),
    "1/s": ("1/s", 1.0, "1_s"),
}


def from_si(unit: str) -> tuple[str, float, str]:
    """Return the unit shown to people for an SI unit, the factor onto it, and its name suffix.

    Parameters
    ----------
    unit : str
        The SI unit.

    Returns
    -------
    tuple (str, float, str)
        Unit, factor onto it, suffix of names.
    """
    return _DISPLAY.get(unit) or (unit, 1.0, re.sub(r"[^A-Za-z0-9]+", "_", unit).strip("_"))


def column_name(signal: str, unit: str) -> str:
    """Return a signal's column in a recording: ``alpha`` in rad becomes ``alpha_deg``.

    Parameters
    ----------
    signal : str
        The signal's name.
    unit : str
        Its SI unit.

    Returns
    -------
    str
    """
    suffix = from_si(unit)[2]
    return f"{signal}_{suffix}" if suffix else signal


def split_column(header: str, *, where: str = "") -> tuple[str, str]:
    """Return name and unit of a table column such as ``alpha [deg]``; the unit may be absent.

    Parameters
    ----------
    header : str
        The column's header.
    where : str, default ""
        What stands ahead of an error: file and key.

    Returns
    -------
    tuple (str, str)
        Name and unit, the unit empty where there is none.
    """
    match = _COLUMN.match(header)
    if match is None:
        raise DravikError(f"column {header!r} cannot be read", where=where, expected="a header such as 'alpha [deg]'")
    unit = (match[2] or "").strip()
    # "[-]" says that it has none, as many tables do
    return match[1], "" if unit == "-" else unit
