"""Speeds and altitudes as pilots say them, turned into true airspeed and geometric altitude in the aircraft's air."""

import math

from dravik.aircraft import Aircraft
from dravik.constants import SEA_LEVEL_DENSITY
from dravik.definition.condition_keys import SPEED_KEYS, flight_level
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import BOTTOM, TOP
from dravik.surroundings.pitot_static import mach_from_calibrated, pressure_altitude
from dravik.trimming.condition import ConditionKeys
from dravik.units import in_si

__all__ = ["air_here", "altitude_asked", "altitude_of", "given_speed", "true_airspeed"]

_KINDS = {"mach": "number", "dynamic_pressure": "pressure"}


def given_speed(asked: ConditionKeys) -> str:
    """Return the keyword that gives the speed; raises DravikError for none and for two."""
    given = [n for n in SPEED_KEYS if asked.get(n) is not None]
    if not given:
        raise DravikError("the trim has no speed", expected="one of " + ", ".join(SPEED_KEYS) + ": a quantity")
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


def altitude_asked(craft: Aircraft, asked: ConditionKeys) -> float:
    """Return the geometric altitude (m) of a condition; raises DravikError for none, and for two."""
    given = [n for n in ("altitude", "pressure_altitude") if asked.get(n) is not None]
    if not given:
        raise DravikError("the trim has no altitude", expected="a length such as '300 m', or a flight level 'FL100'")
    if len(given) > 1:
        raise DravikError("both altitude and pressure_altitude are given", expected="one of them")
    if given[0] == "altitude":
        return altitude_of(craft, asked["altitude"])
    return _at_pressure_altitude(craft, in_si(asked["pressure_altitude"], "length", where="pressure_altitude"))


def altitude_of(craft: Aircraft, value: str | float, where: str = "altitude") -> float:
    """Return the geometric altitude (m) of a length, or of a flight level such as ``"FL360"`` in the aircraft's air.

    Raises DravikError for wrong units, and where the air has that pressure nowhere.
    """
    level = flight_level(value)
    return in_si(value, "length", where=where) if level is None else _at_pressure_altitude(craft, level)


def _at_pressure_altitude(craft: Aircraft, wanted: float) -> float:
    """Return the geometric altitude at which the aircraft's air has the standard pressure of a geopotential height."""
    from scipy.optimize import brentq

    def above(altitude: float) -> float:
        return pressure_altitude(air_here(craft, altitude)[1]) - wanted

    low, high = 0.999 * BOTTOM, 0.999 * TOP
    try:
        if above(low) * above(high) > 0.0:
            raise DravikError("outside")
        return float(brentq(above, low, high, xtol=1e-9, rtol=1e-14))
    except DravikError:
        raise DravikError(
            f"a pressure altitude of {wanted:g} m is nowhere in the air of {craft.name}", where="pressure_altitude",
            expected="one that the air has between -5 km and 86 km", hint="an altitude",
        ) from None  # fmt: skip


def true_airspeed(craft: Aircraft, asked: ConditionKeys, altitude: float) -> float:
    """Return the true airspeed (m/s) that a plain speed stands for; raises DravikError for wrong units and sizes."""
    name = given_speed(asked)
    value = asked[name]  # type: ignore[literal-required]
    number = in_si(value, _KINDS.get(name, "speed"), where=name)
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
    if name == "dynamic_pressure":
        return math.sqrt(2.0 * number / density)
    return mach_from_calibrated(number, pressure) * sound
