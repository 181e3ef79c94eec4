"""Routes in flight: the device that follows one, the check of the land below, and what a flight made of it."""

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.guidance import Follower, Path, Route, build_path
from dravik.kernel.program import EVERYTHING
from dravik.motion.equations import evaluate
from dravik.recording.recording import Recording
from dravik.units import in_si

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["LOGGED", "OWN_VALUES", "RouteGuidance", "check_clearance", "drawn", "path_over_land", "route_log"]

TARGETS = {"bank": "bank_target", "altitude": "altitude_target", "airspeed": "airspeed_target"}


#: What the guidance records of its own.
OWN_VALUES = ("cross_track", "height_error", "route_to_go", "route_point", "route_done")
#: What a route's log needs of a recording, besides what the guidance itself records.
LOGGED = ("north", "east", "altitude", "mass")


class RouteGuidance:
    """A device that flies a route: it sets bank, altitude and airspeed for an autopilot that holds them.

    ``rate`` in Hz; ``quickness`` (1/s) as of ``Follower``; ``targets`` names the inputs where they are not
    ``bank_target``, ``altitude_target``, ``airspeed_target``. Recordings keep ``cross_track`` and ``height_error`` (m),
    ``route_to_go`` (m) and ``route_point``, the number of the next point; ``route_done`` is 1 behind its end.
    From then on a target that somebody else sets, such as a phase, is theirs.

    >>> import dravik as dv
    >>> from dravik.guidance import build_path, read_route
    >>> route = read_route(dv.aircraft.sample_path("pika") / "routes" / "fire_edge.toml")
    >>> RouteGuidance(build_path(route, wind=4.0)).rate
    10.0
    """

    name = "route"

    def __init__(
        self, path: Path, *, rate: float = 10.0, quickness: float = 0.35, targets: Mapping[str, str] | None = None
    ) -> None:
        require(path, Path, "the path", "build_path(read_route(file))")
        self.rate = arguments.number(rate, "rate")
        names = {**TARGETS, **arguments.mapping(targets or {}, "targets")}
        for key in names:
            if key not in TARGETS:
                raise DravikError(f"there is no target {key!r}", expected=", ".join(TARGETS))
        self.targets = names
        self.sets = [*names.values(), *OWN_VALUES]
        self.units = {"cross_track": "m", "height_error": "m", "route_to_go": "m"}
        self._follower = Follower(path, quickness=quickness)
        self._asked: dict[str, float] = {}  # targets as they were set last
        self._left: list[str] = []  # those that others have set since the route is done

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return the targets of this moment, and where the aircraft is relative to the path."""
        here = signals["north"], signals["east"]
        self._follower, asked = self._follower.steer(*here, signals["track"], signals["ground_speed"])
        wanted = {
            self.targets["bank"]: asked.bank, self.targets["altitude"]: asked.altitude,
            self.targets["airspeed"]: asked.airspeed,
        }  # fmt: skip
        if asked.done:
            # the route is over: what a phase, a device or a hand has set since is theirs
            self._left += [n for n, v in self._asked.items() if n not in self._left and signals[n] != v]
        self._asked = {n: v for n, v in wanted.items() if n not in self._left}
        return {
            **self._asked, "cross_track": asked.cross_track,
            "height_error": signals["altitude"] - asked.altitude, "route_to_go": asked.to_go,
            "route_point": float(asked.point), "route_done": float(asked.done),
        }  # fmt: skip

    def save(self) -> dict[str, Any]:
        """Return how far it has come."""
        f = self._follower
        way = {"segment": f.segment, "swept": f.swept, "bearing": f.bearing}
        return {**way, "asked": dict(self._asked), "left": list(self._left)}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Go on from there."""
        own = dict(data)
        self._asked, self._left = dict(own.pop("asked", {})), list(own.pop("left", []))
        self._follower = replace(self._follower, **own)


def path_over_land(craft: Aircraft, route: Route, clearance: str | float | None = None) -> Path:
    """Return the path of a route in an aircraft's world: its origin, its wind, and room above its land.

    The turns are laid out for the wind at 10 m and above where it is given as a speed. Raises DravikError for turns
    without room, and for a path that comes nearer to the ground than ``clearance`` (m, or with its unit).

    >>> import dravik as dv
    >>> from dravik.guidance import read_route
    >>> route = read_route(dv.aircraft.sample_path("pika") / "routes" / "fire_edge.toml")
    >>> len(path_over_land(dv.sample("pika"), route).points)
    12
    """
    world = craft.configuration.world
    wind = world.wind.speed if world.wind is not None else 0.0
    blows = wind if isinstance(wind, float) else 0.0
    path = build_path(route, origin=(world.latitude, world.longitude), wind=blows)
    if clearance is not None:
        check_clearance(craft, path, clearance)
    return path


def check_clearance(craft: Aircraft, path: Path, clearance: str | float) -> float:
    """Return the least height (m) of a path above the ground; raises DravikError where it is less than ``clearance``.

    Nothing is checked over a world without ground: then it is infinite.
    """
    wanted = in_si(clearance, "length", where="clearance")
    if craft.configuration.world.ground is None:
        return math.inf
    work, x = craft.workspace(), craft.state(velocity=(1.0, 0.0, 0.0))
    u, slopes, height = craft.default_inputs(), np.empty(len(x)), craft.tape.names["ground_height"]

    def ground(north: float, east: float) -> float:
        x[0], x[1] = north, east
        evaluate(craft.program, work, 0.0, x, u, slopes, False, EVERYTHING)
        return float(work.registers[height])

    least, (north, east, altitude) = path.clearance(ground)
    if least < wanted:
        raise DravikError(
            f"the route {path.name} comes {'within' if least > 0 else 'below'} {abs(least):.0f} m of the ground at "
            f"north {north:.0f} m, east {east:.0f} m, altitude {altitude:.0f} m", expected=f"{wanted:g} m or more",
            hint=f"{wanted - least:.0f} m higher there",
        )  # fmt: skip
    return least


def route_log(run: Recording, path: Path) -> "DataFrame":
    """Return what a flight made of a route: a row for each point.

    Closest approach (m), the time of it (s), whether within the point's acceptance, and there the error in altitude (m)
    and the mass (kg) where it was recorded. A circle's point is as near as its radius. Raises DravikError for a
    recording without ``north``, ``east``, ``altitude`` and ``route_point``.
    """
    import pandas as pd

    north, east, now = run["north"], run["east"], run["route_point"]
    rows = []
    for k, p in enumerate(path.points, start=1):
        off = np.hypot(north - p.north, east - p.east)
        off = np.abs(off - p.radius) if p.kind == "circle" else off
        # a turn by a point ends after the next point's number has come: the segments beside it count too
        near = (now >= k - 1) & (now <= k + 1)
        if not np.any(near):
            rows.append((p.name, math.nan, math.nan, False, math.nan, math.nan))
            continue
        i = int(np.flatnonzero(near)[np.argmin(off[near])])
        mass = float(run["mass"][i]) if "mass" in run.names else math.nan
        error = float(run["altitude"][i]) - p.altitude
        rows.append((p.name, float(off[i]), float(run.time[i]), bool(off[i] <= p.acceptance), error, mass))
    names = ["point", "closest_m", "time_s", "met", "height_error_m", "mass_kg"]
    return pd.DataFrame(rows, columns=names)


def drawn(path: Path) -> dict[str, Any]:
    """Return what a figure shows of a path, as plain data: the line, and the points with their acceptance."""
    rows = path.samples()
    points = [
        {"name": p.name, "north_m": p.north, "east_m": p.east, "acceptance_m": min(p.acceptance, 1e6)}
        for p in path.points
    ]
    return {
        "name": path.name, "north_m": rows[:, 0].round(1).tolist(), "east_m": rows[:, 1].round(1).tolist(),
        "altitude_m": rows[:, 2].round(1).tolist(), "points": points,
    }  # fmt: skip
