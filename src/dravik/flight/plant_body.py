"""Any plant behind the interface that the flying core works on."""

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition.effectors import Parameter
from dravik.definition.signals import InputSpec, Signal
from dravik.errors import DravikError, nearest
from dravik.flight import pauses
from dravik.kernel import Workspace
from dravik.kernel.program import EVENT_CAPACITY, FLAGS, NOT_FINITE, OWN_HEADER
from dravik.motion.integration import LAST_RECORDED, LAST_UNTOUCHED
from dravik.plants import Plant
from dravik.recording.recording import Event

__all__ = ["PlantBody"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


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
        self.is_sensing = False
        groups = {"output": plant.output_names, "input": plant.input_names, "state": plant.state_names}
        kinds = {n: kind for kind, own in groups.items() for n in own}
        self.signals = {n: Signal(n, units.get(n, ""), n, kinds.get(n, "motion")) for n in names}
        free = (-math.inf, math.inf)
        self.inputs = {n: InputSpec(n, units.get(n, ""), *plant.bounds.get(n, free)) for n in plant.input_names}
        n = len(self.state_names)
        self.work = Workspace(
            np.zeros(len(names)), np.zeros(FLAGS, dtype=np.int64), np.zeros((0, 3)), np.zeros((5, n)),
            np.zeros((4, len(self.inputs))), np.zeros((EVENT_CAPACITY, 2)), np.zeros((2, 0)), np.zeros(OWN_HEADER),
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

    def look_ahead(self, t: float, x: Floats, u: Floats, dt: float, step: int) -> None:
        """Put every signal into the registers."""
        self.evaluate(t, x, u)

    def look_back(self) -> None:
        """Do nothing: nothing was looked ahead."""

    def settle_inputs(self, inputs: Floats) -> None:
        """Do nothing: a plant has no estimator."""

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
        """Return nothing: a plant has no script."""
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
