"""The rows of a recording in memory, in one block that grows by doubling: nothing is allocated from step to step."""

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from dravik.flight.body import Body

__all__ = ["RowBuffer"]

Floats = NDArray[np.float64]
RESERVED = 100_000_000  # numbers: longer flights begin with less
NEVER = 1 << 62  # steps between rows for a flight that records nothing


class RowBuffer:
    """RowBuffer of signals, which the kernel writes, and of values of devices, which stand still between their beats.

    ``names`` begins with ``time``; without any other name nothing is recorded. ``picks`` are the registers.
    """

    def __init__(self, body: Body, signals: Iterable[str], values: Mapping[str, str], every: int) -> None:
        wanted = list(dict.fromkeys(signals))
        self.own = [n for n in wanted if n in values]
        self.names = list(dict.fromkeys(["time", *(n for n in wanted if n not in values), *self.own]))
        self.units = {n: values[n] if n in values else body.signals[n].unit for n in self.names}
        self.picks = np.array([body.registers[n] for n in self.names if n not in values], dtype=np.int64)
        self.every = every if wanted else NEVER
        self.count = 0
        self._block = np.empty((2, len(self.names)))

    @property
    def values(self) -> Floats:
        """The rows so far, shape (rows, names), SI."""
        return self._block[: self.count]

    def reserve(self, steps: int) -> None:
        """Make room for the rows of so many steps at once, because growing copies what is there."""
        if self.every != NEVER and steps // self.every * len(self.names) < RESERVED:
            self.free(steps)

    def free(self, steps: int) -> Floats:
        """Return free rows, enough for so many steps, their last and an event that ends them."""
        if self.every == NEVER:
            return self._block
        needed = self.count + steps // self.every + 3
        if needed > len(self._block):
            grown = np.empty((max(needed, 2 * len(self._block)), len(self.names)))
            grown[: self.count] = self._block[: self.count]
            self._block = grown
        return self._block[self.count :]

    def take(self, rows: int, board: Mapping[str, float]) -> Floats:
        """Count the rows that the kernel has written, with the devices' values in them; they stay as they are.

        Returns them.
        """
        if self.every == NEVER:
            return self._block[:0]
        taken = self._block[self.count : self.count + rows]
        for k, name in enumerate(self.own, start=len(self.names) - len(self.own)):
            taken[:, k] = board[name]
        self.count += rows
        return taken

    def go_back(self, count: int) -> None:
        """Keep the first ``count`` rows only."""
        self.count = count

    def present(self, registers: Floats, board: Mapping[str, float]) -> Floats:
        """Return the row of the instant for which the registers stand, shape (1, names)."""
        return np.array([[*registers[self.picks], *(board[n] for n in self.own)]])

    def put(self, values: Floats) -> None:
        """Replace all rows."""
        self.count = 0
        self.free(len(values) * min(self.every, 1 << 40))[: len(values)] = values
        self.count = len(values)
