"""From measured points to tables, derivatives with intervals, and doubts about single points."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from math import sqrt

import numpy as np
from numpy.typing import NDArray

from dravik.aero.campaign.tunnel import COEFFICIENTS, Campaign, Points
from dravik.aero.sets.tableset import TableSet
from dravik.errors import DravikError

__all__ = ["Derivative", "Doubt", "Reduction", "doubts"]

Floats = NDArray[np.float64]
NEIGHBOURS = 6


@dataclass(frozen=True)
class Derivative:
    """A derivative (1/rad) in the linear range, half its 95 % interval, and from how many points."""

    name: str
    by: str
    value: float
    interval: float
    points: int


@dataclass(frozen=True)
class Doubt:
    """A point left out: where it stands, which coefficient is off, by how much, and how many deviations that is."""

    place: str
    coefficient: str
    value: float
    expected: float
    deviations: float


@dataclass(frozen=True)
class Reduction:
    """A reduced campaign: tables with intervals, derivatives, scatter of repeats, and points left out.

    ``neutral_point`` and ``aft_limit`` are station x of the model in m, each with half its 95 % interval; ``scatter``
    is the standard deviation of one point by coefficient, from ``degrees`` of freedom.
    """

    campaign: Campaign
    points: Points
    doubts: list[Doubt]
    tables: TableSet
    derivatives: list[Derivative]
    neutral_point: tuple[float, float]
    aft_limit: tuple[float, float]
    scatter: dict[str, float]
    degrees: int


@dataclass(frozen=True)
class Sweep:
    """Rows of points in which one variable runs: ``kind`` is what runs, ``nominal`` and ``running`` its values."""

    kind: str
    rows: NDArray[np.int64]
    nominal: Floats
    running: Floats

    def without(self, gone: set[int]) -> "Sweep":
        """Return the sweep without some rows."""
        kept = np.array([row not in gone for row in self.rows])
        return Sweep(self.kind, self.rows[kept], self.nominal[kept], self.running[kept])


def doubts(points: Points, sweeps: Sequence[Sweep], limit: float) -> list[Doubt]:
    """Return the points that lie far from their neighbours, worst first, each left out before the next is judged.

    A point is held against a parabola through its six nearest neighbours in the sweep. What the other sweeps miss by at
    the same place is no fault of the point (at the stall no parabola fits); what counts as far follows from how well
    the others do, near it and in all.
    """
    gone: set[int] = set()
    found: list[Doubt] = []
    _weights.cache_clear()
    # one at a time: a wild point bends the parabolas of its neighbours, which then look wild themselves
    while len(found) < max(1, len(points) // 10):
        worst = _worst(points, sweeps, gone)
        if worst is None or worst[1].deviations < limit:
            return found
        gone.add(worst[0])
        found.append(worst[1])
    raise DravikError(
        f"more than a tenth of the points are in doubt, {found[0].place} most",
        hint="check columns and signs, or rules.doubt",
    )


def _worst(points: Points, sweeps: Sequence[Sweep], gone: set[int]) -> tuple[int, Doubt] | None:
    """Return the row farthest from its neighbours, in deviations, and what is to be said of it."""
    best: tuple[int, Doubt] | None = None
    left = [s for s in (s.without(gone) for s in sweeps) if len(s.rows) > NEIGHBOURS]
    for name in COEFFICIENTS:
        values = points.values[name]
        missed = [_misses(s.running, values[s.rows]) for s in left]
        shared = _shared(left, missed)
        own = [(m - c) / w for (m, w), c in zip(missed, shared, strict=True)]
        if not own:
            continue
        # a floor: a campaign without any noise has no scatter to measure against
        everywhere = max(_deviation(np.concatenate(own)), 1e-9)
        for sweep, residuals, common, (miss, _) in zip(left, own, shared, missed, strict=True):
            for k in np.argsort(-np.abs(residuals)):
                if best is not None and abs(residuals[k]) / everywhere <= best[1].deviations:
                    break
                # scatter of the neighbours without this point
                rest = np.delete(np.arange(len(residuals)), k)
                near = rest[np.argsort(np.abs(sweep.running[rest] - sweep.running[k]), kind="stable")[:NEIGHBOURS]]
                again, widths = _misses(sweep.running[rest], values[sweep.rows[rest]])
                local = _deviation(((again - common[rest]) / widths)[np.searchsorted(rest, near)])
                # against the larger of both: near the stall the flow itself scatters, and no point there is to blame
                size = abs(float(residuals[k])) / max(everywhere, local)
                if best is None or size > best[1].deviations:
                    row, off = int(sweep.rows[k]), float(miss[k] - common[k])
                    best = row, Doubt(points.places[row], name, float(values[row]), float(values[row]) - off, size)
    return best


def _shared(sweeps: Sequence[Sweep], missed: Sequence[tuple[Floats, Floats]]) -> list[Floats]:
    """Return for each point what the sweeps of its kind miss by in the middle at the same nominal value."""
    groups: dict[tuple[str, float], list[float]] = defaultdict(list)
    for sweep, (miss, _) in zip(sweeps, missed, strict=True):
        for value in np.unique(sweep.nominal):
            groups[sweep.kind, float(value)].append(float(np.median(miss[sweep.nominal == value])))
    middle = {key: float(np.median(v)) if len(v) > 2 else 0.0 for key, v in groups.items()}
    return [np.array([middle[s.kind, float(v)] for v in s.nominal]) for s in sweeps]


def _deviation(residuals: Floats) -> float:
    """Return a standard deviation that a few wild values do not move (1.4826 times the median size)."""
    return 1.4826 * float(np.median(np.abs(residuals)))


def _misses(x: Floats, y: Floats) -> tuple[Floats, Floats]:
    """Return by how much each point misses the parabola through its nearest others, and the scatter of that."""
    miss, width = np.zeros(len(x)), np.zeros(len(x))
    for i in range(len(x)):
        weights, others = _parabola(x, i)
        # the prediction scatters as its weights say, the point by one more
        miss[i], width[i] = y[i] - weights @ y[others], sqrt(1.0 + float(weights @ weights))
    return miss, width


def _parabola(x: Floats, i: int) -> tuple[Floats, NDArray[np.int64]]:
    """Return the weights of a point's nearest others that give the value of their parabola there."""
    order = np.argsort(np.abs(x - x[i]), kind="stable")
    others = order[order != i][:NEIGHBOURS]
    return _weights(tuple((x[others] - x[i]).tolist())), others


@lru_cache(maxsize=1 << 16)
def _weights(at: tuple[float, ...]) -> Floats:
    """Return the weights of values at places about nought that give the value of their parabola at nought.

    Kept: each doubt is looked for among all points anew, and few places have changed since the last.
    """
    places = np.array(at)
    # repeats at one angle give no curvature: with few distinct places a line, or their mean
    power = min(2, len(np.unique(np.round(places, 3))) - 1)
    found: Floats = np.linalg.pinv(np.stack([places**k for k in range(power + 1)], axis=1))[0]
    return found
