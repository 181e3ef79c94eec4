"""The device that flies a route: it calls the follower, and sets bank, altitude and airspeed for an autopilot."""

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.guidance import Follower, Path

if TYPE_CHECKING:
    pass

__all__ = [
    "LOGGED",
    "OWN_VALUES",
    "RouteGuidance",
]

TARGETS = {"bank": "bank_target", "altitude": "altitude_target", "airspeed": "airspeed_target"}


#: What the guidance records of its own.
OWN_VALUES = ("cross_track", "height_error", "route_to_go", "route_point", "route_done")
#: What a route's log needs of a recording, besides what the guidance itself records.
LOGGED = ("north", "east", "altitude", "mass")


class RouteGuidance:
    """A device that flies a route: it sets bank, altitude and airspeed for an autopilot that holds them.

    ``rate`` in Hz; ``course_gain`` (1/s) as of ``Follower``; ``targets`` names the inputs where they are not
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
        self, path: Path, *, rate: float = 10.0, course_gain: float = 0.35, targets: Mapping[str, str] | None = None
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
        self._follower = Follower(path, course_gain=course_gain)
        self._asked: dict[str, float] = {}  # targets as they were set last
        self._left: list[str] = []  # those that others have set since the route is done

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return the targets of this instant, and where the aircraft is relative to the path."""
        # where laws read sensors or estimates, guidance does; what is recorded of the height is the truth
        north, east, track, speed = (
            signals[f"read_{n}"] if f"read_{n}" in signals else signals[n]
            for n in ("north", "east", "track", "ground_speed")
        )
        self._follower, asked = self._follower.steer(north, east, track, speed)
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
