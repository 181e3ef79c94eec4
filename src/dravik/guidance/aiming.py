"""Points in space for rockets: how near a shot comes, and the band of ranges that can be reached at an altitude."""

import math
from collections.abc import Callable, Mapping
from typing import NamedTuple

import numpy as np

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight.flying import fly
from dravik.flight.starts import on_rail
from dravik.host.cores import in_threads
from dravik.units import in_si

__all__ = ["Band", "Shot", "check_reach", "reachable_band", "shoot"]

NEEDED = ("aim_north", "aim_east", "aim_altitude", "aim_distance")
LONGEST = 120.0  # s
SHOTS, BEYOND = 40, 1.2  # over the farthest that it comes unguided, and how far beyond
FARTHEST = 20.0  # of the range in the middle: where the search outwards ends
FINE = 0.004  # of the range: the width to which the ends of the band are found


class Shot(NamedTuple):
    """How near a shot came: least distance (m), time (s), airspeed (m/s) then."""

    miss: float
    time: float
    airspeed: float


class Band(NamedTuple):
    """Ranges (m) at an altitude that a rail's elevation reaches within a ``miss`` (m): least, middle and greatest.

    ``parts`` are the stretches that are reached, each from and to: what lies between two of them is missed.
    """

    least: float
    middle: float
    greatest: float
    altitude: float
    heading: float
    miss: float
    parts: tuple[tuple[float, float], ...] = ()

    def holds(self, reach: float) -> bool:
        """Whether a range is within the band, and in none of its gaps."""
        return any(low <= reach <= high for low, high in self.parts or ((self.least, self.greatest),))

    def __str__(self) -> str:
        parts = self.parts or ((self.least, self.greatest),)
        return " and ".join(f"{low:.0f} m to {high:.0f} m" for low, high in parts)


def shoot(
    craft: Aircraft, *, north: float, east: float, altitude: float, elevation: str | float, heading: str | float = 0.0,
    inputs: Mapping[str, str | float] | None = None,
) -> Shot:  # fmt: skip
    """Return how near a shot from the rail comes to a point (m), with a homing law that is engaged.

    ``inputs`` are set besides, ``{"ignition": 1}`` unless said.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    north : float
        The aim north of the rail, m.
    east : float
        The aim east of the rail, m.
    altitude : float
        Height of the aim, m.
    elevation : str or float
        Elevation of the rail, with its unit or in rad.
    heading : str or float, default 0.0
        Clockwise from north, with its unit or in rad.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.

    Returns
    -------
    Shot

    Raises
    ------
    DravikError
        For an aircraft without a rail, or without a law that aims (inputs aim_north, aim_east, aim_altitude; signal
        aim_distance).

    Examples
    --------
    >>> import dravik as dv
    >>> hail = dv.sample("hail", laws=["homing"])
    >>> shoot(hail, north=2000.0, east=100.0, altitude=4000.0, elevation="70 deg").miss < 5.0
    True
    """
    _check_aims(craft)
    aim = {"aim_north": north, "aim_east": east, "aim_altitude": altitude}
    given = {"ignition": 1.0, **(inputs or {})}
    begin = on_rail(craft, elevation=elevation, heading=heading, inputs={**given, **aim})
    run = fly(craft, start=begin, duration=LONGEST, record=["north", "east", "altitude", "aim_distance", "airspeed"])
    near = run.closest()
    miss, when = near["miss_m"], near["time_s"]
    return Shot(miss, when, float(np.interp(when, run.time, run["airspeed"])))


def reachable_band(
    craft: Aircraft, *, altitude: str | float, elevation: str | float, heading: str | float = 0.0,
    miss: str | float = "10 m", inputs: Mapping[str, str | float] | None = None,
) -> Band:  # fmt: skip
    """Return the least and the greatest range over ground at which a point at an altitude is met within ``miss``.

    The middle is where the rocket passes the altitude by itself, unguided. Shots are spread from the rail to beyond
    the farthest that it comes; the ends of each stretch that is met are found to 0.4 % of the range.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : str or float
        Height of the aim, with its unit or in m.
    elevation : str or float
        Elevation of the rail, with its unit or in rad.
    heading : str or float, default 0.0
        Clockwise from north, with its unit or in rad.
    miss : str or float, default "10 m"
        What counts as met, with its unit or in m.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.

    Returns
    -------
    Band
        Least and greatest range, m.

    Raises
    ------
    DravikError
        Where the altitude is not reached, and where nothing is met.

    Examples
    --------
    >>> import dravik as dv
    >>> hail = dv.sample("hail", laws=["homing"])
    >>> band = reachable_band(hail, altitude="4000 m", elevation="70 deg")
    >>> band.least < 1500.0 < band.greatest
    True
    """
    _check_aims(craft)
    height, within = in_si(altitude, "length", where="altitude"), in_si(miss, "length", where="miss")
    if not within > 0.0:
        raise DravikError(f"the miss of {within:g} m is not above zero", expected="above zero")
    bearing = in_si(heading, "angle", where="heading")
    middle, farthest = _unguided(craft, height, elevation, heading, inputs)

    def meets(reach: float) -> bool:
        shot = shoot(
            craft, north=reach * math.cos(bearing), east=reach * math.sin(bearing), altitude=height,
            elevation=elevation, heading=heading, inputs=inputs,
        )  # fmt: skip
        return shot.miss <= within

    step = max(farthest, middle) / SHOTS
    places = sorted([*(step * k for k in range(int(SHOTS * BEYOND) + 1)), middle])
    met = in_threads(meets, places)
    while met[-1] and places[-1] < FARTHEST * middle:
        more = [places[-1] + step * k for k in range(1, SHOTS // 8)]
        places, met = places + more, met + in_threads(meets, more)
    parts = []
    for k, is_met in enumerate(met):
        if is_met and (k == 0 or not met[k - 1]):
            parts.append([_end(meets, places[k], places[k - 1], FINE * middle) if k else places[k], places[k]])
        if is_met and (k == len(met) - 1 or not met[k + 1]):
            parts[-1][1] = _end(meets, places[k], places[k + 1], FINE * middle) if k < len(met) - 1 else places[k]
    if not parts:
        raise DravikError(f"no range up to {places[-1]:.0f} m is met within {within:g} m", hint="a greater miss")
    stretches = tuple((low, high) for low, high in parts)
    return Band(stretches[0][0], middle, stretches[-1][1], height, bearing, within, stretches)


def _end(meets: Callable[[float], bool], good: float, bad: float, width: float) -> float:
    """Return the end of a stretch that is met, between a range that is and one that is not."""
    while abs(bad - good) > width:
        between = 0.5 * (good + bad)
        good, bad = (between, bad) if meets(between) else (good, between)
    return good


def check_reach(band: Band, north: float, east: float) -> None:
    """Raise DravikError for a point (m) whose range lies outside a band, with the band in the message."""
    require(band, Band, "the band", "reachable_band(craft, altitude=..., elevation=...)")
    reach = math.hypot(arguments.number(north, "north"), arguments.number(east, "east"))
    if not band.holds(reach):
        raise DravikError(
            f"the point is {reach:.0f} m away at {band.altitude:.0f} m",
            expected=f"{band}: what this elevation reaches within {band.miss:g} m",
            hint="a steeper rail" if reach < band.least else "a flatter rail" if reach > band.greatest else "",
        )  # fmt: skip


def _check_aims(craft: Aircraft) -> None:
    require(craft, Aircraft, "what is shot")
    missing = [n for n in NEEDED if n not in craft.signals]
    if missing:
        raise DravikError(
            f"{craft.name} has no {missing[0]!r}: no law aims it", expected=", ".join(NEEDED), hint="the law homing"
        )


def _unguided(
    craft: Aircraft, height: float, elevation: str | float, heading: str | float,
    inputs: Mapping[str, str | float] | None,
) -> tuple[float, float]:  # fmt: skip
    """Return the range (m) at which the rocket passes an altitude on its way up, aimed behind itself: not steered.

    Then the farthest that it comes.
    """
    bearing = in_si(heading, "angle", where="heading")
    far = {"aim_north": -1e6 * math.cos(bearing), "aim_east": -1e6 * math.sin(bearing), "aim_altitude": -1e6}
    begin = on_rail(craft, elevation=elevation, heading=heading, inputs={"ignition": 1.0, **(inputs or {}), **far})
    run = fly(craft, start=begin, duration=LONGEST, record=["north", "east", "altitude"])
    above = np.flatnonzero(run["altitude"] >= height)
    if not len(above):
        raise DravikError(
            f"{height:.0f} m are not reached: {float(run['altitude'].max()):.0f} m at most", hint="a steeper rail"
        )
    away = np.hypot(run["north"], run["east"])
    return float(away[above[0]]), float(away.max())
