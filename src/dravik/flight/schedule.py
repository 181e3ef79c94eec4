"""The inputs of a flight over time: what was set, histories on top, turbulence, all held within the inputs' ranges."""

import math
from collections.abc import Mapping, Sequence
from copy import copy, deepcopy
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled
from dravik.errors import DravikError, require
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.body import Body
from dravik.flight.histories import History
from dravik.flight.history_text import parse_history
from dravik.recording.recording import Event
from dravik.surroundings.gusts import PERIOD, GustStream
from dravik.surroundings.turbulence import Turbulence
from dravik.units import KINDS

__all__ = ["Following", "Schedule"]

Floats = NDArray[np.float64]
# of a step: histories are read this far inside its ends, so that a jump at a step's time is on a definite side
EDGE = 1e-6
GUSTS = ("wind_north", "wind_east", "wind_up", "gust_roll", "gust_pitch", "gust_yaw")


@compiled
def fill_steps(u: Floats, starts: Floats, inputs: Floats, first: int, dt: float, offset: float) -> None:
    """Fill inputs u (steps, 2, inputs) with the same values throughout, and ``starts`` with the times of the steps.

    The last of ``starts`` (steps + 1,) is the end of the last step: the same number as the start of the step after it,
    so that nothing depends on where a flight is cut into stretches.
    """
    for k in range(u.shape[0] + 1):
        starts[k] = (first + k) * dt + offset
    for k in range(u.shape[0]):
        for side in range(2):
            for i in range(inputs.shape[0]):
                u[k, side, i] = inputs[i]


@compiled
def held_in_range(u: Floats, low: Floats, high: Floats, room: Floats) -> bool:
    """Hold inputs u (steps, 2, inputs) within their limits; return True at the first one beyond by over ``room``."""
    for k in range(u.shape[0]):
        for side in range(2):
            for i in range(u.shape[2]):
                value = u[k, side, i]
                if value < low[i] - room[i] or value > high[i] + room[i]:
                    return True
                u[k, side, i] = np.minimum(np.maximum(value, low[i]), high[i])
    return False


class Following(NamedTuple):
    """An input that goes on with what it follows, from a trim in which that moves: a heading target in a turn.

    ``place`` among the inputs, ``base`` its value at time ``since`` (s), ``rate`` SI; an angle with a range ``wraps``:
    it stays within half a turn.
    """

    place: int
    base: float
    rate: float
    since: float
    wraps: bool

    def at(self, t: Floats) -> Floats:
        """Return its values at times (s)."""
        values = self.base + self.rate * (t - self.since)
        return np.asarray((values + math.pi) % (2.0 * math.pi) - math.pi if self.wraps else values)


class Schedule:
    """Inputs at the ends of each step. ``inputs`` is the base, which a controller or a new phase may change."""

    def __init__(
        self, body: Body, inputs: Floats, controls: Mapping[str, History], turbulence: Turbulence | None,
        dt: float, offset: float, made: Sequence[tuple[float, float]] = (),
    ) -> None:  # fmt: skip
        self.body, self.inputs, self.turbulence, self.dt, self.offset = body, inputs, turbulence, dt, offset
        self.gusts: GustStream | None = None
        self.gust_inputs = np.zeros(0, dtype=np.int64)
        if turbulence is not None:
            if not isinstance(body, AircraftBody):
                raise DravikError(
                    "turbulence needs an aircraft, and this plant is none", hint="a history of its inputs"
                )
            self.gusts = GustStream(turbulence, body.craft.definition.reference.span, made)
            self.gust_inputs = np.array([body.input_index(n) for n in GUSTS], dtype=np.int64)
        # airspeed, height above ground and heading of the gusts in use; the heading before, and the time of the change
        self.gusts_for: tuple[float, float, float, float, float] | None = None
        self.low = np.array([spec.low for spec in body.inputs.values()])
        self.high = np.array([spec.high for spec in body.inputs.values()])
        # an input beyond its limit by rounding alone is clamped silently
        self.room = 1e-9 * np.where(np.isfinite(self.high - self.low), self.high - self.low, 0.0)
        self.histories = [self._bind(name, history) for name, history in controls.items()]
        self.texts = {name: history.text for name, history in controls.items()}
        self.followers: list[Following] = []
        self.held: dict[str, Event] = {}
        self._u, self._starts = np.empty((1, 2, len(inputs))), np.empty(2)
        self._constant: tuple[int, bytes] | None = None  # steps and inputs that the next array holds throughout
        self._constant_steps = self._u

    @property
    def follows(self) -> bool:
        """Whether gusts follow the flight."""
        return self.turbulence is not None and self.turbulence.follow

    def _bind(self, name: str, history: History | str) -> tuple[int, History]:
        index = self.body.input_index(name)
        history = parse_history(history) if isinstance(history, str) else history
        require(history, History, f"the history of {name}", "dv.step('2 deg', at=1), or the text 'step(2 deg, at=1 s)'")
        spec = list(self.body.inputs.values())[index]
        if history.unit is None and spec.unit == KINDS["angle"][0]:
            raise DravikError(f"{history.text} on {name} has no unit", expected="an angle such as '2 deg'")
        if history.unit is not None and history.unit != spec.unit:
            raise DravikError(f"{history.text} on {name} has the unit {history.unit}", expected=spec.unit or "no unit")
        return index, history

    def copied(self) -> "Schedule":
        """Return a schedule that goes on as this one does now, whatever happens to this one."""
        found = copy(self)
        found.inputs, found.histories, found.held = self.inputs.copy(), list(self.histories), dict(self.held)
        found.followers = list(self.followers)
        found.gusts = deepcopy(self.gusts)
        found._u, found._starts, found._constant = self._u.copy(), self._starts.copy(), None
        return found

    def steps(self, first: int, count: int, x: Floats) -> Floats:
        """Return the inputs at the start and end of each step, shape (count, 2, inputs), until the next call.

        Turbulence that follows the aircraft is that of the state ``x``.
        """
        # what somebody has set besides is theirs from then on
        self.followers = [f for f in self.followers if self.inputs[f.place] == f.base]
        moves = self.histories or self.followers or self.gusts is not None
        constant = None if moves else (count, self.inputs.tobytes())
        if constant is not None and constant == self._constant:
            return self._constant_steps
        self._constant = constant
        if count > len(self._u):
            self._u, self._starts = np.empty((2 * count, 2, len(self.inputs))), np.empty(2 * count + 1)
        u, times = self._u[:count], self._starts[: count + 1]
        fill_steps(u, times, self.inputs, first, self.dt, self.offset)
        starts = times[:-1]
        for f in self.followers:
            u[:, 0, f.place] = f.at(times[:-1])
            u[:, 1, f.place] = u[:, 0, f.place] + f.rate * self.dt  # within a step nothing wraps
        for index, history in self.histories:
            values = np.stack([history(starts + EDGE * self.dt), history(starts + (1.0 - EDGE) * self.dt)], axis=1)
            u[:, :, index] = values if history.absolute else u[:, :, index] + values
        if self.gusts is not None:
            self._add_gusts(u, times, x, first % max(1, round(PERIOD / self.dt)) == 0)
        self._hold_in_range(u, starts)
        self._constant_steps = u
        return u

    def _add_gusts(self, u: Floats, times: Floats, x: Floats, renew: bool) -> None:
        """Add the turbulence in level axes turned to the heading; ``renew`` at the beginning of a period."""
        assert self.gusts is not None and self.turbulence is not None
        # called twice at one time (for devices, then for the steps): keep the heading that the first call turned from
        again = self.gusts_for is not None and self.gusts_for[4] == times[0]
        if (self.turbulence.follow and renew and not again) or self.gusts_for is None:
            names, r = self.body.registers, self.body.work.registers
            self.body.evaluate(float(times[0]), x, u[0, 0])
            height = float(r[names["altitude"]] - r[names["ground_height"]])
            heading = float(r[names["psi"]])
            before = self.gusts_for[2] if self.gusts_for is not None else heading
            self.gusts_for = float(r[names["airspeed"]]), height, heading, before, float(times[0])
        airspeed, height, heading, before, since = self.gusts_for
        # the axes turn from the last period's heading to this one's within a second, so that no gust jumps
        turn = math.remainder(heading - before, 2.0 * math.pi)
        self.gusts.add(u, self.gust_inputs, times, (airspeed, height), (before, turn, since))

    def _hold_in_range(self, u: Floats, starts: Floats) -> None:
        """Hold inputs within their ranges, and note the first time that more was asked."""
        if not held_in_range(u, self.low, self.high, self.room):
            return
        beyond = (u < self.low - self.room) | (u > self.high + self.room)
        for i, name in enumerate(self.body.inputs):
            when = beyond[:, :, i].any(axis=1)
            if when.any():
                self.note_held(name, float(starts[np.argmax(when)]))
        np.clip(u, self.low, self.high, out=u)

    def note_held(self, name: str, t: float) -> None:
        """Note the first time (s) that more was asked of an input than its range."""
        self.held.setdefault(name, Event(t, f"{name} is asked beyond its range, and held"))

    def __getstate__(self) -> dict[str, object]:
        # what flies stays where it is; a flight that takes this over puts its own in
        return {**self.__dict__, "body": None}

    def at(self, t: float, low: float, high: float) -> Floats:
        """Return the inputs at a time between two corners of the histories."""
        inside = min(max(t, low + 1e-12 * (1.0 + abs(low))), high - 1e-12 * (1.0 + abs(high)))
        u = self.inputs.copy()
        for f in self.followers:
            u[f.place] = float(f.at(np.array(t)))
        for index, history in self.histories:
            value = float(history(np.array(inside)))
            u[index] = value if history.absolute else u[index] + value
        held: Floats = np.clip(u, self.low, self.high)
        return held
