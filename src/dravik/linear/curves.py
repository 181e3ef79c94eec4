"""The answer of one channel as a function of time that can be looked at as closely as wanted.

States and a constant input together follow z' = M z, so that z is the matrix exponential of M t times its start: exact
at any time, and on a grid by doubling, as the second half of a grid is the first moved on by one matrix.
"""

import math
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dravik.linear.system import LinearSystem

__all__ = ["Curve"]

Floats = NDArray[np.float64]
MOST = 2**17  # points of a grid
FEWEST = 1024
FINE = 0.05  # of the fastest root's time: how far the points of a grid may be apart


class Curve:
    """One channel's answer to a step (``held`` 1) or from states (``start``): a continuous system without a delay.

    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of([[-2.0]], [[2.0]], states=["x"], inputs=["u"], outputs=["y"], C=[[1.0]])
    >>> round(Curve(lag, held=1.0).at(0.5), 6)
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

    def lasting(self, constants: float) -> float:
        """Return so many time constants of the slowest root, s; one second without roots."""
        slow = np.abs(self._roots.real)
        slow = slow[slow > 0.0]
        return constants / float(slow.min()) if len(slow) else 1.0

    def at(self, time: float) -> float:
        """Return the value at a time, s."""
        return float(self._row @ self._state(time))

    def slope(self, time: float) -> float:
        """Return the rate of change at a time, 1/s."""
        return float(self._row @ (self._matrix @ self._state(time)))

    def _state(self, time: float) -> Floats:
        from scipy.linalg import expm

        found: Floats = expm(self._matrix * time) @ self._start
        return found

    def grid(self, duration: float) -> tuple[Floats, Floats]:
        """Return evenly spaced times (s) from zero on and the values there, as close as the fastest root asks for."""
        from scipy.linalg import expm

        fastest = float(np.abs(self._roots).max(initial=0.0))
        steps = int(min(max(FEWEST, math.ceil(duration * fastest / FINE)), MOST))
        move = expm(self._matrix * (duration / steps))
        states = self._start[None, :]
        while len(states) <= steps:
            states = np.concatenate([states, states @ move.T])
            move = move @ move
        return np.linspace(0.0, duration, steps + 1), states[: steps + 1] @ self._row

    def crossing(self, times: Floats, values: Floats, level: float, *, last: bool = False) -> float:
        """Return the first (or last) time at which the curve goes through a level, by its values on a grid; nan

        without.
        """
        from scipy.optimize import brentq

        off = values - level
        between = np.flatnonzero((off[:-1] < 0.0) != (off[1:] < 0.0))
        if not len(between):
            return math.nan
        k = int(between[-1] if last else between[0])
        low, high = float(times[k]), float(times[k + 1])
        # a value that rounds to the level at an end is the crossing itself
        if (self.at(low) < level) == (self.at(high) < level):
            return low if abs(off[k]) < abs(off[k + 1]) else high
        return float(brentq(lambda t: self.at(t) - level, low, high, xtol=1e-12 * max(high, 1.0)))

    def top(self, times: Floats, k: int) -> float:
        """Return the time of the extreme beside the grid's point ``k``."""
        from scipy.optimize import brentq

        low, high = float(times[max(k - 1, 0)]), float(times[min(k + 1, len(times) - 1)])
        if self.slope(low) * self.slope(high) >= 0.0:
            return float(times[k])
        return float(brentq(self.slope, low, high, xtol=1e-12 * max(high, 1.0)))
