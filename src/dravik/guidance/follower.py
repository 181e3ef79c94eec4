"""Following a path: the course that leads back to it, and the bank that flies that course.

A line is followed by the vector field of D. R. Nelson, D. B. Barber, T. W. McLain and R. W. Beard, Vector Field Path
Following for Miniature Air Vehicles, IEEE Transactions on Robotics 23 (2007): the wanted course leans towards the line
by at most ``lean``, less the nearer it is. The courses are over ground, so a steady wind needs no other term.
"""

import math
from dataclasses import dataclass, replace

from dravik.constants import STANDARD_GRAVITY
from dravik.guidance.path import Arc, Line, Path

__all__ = ["Follower", "Steering"]


@dataclass(frozen=True)
class Steering:
    """What following asks for: bank (rad), altitude (m), airspeed (m/s); and where one is relative to the path.

    ``cross_track`` (m) is positive to the right of the path, ``to_go`` (m) the distance to its end, ``point`` the
    number of the next point, counted from one, and ``done`` whether the end has been passed.
    """

    bank: float
    altitude: float
    airspeed: float
    cross_track: float
    course: float
    to_go: float
    point: int
    done: bool


@dataclass(frozen=True)
class Follower:
    """Follows a path from segment to segment; what it remembers is ``segment`` and how far an arc has been ``swept``.

    ``course_gain`` (1/s): how fast the course is brought to the wanted one; ``lean`` (rad): by how much it leans
    towards the path far away; ``damping`` of the approach, which sets how near the path the course straightens out.
    """

    path: Path
    course_gain: float = 0.35
    lean: float = math.radians(60.0)
    damping: float = 0.9
    segment: int = 0
    swept: float = 0.0
    bearing: float | None = None

    def slope(self, speed: float) -> float:
        """Return the lean for each metre off the path near it, rad/m.

        Near a line the distance e obeys e'' + course_gain e' + course_gain slope V e = 0: the slope gives it the
        damping.
        """
        return self.course_gain / (4.0 * self.damping**2 * max(speed, 1.0))

    def leaned(self, off: float, speed: float) -> float:
        """Return by how much the course leans (rad) at a distance to the right (m): arctangent, at most ``lean``."""
        k = 0.5 * math.pi * self.slope(speed) / self.lean
        return self.lean * 2.0 / math.pi * math.atan(k * off)

    def steer(self, north: float, east: float, track: float, speed: float) -> tuple["Follower", Steering]:
        """Return the follower after this instant, and what it asks for; ``speed`` is over ground (m/s)."""
        follower = self
        for _ in range(len(self.path.segments)):
            found, along = follower._along(north, east)
            s = follower.path.segments[follower.segment]
            last = follower.segment == len(follower.path.segments) - 1
            if along < s.length or last:
                return found, found._steering((north, east), track, speed, along)
            follower = replace(follower, segment=follower.segment + 1, swept=0.0, bearing=None)
        raise AssertionError("a path without an end")

    def _along(self, north: float, east: float) -> tuple["Follower", float]:
        """Return the follower here, which counts how far it has come round, and the distance along the segment (m)."""
        s = self.path.segments[self.segment]
        if isinstance(s, Line):
            c = s.course
            return self, (north - s.start[0]) * math.cos(c) + (east - s.start[1]) * math.sin(c)
        bearing = math.atan2(east - s.centre[1], north - s.centre[0])
        before = s.begin if self.bearing is None else self.bearing
        swept = self.swept + s.sense * math.remainder(bearing - before, 2.0 * math.pi)
        return replace(self, swept=swept, bearing=bearing), s.radius * swept

    def _steering(self, place: tuple[float, float], track: float, speed: float, along: float) -> Steering:
        s = self.path.segments[self.segment]
        off, course, turning = _relative(s, place)
        wanted = course - self.leaned(off, speed)
        rate = self.course_gain * math.remainder(wanted - track, 2.0 * math.pi) + speed * turning
        bank = min(max(math.atan(speed * rate / STANDARD_GRAVITY), -s.bank), s.bank)
        rest = sum(x.length for x in self.path.segments[self.segment + 1 :])
        last = self.segment == len(self.path.segments) - 1
        to_go = max(s.length - along, 0.0) + rest
        share = along / max(s.length, 1e-9)
        return Steering(
            bank, s.altitude(share), s.airspeed, off, wanted, to_go, s.point + 1, last and along >= s.length
        )


def _relative(s: Line | Arc, place: tuple[float, float]) -> tuple[float, float, float]:
    """Return the distance to the right of a segment (m), its course there, and its curvature (1/m, right positive)."""
    north, east = place
    if isinstance(s, Line):
        c = s.course
        return (east - s.start[1]) * math.cos(c) - (north - s.start[0]) * math.sin(c), c, 0.0
    distance = math.hypot(north - s.centre[0], east - s.centre[1])
    bearing = math.atan2(east - s.centre[1], north - s.centre[0])
    # outside a circle to the right is to its left
    return s.sense * (s.radius - distance), bearing + s.sense * 0.5 * math.pi, s.sense / s.radius
