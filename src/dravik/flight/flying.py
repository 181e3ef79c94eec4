"""Fly: from a start, with control histories, laws and a controller, to a recording."""

import hashlib
import math
import time as clock
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, FlightError, require
from dravik.flight import plan
from dravik.flight.adaptive import fly_adaptively
from dravik.flight.gusts import PERIOD
from dravik.flight.histories import History
from dravik.flight.outcomes import failure, logged_events
from dravik.flight.recording import Event, Recording, event_rows
from dravik.flight.schedule import Schedule
from dravik.flight.terrain import terrain_around
from dravik.flight.turbulence import Turbulence
from dravik.flight.writing import RecordingWriter
from dravik.kernel.integrate import clamp_states, fly_steps
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVENT_CAPACITY, EVENT_COUNT, EVERYTHING, OUTSIDE_TABLE, PAUSED, STOP_EVENT
from dravik.linear import longest_step
from dravik.trimming import TrimPoint
from dravik.units import quantity
from dravik.version import __version__

__all__ = ["Controller", "Start", "fly"]

Floats = NDArray[np.float64]
CHUNK_SECONDS = 5.0  # of flight, at most between two looks at the clock and at whoever wants to stop it
CHUNK_CLOCK = 0.2  # s of the clock, the same
MOST_MEMORY = 8e9  # bytes of a recording


class Controller(Protocol):
    """A flight control computer in Python: ``update`` is called ``rate`` times a second of flight.

    It gets the time and all signals (SI), and returns the inputs to set until the next call; an effector's
    name stands for what is added to its command.
    """

    rate: float

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        """Return inputs by name, SI."""


@dataclass(frozen=True)
class Start:
    """Where a flight starts without a trim: the integrated state and the inputs, in the kernel's order, and the time.

    A flight that goes on from another starts at the time the other had reached (s), in turbulence made for the same
    airspeeds, heights and heading (``gusts_for``, ``gusts_made``), in gusts of faults that had ``begun``.
    """

    state: Floats
    inputs: Floats
    time: float = 0.0
    gusts_for: tuple[float, float, float, float, float] | None = None
    gusts_made: tuple[tuple[float, float], ...] = ()
    begun: tuple[tuple[str, float], ...] = ()


class _Signals(Mapping[str, float]):
    """The registers by name, read where they are."""

    def __init__(self, names: Mapping[str, int], registers: Floats, signals: Mapping[str, Any]) -> None:
        self._names, self._registers, self._signals = names, registers, signals

    def __getitem__(self, name: str) -> float:
        if name not in self._signals:
            raise KeyError(name)
        return float(self._registers[self._names[name]])

    def __iter__(self) -> Iterator[str]:
        return iter(self._signals)

    def __len__(self) -> int:
        return len(self._signals)


def fly(
    craft: Aircraft,
    *,
    start: TrimPoint | Start,
    duration: str | float,
    controls: Mapping[str, History] | None = None,
    controller: Controller | None = None,
    turbulence: Turbulence | None = None,
    dt: str | float = 0.01,
    record: Sequence[str] | None = None,
    record_every: str | int = 1,
    save: str | Path | None = None,
    method: str = "rk4",
    note: Mapping[str, Any] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Recording:
    """Return the recording of a flight.

    ``start`` is a trimmed point or a ``Start``; ``controls`` are histories by input or effector; ``controller`` is
    called at its own rate. ``turbulence`` adds its gusts to the wind. ``dt`` is the step; every ``record_every``-th is
    recorded (or every so much time, such as ``"50 ms"``): all signals or ``record``; with ``save`` also to a file,
    while it flies. ``method``: ``"rk4"``, or ``"adaptive"``: an eighth-order method that keeps the error of each step
    at 1e-10, for checking accuracy (no controller, no events, no plan). ``note`` goes into the recording's metadata;
    ``progress`` is told the share flown.

    Faults and phases of the aircraft's plan happen at the end of the step in which their conditions become true.

    Raises DravikError for wrong names, units and times; FlightError, with the recording so far, when a value is not
    finite any more (it names the formula), a table is left where that is an error, or the file cannot be written.
    """
    seconds = quantity(duration, "time", where="duration")
    step = quantity(dt, "time", where="dt")
    if not (seconds > 0.0 and 0.0 < step <= seconds):
        raise DravikError(
            f"{seconds:g} s in steps of {step:g} s", expected="a duration above the step, both above zero"
        )
    every = _every(record_every, step)
    require(craft, Aircraft, "what is flown")
    require(start, (TrimPoint, Start), "the start", "trim, on_ground, on_rail, resume, or Start(craft.state(...), ...)")
    if method not in ("rk4", "adaptive"):
        raise DravikError(f"method {method!r}", expected="'rk4' or 'adaptive'")
    if method == "adaptive" and (controller is not None or turbulence is not None):
        raise DravikError("the adaptive method takes no controller and no turbulence", hint="method='rk4'")
    flight = _Flight(
        craft, start, controls or {}, controller, turbulence, step, max(1, round(seconds / step)), record, every,
        note,
    )  # fmt: skip
    flight.notes += [Event(flight.time(flight.first), text) for text in _doubts(flight, seconds)]
    return flight.adaptive() if method == "adaptive" else flight.run(progress, save)


def _every(value: str | int, step: float) -> int:
    """Return every how many steps a row is recorded, from a number of steps or a time."""
    if isinstance(value, str):
        seconds = quantity(value, "time", where="record_every")
        count = round(seconds / step)
        if count < 1 or abs(count * step - seconds) > 1e-6 * seconds:
            raise DravikError(f"record_every {value!r} in steps of {step:g} s", expected="a whole number of steps")
        return count
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise DravikError(f"record_every = {value!r}", expected="1 or more steps, or a time such as '50 ms'")
    return value


def _doubts(flight: "_Flight", seconds: float) -> list[str]:
    """Return what a run should say at its beginning: a time that is no whole number of steps, a step too long."""
    found, step = [], flight.dt
    flown = (flight.last - flight.first) * step
    if abs(flown - seconds) > 1e-9 * max(1.0, seconds):
        found.append(f"flown for {flown:.6g} s: {seconds:.6g} s is no whole number of steps of {step:g} s")
    root = longest_step(flight.craft, flight.x, flight.schedule.inputs)
    if root is not None and step > root[1]:
        found.append(f"a step of {step:g} s is too long for {root[0]}: at most {root[1]:.2g} s, or the motion diverges")
    return found


class _Flight:
    """One flight while it is flown; steps are counted from time nought, wherever it starts."""

    def __init__(
        self, craft: Aircraft, start: TrimPoint | Start, controls: Mapping[str, History], controller: Controller | None,
        turbulence: Turbulence | None, dt: float, steps: int, record: Sequence[str] | None, every: int,
        note: Mapping[str, Any] | None,
    ) -> None:  # fmt: skip
        self.note = dict(note or {})
        self.craft, self.dt, self.every, self.controller = craft, dt, every, controller
        begins = start.time if isinstance(start, Start) else 0.0
        self.first = self.reached = round(begins / dt)
        self.offset = begins - self.first * dt
        self.last = self.first + steps
        x, inputs = np.array(start.state, dtype=float), np.array(start.inputs, dtype=float)
        if x.shape != (len(craft.state_names),) or inputs.shape != (len(craft.inputs),):
            raise DravikError(
                f"the start has {x.size} states and {inputs.size} inputs, {craft.name} has "
                f"{len(craft.state_names)} and {len(craft.inputs)}",
                hint="trim the aircraft that is flown, with its laws and its plan",
            )
        if not (np.all(np.isfinite(x)) and np.all(np.isfinite(inputs))):
            raise DravikError("the start holds values that are not finite")
        for name in record or ():
            craft.signal(name)
        self.names = list(dict.fromkeys(["time", *(record or craft.signals)]))
        self.picks = np.array([craft.tape.names[n] for n in self.names], dtype=np.int64)
        self.notes: list[Event] = []
        self.begun_gusts: list[tuple[str, float]] = []
        if self.first == 0:
            change, self.notes = plan.begin(craft, x, inputs)
        else:
            assert isinstance(start, Start)
            change = plan.Change(x, inputs, [plan.gust_of(craft, name, t) for name, t in start.begun])
            self.begun_gusts = list(start.begun)
        self.x = change.state
        made = start.gusts_made if isinstance(start, Start) else ()
        self.schedule = Schedule(craft, change.inputs, controls, turbulence, dt, self.offset, made)
        self.schedule.histories.extend(change.histories)
        self.schedule.gusts_for = start.gusts_for if isinstance(start, Start) else None
        self.start_inputs = dict(zip(craft.input_names, change.inputs.tolist(), strict=True))
        self.work = craft.workspace()
        self.rows: list[Floats] = []
        self.begun = clock.perf_counter()
        room = 8.0 * (steps / every + 2) * len(self.names)
        if room > MOST_MEMORY:
            raise DravikError(
                f"the recording would take {room / 1e9:.3g} GB: {steps / every:.3g} rows of {len(self.names)} signals",
                expected=f"at most {MOST_MEMORY / 1e9:g} GB",
                hint="record fewer signals, or every few steps (record_every)",
            )

    def time(self, step: int) -> float:
        """Return the time of a step."""
        return self.offset + step * self.dt

    def run(self, progress: Callable[[float], None] | None, save: str | Path | None) -> Recording:
        # gusts that follow the flight are made period by period
        stretch = PERIOD if self.schedule.follows else CHUNK_SECONDS
        chunk = self._controller_steps() if self.controller is not None else max(1, round(stretch / self.dt))
        if self.first == 0:
            # states that a start puts outside their limits would jump at the first step; a flight that goes on from
            # another is within them, and not even its quaternion's last bit may change
            slopes = self.work.slopes[0]
            evaluate(
                self.craft.program, self.work, self.offset, self.x, self.schedule.inputs, slopes, False, EVERYTHING
            )
            clamp_states(self.craft.program, self.work.registers, self.x)
        writer = None
        if save is not None:
            units = {name: self.craft.signals[name].unit for name in self.names}
            writer = RecordingWriter(save, self.names, units, self._metadata(), self._end(self.first))
        try:
            self._fly(chunk, progress, writer)
        except BaseException:
            if writer is not None:
                writer.abandon()
            raise
        recording = self._recording()
        if writer is not None:
            self._keep(writer.close, recording)
        return recording

    def _fly(self, chunk: int, progress: Callable[[float], None] | None, writer: RecordingWriter | None) -> None:
        # a slow machine, a small step or many signals must not keep an interrupt waiting: the first stretch is short
        step, called, most = self.first, -1, 50
        while step < self.last:
            begun = clock.perf_counter()
            # after a pause the next stretch is the rest of this one: a controller keeps its beat
            count = min(chunk - step % chunk, self.last - step, most)
            if self.controller is not None and step % chunk == 0 and step != called:
                self._call_controller(step)
                called = step  # a pause at this very step is no second beat
            logged = int(self.work.counters[EVENT_COUNT])
            out = np.empty((count // self.every + 2, len(self.names)))
            done, rows = fly_steps(
                self.craft.program, self.work, self.x, self.offset, self.dt, step,
                self.schedule.steps(step, count, self.x, self.work), self.every, self.picks, out,
                step + count == self.last,
            )  # fmt: skip
            self.rows.append(out[:rows])
            step += done
            self.reached = step
            spent = clock.perf_counter() - begun
            most = max(1, min(chunk, int(max(done, 1) * min(CHUNK_CLOCK / max(spent, 1e-6), 4.0))))
            finite = bool(np.all(np.isfinite(self.work.slopes[0])))
            paused = self.work.counters[PAUSED] != 0
            self.work.counters[PAUSED] = 0
            if writer is not None:
                self._keep(writer.write, out[:rows], self._end(step), event_rows(self._events()))
            if self.work.counters[STOP_EVENT] != 0:
                return
            if (done < count and not paused) or self.work.counters[OUTSIDE_TABLE] or not finite:
                self._fail(self.time(step))
            if paused:
                self._follow(step, logged)
            if progress is not None:
                progress((step - self.first) / (self.last - self.first))

    def _follow(self, step: int, logged: int) -> None:
        """Do what the conditions logged since then ask for."""
        t = self.time(step)
        now = self.schedule.steps(step, 1, self.x, self.work)[0, 0].copy()
        for then in plan.happened(self.craft, self.work, logged):
            change = plan.follow(self.craft, then, t, self.x, self.schedule.inputs, now)
            if change.histories:
                self.begun_gusts.append((then[1], t))
            self.x = change.state
            self.schedule.histories.extend(change.histories)

    def _keep(self, write: Callable[..., None], *what: object) -> None:
        """Write; what has been flown is in the error when that fails."""
        try:
            write(*what)
        except DravikError as error:
            t = float(self.rows[-1][-1, 0]) if self.rows and len(self.rows[-1]) else self.time(self.first)
            raise FlightError(error.what, time=t, recording=self._recording(), where=error.where) from None

    def _controller_steps(self) -> int:
        assert self.controller is not None
        rate = float(self.controller.rate)
        per_call = 1.0 / (rate * self.dt) if rate > 0.0 else 0.0
        if per_call < 1.0 - 1e-9 or abs(per_call - round(per_call)) > 1e-6:
            raise DravikError(
                f"a controller at {rate:g} Hz does not fit steps of {self.dt:g} s",
                expected="a whole number of steps a call",
            )
        return round(per_call)

    def _call_controller(self, first: int) -> None:
        assert self.controller is not None
        craft, t = self.craft, self.time(first)
        u = self.schedule.steps(first, 1, self.x, self.work)[0, 0]
        evaluate(craft.program, self.work, t, self.x, u, self.work.slopes[0], False, EVERYTHING)
        signals = _Signals(craft.tape.names, self.work.registers, craft.signals)
        for name, value in self.controller.update(t, signals).items():
            if not math.isfinite(value):
                raise DravikError(f"the controller set {name} to {value} at {t:g} s")
            self.schedule.inputs[craft.input_index(name)] = value

    def _fail(self, t: float) -> None:
        t, what = failure(self.craft, self.work, t, self.dt)
        raise FlightError(f"at {t:.6g} s {what}", time=t, recording=self._recording(), where=self.craft.name)

    def _events(self) -> list[Event]:
        events = logged_events(self.craft, self.work)
        if len(events) == EVENT_CAPACITY:
            events.append(Event(events[-1].time, f"more than {EVENT_CAPACITY} events: the rest is not logged"))
        return sorted([*self.notes, *events, *self.schedule.held.values()], key=lambda e: e.time)

    def _end(self, step: int) -> dict[str, Any]:
        """Return all that is needed to fly on from here."""
        names, inputs = self.craft.state_names, self.craft.input_names
        return {
            "time_s": self.time(step),
            "state": dict(zip(names, self.x.tolist(), strict=True)),
            "inputs": dict(zip(inputs, self.schedule.inputs.tolist(), strict=True)),
            "gusts_for": self.schedule.gusts_for,
            "gusts_made": self.schedule.gusts.made if self.schedule.gusts is not None else [],
            "begun": self.begun_gusts,
        }

    def _recording(self) -> Recording:
        craft = self.craft
        units = {name: craft.signals[name].unit for name in self.names}
        values = np.concatenate(self.rows) if self.rows else np.empty((0, len(self.names)))
        metadata = {**self._metadata(), "complete": True, "end": self._end(self.reached), "ended_by": self._ended_by()}
        metadata |= terrain_around(craft, self.x, self.schedule.inputs, self.names, values)
        return Recording(self.names, units, values, self._events(), metadata, craft.outside_visits(self.work))

    def _ended_by(self) -> dict[str, Any] | None:
        """Return the event that ended the run before its time, and whether the definition or the plan asks for that."""
        stopped = int(self.work.counters[STOP_EVENT])
        if not stopped:
            return None
        event = self.craft.events[stopped - 1]
        planned = event.name in self.craft.definition.events or event.then[:1] == ("phase",)
        return {"event": event.text, "planned": planned}

    def _metadata(self) -> dict[str, Any]:
        craft, definition = self.craft, self.craft.definition
        # what laws add to commands and what is planned is no part of an aircraft file, but of what was flown
        planned = {
            "faults": {n: f.model_dump(exclude_none=True) for n, f in definition.faults.items()},
            "phases": [p.model_dump(exclude_none=True) for p in definition.phases],
        }
        whole = definition.model_dump_json() + repr(sorted(definition.add.items()))
        whole += repr(planned) if definition.faults or definition.phases else ""
        turbulence, world = self.schedule.turbulence, definition.environment
        return {
            "dravik": __version__,
            **self.note,
            "aircraft": craft.name,
            "file": craft.path.name if craft.path else "",
            "loading": craft.loading_name,
            "earth": world.earth,
            "origin_deg": [math.degrees(a) for a in (world.latitude, world.longitude)],
            "definition_sha256": hashlib.sha256(whole.encode()).hexdigest(),
            "tables_sha256": hashlib.sha256(craft.tape.values.tobytes()).hexdigest(),
            "step_s": self.dt,
            "asked_s": (self.last - self.first) * self.dt,
            "controls": self.schedule.texts,
            "turbulence": None if turbulence is None else asdict(turbulence),
            **planned,
            "start_inputs": self.start_inputs,
            "limits": {n: list(craft.limits[n]) for n in self.names if n in craft.limits},
            "wall_time_s": round(clock.perf_counter() - self.begun, 4),
        }

    def adaptive(self) -> Recording:
        times = np.arange(self.first, self.last + 1, self.every, dtype=np.float64) * self.dt + self.offset
        picks = [int(p) for p in self.picks]
        self.rows = [fly_adaptively(self.craft, self.work, self.x, self.schedule, times, picks)]
        if self.work.counters[OUTSIDE_TABLE]:
            self._fail(float(times[-1]))
        return self._recording()
