"""The path of a route over the ground: lines and arcs, with the turns before points to fly by."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.constants import STANDARD_GRAVITY
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.guidance.route import Place, Route, places

__all__ = ["Arc", "Line", "Path", "build_path"]

Floats = NDArray[np.float64]
TURN_SHARE = 0.8  # of the bank limit that planned turns use: the rest is for correcting
STRAIGHT = math.radians(1.0)  # a smaller turn needs no arc
SPACING = 20.0  # m between samples of the path, for drawing and for the check of the land below


@dataclass(frozen=True)
class Segment:
    """A part of a path: from ``start`` to ``end`` (north, east), altitudes there, speed, bank limit, its next point."""

    start: tuple[float, float]
    end: tuple[float, float]
    altitudes: tuple[float, float]
    airspeed: float
    bank: float
    point: int

    def altitude(self, share: float) -> float:
        """Return the altitude (m) at a share of its length."""
        low, high = self.altitudes
        return low + (high - low) * min(max(share, 0.0), 1.0)


@dataclass(frozen=True)
class Line(Segment):
    """A straight segment."""

    @property
    def length(self) -> float:
        """Length, m."""
        return math.dist(self.start, self.end)

    @property
    def course(self) -> float:
        """Course over ground, rad."""
        return math.atan2(self.end[1] - self.start[1], self.end[0] - self.start[0])

    def at(self, distance: float) -> tuple[float, float]:
        """Return the place at a distance (m) from its start."""
        c = self.course
        return self.start[0] + distance * math.cos(c), self.start[1] + distance * math.sin(c)


@dataclass(frozen=True)
class Arc(Segment):
    """Part of a circle about ``centre`` (north, east), ``sweep`` (rad, positive) to the right (``sense`` 1) or left."""

    centre: tuple[float, float] = (0.0, 0.0)
    radius: float = 1.0
    sense: int = 1
    sweep: float = 0.0

    @property
    def length(self) -> float:
        """Length, m."""
        return self.radius * self.sweep

    @property
    def begin(self) -> float:
        """Bearing of the start from the centre, rad."""
        return math.atan2(self.start[1] - self.centre[1], self.start[0] - self.centre[0])

    def at(self, distance: float) -> tuple[float, float]:
        """Return the place at a distance (m) from its start."""
        angle = self.begin + self.sense * distance / self.radius
        return self.centre[0] + self.radius * math.cos(angle), self.centre[1] + self.radius * math.sin(angle)


@dataclass(frozen=True)
class Path:
    """A route's points and the segments between them, in order."""

    name: str
    points: tuple[Place, ...]
    segments: tuple[Line | Arc, ...]

    @property
    def length(self) -> float:
        """Length over the ground, m."""
        return sum(s.length for s in self.segments)

    def samples(self, spacing: float = SPACING) -> Floats:
        """Return north, east and altitude (m) along the path, a row for each place."""
        rows: list[tuple[float, float, float]] = []
        for s in self.segments:
            way = np.linspace(0.0, s.length, max(2, math.ceil(s.length / spacing) + 1)).tolist()
            rows += [(*s.at(d), s.altitude(d / max(s.length, 1e-9))) for d in way]
        return np.array(rows)

    def clearance(self, ground: Callable[[float, float], float]) -> tuple[float, Floats]:
        """Return the least height (m) of the path above the ground, and where: north, east, altitude.

        ``ground`` gives the height of the ground at north and east.
        """
        rows = self.samples()
        heights = np.array([a - ground(float(n), float(e)) for n, e, a in rows])
        k = int(np.argmin(heights))
        return float(heights[k]), rows[k]


def build_path(route: Route, *, origin: tuple[float, float] = (0.0, 0.0), wind: float = 0.0) -> Path:
    """Return the path of a route; turns are laid out for its airspeeds with a ``wind`` (m/s) from behind.

    ``origin``: latitude and longitude (rad) from which places are counted in metres.

    Parameters
    ----------
    route : Route
        The route.
    origin : tuple (float, float), default (0.0, 0.0)
        Latitude and longitude of the origin, rad.
    wind : float, default 0.0
        Tail wind that the turns leave room for, m/s.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        For a turn that its legs leave no room for, or that misses its point by more than the acceptance radius.

    Examples
    --------
    >>> from dravik.aircraft import sample_path
    >>> from dravik.guidance import read_route
    >>> path = build_path(read_route(sample_path("pika") / "routes" / "fire_edge.toml"), wind=4.0)
    >>> path.length > 5000.0
    True
    """
    points = places(route, origin)
    wind = arguments.number(wind, "wind")
    builder = _Builder(points, wind)
    for k in range(1, len(points)):
        builder.go_to(k)
    return Path(route.name, tuple(points), tuple(builder.segments))


class _Builder:
    """Lays segment after segment; ``here`` is where the last one ended."""

    def __init__(self, points: Sequence[Place], wind: float) -> None:
        self.points, self.wind = points, wind
        self.segments: list[Line | Arc] = []
        self.here, self.altitude = (points[0].north, points[0].east), points[0].altitude

    def go_to(self, k: int) -> None:
        """Lay the segments to a point, and what is flown there."""
        p = self.points[k]
        if p.kind == "circle":
            self._circle(k)
        elif p.kind == "hold":
            self._hold(k)
        elif p.kind == "arc":
            self._arc(k)
        elif p.kind == "fly_by" and k + 1 < len(self.points):
            self._fly_by(k)
        else:
            self._line(k, (p.north, p.east))

    def _common(self, k: int, end: tuple[float, float], begin: float, finish: float) -> dict[str, Any]:
        p = self.points[k]
        return {
            "start": self.here, "end": end, "altitudes": (begin, finish), "airspeed": p.airspeed, "bank": p.bank,
            "point": k,
        }  # fmt: skip

    def _altitudes(self, k: int) -> tuple[float, float]:
        p = self.points[k]
        return (self.altitude if p.slope else p.altitude), p.altitude

    def _add(self, segment: Line | Arc) -> None:
        if segment.length > 1e-6:
            self.segments.append(segment)
        self.here, self.altitude = segment.end, segment.altitudes[1]

    def _line(self, k: int, end: tuple[float, float]) -> None:
        self._add(Line(**self._common(k, end, *self._altitudes(k))))

    def _turn(self, k: int, centre: tuple[float, float], radius: float, sense: int, sweep: float) -> None:
        """Lay an arc from here, at the point's altitude."""
        p = self.points[k]
        angle = math.atan2(self.here[1] - centre[1], self.here[0] - centre[0]) + sense * sweep
        end = centre[0] + radius * math.cos(angle), centre[1] + radius * math.sin(angle)
        common = self._common(k, end, p.altitude, p.altitude)
        self._add(Arc(**common, centre=centre, radius=radius, sense=sense, sweep=sweep))

    def radius(self, k: int) -> float:
        """Return the radius (m) of a turn at a point: V^2/(g tan(bank)), V with the wind from behind."""
        p = self.points[k]
        return (p.airspeed + self.wind) ** 2 / (STANDARD_GRAVITY * math.tan(TURN_SHARE * p.bank))

    def _fly_by(self, k: int) -> None:
        p, after = self.points[k], self.points[k + 1]
        into = math.atan2(p.east - self.here[1], p.north - self.here[0])
        out = math.atan2(after.east - p.east, after.north - p.north)
        turn = math.remainder(out - into, 2.0 * math.pi)
        if abs(turn) < STRAIGHT:
            self._line(k, (p.north, p.east))
            return
        radius = self.radius(k)
        ahead = radius * math.tan(0.5 * abs(turn))
        room = min(math.dist(self.here, (p.north, p.east)), math.dist((p.north, p.east), (after.north, after.east)))
        miss = radius / math.cos(0.5 * turn) - radius if abs(turn) < math.pi - 1e-6 else math.inf
        place = f"point {p.name}"
        if ahead > room:
            raise DravikError(
                f"a turn of {math.degrees(abs(turn)):.0f} deg with a radius of {radius:.0f} m begins {ahead:.0f} m "
                f"before its point, and there are {room:.0f} m", where=place,
                hint='kind = "fly_over", a smaller airspeed, a greater bank, or longer legs',
            )  # fmt: skip
        if miss > p.acceptance:
            raise DravikError(
                f"a turn that flies by misses the point by {miss:.0f} m", where=place,
                expected=f"at most its acceptance of {p.acceptance:g} m", hint='kind = "fly_over", or a greater bank',
            )  # fmt: skip
        sense = 1 if turn > 0.0 else -1
        self._line(k, (p.north - ahead * math.cos(into), p.east - ahead * math.sin(into)))
        side = into + sense * 0.5 * math.pi
        centre = self.here[0] + radius * math.cos(side), self.here[1] + radius * math.sin(side)
        self._turn(k, centre, radius, sense, abs(turn))

    def _circle(self, k: int) -> None:
        """Reach the circle along its tangent, go round, and leave it along the tangent to the next point."""
        p = self.points[k]
        centre = p.north, p.east
        distance = math.dist(self.here, centre)
        if distance <= p.radius:
            raise DravikError(
                f"the point before a circle of {p.radius:g} m lies within it", where=f"point {p.name}",
                expected=f"the point before it further away than that, not {distance:.0f} m",
            )  # fmt: skip
        bearing = math.atan2(self.here[1] - centre[1], self.here[0] - centre[0])
        touch = bearing + p.sense * math.acos(p.radius / distance)
        self._line(k, (centre[0] + p.radius * math.cos(touch), centre[1] + p.radius * math.sin(touch)))
        sweep = 2.0 * math.pi * p.turns
        if k + 1 < len(self.points):
            after = self.points[k + 1]
            far = math.dist((after.north, after.east), centre)
            if far > p.radius:
                way = math.atan2(after.east - centre[1], after.north - centre[0])
                leave = way - p.sense * math.acos(p.radius / far)
                sweep += (p.sense * (leave - touch - p.sense * sweep)) % (2.0 * math.pi)
        self._turn(k, centre, p.radius, p.sense, sweep)

    def _hold(self, k: int) -> None:
        """Reach the point, and go round the racetrack: half a circle, out, half a circle, in."""
        p = self.points[k]
        self._line(k, (p.north, p.east))
        for _ in range(max(1, round(p.turns))):
            for course in (p.course, p.course + math.pi):
                side = course + p.sense * 0.5 * math.pi
                centre = self.here[0] + p.radius * math.cos(side), self.here[1] + p.radius * math.sin(side)
                self._turn(k, centre, p.radius, p.sense, math.pi)
                back = course + math.pi
                self._line(k, (self.here[0] + p.length * math.cos(back), self.here[1] + p.length * math.sin(back)))

    def _arc(self, k: int) -> None:
        """Reach the point along the shorter arc of its radius that turns its way."""
        p = self.points[k]
        end = p.north, p.east
        chord = math.dist(self.here, end)
        if chord > 2.0 * p.radius:
            raise DravikError(
                f"an arc of {p.radius:g} m does not reach over {chord:.0f} m", where=f"point {p.name}",
                expected=f"a radius of {0.5 * chord:.0f} m or more",
            )  # fmt: skip
        half = math.asin(min(1.0, 0.5 * chord / p.radius))
        course = math.atan2(end[1] - self.here[1], end[0] - self.here[0])
        side = course - p.sense * half + p.sense * 0.5 * math.pi
        centre = self.here[0] + p.radius * math.cos(side), self.here[1] + p.radius * math.sin(side)
        low, high = self._altitudes(k)
        common = self._common(k, end, low, high)
        self._add(Arc(**common, centre=centre, radius=p.radius, sense=p.sense, sweep=2.0 * half))
