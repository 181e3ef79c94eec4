"""Trims of one family of conditions, each started from the last one: curves, limits, and the edge where they end."""

import math
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.trimming.condition import Condition
from dravik.trimming.named_conditions import pose
from dravik.trimming.outcomes import report
from dravik.trimming.residuals import AircraftField, aircraft_search
from dravik.trimming.result import TrimPoint
from dravik.trimming.search import Search

__all__ = ["ConditionSeries", "Continuation"]

Floats = NDArray[np.float64]
Found = tuple[Search, AircraftField, Floats]
MANY, FEW = 99, 3  # starts: all there are, the settled one and two throttle settings
CLOSE = 1e-10  # of the interval: how closely an edge is found


class Continuation:
    """Trims of one condition after another, each started from the last one that was found: quick."""

    def __init__(self) -> None:
        self.last: Floats | None = None

    def find(self, craft: Aircraft, condition: Condition, starts: int = MANY) -> Found | None:
        """Return the search, its field and the unknowns where a condition is held; None where it is not.

        From the last point, then from so many of the usual starts.
        """
        search, field = aircraft_search(craft, pose(craft, condition))
        with np.errstate(all="ignore"):
            v = None
            if self.last is not None and len(self.last) == len(search.start):
                v = search.nearby(self.last)
            if v is None and starts:
                v = search.quick(starts, patient=starts == MANY)
        if v is None:
            return None
        self.last = v
        return search, field, v

    def point(self, craft: Aircraft, condition: Condition, starts: int = MANY) -> TrimPoint | None:
        """Return the trimmed point of a condition, or None where it is not held."""
        found = self.find(craft, condition, starts)
        if found is None:
            return None
        search, field, v = found
        return report(craft, search.statement, search, field, v, True)


class ConditionSeries:
    """Conditions ``make(value)`` of one aircraft along a line: where they are held, and where that ends."""

    def __init__(self, craft: Aircraft, make: Callable[[float], Condition]) -> None:
        self.craft, self.make, self.chain = craft, make, Continuation()

    def holds(self, value: float, *, starts: int = MANY) -> bool:
        """Whether the condition at a value is held: from the last one found, or from so many of the usual starts."""
        return self.chain.find(self.craft, self.make(value), starts) is not None

    def point(self, value: float) -> TrimPoint | None:
        """Return the trimmed point at a value, or None where none is found."""
        return self.chain.point(self.craft, self.make(value))

    def edge(self, inside: float, outside: float) -> float:
        """Return the value next to the edge that still holds, between one that holds and one that does not.

        Found by halving: at each value Newton's method starts from the last point that held, so that where a fold ends
        the curve the halving ends at the fold.
        """
        self.holds(inside)
        kept = self.chain.last
        room = CLOSE * max(abs(inside - outside), 1e-12)
        while abs(inside - outside) > room:
            middle = 0.5 * (inside + outside)
            if middle in (inside, outside):
                break
            self.chain.last = kept
            if self.holds(middle, starts=0):
                inside, kept = middle, self.chain.last
            else:
                outside = middle
        self.chain.last = kept
        return inside

    def first_feasible(self, values: Sequence[float], *, briefly: bool = False) -> float:
        """Return the first of some values that is held; nan without one. ``briefly`` from a few starts each."""
        starts = FEW if briefly else MANY
        return next((float(v) for v in values if self.holds(float(v), starts=starts)), math.nan)

    def somewhere(self, values: Sequence[float]) -> float:
        """Return the first of some values that is held, looked for briefly and then from all starts; nan without one.

        Engines that settle slowly need to be followed to their rest before anything is held.
        """
        found = self.first_feasible(values, briefly=True)
        return self.first_feasible(values) if math.isnan(found) else found
