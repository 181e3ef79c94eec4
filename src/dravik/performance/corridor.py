"""The corridor of an aircraft with more to push and lift than it needs: at each speed the attitudes that hold."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.host.cores import in_threads
from dravik.performance.bench import in_m_s, thrust_by_direction
from dravik.trimming import TrimPoint, steady, trim
from dravik.trimming.airspeeds import altitude_of
from dravik.trimming.named_conditions import throttles_of
from dravik.units import in_si

__all__ = ["Corridor", "CorridorEdge", "corridor"]

Floats = NDArray[np.float64]
Told = Callable[[float], None]
ATTITUDES = np.radians(np.arange(-12.0, 21.0, 2.0))
HALVINGS = 6  # of the step between two attitudes, to find an edge
AT_STOP = 0.02  # of its range: how near its end an input counts as what ends the corridor


@dataclass(frozen=True)
class CorridorEdge:
    """Where the attitudes that hold at an airspeed (m/s) begin and end (rad), and what limits them; nan where none."""

    airspeed: float
    lowest: float
    low_cause: str
    highest: float
    high_cause: str


@dataclass(frozen=True)
class Corridor:
    """Level flight over airspeeds (m/s) and pitch attitudes (rad).

    ``points`` are the trims, shape (attitudes, airspeeds), None where none is held; ``edges`` the ends by airspeed.
    """

    name: str
    altitude: float
    airspeeds: list[float]
    attitudes: list[float]
    points: list[list[TrimPoint | None]]
    edges: list[CorridorEdge]
    throttles: list[str]

    def values(self, signal: str) -> Floats:
        """Return a signal over attitudes and airspeeds, SI; nan where nothing holds."""
        return np.array([[math.nan if p is None else p[signal] for p in row] for row in self.points])

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each point that is held: throttles, and the thrust of each direction."""
        found = []
        for theta, row in zip(self.attitudes, self.points, strict=True):
            for airspeed, point in zip(self.airspeeds, row, strict=True):
                if point is not None:
                    thrusts = thrust_by_direction(point.craft, point.signals)[0]
                    found.append({
                        "airspeed": airspeed, "theta": theta, "alpha": point["alpha"], "outside": bool(point.outside),
                        **{n: point[n] for n in self.throttles}, **{f"thrust_{n}": v for n, v in thrusts.items()},
                    })  # fmt: skip
        return found


def corridor(
    craft: Aircraft, *, airspeeds: Sequence[str | float], attitudes: Sequence[str | float] = (),
    altitude: str | float = 0.0, inputs: Mapping[str, str | float] | None = None, told: Told | None = None,
) -> Corridor:  # fmt: skip
    """Return at each airspeed the pitch attitudes at which level flight holds, with what limits them.

    For aircraft that lift and push apart, such as those with rotors and a propeller: one of the attitudes is free to
    choose. An edge is where an input comes to its stop.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeeds : sequence of str or float
        True airspeeds, with their unit or in m/s.
    attitudes : sequence of str or float, optional
        Pitch attitudes, with their unit or in rad. From -12 to 20 degrees unless given.
    altitude : str or float, default 0
        Altitude, with its unit or in m, or a flight level.
    inputs : mapping of str to str or float, optional
        Inputs that are held, by name.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    Corridor

    Raises
    ------
    DravikError
        For an aircraft that has one attitude at each speed.

    Examples
    --------
    >>> import dravik as dv
    >>> try:
    ...     corridor(dv.sample("tarn"), airspeeds=[60])
    ... except dv.DravikError as error:
    ...     print(error.what)
    Tarn has one attitude at each airspeed: throttle gives no choice
    """
    height, speeds = altitude_of(craft, altitude), in_m_s(airspeeds)
    if attitudes:
        thetas = [in_si(a, "angle", where="attitudes") for a in attitudes]
    else:
        thetas = [float(v) for v in ATTITUDES]
    if len(thetas) < 2 or any(b <= a for a, b in pairwise(thetas)):
        raise DravikError("the attitudes do not rise", where="attitudes", expected="two or more, the lowest first")
    level = steady(craft, airspeed=speeds[0], altitude=height, inputs=inputs)
    throttles = [n for n in throttles_of(craft) if any(f.name == n for f in level.free)]
    if len(level.free) <= len(level.equations) or len(throttles) < 2:
        raise DravikError(
            f"{craft.name} has one attitude at each airspeed: {', '.join(throttles) or 'no throttle'} gives no choice",
            expected="two throttles or more that trims move, which lift and push",
        )
    done = [0]

    def over(airspeed: float) -> tuple[list[TrimPoint | None], CorridorEdge]:
        found = _at(craft, airspeed, height, thetas, inputs)
        done[0] += 1
        if told is not None:
            told(done[0] / len(speeds))
        return found

    columns = in_threads(over, speeds)
    points = [[column[k] for column, _ in columns] for k in range(len(thetas))]
    return Corridor(craft.name, height, speeds, thetas, points, [edge for _, edge in columns], throttles)


def _at(
    craft: Aircraft, airspeed: float, height: float, thetas: Sequence[float],
    inputs: Mapping[str, str | float] | None,
) -> tuple[list[TrimPoint | None], CorridorEdge]:  # fmt: skip
    """Return the trims of one airspeed, and where its attitudes end."""
    level = steady(craft, airspeed=airspeed, altitude=height, inputs=inputs)

    def held(theta: float) -> TrimPoint | None:
        # what is free beyond the attitude, such as a stick beside a rotors' one, is shared out as in any trim
        asked = replace(level.holding(craft, {"theta": theta}), is_checked=True)
        found = trim(craft, asked, strict=False)
        return found if found.reached else None

    found = [held(theta) for theta in thetas]
    there = [k for k, point in enumerate(found) if point is not None]
    if not there:
        return found, CorridorEdge(airspeed, math.nan, "no attitude holds", math.nan, "no attitude holds")
    # the widest range without a gap: what lies apart from it is another branch
    runs = np.split(np.array(there), np.flatnonzero(np.diff(there) > 1) + 1)
    widest = max(runs, key=len)
    ends = []
    for k, step in ((int(widest[0]), -1), (int(widest[-1]), 1)):
        inside = found[k]
        assert inside is not None
        if not 0 <= k + step < len(thetas):
            ends += [thetas[k], "not looked at further"]
            continue
        near, far = thetas[k], thetas[k + step]
        for _ in range(HALVINGS):
            middle = 0.5 * (near + far)
            point = held(middle)
            if point is None:
                far = middle
            else:
                near, inside = middle, point
        ends += [near, _cause(craft, inside)]
    return found, CorridorEdge(airspeed, *ends)  # type: ignore[arg-type]


def _cause(craft: Aircraft, point: TrimPoint) -> str:
    """Return the input that stands nearest to its end at an edge; what the trim says where none is near."""
    nearest, words = AT_STOP, ""
    for name in point.unknowns:
        spec = craft.inputs.get(name)
        if spec is None or not math.isfinite(spec.high - spec.low):
            continue
        for end, side in ((spec.low, "lower"), (spec.high, "upper")):
            share = abs(point[name] - end) / (spec.high - spec.low)
            if share < nearest:
                nearest, words = share, f"{name} at its {side} stop"
    if words:
        return words
    return "a table ends" if point.outside else "no solution found beyond"
