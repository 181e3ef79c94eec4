"""The nearest conditions that can be held in the place of one that cannot, one figure changed at a time."""

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.trimming.condition import STEEP, Condition
from dravik.trimming.continuation import ConditionSeries
from dravik.trimming.outcomes import report
from dravik.trimming.residuals import AircraftField
from dravik.trimming.result import TrimPoint
from dravik.trimming.search import Search

__all__ = ["FeasibleLimit", "approached", "find_limit", "limit_between", "nearest_feasible"]

Floats = NDArray[np.float64]
# where a held condition is looked for, nearest first: factors of a speed, steps of a path (rad), shares of a manoeuvre
SPEED_FACTORS = 1.15 ** np.arange(1, 11)
PATH_STEPS = np.radians([1.0, 3.0, 7.0, 14.0, 30.0])
SHARES = np.array([0.8, 0.5, 0.2, 0.0])
ALTITUDE_SHARES = np.array([0.8, 0.5, 0.2, 0.0])


LOOKS = np.array([1e-3, 0.1, 0.3, 0.6, 0.9])  # shares of the way to what was asked, where an edge is doubted
TABLE_HALVINGS = 40  # of an interval in which a table is left
MOST_DOUBTS = 3
SAME_EDGE = 1e-3  # of what was asked: edges on both sides of it that are no nearer than this stand
STRIDES, MOST_STRIDES = 8, 60  # from a condition that holds to the one asked for
# another stride where one leads nowhere: near engines that hardly turn slopes change from place to place
STRIDE_FACTORS = (1.0, 2.0, 0.5, 1.5, 0.25, 3.0)
ANGLE_STEP = 0.01  # rad
FOLD = 1e-3  # slopes, and singular values as shares of the largest, that count as none: at a fold or the top of a curve
_LIMITS = {
    "nz": "no more lift", "alpha_dot": "no more lift", "w_dot": "no more lift",
    "airspeed_dot": "no more thrust or drag", "u_dot": "no more thrust or drag", "beta_dot": "no more side force",
    "q_dot": "no more pitching moment", "p_dot": "no more rolling moment", "r_dot": "no more yawing moment",
}  # fmt: skip


class FeasibleLimit(NamedTuple):
    """A condition just held: the figure of the asked condition that was changed alone, in SI, and what ends it there.

    ``what`` is that figure's name, ``value`` its value at the edge, ``asked`` the one asked for, ``cause`` what limits
    it, ``point`` the trimmed point at the edge.
    """

    what: str
    value: float
    asked: float
    cause: str
    point: TrimPoint

    def __str__(self) -> str:
        return f"{self.words} ({self.cause})"

    @property
    def words(self) -> str:
        """The edge in words, without what ends it."""
        above = self.value > self.asked
        angle = f"{math.degrees(self.value):.4g} deg"
        if self.what == "airspeed":
            return f"{self.value:.4g} m/s is the {'slowest' if above else 'fastest'}"
        if self.what == "flight_path":
            words = (
                ("shallowest climb", "steepest climb")
                if self.value >= 0.0
                else ("steepest descent", "shallowest descent")
            )
            return f"{angle} is the {words[not above]}"
        if self.what == "climb_rate":
            return f"{self.value:.4g} m/s is the {'lowest' if above else 'highest'} rate of climb"
        if self.what == "altitude":
            return f"{self.value:.5g} m is the {'lowest' if above else 'highest'}"
        if self.what in ("bank", "sideslip"):
            return f"{angle} is the most {self.what}"
        manoeuvre = self.point.statement.title.rsplit(", ", 1)[-1]
        return f"{manoeuvre} is the {'tightest' if 'radius' in manoeuvre else 'most'}"


def nearest_feasible(craft: Aircraft, condition: Condition) -> list[FeasibleLimit]:
    """Return the edges beyond which a condition that cannot be held begins to hold, one figure changed at a time.

    Empty where none of speed, path, manoeuvre, bank, sideslip and altitude makes it hold by itself.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    condition : Condition
        The flight condition.

    Returns
    -------
    list of FeasibleLimit
    """
    found = []
    for what, asked, make, looked_at in _figures(condition):
        family = ConditionSeries(craft, make)
        inside = family.first_feasible(looked_at, briefly=True)
        if math.isnan(inside):
            continue
        # the values between the first that holds and the one before it, which does not, enclose the edge
        before = looked_at[looked_at.index(inside) - 1] if inside != looked_at[0] else asked
        edge = limit_between(family, inside, float(before), what, asked)
        if edge is not None:
            found.append(_doubted(family, edge))
    # a figure that is both too small and too large has no edge: one of its values was not found
    return [e for e in found if not any(o.what == e.what and _contradicts(o, e) for o in found)]


def _contradicts(one: FeasibleLimit, other: FeasibleLimit) -> bool:
    """Whether two edges of one figure leave nothing between them that is refused."""
    low, high = sorted((one.value, other.value))
    return one is not other and low <= one.asked <= high and high - low < SAME_EDGE * abs(one.asked)


def _doubted(family: ConditionSeries, edge: FeasibleLimit) -> FeasibleLimit:
    """Return the edge that stands up to a second look: between it and what was asked for nothing holds.

    A search that starts anew, or from the last point, may hold beyond a place where the halving ended.
    """
    for _ in range(MOST_DOUBTS):
        places = edge.value + (edge.asked - edge.value) * LOOKS
        family.chain.last = None
        beyond = [float(v) for v in places if family.holds(float(v))]
        if not beyond:
            break
        farthest = max(beyond, key=lambda v: abs(v - edge.value))
        k = int(np.argmin(np.abs(places - farthest)))
        outside = float(places[k + 1]) if k + 1 < len(places) else edge.asked
        better = limit_between(family, farthest, outside, edge.what, edge.asked)
        if better is None:
            break
        edge = better
    return edge


def approached(craft: Aircraft, condition: Condition) -> TrimPoint | None:
    """Return the point of a condition by a path from the nearest that holds, one figure changed step by step, or None.

    Before a condition is refused it is doubted so: a search that begins far away may miss what a short way finds.
    """
    for _, asked, make, looked_at in _figures(condition):
        family = ConditionSeries(craft, make)
        inside = family.first_feasible(looked_at, briefly=True)
        if math.isnan(inside):
            continue
        if _reaches(family, inside, asked):
            return family.point(asked)
    return None


def _reaches(family: ConditionSeries, inside: float, asked: float) -> bool:
    """Whether a path of conditions, each from the one before, leads from one that holds to the one asked for."""
    now, step = inside, (asked - inside) / STRIDES
    for _ in range(MOST_STRIDES):
        kept = family.chain.last
        for factor in STRIDE_FACTORS:
            value = now + factor * step
            value = asked if (value - asked) * step >= 0.0 else value
            family.chain.last = kept
            if family.holds(value, starts=0):
                break
        else:
            return False
        now = value
        if now == asked:
            return True
    return False


def limit_between(
    family: ConditionSeries, inside: float, outside: float, what: str, asked: float
) -> FeasibleLimit | None:
    """Return the edge of a family between a value that is held and one that is not."""
    value = family.edge(inside, outside)
    held = family.chain.find(family.craft, family.make(value))
    if held is None:
        return None
    search, field, v = held
    point = report(family.craft, search.statement, search, field, v, True)
    return FeasibleLimit(what, value, asked, _cause(point, search, field, v), point)


def find_limit(family: ConditionSeries, begin: float, steps: Iterable[float], what: str) -> FeasibleLimit | None:
    """Return the edge beyond a value that is held, stepping through others; None where all or none of them are held.

    A search that begins inside of all tables ends where one of them ends: beyond it its last value goes on for
    ever.

    Parameters
    ----------
    family : ConditionSeries
        Conditions along a line.
    begin : float
        A value that is held.
    steps : iterable of float
        Values to try, in order.
    what : str
        Name of the figure that changes.

    Returns
    -------
    FeasibleLimit or None
        The edge.
    """
    # what was tried before may have led to another branch, such as one beyond the stall
    family.chain.last = None
    first = family.point(begin)
    if first is None:
        return None
    before, is_inside = begin, not first.outside
    for value in steps:
        kept = family.chain.last
        is_held = family.holds(value, starts=0)
        if not is_held:
            family.chain.last = kept
            is_held = _reaches(family, before, value)
        if not is_held:
            family.chain.last = kept
            return limit_between(family, before, value, what, value)
        if is_inside and (point := family.point(value)) is not None and point.outside:
            family.chain.last = kept
            return _end_of_table(family, before, value, what)
        before = value
    return None


def _end_of_table(family: ConditionSeries, inside: float, outside: float, what: str) -> FeasibleLimit | None:
    """Return the edge at which a condition that holds leaves a table, between two values that hold."""
    left = family.point(outside)
    for _ in range(TABLE_HALVINGS):
        middle = 0.5 * (inside + outside)
        point = family.point(middle)
        if point is not None and point.outside:
            outside, left = middle, point
        else:
            inside = middle
    point = family.point(inside)
    if point is None or left is None:
        return None
    ends = sorted({f"{o.table} over {o.axis}" for o in left.outside})
    shown = ", ".join(ends[:2]) + (f" and {len(ends) - 2} more" if len(ends) > 2 else "")
    return FeasibleLimit(
        what,
        inside,
        outside,
        f"the table{'s' if len(ends) > 1 else ''} {shown} end{'s' if len(ends) == 1 else ''}",
        point,
    )


def _figures(c: Condition) -> Iterator[tuple[str, float, Callable[[float], Condition], Sequence[float]]]:
    """Yield each figure that may be changed: name, value asked for, the condition by it, values to look at."""
    if c.airspeed > 0.0:
        for factors in (SPEED_FACTORS, 1.0 / SPEED_FACTORS):
            yield "airspeed", c.airspeed, lambda v: replace(c, airspeed=v), list(c.airspeed * factors)
    if c.flight_path is not None and not c.is_steep:
        path = c.flight_path
        for side in (-1.0, 1.0):
            steps = path + side * PATH_STEPS
            yield "flight_path", path, lambda v: replace(c, flight_path=v), list(steps[np.abs(steps) < STEEP])
    if c.climb_rate is not None:
        rates = [c.climb_rate - side * 0.5 * c.airspeed * math.sin(s) for s in PATH_STEPS for side in (1.0, -1.0)]
        for side in (0, 1):
            yield "climb_rate", c.climb_rate, lambda v: replace(c, climb_rate=v), rates[side::2]
    if c.manoeuvre is not None:
        m = c.manoeuvre
        start = {"load_factor": math.copysign(1.0, m.value)}.get(m.by, 0.0)
        values = start + (m.value - start) * SHARES
        if m.by == "radius":
            values = m.value / np.maximum(SHARES, 1e-3)
        yield m.kind, m.value, lambda v: replace(c, manoeuvre=m._replace(value=v)), list(values)
    for what in ("bank", "sideslip"):
        value = getattr(c, what)
        if value:
            yield what, value, lambda v, what=what: replace(c, **{what: v}), list(value * SHARES)  # type: ignore[misc]
    if c.altitude > 0.0:
        yield "altitude", c.altitude, lambda v: replace(c, altitude=v), list(c.altitude * ALTITUDE_SHARES)


def _cause(point: TrimPoint, search: Search, field: AircraftField, v: Floats) -> str:
    """Return in words what ends a curve of trims at a point: a stop, or an equation that nothing moves any more."""
    if point.at_stop:
        # a throttle that is at its stop commands effectors that then are at theirs: name the throttle
        inputs = [text for text in point.at_stop if text.split()[0] in point.craft.inputs]
        return ", ".join(inputs or point.at_stop)
    slopes = field.slopes(v)
    rows = np.max(np.abs(slopes), axis=1)
    left, values, _ = np.linalg.svd(slopes / np.where(rows > 0.0, rows, 1.0)[:, None])
    if np.any(rows < FOLD):
        # at the top of its curve an equation is moved by nothing
        part = [search.names[i] for i in np.flatnonzero(rows < FOLD)]
    elif values[-1] < FOLD * values[0]:
        # at a fold the equations can be moved in all directions but one: the forces and moments in it name the limit
        weights = np.abs(left[:, -1])
        part = [n for n, w in zip(search.names, weights, strict=True) if w > 0.3 * weights.max()]
    else:
        # no fold: the slopes jump there. Where lift does not grow any more with alpha it is the stall
        return "no more lift" if _is_stalling(search, field, v) else "a table or formula bends there"
    name = next((n for n in _LIMITS if n in part), part[0])
    return _LIMITS.get(name, f"{name} can be moved no further")


def _is_stalling(search: Search, field: AircraftField, v: Floats) -> bool:
    """Whether a little more angle of attack at the same path brings no more lift."""
    names, free = search.names, [f.name for f in search.statement.free]
    if "alpha_dot" not in names or not {"alpha", "theta"} <= set(free):
        return False
    more = v.copy()
    more[[free.index("alpha"), free.index("theta")]] += ANGLE_STEP
    row = names.index("alpha_dot")
    # lift turns the path up, and so alpha down
    return bool(field.residual(more)[row] >= field.residual(v)[row])
