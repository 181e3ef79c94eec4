"""The words of a flight condition, in one table: keywords of a trim, options of the commands, axes of a sweep."""

import re
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from dravik.constants import FOOT

__all__ = ["AIR_KEYS", "CONDITION_KEYS", "SPEED_KEYS", "Key", "flight_level", "overlaid"]

_LEVEL = re.compile(r"\s*FL\s*(\d{1,4})\s*", re.IGNORECASE)


class Key(NamedTuple):
    """A keyword of a condition: its SI unit (None for words and for several kinds), and the help of its option."""

    unit: str | None
    help: str


#: Every keyword of a condition but ``inputs`` and ``guess``, which are mappings: ``trim`` takes them, the commands have
#: them as options, sweeps as axes where they have a unit.
CONDITION_KEYS: dict[str, Key] = {
    "airspeed": Key(
        "m/s", "true airspeed, such as '62 m/s'; 0 is hover; or '1.3 stall', 'best glide', 'least sink', 'free'"
    ),
    "calibrated_airspeed": Key("m/s", "calibrated airspeed, such as '120 kt'"),
    "equivalent_airspeed": Key("m/s", "equivalent airspeed"),
    "mach": Key("", "Mach number"),
    "dynamic_pressure": Key("Pa", "dynamic pressure, such as '2.4 kPa', in the place of a speed"),
    "altitude": Key("m", "altitude, such as '300 m' or '1000 ft', or a flight level such as 'FL100'"),
    "pressure_altitude": Key("m", "altitude in the standard atmosphere of the same pressure"),
    "flight_path": Key("rad", "angle of climb, such as '3 deg' (level unless given), or free (with --set throttle=1)"),
    "climb_rate": Key("m/s", "rate of climb, such as '2 m/s'"),
    "heading": Key("rad", "heading, such as '270 deg' (north unless given)"),
    "track": Key("rad", "track over the ground; with --heading too the aircraft slips"),
    "bank": Key("rad", "bank angle to hold (the sideslip is then free)"),
    "sideslip": Key("rad", "sideslip to hold, or free (with --set pedal=0.2)"),
    "turn": Key(None, "steady turn: '30 deg' of bank, '3 deg/s', '400 m' radius, load factor '1.4'; negative is left"),
    "pull": Key(None, "pull-up or push-over: load factor '1.8' or '5 deg/s'"),
    "roll": Key("rad/s", "steady roll, such as '20 deg/s'"),
    "free": Key(None, "inputs that the trim moves besides, commas between: a stick, where --set holds the stabiliser"),
    "north": Key("m", "place to the north of the origin"),
    "east": Key("m", "place to the east of the origin"),
    "wind": Key(None, "steady wind, such as '5 m/s from 270 deg'"),
    "day": Key(None, "temperature against the standard day: 'ISA+15'"),
}

#: Those that give the speed.
SPEED_KEYS = ("airspeed", "calibrated_airspeed", "equivalent_airspeed", "mach", "dynamic_pressure")

#: Those that change the air around the aircraft.
AIR_KEYS = ("wind", "day")

#: Those of which one at most is given.
RIVALS = (SPEED_KEYS, ("altitude", "pressure_altitude"))


def overlaid(condition: Mapping[str, Any], over: Iterable[str]) -> dict[str, Any]:
    """Return a condition without the words in whose place others are given: one speed takes the place of another.

    >>> overlaid({"airspeed": 62, "altitude": 300}, ["mach"])
    {'altitude': 300}
    """
    gone = set(over)
    for group in RIVALS:
        gone |= set(group) if gone & set(group) else set()
    return {name: value for name, value in condition.items() if name not in gone}


def flight_level(value: object) -> float | None:
    """Return the pressure altitude (m) of a flight level, hundreds of feet (ICAO Annex 2); None for anything else.

    >>> round(flight_level("FL360"), 6), flight_level("360 m")
    (10972.8, None)
    """
    match = _LEVEL.fullmatch(value) if isinstance(value, str) else None
    return None if match is None else 100.0 * FOOT * int(match[1])
