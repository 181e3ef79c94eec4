"""The clock of a live flight: which steps are due, how late they were, and what is given up when too many are late.

Steps are due at even times of a monotonic clock, counted from one origin, so that nothing drifts. Late steps are caught
up one after the other, each of the length it always has. A flight that is late by more than ``FORGIVEN`` gives the rest
up: its origin moves, and the steps count as missed. It is never ahead of the clock.
"""

import math
import time
from collections.abc import Callable
from dataclasses import dataclass

from dravik.errors import DravikError

__all__ = ["FORGIVEN", "Lateness", "Pacer"]

FORGIVEN = 1.0  # s of the clock: what is late by more is given up
SLOWEST, FASTEST = 0.01, 1000.0  # times real time


@dataclass(frozen=True)
class Lateness:
    """How late the steps of a flight were: number, mean and worst lateness (s), late by a step or more, missed."""

    steps: int
    mean: float
    worst: float
    late: int
    missed: int

    @property
    def on_time(self) -> float:
        """The share of steps that were less than a step late; those that were missed count as late."""
        whole = self.steps + self.missed
        return 1.0 - (self.late + self.missed) / whole if whole else 1.0


class Pacer:
    """Says how many steps of ``dt`` (s) are due, ``speed`` times real time.

    Parameters
    ----------
    dt : float
        Step of the flight, s.
    speed : float
        Times real time: 0.01 to 1000.
    clock, sleep : callable
        A monotonic clock (s), and what waits for some seconds. Those of the machine unless given.

    Examples
    --------
    >>> now = [0.0]
    >>> pacer = Pacer(0.01, clock=lambda: now[0], sleep=lambda s: None)
    >>> pacer.begin()
    >>> now[0] = 0.025
    >>> pacer.due()
    2
    """

    def __init__(
        self, dt: float, speed: float = 1.0, *, clock: Callable[[], float] = time.perf_counter,
        sleep: Callable[[float], object] = time.sleep,
    ) -> None:  # fmt: skip
        self.dt, self._clock, self._sleep = dt, clock, sleep
        self._origin, self._flown = 0.0, 0
        self._steps, self._sum, self._worst, self._late, self._missed = 0, 0.0, 0.0, 0, 0
        self.at_speed(speed)

    def at_speed(self, speed: float) -> None:
        """Run so many times real time from now on; raises DravikError for a speed that cannot be."""
        if isinstance(speed, bool) or not (math.isfinite(speed) and SLOWEST <= speed <= FASTEST):
            raise DravikError(f"a flight cannot run {speed!r} times real time", expected=f"{SLOWEST:g} to {FASTEST:g}")
        self.speed, self._period = speed, self.dt / speed  # the period: s of the clock between two steps
        self.begin()

    def begin(self) -> None:
        """Count from now on: at the start, and after a pause."""
        self._origin, self._flown = self._clock(), 0

    def due(self) -> int:
        """Return how many steps are due now and not flown yet; gives up what is late by more than ``FORGIVEN``."""
        waiting = self._waiting()
        most = max(1, math.floor(FORGIVEN / self._period))
        if waiting > most:
            self._missed += waiting - most
            # the origin moves by whole steps, so that the next ones keep their beat
            self._origin += (waiting - most) * self._period
            return most
        return max(waiting, 0)

    def _waiting(self) -> int:
        return math.floor((self._clock() - self._origin) / self._period * (1.0 + 1e-12)) - self._flown

    def flown(self) -> None:
        """Note that the step which was due next has been flown, and how late it was."""
        self._flown += 1
        late = max(0.0, self._clock() - self._origin - self._flown * self._period)
        self._steps, self._sum, self._worst = self._steps + 1, self._sum + late, max(self._worst, late)
        self._late += late >= self._period

    def wait(self, most: float = 0.05, *, wake: Callable[[float], object] | None = None) -> None:
        """Sleep until the next step is due, or for so long (s), whichever comes first; ``wake`` may end that early."""
        left = self._origin + (self._flown + 1) * self._period - self._clock()
        if left > 0.0:
            (wake or self._sleep)(min(left, most))

    @property
    def lateness(self) -> Lateness:
        """How late the steps were since the pacer was made."""
        mean = self._sum / self._steps if self._steps else 0.0
        return Lateness(self._steps, mean, self._worst, self._late, self._missed)
