"""Fly: from a start, with control histories, laws and a controller, to a recording."""

import hashlib
import itertools
import math
import time as clock
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft, InputSpec
from dravik.errors import DravikError, FlightError
from dravik.flight.histories import History
from dravik.flight.recording import Event, Recording
from dravik.flight.turbulence import Turbulence
from dravik.kernel import Workspace
from dravik.kernel.integrate import clamp_states, fly_steps
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVENT_CAPACITY, EVENT_COUNT, EVERYTHING, MOTION, N_EVENTS, OUTSIDE_TABLE, STOP_EVENT
from dravik.trimming import TrimPoint
from dravik.units import KINDS, quantity
from dravik.version import __version__

__all__ = ["Controller", "Start", "fly"]

Floats = NDArray[np.float64]
EDGE = 1e-6  # of a step: how far from its ends a history is read, so that a jump falls on one side for certain
CHUNK_SECONDS = 5.0
GUSTS = ("gust_roll", "gust_pitch", "gust_yaw")


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
    """Where a flight starts without a trim: the integrated state and the inputs, in the kernel's order."""

    state: Floats
    inputs: Floats


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
    record_every: int = 1,
    method: str = "rk4",
    progress: Callable[[float], None] | None = None,
) -> Recording:
    """Return the recording of a flight.

    ``start`` is a trimmed point or a ``Start``; ``controls`` are histories by input or effector; ``controller`` is
    called at its own rate. ``turbulence`` adds its gusts to the wind. ``dt`` is the step; every ``record_every``-th is
    recorded: all signals or ``record``. ``method``: ``"rk4"``, or ``"adaptive"``: an eighth-order method that keeps the
    error of each step at 1e-10, for checking accuracy (no controller, no events). ``progress`` is told the share flown.

    Raises DravikError for wrong names, units and times; FlightError, with the recording so far, when a value is not
    finite any more (it names the formula) or a table is left where that is an error.
    """
    seconds = quantity(duration, "time", where="duration")
    step = quantity(dt, "time", where="dt")
    if not (seconds > 0.0 and 0.0 < step <= seconds):
        raise DravikError(
            f"{seconds:g} s in steps of {step:g} s", expected="a duration above the step, both above zero"
        )
    if record_every < 1:
        raise DravikError(f"record_every = {record_every}", expected="1 or more")
    if method not in ("rk4", "adaptive"):
        raise DravikError(f"method {method!r}", expected="'rk4' or 'adaptive'")
    flight = _Flight(
        craft, start, controls or {}, controller, turbulence, step, round(seconds / step), record, record_every
    )
    return flight.adaptive() if method == "adaptive" else flight.run(progress)


class _Flight:
    """One flight while it is flown."""

    def __init__(
        self, craft: Aircraft, start: TrimPoint | Start, controls: Mapping[str, History], controller: Controller | None,
        turbulence: Turbulence | None, dt: float, steps: int, record: Sequence[str] | None, every: int,
    ) -> None:  # fmt: skip
        self.craft, self.dt, self.steps, self.every = craft, dt, steps, every
        self.controller, self.turbulence = controller, turbulence
        self.gusts = None if turbulence is None else turbulence.along(craft.definition.reference.span)
        self.gusts_for: tuple[float, float, float] | None = None
        self.gust_inputs = [craft.input_index(n) for n in ("wind_north", "wind_east", "wind_up", *GUSTS)]
        self.x = np.array(start.state, dtype=float)
        self.inputs = np.array(start.inputs, dtype=float)
        if self.x.shape != (len(craft.state_names),) or self.inputs.shape != (len(craft.inputs),):
            raise DravikError(
                f"the start has {self.x.size} states and {self.inputs.size} inputs, {craft.name} has "
                f"{len(craft.state_names)} and {len(craft.inputs)}",
                hint="trim the aircraft that is flown, with its laws engaged",
            )
        if not (np.all(np.isfinite(self.x)) and np.all(np.isfinite(self.inputs))):
            raise DravikError("the start holds values that are not finite")
        for name in record or ():
            craft.signal(name)
        self.names = list(dict.fromkeys(["time", *(record or craft.signals)]))
        self.picks = np.array([craft.tape.names[n] for n in self.names], dtype=np.int64)
        self.histories = [self._bind(name, history) for name, history in controls.items()]
        self.texts = {name: history.text for name, history in controls.items()}
        self.start_inputs = dict(zip(craft.input_names, self.inputs.tolist(), strict=True))
        self.work = craft.workspace()
        self.rows: list[Floats] = []
        self.held: dict[str, Event] = {}

    def _bind(self, name: str, history: History) -> tuple[int, History]:
        index = self.craft.input_index(name)
        spec = list(self.craft.inputs.values())[index]
        if history.unit is None and spec.unit == KINDS["angle"][0]:
            raise DravikError(f"{history.text} on {name}: no unit", expected="an angle such as '2 deg'")
        if history.unit is not None and history.unit != spec.unit:
            raise DravikError(f"{history.text} on {name}: its unit is {history.unit}", expected=spec.unit or "no unit")
        return index, history

    def schedule(self, first: int, count: int) -> Floats:
        """Return the inputs at the start and end of each step, shape (count, 2, inputs)."""
        u = np.empty((count, 2, len(self.inputs)))
        u[:] = self.inputs
        starts: Floats = np.arange(first, first + count, dtype=np.float64) * self.dt
        for index, history in self.histories:
            values = np.stack([history(starts + EDGE * self.dt), history(starts + (1.0 - EDGE) * self.dt)], axis=1)
            u[:, :, index] = values if history.absolute else u[:, :, index] + values
        if self.gusts is not None:
            self._add_gusts(u, starts)
        for i, spec in enumerate(self.craft.inputs.values()):
            if math.isfinite(spec.low) or math.isfinite(spec.high):
                self._hold_in_range(spec, u[:, :, i], starts)
        return u

    def _add_gusts(self, u: Floats, starts: Floats) -> None:
        """Add the turbulence in level axes turned to the heading."""
        assert self.gusts is not None and self.turbulence is not None
        if self.turbulence.follow or self.gusts_for is None:
            names, r = self.craft.tape.names, self.work.registers
            slopes = self.work.slopes[0]
            evaluate(self.craft.program, self.work, float(starts[0]), self.x, u[0, 0], slopes, False, EVERYTHING)
            self.gusts_for = float(r[names["airspeed"]]), float(r[names["altitude"]]), float(r[names["psi"]])
        airspeed, height, heading = self.gusts_for
        found = self.gusts(airspeed, height, np.append(starts, starts[-1] + self.dt))
        sine, cosine = math.sin(heading), math.cos(heading)
        along, right, down = found[:3]
        local = np.stack([along * cosine - right * sine, along * sine + right * cosine, -down, *found[3:]], axis=1)
        u[:, 0, self.gust_inputs] += local[:-1]
        u[:, 1, self.gust_inputs] += local[1:]

    def _hold_in_range(self, spec: InputSpec, values: Floats, starts: Floats) -> None:
        """Hold an input within its range, and note the first time that more was asked."""
        room = 1e-9 * (spec.high - spec.low) if math.isfinite(spec.high - spec.low) else 0.0
        beyond = np.any((values < spec.low - room) | (values > spec.high + room), axis=1)
        if np.any(beyond) and spec.name not in self.held:
            self.held[spec.name] = Event(
                float(starts[np.argmax(beyond)]), f"{spec.name} is asked beyond its range, and held"
            )
        np.clip(values, spec.low, spec.high, out=values)

    def run(self, progress: Callable[[float], None] | None) -> Recording:
        begun = clock.perf_counter()
        chunk = max(1, round(CHUNK_SECONDS / self.dt))
        if self.controller is not None:
            chunk = self._controller_steps()
        # states that a start puts outside their limits would jump at the first step
        evaluate(self.craft.program, self.work, 0.0, self.x, self.inputs, self.work.slopes[0], False, EVERYTHING)
        clamp_states(self.craft.program, self.work.registers, self.x)
        first = 0
        while first < self.steps:
            count = min(chunk, self.steps - first)
            if self.controller is not None:
                self._call_controller(first)
            last = first + count == self.steps
            out = np.empty((count // self.every + 2, len(self.names)))
            done, rows = fly_steps(
                self.craft.program, self.work, self.x, 0.0, self.dt, first, self.schedule(first, count), self.every,
                self.picks, out, last,
            )  # fmt: skip
            self.rows.append(out[:rows])
            first += done
            finite = bool(np.all(np.isfinite(self.work.slopes[0])))
            if done < count or self.work.counters[OUTSIDE_TABLE] or not finite:
                if self.work.counters[STOP_EVENT] == 0:
                    self._fail(first * self.dt, begun)
                break
            if progress is not None:
                progress(first / self.steps)
        return self._recording(begun)

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
        craft, t = self.craft, first * self.dt
        u = self.schedule(first, 1)[0, 0]
        evaluate(craft.program, self.work, t, self.x, u, self.work.slopes[0], False, EVERYTHING)
        signals = _Signals(craft.tape.names, self.work.registers, craft.signals)
        for name, value in self.controller.update(t, signals).items():
            if not math.isfinite(value):
                raise DravikError(f"the controller set {name} to {value} at {t:g} s")
            self.inputs[craft.input_index(name)] = value

    def _fail(self, t: float, begun: float) -> None:
        t, what = failure(self.craft, self.work, t)
        raise FlightError(f"at {t:.6g} s {what}", time=t, recording=self._recording(begun), where=self.craft.name)

    def _recording(self, begun: float) -> Recording:
        craft, w = self.craft, self.work
        events = logged_events(craft, w)
        if len(events) == EVENT_CAPACITY:
            events.append(Event(events[-1].time, f"more than {EVENT_CAPACITY} events: the rest is not logged"))
        events = sorted([*events, *self.held.values()], key=lambda e: e.time)
        units = {name: craft.signals[name].unit for name in self.names}
        values = np.concatenate(self.rows) if self.rows else np.empty((0, len(self.names)))
        return Recording(self.names, units, values, events, self._metadata(begun), craft.outside_visits(w))

    def _metadata(self, begun: float) -> dict[str, Any]:
        craft = self.craft
        # what laws add to commands is no part of an aircraft file, but of what was flown
        definition = craft.definition.model_dump_json() + repr(sorted(craft.definition.add.items()))
        return {
            "dravik": __version__,
            "aircraft": craft.name,
            "file": craft.path.name if craft.path else "",
            "loading": craft.loading_name,
            "definition_sha256": hashlib.sha256(definition.encode()).hexdigest(),
            "tables_sha256": hashlib.sha256(craft.tape.values.tobytes()).hexdigest(),
            "step_s": self.dt,
            "controls": self.texts,
            "turbulence": None if self.turbulence is None else asdict(self.turbulence),
            "start_inputs": self.start_inputs,
            "wall_time_s": round(clock.perf_counter() - begun, 4),
        }

    def adaptive(self) -> Recording:
        """Fly with DOP853 (E. Hairer, S. Norsett, G. Wanner, Solving Ordinary Differential Equations I, 1993)."""
        from scipy.integrate import solve_ivp

        if self.controller is not None or self.turbulence is not None:
            raise DravikError("the adaptive method takes no controller and no turbulence", hint="method='rk4'")
        begun = clock.perf_counter()
        end = self.steps * self.dt
        times = np.arange(0, self.steps + 1, self.every) * self.dt
        inner = {c for _, h in self.histories for c in h.corners if 0.0 < c < end}
        edges = [0.0, *sorted(inner), end]
        x, states = self.x, np.empty((len(times), len(self.x)))
        states[0] = x
        for low, high in itertools.pairwise(edges):
            wanted = (times > low) & (times <= high)
            found = solve_ivp(
                self._rates_between(low, high), (low, high), x, method="DOP853", rtol=1e-11, atol=1e-12,
                t_eval=np.append(times[wanted], high) if high not in times[wanted] else times[wanted],
            )  # fmt: skip
            if not found.success or not np.all(np.isfinite(found.y)):
                raise FlightError(f"the adaptive method stopped: {found.message}", time=low, where=self.craft.name)
            states[wanted] = found.y.T[: int(np.sum(wanted))]
            x = found.y[:, -1]
        dx = np.empty(len(x))
        rows = np.empty((len(times), len(self.names)))
        for i, t in enumerate(times):
            evaluate(
                self.craft.program,
                self.work,
                float(t),
                states[i],
                self._inputs_at(float(t), 0.0, end),
                dx,
                False,
                True,
            )
            rows[i] = self.work.registers[self.picks]
        self.rows = [rows]
        if self.work.counters[OUTSIDE_TABLE]:
            self._fail(end, begun)
        return self._recording(begun)

    def _inputs_at(self, t: float, low: float, high: float) -> Floats:
        inside = min(max(t, low + 1e-12 * (1.0 + abs(low))), high - 1e-12 * (1.0 + abs(high)))
        u = self.inputs.copy()
        for index, history in self.histories:
            value = float(history(np.array(inside)))
            u[index] = value if history.absolute else u[index] + value
        specs = self.craft.inputs.values()
        held: Floats = np.clip(u, [spec.low for spec in specs], [spec.high for spec in specs])
        return held

    def _rates_between(self, low: float, high: float) -> Callable[[float, Floats], Floats]:
        def rates(t: float, x: Floats) -> Floats:
            dx = np.empty(len(x))
            u = self._inputs_at(t, low, high)
            evaluate(self.craft.program, self.work, t, np.ascontiguousarray(x), u, dx, False, MOTION)
            return dx

        return rates


def logged_events(craft: Aircraft, w: Workspace) -> list[Event]:
    """Return what the kernel has logged, in order of time."""
    n = int(craft.program.layout[N_EVENTS])
    log = w.events[n : n + int(w.counters[EVENT_COUNT])]
    return sorted((Event(float(t), craft.events[int(i)].text) for t, i in log), key=lambda e: e.time)


def failure(craft: Aircraft, w: Workspace, t: float) -> tuple[float, str]:
    """Return when (``t`` unless the kernel knows better) and why the kernel could not go on, in words."""
    counter = int(w.counters[OUTSIDE_TABLE]) - 1
    if counter >= 0:
        return t, craft.outside_message(counter, float(w.worst[counter, 2]))
    return float(w.registers[0]), not_finite(craft, w)


def not_finite(craft: Aircraft, w: Workspace) -> str:
    """Return in words which value stopped being finite, and in which formula it arose."""
    tape = craft.tape
    roots = [*(s.rate for s in tape.states), *tape.names.values()]
    registers = w.registers[: len(tape.registers)]
    by_register = {r: n for n, r in tape.names.items()}
    rates = {s.rate: f"the rate of {s.name}" for s in tape.states}
    for register in roots:
        if register >= 0 and not np.isfinite(registers[register]):
            name = by_register.get(register) or rates.get(register, "a value")
            source = tape.trace(register, registers)
            text = f"{name} is {registers[register]}"
            if source is not None and source.text:
                start = max(0, source.position - 40)
                snippet = source.text[start : start + 80]
                return f"{text}: it arises in {source.name}\n  {snippet}\n  {' ' * (source.position - start)}^"
            return text
    return "the motion has left all bounds"
