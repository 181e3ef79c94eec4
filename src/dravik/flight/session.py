"""A flight in steps, for a loop of one's own: step, read, set, save, restore, start again."""

from copy import deepcopy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, FlightError, require
from dravik.flight import plan
from dravik.flight.flying import Start
from dravik.flight.outcomes import failure, logged_events
from dravik.flight.recording import Event
from dravik.kernel import Workspace
from dravik.kernel.integrate import clamp_states, fly_steps
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVENT_COUNT, EVERYTHING, OUTSIDE_TABLE, PAUSED, STOP_EVENT
from dravik.trimming import TrimPoint
from dravik.units import in_si, kind_of_unit, quantity

__all__ = ["Session", "SessionState"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SessionState:
    """Everything a session is at one moment; ``restore`` it into a session of the same aircraft and step."""

    fingerprint: tuple[object, ...]
    steps: int
    state: Floats
    inputs: Floats
    workspace: Workspace


class Session:
    """A flight that goes on when it is told to.

    Inputs are held from one step to the next. Nothing is shared between sessions: any number may fly side by side.
    """

    def __init__(self, craft: Aircraft, *, start: TrimPoint | Start, dt: str | float = 0.01) -> None:
        """Begin at a trimmed point or a start, with the integrator's step; raises DravikError for what does not fit."""
        require(craft, Aircraft, "what a session flies")
        require(start, (TrimPoint, Start), "the start", "trim(craft, ...)")
        self.craft = craft
        self.dt = quantity(dt, "time", where="dt")
        if not self.dt > 0.0:
            raise DravikError(f"dt {dt!r}", expected="a time above zero")
        if any(fault.kind == "gust" for fault in craft.definition.faults.values()):
            raise DravikError("a gust in the plan of a session", hint="set wind_up or another of the wind's inputs")
        self._start = Start(np.array(start.state, dtype=float), np.array(start.inputs, dtype=float))
        if self._start.state.shape != (len(craft.state_names),) or self._start.inputs.shape != (len(craft.inputs),):
            raise DravikError("the start does not fit the aircraft", hint="trim the aircraft that is flown")
        self._picks = np.zeros(0, dtype=np.int64)
        self._low = np.array([i.low for i in craft.inputs.values()])
        self._high = np.array([i.high for i in craft.inputs.values()])
        self.reset()

    def reset(self) -> None:
        """Go back to the start."""
        self._work = self.craft.workspace()
        change, _ = plan.begin(self.craft, self._start.state.copy(), self._start.inputs)
        self._x, self._u = change.state, change.inputs.copy()
        self._steps = 0
        self._evaluate()
        clamp_states(self.craft.program, self._work.registers, self._x)
        self._evaluate()

    def _evaluate(self) -> None:
        w = self._work
        evaluate(self.craft.program, w, self.time, self._x, self._u, w.slopes[0], False, EVERYTHING)

    @property
    def time(self) -> float:
        """Seconds flown since the start; where an event has ended the flight, the moment of that event."""
        return float(self._work.registers[0]) if self.ended else self._steps * self.dt

    @property
    def ended(self) -> bool:
        """Whether an event has ended the flight; ``step`` then raises FlightError."""
        return int(self._work.counters[STOP_EVENT]) != 0

    @property
    def events(self) -> list[Event]:
        """What has happened so far, in order of time."""
        return logged_events(self.craft, self._work)

    def __getitem__(self, name: str) -> float:
        """Return a signal at this moment, SI; raises DravikError, naming the nearest, for one that is not there."""
        self.craft.signal(name)
        return float(self._work.registers[self.craft.tape.names[name]])

    @property
    def state(self) -> Floats:
        """The integrated state, in the order of ``craft.state_names``; a copy."""
        return self._x.copy()

    def set(self, **inputs: str | float) -> None:
        """Set inputs by name, SI or with their unit, until they are set again.

        An effector's name stands for what is added to its command. Values beyond an input's range are held at it.
        Raises DravikError for names that are not there, and for values that are not finite.
        """
        for name, value in inputs.items():
            index = self.craft.input_index(name)
            if isinstance(value, str):
                unit = self.craft.inputs[self.craft.input_names[index]].unit
                value = in_si(value, kind_of_unit(unit), where=name)
            if not np.isfinite(value):
                raise DravikError(f"{name} set to {value}", expected="a finite number")
            self._u[index] = min(max(float(value), self._low[index]), self._high[index])

    def step(self, duration: str | float | None = None, **inputs: str | float) -> None:
        """Set inputs and fly on for ``duration`` seconds (one integrator step unless said).

        Raises DravikError for a duration that is no whole number of steps, and FlightError where a value stops being
        finite, a table is left where that is an error, or an event has ended the flight before.
        """
        self.set(**inputs)
        if isinstance(duration, str):
            duration = quantity(duration, "time", where="duration")
        count = 1 if duration is None else round(duration / self.dt)
        if count < 1 or (duration is not None and abs(count * self.dt - duration) > 1e-9 * max(1.0, duration)):
            raise DravikError(f"{duration} s in steps of {self.dt:g} s", expected="a whole number of steps")
        craft, w = self.craft, self._work
        if self.ended:
            raise FlightError("the flight has ended", time=self.time, recording=None, where=craft.name)
        while count > 0 and not self.ended:
            controls = np.broadcast_to(self._u, (count, 2, len(self._u))).copy()
            logged, out = int(w.counters[EVENT_COUNT]), np.empty((count + 2, 0))
            done, _ = fly_steps(
                craft.program, w, self._x, 0.0, self.dt, self._steps, controls, 1, self._picks, out, True
            )  # fmt: skip
            self._steps += done
            finite, paused = bool(np.all(np.isfinite(w.slopes[0]))), w.counters[PAUSED] != 0
            w.counters[PAUSED] = 0
            if w.counters[OUTSIDE_TABLE] or not finite or (done < count and not (self.ended or paused)):
                t, what = failure(craft, w, self.time, self.dt)
                raise FlightError(f"at {t:.6g} s {what}", time=t, recording=None, where=craft.name)
            count -= done
            if paused:
                now = self._u.copy()
                for then in plan.happened(craft, w, logged):
                    self._x = plan.follow(craft, then, self.time, self._x, self._u, now).state
                self._evaluate()

    def save(self) -> SessionState:
        """Return all that the session is now; the session may fly on and come back to it."""
        copies = deepcopy(self._work)
        return SessionState(self._fingerprint(), self._steps, self._x.copy(), self._u.copy(), copies)

    def restore(self, saved: SessionState) -> None:
        """Be again what was saved, to the last bit; raises DravikError for another aircraft, loading or step."""
        if saved.fingerprint != self._fingerprint():
            raise DravikError(
                f"what was saved is of {saved.fingerprint[:2]}, not of {self._fingerprint()[:2]}",
                expected="the same aircraft, loading, laws and step",
            )  # fmt: skip
        self._work = deepcopy(saved.workspace)
        self._x, self._u, self._steps = saved.state.copy(), saved.inputs.copy(), saved.steps

    def _fingerprint(self) -> tuple[object, ...]:
        craft = self.craft
        return craft.name, craft.loading_name, self.dt, tuple(craft.state_names), tuple(craft.input_names)
