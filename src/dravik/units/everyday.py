"""The units of every day, read without Pint, whose loading takes longer than reading an aircraft.

Products, quotients and whole powers of the symbols below; anything else is Pint's to read. A test holds them against
Pint's.
"""

import math
import re
from functools import lru_cache

__all__ = ["Root", "common_unit"]

#: A unit in base units (m, kg, s, A, K, rad): each with its power, zeros left out.
Root = frozenset[tuple[str, float]]

_FACTOR = re.compile(r"([*/])([A-Za-z°%]+|1)(?:\^(-?\d))?$")
_POUND, _FOOT, _G0 = 0.45359237, 0.3048, 9.80665  # kg, m: exact since 1959; m/s^2: exact since 1901


def _base(**powers: int) -> dict[str, int]:
    return powers


_LENGTH, _MASS, _TIME, _ANGLE, _CURRENT = _base(m=1), _base(kg=1), _base(s=1), _base(rad=1), _base(A=1)
_FORCE, _PRESSURE, _POWER = _base(m=1, kg=1, s=-2), _base(m=-1, kg=1, s=-2), _base(m=2, kg=1, s=-3)
_ENERGY, _VOLTAGE, _RESISTANCE = _base(m=2, kg=1, s=-2), _base(m=2, kg=1, s=-3, A=-1), _base(m=2, kg=1, s=-3, A=-2)
_FIELD = _base(kg=1, s=-2, A=-1)
_SPEED, _RATE, _FREQUENCY = _base(m=1, s=-1), _base(rad=1, s=-1), _base(s=-1)

#: Symbols with their size in base units.
_SYMBOLS: dict[str, tuple[float, dict[str, int]]] = {
    "1": (1.0, {}), "%": (0.01, {}),
    "m": (1.0, _LENGTH), "km": (1e3, _LENGTH), "cm": (1e-2, _LENGTH), "mm": (1e-3, _LENGTH),
    "ft": (_FOOT, _LENGTH), "in": (0.0254, _LENGTH), "nmi": (1852.0, _LENGTH),
    "s": (1.0, _TIME), "ms": (1e-3, _TIME), "min": (60.0, _TIME), "h": (3600.0, _TIME),
    "kg": (1.0, _MASS), "g": (1e-3, _MASS), "t": (1e3, _MASS), "lb": (_POUND, _MASS),
    "slug": (_POUND * _G0 / _FOOT, _MASS),
    "rad": (1.0, _ANGLE), "deg": (math.pi / 180.0, _ANGLE), "°": (math.pi / 180.0, _ANGLE),
    "rpm": (math.pi / 30.0, _RATE), "Hz": (1.0, _FREQUENCY), "kt": (1852.0 / 3600.0, _SPEED),
    "N": (1.0, _FORCE), "kN": (1e3, _FORCE), "lbf": (_POUND * _G0, _FORCE),
    "Pa": (1.0, _PRESSURE), "hPa": (100.0, _PRESSURE), "kPa": (1e3, _PRESSURE),
    "W": (1.0, _POWER), "kW": (1e3, _POWER), "J": (1.0, _ENERGY), "kJ": (1e3, _ENERGY),
    "V": (1.0, _VOLTAGE), "ohm": (1.0, _RESISTANCE), "mohm": (1e-3, _RESISTANCE),
    "T": (1.0, _FIELD), "uT": (1e-6, _FIELD), "nT": (1e-9, _FIELD),
    "A": (1.0, _CURRENT), "K": (1.0, _base(K=1)),
}  # fmt: skip
_ABSOLUTE = {"degC": (1.0, 273.15), "K": (1.0, 0.0)}


@lru_cache(maxsize=512)
def common_unit(unit: str) -> tuple[float, float, Root] | None:
    """Return scale, offset and root of a unit's text: value in base units = scale * value + offset; None for others.

    >>> common_unit("km/h")[0] * 36.0
    10.0
    """
    text = unit.strip()
    if not text:
        return 1.0, 0.0, frozenset()
    if text in _ABSOLUTE:
        return *_ABSOLUTE[text], frozenset({("K", 1.0)})
    scale, powers = 1.0, dict[str, float]()
    # from left to right: kg/kW/h is kg divided by both
    for part in re.findall(r"[*/][^*/]*", "*" + re.sub(r"\s*([*/^])\s*", r"\1", text.replace("**", "^"))):
        match = _FACTOR.match(part)
        if match is None or match[2] not in _SYMBOLS:
            return None
        power = int(match[3] or 1) * (1 if match[1] == "*" else -1)
        size, base = _SYMBOLS[match[2]]
        scale *= size**power
        for name, own in base.items():
            powers[name] = powers.get(name, 0.0) + own * power
    return scale, 0.0, frozenset((name, power) for name, power in powers.items() if power)
