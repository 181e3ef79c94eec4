"""Residuals of a statement for the search: compiled for an aircraft, in Python for any other plant."""

import math
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.plant import COORDINATES
from dravik.kernel import BASE_SIGNALS
from dravik.kernel.program import EVERYTHING, SIGNALS
from dravik.motion.equilibrium import (
    DIFFERENCE,
    DIRECTION,
    INPUT,
    RATE,
    SIGNAL,
    STATE,
    Equilibrium,
    newton,
    residual,
    residual_slopes,
)
from dravik.motion.minimal_coordinates import N_CHART
from dravik.plants import Matrices, Plant
from dravik.trimming.redundancy import Freedom
from dravik.trimming.search import LARGEST_STEP, Search
from dravik.trimming.statement import Equation, Statement, coordinates_of

__all__ = ["AircraftField", "PlantField", "aircraft_search"]

Floats = NDArray[np.float64]
PLANT_STEP = 1e-6  # step of the scaled unknowns for finite differences
CONVERGED = 1e-12  # the search stops at this residual


class AircraftField:
    """The compiled residual of one statement about an aircraft."""

    def __init__(self, craft: Aircraft, statement: Statement) -> None:
        self.craft, self.work, self.evaluations = craft, craft.workspace(), 0
        self.places, inputs = _places(craft, statement.coordinates)
        free, places, registers = statement.free, self.places, craft.tape.names
        unknowns = [(STATE, places[f.name]) if f.name in places else (INPUT, inputs[f.name]) for f in free]
        equations = [_coded(e, places, registers) for e in statement.equations]
        n, m, k = len(unknowns), len(equations), len(statement.state)
        scales = np.array([f.scale for f in free])
        # soft limits are left to the end of the search: a point beyond them shows which stop is in the way
        bounds = np.empty((2, n))
        bounds[0], bounds[1] = -math.inf, math.inf
        for i in [i for i, f in enumerate(free) if f.hard]:
            bounds[:, i] = free[i].low / free[i].scale, free[i].high / free[i].scale
        # the RECORDED stage runs only when an equation reads one of its signals
        asked = any(kind != RATE and max(a, b) >= len(BASE_SIGNALS) for kind, a, b in equations)
        self.equilibrium = Equilibrium(
            np.array([COORDINATES[statement.coordinates][0], EVERYTHING if asked else SIGNALS]),
            np.array(statement.state, dtype=float), np.array(statement.inputs, dtype=float),
            np.array(unknowns, dtype=np.int64).reshape(n, 2), scales, bounds,
            np.array(equations, dtype=np.int64).reshape(m, 3),
            np.array([(e.value, e.weight) for e in statement.equations], dtype=float).reshape(m, 2),
            np.empty(m), np.empty((m, n)), np.empty((2, m)), np.empty((m, n)), np.empty((2, n)), np.empty((3, k + 1)),
        )  # fmt: skip

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        """Return what each equation leaves over."""
        self.evaluations += 1
        e = self.equilibrium
        residual(self.craft.program, self.work, e, v, e.left, steady)
        return e.left.copy()

    def slopes(self, v: Floats) -> Floats:
        """Return the slopes of the equations by the scaled unknowns."""
        # central differences: two for each unknown
        self.evaluations += 2 * len(v)
        residual_slopes(self.craft.program, self.work, self.equilibrium, np.array(v), True, True)
        return self.equilibrium.slopes.copy()

    def rough_slopes(self, v: Floats) -> Floats:
        """Return the same to one side only: half the work, for what only asks whether there is a slope."""
        self.residual(v)
        self.evaluations += len(v)
        residual_slopes(self.craft.program, self.work, self.equilibrium, np.array(v), True, False)
        return self.equilibrium.slopes

    def newton(
        self, v: Floats, rows: Sequence[int] | None = None, equations: Sequence[int] | None = None, *,
        longest: float = LARGEST_STEP, most: int = 25,
    ) -> tuple[Floats, float]:  # fmt: skip
        """Return the point after Newton's method and the largest residual."""
        e = self.equilibrium
        if rows is not None and equations is not None:
            n, some, among = len(rows), np.array(rows, dtype=np.int64), np.array(equations, dtype=np.int64)
            e = e._replace(
                unknowns=e.unknowns[some], scales=e.scales[some], hard_bounds=e.hard_bounds[:, some].copy(),
                equations=e.equations[among], targets=e.targets[among], left=np.empty(n), slopes=np.empty((n, n)),
                sides=np.empty((2, n)), matrix=np.empty((n, n)), steps=np.empty((2, n)),
            )  # fmt: skip
        v = np.array(v, dtype=float)
        size, evaluations = newton(self.craft.program, self.work, e, v, longest, CONVERGED, most)
        self.evaluations += evaluations
        return v, size


def _places(craft: Aircraft, coordinates: str) -> tuple[dict[str, int], dict[str, int]]:
    """Return where states and inputs stand, worked out once for an aircraft."""
    found: tuple[dict[str, int], dict[str, int]] | None = craft.derived.get(f"places {coordinates}")
    if found is None:
        names = coordinates_of(craft, coordinates)
        found = {n: i for i, n in enumerate(names)}, {n: i for i, n in enumerate(craft.inputs)}
        craft.derived[f"places {coordinates}"] = found
    return found


def _coded(equation: Equation, places: dict[str, int], registers: dict[str, int]) -> tuple[int, int, int]:
    if equation.is_rate:
        return RATE, places[equation.of], 0
    # a track of 359 and one of 1 deg are 2 deg apart: the difference is wrapped
    if equation.is_direction:
        return DIRECTION, registers[equation.of], 0
    if equation.other:
        return DIFFERENCE, registers[equation.of], registers[equation.other]
    return SIGNAL, registers[equation.of], 0


def aircraft_search(craft: Aircraft, statement: Statement) -> tuple[Search, AircraftField]:
    """Return the search for what a statement asks of an aircraft, and its field."""
    field = AircraftField(craft, statement)
    places, inner, throttles = field.places, [], []
    for i, f in enumerate(statement.free):
        at = places.get(f.name, -1)
        if at >= N_CHART:
            inner.append(i)
        elif at < 0 and f.low >= 0.0 and f.high < math.inf:
            throttles.append(i)
    still = [i for i, e in enumerate(statement.equations) if e.is_rate and places[e.of] >= N_CHART]
    # only where more is free than the condition asks for, or a hover's controls may move nothing
    more = len(statement.free) - len(statement.equations)
    is_loose = more > 0 or (more == 0 and statement.coordinates != "air")
    return Search(statement, field, throttles, inner, still, _freedom(craft, statement) if is_loose else None), field


def _freedom(craft: Aircraft, statement: Statement) -> Freedom:
    """Return the inputs among the unknowns that a trim may leave where they are."""
    own = [(i, f, craft.inputs[f.name]) for i, f in enumerate(statement.free) if f.name in craft.inputs]
    able = [(i, f, spec) for i, f, spec in own if spec.trim]
    scales = np.array([f.scale for _, f, _ in able])
    return Freedom(
        [i for i, _, _ in able], np.array([spec.default for *_, spec in able]) / scales,
        np.array([spec.weight for *_, spec in able]),
    )  # fmt: skip


class PlantField:
    """The residual of a statement about any plant: rates of states, outputs, and inputs where they stand."""

    def __init__(self, plant: Plant, statement: Statement) -> None:
        self.plant, self.statement, self.evaluations = plant, statement, 0
        self.x, self.u = np.array(statement.state, dtype=float), np.array(statement.inputs, dtype=float)
        states, inputs = plant.state_names, plant.input_names
        self.places = [
            (True, states.index(f.name)) if f.name in states else (False, inputs.index(f.name)) for f in statement.free
        ]
        self.scales = np.array([f.scale for f in statement.free])

    def put(self, v: Floats) -> None:
        """Write scaled unknowns into the state and the inputs."""
        for (is_state, index), value in zip(self.places, v * self.scales, strict=True):
            (self.x if is_state else self.u)[index] = value

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        """Return what each equation leaves over."""
        self.evaluations += 1
        self.put(v)
        rates, outputs = self.plant.evaluate(0.0, self.x, self.u)
        plant, found = self.plant, []
        for e in self.statement.equations:
            value = rates[plant.state_names.index(e.of)] if e.is_rate else outputs[plant.output_names.index(e.of)]
            if e.other:
                value = value - outputs[plant.output_names.index(e.other)]
            found.append((float(value) - e.value) * e.weight)
        return np.array(found)

    def slopes(self, v: Floats) -> Floats:
        """Return the slopes of the equations by the scaled unknowns: the plant's own, or central differences."""
        own = getattr(self.plant, "jacobian", None)
        if callable(own):
            return self._given_slopes(own, v)
        columns = []
        for k in range(len(v)):
            side = np.zeros(len(v))
            side[k] = PLANT_STEP * max(1.0, abs(float(v[k])))
            columns.append((self.residual(v + side) - self.residual(v - side)) / (2.0 * side[k]))
        self.put(v)
        return np.array(columns).reshape(len(v), len(self.statement.equations)).T

    def _given_slopes(self, own: Callable[..., Matrices], v: Floats) -> Floats:
        self.put(v)
        a, b, c, d = (np.asarray(matrix, dtype=float) for matrix in own(0.0, self.x, self.u))
        by_rate, by_output = {True: a, False: b}, {True: c, False: d}
        plant, found = self.plant, np.empty((len(self.statement.equations), len(v)))
        for i, e in enumerate(self.statement.equations):
            parts = by_rate if e.is_rate else by_output
            row = (plant.state_names if e.is_rate else plant.output_names).index(e.of)
            for k, (is_state, index) in enumerate(self.places):
                slope = parts[is_state][row, index]
                if e.other:
                    slope = slope - parts[is_state][plant.output_names.index(e.other), index]
                found[i, k] = slope * self.scales[k] * e.weight
        return found

    def newton(
        self, v: Floats, rows: Sequence[int] | None = None, equations: Sequence[int] | None = None, *,
        longest: float = LARGEST_STEP, most: int = 25,
    ) -> tuple[Floats, float]:  # fmt: skip
        """Return the point after Newton's method, as the kernel has it compiled, and the largest residual."""
        left = self.residual(v)
        size = float(np.max(np.abs(left), initial=0.0))
        for _ in range(most):
            if not size >= CONVERGED:
                break
            try:
                step = np.linalg.solve(self.slopes(v), left)
            except np.linalg.LinAlgError:
                break
            share = min(1.0, longest / (float(np.max(np.abs(step))) + 1e-300))
            for _ in range(6):
                tried = v - share * step
                trial = self.residual(tried)
                if float(np.max(np.abs(trial))) < size:
                    break
                share *= 0.5
            if not float(np.max(np.abs(trial))) < size:
                break
            v, left, size = tried, trial, float(np.max(np.abs(trial)))
        return v, size
