"""A compiled aircraft behind the interface that the flying core works on."""

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft, table_limits
from dravik.aircraft.description.laws import engagements
from dravik.aircraft.finite_values import not_finite
from dravik.aircraft.ground_height import ground_height_of
from dravik.aircraft.outline import outline_of
from dravik.definition.effectors import Parameter
from dravik.errors import DravikError
from dravik.estimation import TRUTH, InertialFilter
from dravik.flight import pauses
from dravik.kernel import RIGID_STATES, Workspace
from dravik.kernel.own_device import run_own_device
from dravik.kernel.program import (
    EVENT_CAPACITY,
    EVENT_COUNT,
    EVERYTHING,
    N_EVENTS,
    OUTSIDE_TABLE,
    OWN_COUNT,
    OWN_DEVICE,
    OWN_INTO,
    OWN_VALUES,
    STOP_EVENT,
)
from dravik.kernel.sampled_cells import begin_memory, recall, remember, store
from dravik.motion.equations import evaluate
from dravik.motion.integration import BEFORE, SLOPE, clamp_states, fly_steps
from dravik.recording.recording import Event
from dravik.sensors import SEED
from dravik.surroundings.terrain import terrain_around

__all__ = ["AircraftBody"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class AircraftBody:
    """A compiled aircraft in flight."""

    def __init__(self, craft: Aircraft) -> None:
        self.craft, self.name = craft, craft.name
        self.work = craft.workspace()
        self._is_ahead = False
        self.is_sensing = bool(craft.configuration.sensing)
        self._filter = InertialFilter(craft) if craft.configuration.sensing.estimator else None
        self.state_names, self.inputs, self.signals = craft.state_names, craft.inputs, craft.signals
        self.registers = craft.tape.names
        if self._filter is not None:  # of the right size from the beginning: a flight keeps the workspace
            own = self._filter.in_flight(self.registers, 1.0 / self._filter.plan.keys.rate)
            self.work = self.work._replace(own=own)
        self.parameters: Mapping[str, Parameter] = craft.configuration.parameters
        self.signal, self.input_index = craft.signal, cache(craft.input_index)
        configuration = craft.configuration
        faults = [f"fault_{n}" for n, f in configuration.script.faults.items() if f.has_switch]
        # inputs that do more than change a number: a mode begins, a law takes over, a fault happens
        self.switches = frozenset([*configuration.mode_logic, *engagements(configuration.laws), *faults])
        names = tuple(craft.state_names), tuple(craft.input_names)
        self.key: tuple[object, ...] = (craft.name, craft.loading_name, *names)

    def evaluate(self, t: float, x: Floats, u: Floats) -> None:
        """Put every signal at a state and inputs into the registers."""
        evaluate(self.craft.program, self.work, t, x, u, self.work.slopes[0], False, EVERYTHING)

    def look_ahead(self, t: float, x: Floats, u: Floats, dt: float, step: int) -> None:
        """Put every signal into the registers, with the samples and the estimates of this instant."""
        self.evaluate(t, x, u)
        self._is_ahead = self.is_sensing
        if self._is_ahead:
            store(self.craft.program, self.work)
            remember(self.craft.program, self.work, t, x, u, dt, step)
            if self._filter is not None:
                self.work.counters[OWN_DEVICE] = self._filter.address
                run_own_device(self.craft.program, self.work, t, x, u, step)

    def settle_inputs(self, inputs: Floats) -> None:
        """Put what the estimator gives into the inputs that are held."""
        own = self.work.own
        if self._filter is not None:
            into, values, count = (int(own[i]) for i in (OWN_INTO, OWN_VALUES, OWN_COUNT))
            places = own[into : into + count].astype(int)
            inputs[places[places >= 0]] = own[values : values + count][places >= 0]

    def look_back(self) -> None:
        """Hold again what was held before the look ahead."""
        if self._is_ahead:
            recall(self.craft.program, self.work)

    def clamp(self, x: Floats) -> None:
        """Put states that have limits back inside them."""
        clamp_states(self.craft.program, self.work.registers, x)

    def begin_memory(self, t: float, x: Floats, u: Floats, dt: float, held: Mapping[str, float]) -> None:
        """Begin to remember."""
        cells = self.craft.tape.cells
        for cell in cells:
            for words, seconds in (("period", cell.period), ("delay", cell.late)):
                # a sample between two steps would be taken late by a part of one, now more and now less
                if abs(seconds - round(seconds / dt) * dt) > 1e-6 * max(seconds, dt):
                    raise DravikError(
                        f"the {words} of {cell.name}, {seconds:g} s, is no whole number of steps of {dt:g} s",
                        hint="another step (dt), or another rate of the law or the sensor",
                    )  # fmt: skip
        if self._filter is not None:
            self.work.own[:] = self._filter.in_flight(self.registers, dt)
        begin_memory(self.craft.program, self.work, t, x, u)
        if self._filter is not None and not held:
            self._filter.begin(
                self.work.own, {n: float(self.work.registers[self.registers[n]]) for n in (*TRUTH, SEED)}
            )
        if held:
            # memory is kept by order: names tell whether it is that of these formulas
            if list(held) != list(self.memory()):
                raise DravikError(f"the memory that was saved is {list(held)}", expected=str([c.name for c in cells]))
            for cell in cells:
                self.work.registers[cell.register] = held[cell.name]
            if self._filter is not None:
                self.work.own[:] = [held[f"estimator {i}"] for i in range(len(self.work.own))]
            self.evaluate(t, x, u)

    def memory(self) -> dict[str, float]:
        """Return what is remembered, by name."""
        found = {c.name: float(self.work.registers[c.register]) for c in self.craft.tape.cells}
        if self._filter is not None:
            found |= {f"estimator {i}": float(v) for i, v in enumerate(self.work.own)}
        return found

    def steps(
        self, x: Floats, when: tuple[float, float, int], controls: Floats, every: int, picks: Ints, out: Floats,
        last: int,
    ) -> tuple[int, int]:  # fmt: skip
        """Fly in the kernel."""
        offset, dt, first = when
        if self._filter is not None:  # the address is this process's, and a saved flight may come from another
            self.work.counters[OWN_DEVICE] = self._filter.address
        return fly_steps(self.craft.program, self.work, x, offset, dt, first, controls, every, picks, out, last)

    def failure(self, t: float, dt: float) -> tuple[float, str]:
        """Return when and why it could not go on, in words."""
        return _failure(self.craft, self.work, t, dt)

    def events(self) -> list[Event]:
        """Return what the conditions have logged."""
        events = _logged_events(self.craft, self.work)
        if len(events) == EVENT_CAPACITY:
            events.append(Event(events[-1].time, f"more than {EVENT_CAPACITY} events: the rest is not logged"))
        return events

    def begin(self, x: Floats, u: Floats) -> tuple[pauses.Change, list[Event]]:
        """Return the start with the first phase and the faults that have happened."""
        return pauses.begin(self.craft, x, u)

    def happened(self, since: int) -> Iterable[tuple[str, ...]]:
        """Return what of its script the conditions logged stand for."""
        return pauses.happened(self.craft, self.work, since)

    def follow(self, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats) -> pauses.Change:
        """Return the flight after a fault or a new phase."""
        return pauses.follow(self.craft, then, t, x, u, now, self.work)

    def change(
        self, values: Mapping[str, float], u: Floats, read: Callable[[str], float]
    ) -> tuple[tuple[str, str | float], ...]:
        """Set inputs: a mode begins, a law that is engaged takes over present values."""
        return pauses.change_inputs(self.craft, values, u, read)

    def switched(self, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
        """Return the modes that have begun and the laws that were engaged, but for those of one mode logic."""
        return pauses.switched(self.craft, before, after, t, but)

    def ended_by(self) -> dict[str, Any] | None:
        """Return the event that has ended the flight, and whether the definition or the script asks for that."""
        stopped = int(self.work.counters[STOP_EVENT])
        if not stopped:
            return None
        event = self.craft.events[stopped - 1]
        # an end that somebody wrote down is no break-off: the command then exits with 0
        planned = event.name in self.craft.configuration.events or event.on_pause[:1] == ("mode",)
        return {"event": event.text, "planned": planned}

    def origin(self) -> dict[str, Any]:
        """Return names, hashes and script."""
        craft, configuration = self.craft, self.craft.configuration
        world = configuration.world
        return {
            "aircraft": craft.name,
            "file": craft.path.name if craft.path else "",
            "loading": craft.loading_name,
            "earth": world.earth,
            "origin_deg": [math.degrees(a) for a in (world.latitude, world.longitude)],
            "definition_sha256": configuration.sha256,
            "tables_sha256": craft.tape.values_sha256,
            "machine_code": craft.is_machine_code,
            **configuration.script.as_data(),
            "mode_logic": {
                n: m.model_dump(exclude_none=True, by_alias=True) for n, m in configuration.mode_logic.items()
            },
            "limits": {n: list(pair) for n, pair in craft.limits.items()},
            "outline": outline_of(craft),
            "legs": {
                n: [craft.loading.cg[0] - leg.position[0], leg.position[1] - craft.loading.cg[1]]
                for n, leg in configuration.legs.items()
            },
        }

    def afterwards(self, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
        """Return the land around the track."""
        if not isinstance(self.craft.configuration.world.ground, str):
            return {}  # level ground needs no picture
        return terrain_around(ground_height_of(self.craft, x, u), names, rows)

    def outside(self) -> list[tuple[str, str, int, float, float]]:
        """Return the tables that were left."""
        return table_limits.visits(self.craft.tape, self.work)


def _logged_events(craft: Aircraft, w: Workspace) -> list[Event]:
    """Return what the kernel has logged, in order of time."""
    n = int(craft.program.layout[N_EVENTS])
    log = w.events[n : n + int(w.counters[EVENT_COUNT])]
    return sorted((Event(float(t), craft.events[int(i)].text) for t, i in log), key=lambda e: e.time)


def _failure(craft: Aircraft, w: Workspace, t: float, dt: float) -> tuple[float, str]:
    """Return when (``t`` unless the kernel knows better) and why the kernel could not go on in a step, in words."""
    counter = int(w.counters[OUTSIDE_TABLE]) - 1
    if counter >= 0:
        return t, table_limits.message(craft.tape, craft.tables, counter, float(w.worst[counter, 2]))
    if not np.isfinite(w.registers[: len(RIGID_STATES)]).all():
        # a Runge-Kutta stage produced a NaN, which spread to the rest: repeat the step's first stage to find its origin
        x = w.slopes[BEFORE] + dt * w.slopes[SLOPE]
        evaluate(craft.program, w, t + dt, x, w.inputs[2], w.slopes[0], False, EVERYTHING)
    return float(w.registers[0]), not_finite(craft, w)
