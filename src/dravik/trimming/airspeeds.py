"""Calibrated and equivalent airspeed and Mach number, turned into true airspeed."""

import math

from dravik.aircraft import Aircraft
from dravik.constants import SEA_LEVEL_DENSITY, SEA_LEVEL_PRESSURE
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import HEAT_RATIO
from dravik.trimming.condition import ConditionKeys
from dravik.units import in_si

__all__ = ["SPEEDS", "air_here", "calibrated_airspeed", "given_speed", "true_airspeed"]

#: Keywords that give a speed.
SPEEDS = ("airspeed", "calibrated_airspeed", "equivalent_airspeed", "mach")
SOUND = math.sqrt(HEAT_RATIO * SEA_LEVEL_PRESSURE / SEA_LEVEL_DENSITY)  # m/s, at sea level in the standard atmosphere
# impact pressure over static pressure below Mach 1: (1 + M^2/5)^3.5 - 1 (isentropic flow, ratio of specific heats 1.4)
_HALF, _POWER = 0.5 * (HEAT_RATIO - 1.0), HEAT_RATIO / (HEAT_RATIO - 1.0)


def given_speed(asked: ConditionKeys) -> str:
    """Return the keyword that gives the speed; raises DravikError for none and for two."""
    given = [n for n in SPEEDS if asked.get(n) is not None]
    if not given:
        raise DravikError("the trim has no speed", expected="one of " + ", ".join(SPEEDS) + ": a quantity")
    if len(given) > 1:
        raise DravikError(f"both {given[0]} and {given[1]} are given", expected="one speed")
    return given[0]


def air_here(craft: Aircraft, altitude: float) -> tuple[float, float, float]:
    """Return density (kg/m^3), pressure (Pa) and speed of sound (m/s) in the aircraft's own air at an altitude (m)."""
    state = craft.state(position=(0.0, 0.0, altitude), velocity=(0.0, 0.0, 0.0))
    names = ["density", "pressure", "speed_of_sound"]
    # the aircraft stands still in it: that its tables do not reach there, such as Mach 0, is nothing to refuse
    found = craft.values(state, craft.default_inputs(), names, refusing=False)
    return found["density"], found["pressure"], found["speed_of_sound"]


def calibrated_airspeed(airspeed: float, pressure: float, sound: float) -> float:
    """Return the calibrated airspeed (m/s) of a true airspeed (m/s) below Mach 1, at a pressure (Pa)."""
    impact = pressure * ((1.0 + _HALF * (airspeed / sound) ** 2) ** _POWER - 1.0)
    return SOUND * math.sqrt(((impact / SEA_LEVEL_PRESSURE + 1.0) ** (1.0 / _POWER) - 1.0) / _HALF)


def true_airspeed(craft: Aircraft, asked: ConditionKeys, altitude: float) -> float:
    """Return the true airspeed (m/s) that a plain speed stands for; raises DravikError for wrong units and sizes."""
    name = given_speed(asked)
    value = asked[name]  # type: ignore[literal-required]
    number = in_si(value, "number" if name == "mach" else "speed", where=name)
    if not number >= 0.0:
        raise DravikError(f"{name} cannot be {value!r}", expected="a speed, or zero for hover")
    if name == "airspeed":
        return number
    density, pressure, sound = air_here(craft, altitude)
    if not (density > 0.0 and sound > 0.0):
        raise DravikError(f"there is no air at {altitude:g} m", where=name, expected="a true airspeed")
    if name == "mach":
        return number * sound
    if name == "equivalent_airspeed":
        return number * math.sqrt(SEA_LEVEL_DENSITY / density)
    impact = SEA_LEVEL_PRESSURE * ((1.0 + _HALF * (number / SOUND) ** 2) ** _POWER - 1.0)
    mach = math.sqrt(((impact / pressure + 1.0) ** (1.0 / _POWER) - 1.0) / _HALF)
    if not mach < 1.0:
        raise DravikError(f"{name} {value!r} is Mach {mach:.3g} at {altitude:g} m", expected="below Mach 1, or mach")
    return mach * sound
