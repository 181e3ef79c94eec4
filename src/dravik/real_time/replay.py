"""Recorded flights played back by the clock, one or several side by side, with the commands of a live flight."""

import math
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.real_time.pacing import Pacer
from dravik.real_time.thread import FlightThread, Published
from dravik.recording.recording import Event, Recording

__all__ = ["Replay"]

Floats = NDArray[np.float64]
STEP = 0.01  # s between two instants that are shown
TURNING = ("phi", "theta", "psi", "track", "alpha", "beta", "longitude")  # angles: interpolated the shorter way


class Sends(Protocol):
    """What is given the signals of each instant, such as a link's sender."""

    reads: Sequence[str]

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        """Take the signals of an instant (s)."""


class Replay(FlightThread):
    """Recordings played back by the clock: the same commands as a live flight where they make sense, and ``go_to``.

    Signals of the first recording keep their names; those of the k-th get ``@k`` behind them.

    Parameters
    ----------
    recordings : sequence of Recording
        What is played back, from the same clock time each.
    speed : float
        Times real time.
    devices : sequence
        What is given the signals of the first recording, such as the senders of a link.
    pacer : Pacer
        Another clock, for tests.

    Raises
    ------
    DravikError
        For recordings without rows, or without any time.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> run = dv.fly(craft, start=dv.trim(craft, airspeed=62, altitude=300), duration=1, record=["theta"])
    >>> with Replay([run]) as replay:
    ...     replay.do(replay.go_to, 0.5)
    ...     replay.published.time
    0.5
    """

    pilot: tuple[str, ...] = ()

    def __init__(
        self, recordings: Sequence[Recording], *, speed: float = 1.0, devices: Sequence[Sends] = (),
        pacer: Pacer | None = None,
    ) -> None:  # fmt: skip
        if not recordings or any(len(r.time) < 2 for r in recordings):
            raise DravikError("there is nothing to play back", expected="recordings of two rows or more")
        super().__init__(pacer or Pacer(STEP, speed))
        self.recordings, self._devices = tuple(recordings), tuple(devices)
        for device in self._devices:
            for name in device.reads:
                if name not in recordings[0].names:
                    raise DravikError(f"the recording has no signal {name!r}, which is sent", hint="record it too")
        self.signals = tuple(n if k == 0 else f"{n}@{k + 1}" for k, r in enumerate(recordings) for n in r.names)
        self.units = {
            n if k == 0 else f"{n}@{k + 1}": r.units.get(n, "") for k, r in enumerate(recordings) for n in r.names
        }
        self._turning = [[n in TURNING for n in r.names] for r in recordings]
        self.begin = min(float(r.time[0]) for r in recordings)
        self.end = max(float(r.time[-1]) for r in recordings)
        self.published = self._picture()

    @property
    def events_shown(self) -> int:
        """How many events have happened by now."""
        return len(self.events())

    # -- commands -----------------------------------------------------------------------------------------------------

    def go_to(self, time: float) -> None:
        """Go to a time of the recordings (s); beyond their ends, to the end."""
        self._steps = round((min(max(time, self.begin), self.end) - self.begin) / STEP)
        self._pacer.begin()

    def resume(self) -> None:
        """Play on by the clock; at the end, from the beginning."""
        if self._time() >= self.end:
            self._steps = 0
        self._pacer.begin()
        self._running = True

    def reset(self) -> None:
        """Go back to the beginning."""
        self._steps = 0
        self._pacer.begin()

    def events(self) -> list[Event]:
        """Return what has happened until the present time in all recordings, in order."""
        now, many = self._time(), len(self.recordings) > 1
        found = [
            Event(e.time, f"{k + 1}: {e.text}" if many else e.text)
            for k, r in enumerate(self.recordings) for e in r.events if e.time <= now + 1e-9
        ]  # fmt: skip
        return sorted(found, key=lambda e: e.time)

    # -- the thread ---------------------------------------------------------------------------------------------------

    def _time(self) -> float:
        return min(self.begin + self._steps * STEP, self.end)

    def _step(self) -> None:
        self._steps += 1
        if self._time() >= self.end:
            self._running = False
        if self._devices:
            first = self.recordings[0]
            values = dict(zip(first.names, self._row(0).tolist(), strict=True))
            for device in self._devices:
                device.update(self._time(), values)

    def _row(self, k: int) -> Floats:
        """Return the signals of a recording now, between its rows."""
        run, t = self.recordings[k], self._time()
        i = int(np.clip(np.searchsorted(run.time, t, side="right") - 1, 0, len(run.time) - 2))
        a, b = run.values[i], run.values[i + 1]
        gap = float(run.time[i + 1] - run.time[i])
        share = min(max((t - float(run.time[i])) / gap, 0.0), 1.0) if gap > 0.0 else 1.0
        change = b - a
        turning = np.array(self._turning[k])
        change[turning] = (change[turning] + math.pi) % (2.0 * math.pi) - math.pi
        found: Floats = a + share * change
        return found

    def _picture(self) -> Published:
        values = np.concatenate([self._row(k) for k in range(len(self.recordings))])
        values[0] = self._time()
        state = "running" if self._running else "paused"
        return Published(
            self._steps, self._time(), values, self._applied, state, True, self._pacer.speed, self.events_shown
        )

    def as_told(self) -> dict[str, Any]:
        """Return first and last time (s) and names of what is played back, as plain data."""
        names = [str(r.metadata.get("scenario") or r.metadata.get("aircraft") or "flight") for r in self.recordings]
        return {"begin": self.begin, "end": self.end, "flights": names}
