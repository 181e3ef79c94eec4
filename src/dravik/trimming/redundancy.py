"""More inputs than a condition needs: which stay where they are, and how the rest is shared.

The rule. As many inputs as there are spare freedoms stay at their neutral value (the file's ``default``); of the ways
to do so that hold the condition, the one counts in which the others are deflected least: the sum of squares of
deflection over half the range, each times the file's ``trim_weight``. Where no such way holds, all share the least
deflection. The solution does not depend on where the search begins.
"""

from collections.abc import Sequence
from itertools import combinations, islice
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

__all__ = ["Freedom", "least_deflection", "rank_of", "shares", "spare_inputs"]

Floats = NDArray[np.float64]
MOST_WAYS = 60  # of leaving some inputs at their neutral value that are tried
ROUNDS = 60  # of the search for the least deflection
PATIENCE = 8  # rounds without a residual that is smaller by NEARER: it goes round in a circle, or stands at its limits
NEARER = 0.9
MET = 1e-6  # residual below which what is left to do is the deflection
DEPENDENT = 1e-9  # singular values below this share of the largest count as zero
SHARED = 1e-3  # of a spare direction: inputs with less take no part in it


class Field(Protocol):
    """What is searched: residuals of equations as functions of scaled unknowns, and their slopes."""

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        """Return the residual of each equation."""

    def slopes(self, v: Floats) -> Floats:
        """Return the slopes, shape (equations, unknowns)."""


class Freedom:
    """The inputs among the unknowns of a search: their places, neutral values and weights, scaled as the unknowns."""

    def __init__(self, places: Sequence[int], neutral: Floats, weights: Floats) -> None:
        self.places, self.neutral, self.weights = list(places), neutral, weights

    def cost(self, v: Floats) -> float:
        """Return the weighted sum of squared deflections."""
        return float(np.sum(self.weights * (v[self.places] - self.neutral) ** 2))

    def choices(self, spare: int) -> list[tuple[int, ...]]:
        """Return the ways to leave so many inputs at their neutral value, as places among the unknowns."""
        return list(islice(combinations(self.places, min(spare, len(self.places))), MOST_WAYS))

    def at_neutral(self, v: Floats, held: Sequence[int]) -> Floats:
        """Return unknowns with some inputs at their neutral value."""
        found = v.copy()
        for place, value in zip(self.places, self.neutral, strict=True):
            if place in held:
                found[place] = value
        return found


def _row_sizes(slopes: Floats) -> Floats:
    """Return the largest slope of each equation, one where there is none: over it equations of any unit compare."""
    rows = np.max(np.abs(slopes), axis=1)
    found: Floats = np.where(rows > 0.0, rows, 1.0)
    return found


def rank_of(slopes: Floats) -> int:
    """Return how many of the equations the unknowns can meet by themselves, rows and columns of any size."""
    if not slopes.size or not np.all(np.isfinite(slopes)):
        return int(min(slopes.shape))
    values = np.linalg.svd(slopes / _row_sizes(slopes)[:, None], compute_uv=False)
    return int(np.count_nonzero(values > DEPENDENT * values[0]))


def least_deflection(
    field: Field, v: Floats, freedom: Freedom, limits: tuple[Floats, Floats], longest: float, *,
    held: Sequence[int] = (),
) -> Floats:  # fmt: skip
    """Return unknowns that meet the equations with the least deflection, by steps of least squares from a point.

    Inputs that come to a limit stay there. Unknowns that are ``held`` are not moved.
    """
    low, high = limits
    cost = np.zeros(len(v))
    cost[freedom.places] = np.sqrt(freedom.weights)
    wanted = np.zeros(len(v))
    wanted[freedom.places] = freedom.neutral
    stopped = set(held)
    nearest, since = np.inf, 0
    for _ in range(ROUNDS):
        left, slopes = field.residual(v), field.slopes(v)
        if not (np.all(np.isfinite(left)) and np.all(np.isfinite(slopes))):
            break
        size = float(np.max(np.abs(left)))
        nearest, since = (size, 0) if size < NEARER * nearest else (nearest, since + 1)
        if since > PATIENCE and size > MET:
            break
        moving = [i for i in range(len(v)) if i not in stopped]
        step = np.zeros(len(v))
        step[moving] = _step(slopes[:, moving], left, cost[moving], (v - wanted)[moving])
        step *= min(1.0, longest / (float(np.max(np.abs(step))) + 1e-300))
        v = v + step
        beyond = [i for i in freedom.places if i not in stopped and not low[i] <= v[i] <= high[i]]
        for i in beyond:
            v[i] = min(max(v[i], low[i]), high[i])
            stopped.add(i)
        if not beyond and float(np.max(np.abs(step))) < 1e-13 * max(1.0, float(np.max(np.abs(v)))):
            break
    return v


def _step(slopes: Floats, left: Floats, cost: Floats, off: Floats) -> Floats:
    """Return the step that meets the equations' slopes and leaves the least weighted deflection."""
    scale = _row_sizes(slopes)
    u, values, w = np.linalg.svd(slopes / scale[:, None])
    rank = int(np.sum(values > DEPENDENT * values[0])) if len(values) else 0
    step: Floats = -(w[:rank].T @ ((u[:, :rank].T @ (left / scale)) / values[:rank]))
    spare = w[rank:].T
    if spare.size:
        step = step - spare @ np.linalg.lstsq(cost[:, None] * spare, cost * (off + step), rcond=None)[0]
    return step


def spare_inputs(field: Field, v: Floats, freedom: Freedom, names: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the inputs that move nothing by themselves at a solution, and those that can stand for each other."""
    slopes = field.slopes(v)
    _, values, w = np.linalg.svd(slopes / _row_sizes(slopes)[:, None])
    rank = int(np.sum(values > DEPENDENT * values[0]))
    spare = w[rank:].T
    if not spare.size:
        return [], []
    # an input that moves nothing is a spare direction by itself
    own = spare @ spare.T  # onto the spare directions
    idle = []
    for k in freedom.places:
        others = [i for i in freedom.places if i != k]
        if own[k, k] > SHARED and not np.any(np.abs(own[k, others]) > SHARED):
            idle.append(names[k])
    return idle, [names[k] for k in freedom.places if own[k, k] > SHARED**2 and names[k] not in idle]


def shares(field: Field, v: Floats, freedom: Freedom, names: Sequence[str]) -> list[str]:
    """Return in words what inputs do at a solution: those that move nothing, and those that move the same."""
    idle, moved, found = *spare_inputs(field, v, freedom, names), list[str]()
    if idle:
        found.append(f"{', '.join(idle)} {'move' if len(idle) > 1 else 'moves'} nothing by itself here: at neutral")
    if moved:
        found.append(f"{', '.join(moved)} can stand for each other: as many as can be at neutral, the others least")
    return found
