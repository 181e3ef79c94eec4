"""A compiled aircraft or any plant behind the interface that the flying core works on."""

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.description.laws import engagements
from dravik.definition.effectors import Parameter
from dravik.definition.signals import InputSpec, Signal
from dravik.errors import DravikError, nearest
from dravik.flight import pauses
from dravik.flight.outcomes import failure, logged_events
from dravik.kernel import Workspace
from dravik.kernel.program import EVENT_CAPACITY, EVERYTHING, FLAGS, NOT_FINITE, STOP_EVENT
from dravik.kernel.sampled_cells import begin_memory
from dravik.motion.equations import evaluate
from dravik.motion.integration import LAST_RECORDED, LAST_UNTOUCHED, clamp_states, fly_steps
from dravik.plants import Plant
from dravik.recording.recording import Event
from dravik.surroundings.terrain import terrain_around

__all__ = ["AircraftBody", "Body", "PlantBody", "body_of"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class Body(Protocol):
    """Names and signals of what flies, its workspace, and how it moves."""

    name: str
    state_names: list[str]
    inputs: dict[str, InputSpec]
    signals: dict[str, Signal]
    registers: dict[str, int]  # register of each signal
    parameters: Mapping[str, Parameter]
    work: Workspace
    switches: frozenset[str]  # inputs from which more follows: modes, laws that are engaged
    key: tuple[object, ...]  # must be equal for a saved flight of one body to be restored into another

    def signal(self, name: str) -> Signal:
        """Return a signal; raises DravikError, naming the nearest, when there is none of that name."""

    def input_index(self, name: str) -> int:
        """Return the place of an input; raises DravikError, naming the nearest."""

    def evaluate(self, t: float, x: Floats, u: Floats) -> None:
        """Put every signal at a state and inputs into the registers."""

    def clamp(self, x: Floats) -> None:
        """Put states that have limits back inside them."""

    def begin_memory(self, t: float, x: Floats, u: Floats, dt: float, held: Mapping[str, float]) -> None:
        """Begin to remember: what the start gives, or what was ``held`` before; evaluate what follows.

        Raises DravikError for a period that is no whole number of steps, and for held values of other names.
        """

    def memory(self) -> dict[str, float]:
        """Return what is remembered, by name."""

    def steps(
        self, x: Floats, when: tuple[float, float, int], controls: Floats, every: int, picks: Ints, out: Floats,
        last: int,
    ) -> tuple[int, int]:  # fmt: skip
        """Fly as ``fly_steps`` does; ``when`` is the offset, the step (s), and the number of the first step."""

    def failure(self, t: float, dt: float) -> tuple[float, str]:
        """Return when and why it could not go on, in words."""

    def events(self) -> list[Event]:
        """Return what the conditions have logged."""

    def begin(self, x: Floats, u: Floats) -> tuple[pauses.Change, list[Event]]:
        """Return the start with all of its plan that is so from the beginning."""

    def happened(self, since: int) -> Iterable[tuple[str, ...]]:
        """Return what of its plan the conditions logged after the first ``since`` stand for."""

    def follow(self, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats) -> pauses.Change:
        """Return the flight after one of them."""

    def change(
        self, values: Mapping[str, float], u: Floats, read: Callable[[str], float]
    ) -> tuple[tuple[str, str | float], ...]:
        """Set inputs in ``u``, with what follows from that; return parameters that are set besides."""

    def switched(self, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
        """Return the modes that have begun and the laws that were engaged, but for those of one mode logic."""

    def ended_by(self) -> dict[str, Any] | None:
        """Return the event that has ended the flight, and whether it was asked for."""

    def origin(self) -> dict[str, Any]:
        """Return what it is, as plain data for a recording."""

    def afterwards(self, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
        """Return what a recording keeps beside its rows."""

    def outside(self) -> list[tuple[str, str, int, float, float]]:
        """Return the tables that were left."""


class AircraftBody:
    """A compiled aircraft in flight."""

    def __init__(self, craft: Aircraft) -> None:
        self.craft, self.name = craft, craft.name
        self.work = craft.workspace()
        self.state_names, self.inputs, self.signals = craft.state_names, craft.inputs, craft.signals
        self.registers = craft.tape.names
        self.parameters: Mapping[str, Parameter] = craft.configuration.parameters
        self.signal, self.input_index = craft.signal, cache(craft.input_index)
        configuration = craft.configuration
        faults = [f"fault_{n}" for n, f in configuration.plan.faults.items() if f.has_switch]
        self.switches = frozenset([*configuration.mode_logic, *engagements(configuration.laws), *faults])
        names = tuple(craft.state_names), tuple(craft.input_names)
        self.key: tuple[object, ...] = (craft.name, craft.loading_name, *names)

    def evaluate(self, t: float, x: Floats, u: Floats) -> None:
        """Put every signal at a state and inputs into the registers."""
        evaluate(self.craft.program, self.work, t, x, u, self.work.slopes[0], False, EVERYTHING)

    def clamp(self, x: Floats) -> None:
        """Put states that have limits back inside them."""
        clamp_states(self.craft.program, self.work.registers, x)

    def begin_memory(self, t: float, x: Floats, u: Floats, dt: float, held: Mapping[str, float]) -> None:
        """Begin to remember."""
        cells = self.craft.tape.cells
        for cell in cells:
            for words, seconds in (("a period", cell.period), ("a delay", cell.late)):
                if abs(seconds - round(seconds / dt) * dt) > 1e-6 * max(seconds, dt):
                    raise DravikError(
                        f"{words} of {seconds:g} s of {cell.name} in steps of {dt:g} s", expected="whole steps",
                        hint="another step (dt), or another rate of the law",
                    )  # fmt: skip
        begin_memory(self.craft.program, self.work, t, x, u)
        if held:
            if list(held) != [c.name for c in cells]:
                raise DravikError(f"what was held is {list(held)}", expected=str([c.name for c in cells]))
            for cell in cells:
                self.work.registers[cell.register] = held[cell.name]
            self.evaluate(t, x, u)

    def memory(self) -> dict[str, float]:
        """Return what is remembered, by name."""
        return {c.name: float(self.work.registers[c.register]) for c in self.craft.tape.cells}

    def steps(
        self, x: Floats, when: tuple[float, float, int], controls: Floats, every: int, picks: Ints, out: Floats,
        last: int,
    ) -> tuple[int, int]:  # fmt: skip
        """Fly in the kernel."""
        offset, dt, first = when
        return fly_steps(self.craft.program, self.work, x, offset, dt, first, controls, every, picks, out, last)

    def failure(self, t: float, dt: float) -> tuple[float, str]:
        """Return when and why it could not go on, in words."""
        return failure(self.craft, self.work, t, dt)

    def events(self) -> list[Event]:
        """Return what the conditions have logged."""
        events = logged_events(self.craft, self.work)
        if len(events) == EVENT_CAPACITY:
            events.append(Event(events[-1].time, f"more than {EVENT_CAPACITY} events: the rest is not logged"))
        return events

    def begin(self, x: Floats, u: Floats) -> tuple[pauses.Change, list[Event]]:
        """Return the start with the first phase and the faults that have happened."""
        return pauses.begin(self.craft, x, u)

    def happened(self, since: int) -> Iterable[tuple[str, ...]]:
        """Return what of its plan the conditions logged stand for."""
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
        """Return the event that has ended the flight, and whether the definition or the plan asks for that."""
        stopped = int(self.work.counters[STOP_EVENT])
        if not stopped:
            return None
        event = self.craft.events[stopped - 1]
        planned = event.name in self.craft.configuration.events or event.on_pause[:1] == ("mode",)
        return {"event": event.text, "planned": planned}

    def origin(self) -> dict[str, Any]:
        """Return names, hashes and plan."""
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
            **configuration.plan.as_data(),
            "mode_logic": {
                n: m.model_dump(exclude_none=True, by_alias=True) for n, m in configuration.mode_logic.items()
            },
            "limits": {n: list(pair) for n, pair in craft.limits.items()},
            "legs": {
                n: [craft.loading.cg[0] - leg.position[0], leg.position[1] - craft.loading.cg[1]]
                for n, leg in configuration.legs.items()
            },
        }

    def afterwards(self, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
        """Return the land around the track."""
        return terrain_around(self.craft, x, u, names, rows)

    def outside(self) -> list[tuple[str, str, int, float, float]]:
        """Return the tables that were left."""
        return self.craft.outside_visits(self.work)


class PlantBody:
    """Any plant in flight: the same integrator in Python, with its states, inputs and outputs as signals."""

    def __init__(self, plant: Plant, name: str = "plant") -> None:
        self.plant, self.name = plant, name
        self.state_names = list(plant.state_names)
        names = list(dict.fromkeys(["time", *plant.state_names, *plant.input_names, *plant.output_names]))
        units = {"time": "s", **plant.units}
        self.registers = {n: i for i, n in enumerate(names)}
        self.parameters: Mapping[str, Parameter] = {}
        self.switches: frozenset[str] = frozenset()
        groups = {"output": plant.output_names, "input": plant.input_names, "state": plant.state_names}
        kinds = {n: kind for kind, own in groups.items() for n in own}
        self.signals = {n: Signal(n, units.get(n, ""), n, kinds.get(n, "motion")) for n in names}
        free = (-math.inf, math.inf)
        self.inputs = {n: InputSpec(n, units.get(n, ""), *plant.bounds.get(n, free)) for n in plant.input_names}
        n = len(self.state_names)
        self.work = Workspace(
            np.zeros(len(names)), np.zeros(FLAGS, dtype=np.int64), np.zeros((0, 3)), np.zeros((5, n)),
            np.zeros((4, len(self.inputs))), np.zeros((EVENT_CAPACITY, 2)), np.zeros((2, 0)),
        )  # fmt: skip
        self.key: tuple[object, ...] = (name, tuple(names))

    def signal(self, name: str) -> Signal:
        """Return a signal; raises DravikError, naming the nearest, when there is none of that name."""
        if name not in self.signals:
            raise DravikError(f"the plant has no signal {name!r}", hint=nearest(name, self.signals))
        return self.signals[name]

    def input_index(self, name: str) -> int:
        """Return the place of an input; raises DravikError, naming the nearest."""
        own = list(self.inputs)
        if name not in own:
            raise DravikError(f"the plant has no input {name!r}", expected=", ".join(own), hint=nearest(name, own))
        return own.index(name)

    def _rates(self, t: float, x: Floats, u: Floats) -> tuple[Floats, Floats]:
        # copies, because the user's function may keep or change its arguments
        with np.errstate(all="ignore"):  # values that are not finite are reported by name below
            return self.plant.evaluate(t, x.copy(), u.copy())

    def evaluate(self, t: float, x: Floats, u: Floats) -> None:
        """Put every signal at a state and inputs into the registers."""
        rates, outputs = self._rates(t, x, u)
        r = self.work.registers
        r[0] = t
        # a state that is also an output is listed once
        for names, values in ((self.plant.output_names, outputs), (self.inputs, u), (self.state_names, x)):
            for name, value in zip(names, values, strict=True):
                r[self.registers[name]] = value
        self.work.slopes[0] = rates

    def clamp(self, x: Floats) -> None:
        """Change nothing: the bounds of a plant are those of a search."""

    def begin_memory(self, t: float, x: Floats, u: Floats, dt: float, held: Mapping[str, float]) -> None:
        """Remember nothing: a plant's states are its own."""

    def memory(self) -> dict[str, float]:
        """Return nothing."""
        return {}

    def steps(
        self, x: Floats, when: tuple[float, float, int], controls: Floats, every: int, picks: Ints, out: Floats,
        last: int,
    ) -> tuple[int, int]:  # fmt: skip
        """Fly with the classical Runge-Kutta method, as the kernel does."""
        offset, dt, first = when
        rows, count = 0, len(controls)
        for step in range(count + 1):
            if step == count and last == LAST_UNTOUCHED:
                break
            t = offset + (first + step) * dt
            begin = controls[step, 0] if step < count else controls[count - 1, 1]
            self.evaluate(t, x, begin)
            k1 = self.work.slopes[0]
            if not np.all(np.isfinite(k1)):
                self.work.counters[NOT_FINITE] = 1
                return step, rows
            if (first + step) % every == 0 and (step < count or last == LAST_RECORDED):
                if rows == len(out):
                    return step, rows
                out[rows, : len(picks)] = self.work.registers[picks]
                rows += 1
            if step == count:
                return step, rows
            end = controls[step, 1]
            middle = 0.5 * (begin + end)
            k2, _ = self._rates(t + 0.5 * dt, x + 0.5 * dt * k1, middle)
            k3, _ = self._rates(t + 0.5 * dt, x + 0.5 * dt * k2, middle)
            k4, _ = self._rates(t + dt, x + dt * k3, end)
            moved = x + dt / 6.0 * (k1 + 2.0 * (k2 + k3) + k4)
            if not np.all(np.isfinite(moved)):
                self.work.slopes[0] = np.where(np.isfinite(moved), self.work.slopes[0], np.nan)
                return step, rows
            x[:] = moved
        return count, rows

    def failure(self, t: float, dt: float) -> tuple[float, str]:
        """Return when it could not go on, and the first rate that is not finite."""
        bad = [n for n, rate in zip(self.state_names, self.work.slopes[0], strict=True) if not np.isfinite(rate)]
        return float(self.work.registers[0]), f"the rate of {bad[0]} is not finite" if bad else "it could not go on"

    def events(self) -> list[Event]:
        """Return nothing: a plant has no conditions."""
        return []

    def begin(self, x: Floats, u: Floats) -> tuple[pauses.Change, list[Event]]:
        """Return the start as it is."""
        return pauses.Change(x, u.copy(), []), []

    def happened(self, since: int) -> Iterable[tuple[str, ...]]:
        """Return nothing: a plant has no plan."""
        return ()

    def follow(self, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats) -> pauses.Change:
        """Return the flight as it is."""
        return pauses.Change(x, u, [])

    def change(
        self, values: Mapping[str, float], u: Floats, read: Callable[[str], float]
    ) -> tuple[tuple[str, str | float], ...]:
        """Set inputs."""
        for name, value in values.items():
            u[self.input_index(name)] = value
        return ()

    def switched(self, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
        """Return nothing: a plant has no modes."""
        return []

    def ended_by(self) -> dict[str, Any] | None:
        """Return nothing: no event ends it."""
        return None

    def origin(self) -> dict[str, Any]:
        """Return its name."""
        return {
            "aircraft": self.name,
            "loading": "",
            "faults": {},
            "gusts": {},
            "phases": [],
            "mode_logic": {},
            "limits": {n: list(b) for n, b in self.plant.bounds.items()},
        }

    def afterwards(self, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
        """Return nothing."""
        return {}

    def outside(self) -> list[tuple[str, str, int, float, float]]:
        """Return nothing: its tables, if it has any, are its own."""
        return []


def body_of(what: object) -> Body:
    """Return what flies; raises DravikError for what is neither an aircraft nor a plant."""
    if isinstance(what, Aircraft):
        return AircraftBody(what)
    if isinstance(what, Plant):
        return PlantBody(what)
    raise DravikError(
        f"a {type(what).__name__} is what is flown", expected="an aircraft, or a plant: dv.plant(f, states=...)"
    )
