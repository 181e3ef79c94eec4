"""The response of one channel as a function of time that can be looked at as closely as wanted.

States and a constant input together follow z' = M z, so that z is the matrix exponential of M t times its start: exact
at any time, and on a grid by doubling, as the second half of a row of states is the first moved on by one matrix.
"""

import math
from collections.abc import Callable
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dravik.systems.system import LinearSystem

__all__ = ["ExactResponse"]

Floats = NDArray[np.float64]
MOST = 2**17  # points of a grid
FEWEST = 1024
STANDING = 1e-8  # of the fastest root: slower is none
FINE = 0.05  # of the fastest root's time: how far the points of a grid may be apart
TERMS = 16  # of Taylor's series over four times that: beyond the last digit


class ExactResponse:
    """One channel's response to a step (``held`` 1) or from states (``start``): a continuous system without a delay.

    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of([[-2.0]], [[2.0]], states=["x"], inputs=["u"], outputs=["y"], C=[[1.0]])
    >>> round(ExactResponse(lag, held=1.0).at(0.5), 6)
    0.632121
    """

    def __init__(self, channel: LinearSystem, *, held: float = 0.0, start: Floats | None = None) -> None:
        n = len(channel.states)
        self._matrix = np.zeros((n + 1, n + 1))
        self._matrix[:n, :n], self._matrix[:n, n:] = channel.A, channel.B
        self._row = np.concatenate([channel.C[0], channel.D[0]])
        self._start = np.concatenate([np.zeros(n) if start is None else start, [held]])

    @cached_property
    def _roots(self) -> NDArray[np.complex128]:
        found: NDArray[np.complex128] = np.linalg.eigvals(self._matrix[:-1, :-1]).astype(complex)
        return found

    @cached_property
    def _fastest(self) -> float:
        """The size of the fastest root, 1/s."""
        return float(np.abs(self._roots).max(initial=0.0))

    def lasting(self, constants: float) -> float:
        """Return so many time constants of the slowest root, s; one second without roots.

        What moves in a hundred million times the time of the fastest root, such as a battery's charge, stands still.
        """
        slow = np.abs(self._roots.real)
        slow = slow[slow > STANDING * self._fastest]
        return constants / float(slow.min()) if len(slow) else 1.0

    @property
    def grows(self) -> bool:
        """Whether a root grows, however little it takes part."""
        return bool(np.any(self._roots.real > 0.0))

    def at(self, time: float) -> float:
        """Return the value at a time, s."""
        return float(self._row @ self._state(time))

    def _state(self, time: float) -> Floats:
        from scipy.linalg import expm

        found: Floats = expm(self._matrix * time) @ self._start
        return found

    def grid(self, duration: float) -> tuple[Floats, Floats]:
        """Return evenly spaced times (s) from zero on and the values there, as close as the fastest root asks for."""
        return self.even(duration, self._steps(duration, FEWEST))

    def even(self, duration: float, steps: int) -> tuple[Floats, Floats]:
        """Return so many evenly spaced times (s) after zero, zero too, and the values there."""
        return np.linspace(0.0, duration, steps + 1), self._values(self._start, self._row, duration / steps, steps)

    def _steps(self, duration: float, fewest: int) -> int:
        """Return how many steps of a time (s) the fastest root asks for."""
        return int(min(max(fewest, math.ceil(duration * self._fastest / FINE)), MOST))

    def _values(self, start: Floats, row: Floats, step: float, steps: int) -> Floats:
        """Return what a row gives of the states from a start on, ``steps + 1`` values."""
        from scipy.linalg import expm

        # row (move^(i + j many)) start: a few rows moved back and a few states moved on give all the values between
        many = math.isqrt(steps) + 1
        move = expm(self._matrix * step)
        rows = _powers(row, move.T, many)
        states = _powers(start, np.linalg.matrix_power(move, many), many)
        found: Floats = (states @ rows.T).ravel()[: steps + 1]
        return found

    def _within(
        self, row: Floats, level: float, ends: tuple[float, float], *, last: bool = False
    ) -> tuple[float, float]:
        """Return the part between two times (s) in which a row goes through a level.

        The first (or last) such part, no longer than Taylor's series reaches, and the ends themselves where there is
        none.
        """
        low, high = ends
        steps = self._steps(high - low, 1)
        if steps <= 4:
            return ends
        above = self._values(self._state(low), row, (high - low) / steps, steps) >= level
        between = np.flatnonzero(above[:-1] != above[1:])
        if not len(between):
            return ends
        k, step = int(between[-1] if last else between[0]), (high - low) / steps
        return low + k * step, low + (k + 1) * step

    def _after(self, time: float, span: float) -> Callable[[float], Floats]:
        """Return the states as a function of a time counted from another (s), up to a span after it.

        Without a matrix exponential each: by Taylor's series, where the span is short beside the fastest root.
        """
        if self._fastest * span > 4.0 * FINE:
            return lambda since: self._state(time + since)
        terms = [self._state(time)]
        for k in range(1, TERMS):
            terms.append(self._matrix @ terms[-1] / k)
        series = np.array(terms)
        return lambda since: np.asarray(since ** np.arange(TERMS) @ series)

    def crossing(self, times: Floats, values: Floats, level: float, *, last: bool = False) -> float:
        """Return the first (or last) time at which the curve goes through a level, by its values on a grid.

        Nan where it does not.
        """
        from scipy.optimize import brentq

        off = values - level
        between = np.flatnonzero((off[:-1] < 0.0) != (off[1:] < 0.0))
        if not len(between):
            return math.nan
        k = int(between[-1] if last else between[0])
        low, high = self._within(self._row, level, (float(times[k]), float(times[k + 1])), last=last)
        state = self._after(low, high - low)

        def above(since: float) -> float:
            return float(self._row @ state(since)) - level

        # a value that rounds to the level at an end is the crossing itself
        if (above(0.0) < 0.0) == (above(high - low) < 0.0):
            return low if abs(off[k]) < abs(off[k + 1]) else high
        return low + float(brentq(above, 0.0, high - low, xtol=1e-12 * max(high, 1.0)))

    def top(self, times: Floats, k: int) -> float:
        """Return the time of the extreme beside the grid's point ``k``."""
        from scipy.optimize import brentq

        low, high = float(times[max(k - 1, 0)]), float(times[min(k + 1, len(times) - 1)])
        row = self._row @ self._matrix
        low, high = self._within(row, 0.0, (low, high))
        state = self._after(low, high - low)

        def slope(since: float) -> float:
            return float(row @ state(since))

        if slope(0.0) * slope(high - low) >= 0.0:
            return float(times[k])
        return low + float(brentq(slope, 0.0, high - low, xtol=1e-12 * max(high, 1.0)))


def _powers(first: Floats, move: Floats, count: int) -> Floats:
    """Return ``count`` vectors, each the one before moved on by a matrix: by doubling."""
    found = first[None, :]
    while len(found) < count:
        found = np.concatenate([found, found @ move.T])
        move = move @ move
    return found[:count]
