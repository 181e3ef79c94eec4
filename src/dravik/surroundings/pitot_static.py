"""What pitot and static pressure tell: calibrated airspeed and pressure altitude, as numbers and as formulas.

Sources: isentropic flow and, above Mach 1, the normal shock in front of the tube (Lord Rayleigh), as in Ames Research
Staff, Equations, Tables, and Charts for Compressible Flow, NACA Report 1135, 1953, equations 44 and 100; pressure
altitude by the layers of the U.S. Standard Atmosphere, 1976, in geopotential height.
"""

import math

from dravik.constants import SEA_LEVEL_DENSITY, SEA_LEVEL_PRESSURE
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import (
    BOTTOM,
    EARTH_RADIUS,
    GAS_CONSTANT,
    GRAVITY,
    HEAT_RATIO,
    LAYERS,
    TOP,
    standard_air,
)

__all__ = [
    "PRESSURE_SIGNALS",
    "air_data_formulas",
    "calibrated_airspeed",
    "geopotential",
    "mach_from_calibrated",
    "pressure_altitude",
    "pressure_formulas",
]

SOUND = math.sqrt(HEAT_RATIO * SEA_LEVEL_PRESSURE / SEA_LEVEL_DENSITY)  # m/s, at sea level in the standard atmosphere
# impact pressure over static pressure below Mach 1: (1 + M^2/5)^3.5 - 1; above: 166.92 M^7/(7 M^2 - 1)^2.5 - 1
_HALF, _POWER = 0.5 * (HEAT_RATIO - 1.0), HEAT_RATIO / (HEAT_RATIO - 1.0)
_RAYLEIGH = 1.2**3.5 * 6.0**2.5
SONIC = (1.0 + _HALF) ** _POWER - 1.0  # impact over static pressure at Mach 1
_SHOCK = _RAYLEIGH / 7.0**3.5
NEWTON_STEPS = 4  # exact to the last digits from Mach 1 upwards, where the start is 6 % off


def _impact_ratio(mach: float) -> float:
    """Return impact pressure over static pressure."""
    if mach <= 1.0:
        return float((1.0 + _HALF * mach * mach) ** _POWER - 1.0)
    return float(_RAYLEIGH * mach**7 / (7.0 * mach * mach - 1.0) ** 2.5 - 1.0)


def _mach_of(ratio: float) -> float:
    """Return the Mach number of an impact pressure over static pressure.

    Above Mach 1 by Newton's method for z = 1/(7 M^2), of which Rayleigh's equation is z (1 - z)^2.5 = share.
    """
    if ratio <= SONIC:
        return math.sqrt(((ratio + 1.0) ** (1.0 / _POWER) - 1.0) / _HALF)
    share = _SHOCK / (ratio + 1.0)
    root = share * (1.0 + 2.5 * share + 9.375 * share * share)  # the first terms of the inverse's series
    for _ in range(NEWTON_STEPS):
        rest = 1.0 - root
        root -= (root * rest - share / (rest * math.sqrt(rest))) / (1.0 - 3.5 * root)
    return 1.0 / math.sqrt(7.0 * root)


def calibrated_airspeed(mach: float, pressure: float) -> float:
    """Return the calibrated airspeed (m/s) at a Mach number and a static pressure (Pa)."""
    return SOUND * _mach_of(_impact_ratio(mach) * pressure / SEA_LEVEL_PRESSURE)


def mach_from_calibrated(airspeed: float, pressure: float) -> float:
    """Return the Mach number of a calibrated airspeed (m/s) at a static pressure (Pa)."""
    return _mach_of(_impact_ratio(airspeed / SOUND) * SEA_LEVEL_PRESSURE / pressure)


def geopotential(altitude: float) -> float:
    """Return the geopotential height (m) of a geometric altitude (m) in the standard atmosphere."""
    return EARTH_RADIUS * altitude / (EARTH_RADIUS + altitude)


def pressure_altitude(pressure: float) -> float:
    """Return the geopotential height (m) at which the standard atmosphere has this pressure (Pa).

    Raises DravikError for a pressure that the standard atmosphere has nowhere.
    """
    if not standard_air(TOP, 0.0)[1] <= pressure <= standard_air(BOTTOM, 0.0)[1]:
        raise DravikError(f"a pressure of {pressure:g} Pa occurs nowhere in the standard atmosphere")
    base, temperature, lapse, own = next(
        layer for layer in reversed(LAYERS) if pressure <= layer[3] or layer is LAYERS[0]
    )
    if lapse == 0.0:
        return base - GAS_CONSTANT * temperature / GRAVITY * math.log(pressure / own)
    return base + temperature / lapse * ((pressure / own) ** (-GAS_CONSTANT * lapse / GRAVITY) - 1.0)


#: The signals that follow from the pressures: unit and meaning by name.
PRESSURE_SIGNALS = {
    "calibrated_airspeed": ("m/s", "airspeed of the same impact pressure at sea level, with the shock above Mach 1"),
    "pressure_altitude": ("m", "geopotential height at which the standard atmosphere has this pressure"),
}


def pressure_formulas() -> dict[str, str]:
    """Return the formulas of these signals, and of what they need, of ``mach`` and ``pressure``, in their order.

    Names that are not signals are steps on the way. Square roots stand for powers where they can: a row is recorded
    with every step of a flight.
    """
    found = {
        "pitot_impact_below_sonic": f"1 + {_HALF!r}*mach*mach",
        "pitot_impact_above_sonic": "7*max(mach, 1)**2 - 1",
        "pitot_impact_ratio_sea": (
            f"(if_else(mach <= 1, pitot_impact_below_sonic**3*sqrt(pitot_impact_below_sonic), "
            f"{_RAYLEIGH!r}*mach**7/(pitot_impact_above_sonic**2*sqrt(pitot_impact_above_sonic))) - 1)"
            f"*pressure/{SEA_LEVEL_PRESSURE!r}"
        ),
    }
    steps, mach = _mach_formulas("pitot_shock", "pitot_impact_ratio_sea")
    return found | steps | {"calibrated_airspeed": f"{SOUND!r}*{mach}"} | _altitude_formulas("pitot", "pressure")


def air_data_formulas() -> dict[str, str]:
    """Return what an air data computer makes of its pressures, as formulas in their order.

    They read ``air_data_pressure`` (static) and ``air_data_impact`` (Pa); the results are ``air_data_mach``,
    ``air_data_calibrated_airspeed`` and ``air_data_pressure_altitude``.
    """
    found = {
        "air_data_impact_ratio": "air_data_impact/air_data_pressure",
        "air_data_impact_ratio_sea": f"air_data_impact/{SEA_LEVEL_PRESSURE!r}",
    }
    for name, ratio in (("mach", "air_data_impact_ratio"), ("calibrated_airspeed", "air_data_impact_ratio_sea")):
        steps, mach = _mach_formulas(f"{ratio}_shock", ratio)
        found |= steps
        found[f"air_data_{name}"] = mach if name == "mach" else f"{SOUND!r}*{mach}"
    heights = _altitude_formulas("air_data", "air_data_pressure")
    found |= {n: t for n, t in heights.items() if n != "pressure_altitude"}
    found["air_data_pressure_altitude"] = heights["pressure_altitude"]
    return found


def _mach_formulas(name: str, ratio: str) -> tuple[dict[str, str], str]:
    """Return the formulas on the way from a ratio of pressures to its Mach number, and that of the Mach number."""
    found = {
        f"{name}_share": f"{_SHOCK!r}/(max({ratio}, {SONIC!r}) + 1)",
        f"{name}_root_0": f"{name}_share*(1 + {name}_share*(2.5 + 9.375*{name}_share))",
    }
    for k in range(NEWTON_STEPS):
        root = f"{name}_root_{k}"
        rest = f"(1 - {root})"
        found[f"{name}_root_{k + 1}"] = f"{root} - ({root}*{rest} - {name}_share/({rest}*sqrt{rest}))/(1 - 3.5*{root})"
    below = f"max(({ratio} + 1)**{1.0 / _POWER!r} - 1, 0)/{_HALF!r}"
    return found, f"sqrt(if_else({ratio} <= {SONIC!r}, {below}, 1/(7*{name}_root_{NEWTON_STEPS})))"


def _altitude_formulas(name: str, pressure: str) -> dict[str, str]:
    """Return the formulas of the pressure altitude of a pressure, ``pressure_altitude`` the last of them."""
    found, columns = (
        dict[str, str](),
        {
            "layer_height": [base for base, _, _, _ in LAYERS],
            "layer_pressure": [own for _, _, _, own in LAYERS],
            "layer_exponent": [-GAS_CONSTANT * lapse / GRAVITY for _, _, lapse, _ in LAYERS],
            # of an isothermal layer the scale height, upwards negative
            "layer_scale": [
                temperature / lapse if lapse else -GAS_CONSTANT * temperature / GRAVITY
                for _, temperature, lapse, _ in LAYERS
            ],
        },
    )
    for key, values in columns.items():
        found[f"{name}_{key}"] = _by_layer(values, pressure)
    found[f"{name}_layer_ratio"] = f"log({pressure}/{name}_layer_pressure)"
    found["pressure_altitude"] = (
        f"{name}_layer_height + {name}_layer_scale*if_else("
        f"{name}_layer_exponent == 0, {name}_layer_ratio, exp({name}_layer_exponent*{name}_layer_ratio) - 1)"
    )
    return found


def _by_layer(values: list[float], pressure: str) -> str:
    """Return a formula of the value in the layer of the standard atmosphere that has the pressure."""
    text = repr(values[-1])
    for k in range(len(values) - 2, -1, -1):
        text = f"if_else({pressure} > {LAYERS[k + 1][3]!r}, {values[k]!r}, {text})"
    return text
