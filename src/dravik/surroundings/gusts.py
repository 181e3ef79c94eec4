"""The gusts of one flight: samples made period by period for its airspeed and height, added to its wind inputs."""

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled
from dravik.surroundings.turbulence import LOWEST, Turbulence, gust_filter, sampled_noise, steady_root
from dravik.systems import LinearSystem

__all__ = ["JOINING", "PERIOD", "GustStream"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
JOINING = 1.0  # s: time constant of the offset that joins two periods without a jump
PERIOD = 1.0  # s: the filters are made anew this often for the airspeed and height of the instant
CHANGE = 0.05  # relative change of airspeed or height that warrants new filters
SLOWEST = 5.0  # m/s: lowest airspeed of the filters; slower aircraft still meet gusts that drift past with the wind
PLACES = 1e9  # sample positions are rounded to this fraction of an interval, so that a time exactly on a sample hits it


@compiled
def run_filter(
    transition: Floats, root: Floats, output: Floats, normal: Floats, states: Floats, found: Floats
) -> None:  # fmt: skip
    """Put the outputs of a filter after each of k steps into ``found`` (outputs, k).

    ``states`` (2, n) holds the state x before the first step, then that after the last, and room for another. A step
    is x = transition x + root e, with a row of ``normal`` (k, n) as e; root is lower triangular. The
    matrices are small: a library for large ones would wake up threads that take the time of who writes the recording.
    """
    x, before, n = states[0], states[1], states.shape[1]
    for k in range(normal.shape[0]):
        for i in range(n):
            before[i] = x[i]
        for i in range(n):
            total = 0.0
            for j in range(n):
                total += transition[i, j] * before[j]
            for j in range(i + 1):
                total += root[i, j] * normal[k, j]
            x[i] = total
        for i in range(output.shape[0]):
            total = 0.0
            for j in range(n):
                total += output[i, j] * x[j]
            found[i, k] = total


@compiled
def add_in_level_axes(
    u: Floats, inputs: Ints, times: Floats, samples: Floats, places: Floats, headings: Floats
) -> None:  # fmt: skip
    """Add gusts to the inputs u (steps, 2, inputs) at the start and end of each step; ``times`` (steps + 1,) in s.

    ``inputs`` are the places of wind north, east, up and of the rotations about body x, y, z; ``samples`` (6, k) are
    along, right, down and the rotations; ``places`` are their interval (s) and the number of the first one;
    ``headings`` are that of the axes before, the turn (rad) that they make within JOINING, and since when (s).
    """
    interval, dropped = places[0], places[1]
    before, turn, since = headings[0], headings[1], headings[2]
    last = samples.shape[1] - 2
    for k in range(u.shape[0]):
        for side in range(2):
            t = times[k + side]
            place = np.rint(t / interval * PLACES) / PLACES - dropped
            first = min(int(place), last)
            part = place - first
            heading = before + turn * min(max((t - since) / JOINING, 0.0), 1.0)
            sine, cosine = math.sin(heading), math.cos(heading)
            along = samples[0, first] * (1.0 - part) + samples[0, first + 1] * part
            right = samples[1, first] * (1.0 - part) + samples[1, first + 1] * part
            u[k, side, inputs[0]] += along * cosine - right * sine
            u[k, side, inputs[1]] += along * sine + right * cosine
            u[k, side, inputs[2]] -= samples[2, first] * (1.0 - part) + samples[2, first + 1] * part
            for i in range(3, 6):
                u[k, side, inputs[i]] += samples[i, first] * (1.0 - part) + samples[i, first + 1] * part


class GustStream:
    """The gusts of one flight, made as far as they are asked for, period by period; called at rising times.

    ``made`` are the airspeed and height that each period was made for: with them another stream makes the same gusts.
    """

    def __init__(self, turbulence: Turbulence, span: float, made: Sequence[tuple[float, float]] = ()) -> None:
        self.turbulence, self.span, self._known = turbulence, span, list(made)
        self.made: list[tuple[float, float]] = []
        self.random = np.random.Generator(np.random.Philox(turbulence.seed))
        self.samples, self.dropped = np.zeros((6, 0)), 0
        self.step = np.zeros(6)  # offset to the period before, which decays
        self.state: Floats | None = None
        self.made_for = (math.nan, math.nan)
        self.filter: LinearSystem | None = None
        self.matrices: tuple[Floats, Floats] = (np.zeros((0, 0)), np.zeros((0, 0)))

    def __call__(self, airspeed: float, height: float, times: Floats) -> Floats:
        """Return gusts (6, k) of COMPONENTS at times (s) for an airspeed and a height above the ground."""
        self._reach(airspeed, height, float(times[0]), float(times[-1]))
        places = np.round(times / self.turbulence.interval, 9) - self.dropped
        first = np.minimum(places.astype(np.int64), self.samples.shape[1] - 2)
        part = places - first
        found: Floats = self.samples[:, first] * (1.0 - part) + self.samples[:, first + 1] * part
        return found

    def add(
        self, u: Floats, inputs: Ints, times: Floats, air: tuple[float, float],
        headings: tuple[float, float, float],
    ) -> None:  # fmt: skip
        """Add the gusts for an airspeed and height (``air``) to the inputs of steps; as ``add_in_level_axes`` says."""
        self._reach(*air, float(times[0]), float(times[-1]))
        places = np.array([self.turbulence.interval, self.dropped])
        add_in_level_axes(u, inputs, times, self.samples, places, np.array(headings, dtype=float))

    def _reach(self, airspeed: float, height: float, begin: float, end: float) -> None:
        """Make samples for all times between two."""
        first, last = (round(t / self.turbulence.interval, 9) for t in (begin, end))
        last = max(math.ceil(last), 1)
        if self.samples.shape[1] + self.dropped <= last:
            self._extend(airspeed, height, int(first), last)

    def _extend(self, airspeed: float, height: float, first: int, last: int) -> None:
        """Make samples up to the last, by whole periods that end on theirs, and forget those before the first."""
        per_period = max(1, round(PERIOD / self.turbulence.interval))
        new, reached = list[Floats](), self.dropped + self.samples.shape[1]
        while reached <= last:
            k = len(self.made)
            wanted = self._known[k] if k < len(self._known) else self._wanted(airspeed, height)
            if self.made_for != wanted:
                before, begun = self._now(), self.state is not None
                self._make(*wanted)
                self.step += before - self._now() if begun else 0.0
                self.made_for = wanted
            if k == 0:
                new.append(self._now()[:, None])
                reached += 1
            self.made.append(wanted)
            new.append(self._run(per_period))
            reached += per_period
        whole = np.concatenate([self.samples, *new], axis=1)
        past = min(max(first - self.dropped, 0), whole.shape[1] - 2)
        self.samples, self.dropped = np.ascontiguousarray(whole[:, past:]), self.dropped + past

    def _wanted(self, airspeed: float, height: float) -> tuple[float, float]:
        """Return airspeed and height for the next period: the last one's unless changed by more than CHANGE."""
        before = self.made_for
        limits = CHANGE * max(before[0], SLOWEST), CHANGE * max(abs(before[1]), LOWEST)
        kept = abs(airspeed - before[0]) <= limits[0] and abs(height - before[1]) <= limits[1]
        return before if kept else (airspeed, height)

    def _now(self) -> Floats:
        """Return the filter's present output; zeros before there is a filter."""
        if self.filter is None or self.state is None:
            return np.zeros(6)
        found: Floats = self.filter.C @ self.state
        return found

    def _make(self, airspeed: float, height: float) -> None:
        near, far = self.turbulence.strengths
        self.filter = gust_filter(
            airspeed=max(airspeed, SLOWEST), height=height, span=self.span, wind_20ft=near,
            aloft=far, model=self.turbulence.model, shortest=self.turbulence.interval,
        )  # fmt: skip
        if self.state is None:
            self.state = steady_root(self.filter) @ self.random.standard_normal(len(self.filter.A))
        transition, root = sampled_noise(self.filter, self.turbulence.interval)
        self.matrices = np.ascontiguousarray(transition), np.ascontiguousarray(root)

    def _run(self, count: int) -> Floats:
        assert self.filter is not None and self.state is not None
        normal = self.random.standard_normal((count, len(self.state)))
        found, states = np.empty((6, count)), np.array([self.state, self.state])
        run_filter(*self.matrices, np.ascontiguousarray(self.filter.C), normal, states, found)
        self.state = states[0]
        fading = np.exp(-np.arange(1, count + 1) * self.turbulence.interval / JOINING)
        found += self.step[:, None] * fading
        self.step = self.step * fading[-1]
        return found
