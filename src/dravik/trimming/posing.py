"""What a trim searches: the unknowns and equations of a condition, and where the search starts."""

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.contact import contact_states
from dravik.errors import DravikError, nearest
from dravik.formula import StateSlot
from dravik.kernel.chart import AIR_CHART, BODY_CHART
from dravik.trimming.condition import Condition
from dravik.units import in_si, kind_of_unit

__all__ = ["Problem", "pose", "state_scale", "walls"]

Floats = NDArray[np.float64]
_RIGID = {3: "airspeed", 4: "alpha", 5: "beta", 9: "p", 10: "q", 11: "r"}
_CHART = {"alpha": 4, "beta": 5, "phi": 6, "theta": 7}


@dataclass
class Problem:
    """Unknowns and equations of one trim, in the form the kernel wants.

    ``levers`` are the unknowns that are inputs from nought upwards; ``shafts`` tells that states start from values of
    their own, which may fit no lever.
    """

    names: list[str]
    unknowns: list[tuple[int, int]]
    start: list[float]
    scales: list[float]
    bounds: list[tuple[float, float]]
    equation_names: list[str]
    equations: list[tuple[int, int, int]]
    targets: list[tuple[float, float]]
    chart: int = AIR_CHART
    walls: dict[int, tuple[float, float]] = field(default_factory=dict)
    levers: list[int] = field(default_factory=list)
    shafts: bool = False

    def unknown(
        self,
        name: str,
        kind: int,
        index: int,
        start: float,
        scale: float,
        low: float = -math.inf,
        high: float = math.inf,
    ) -> None:
        """Add an unknown: its kind and index for the kernel, where it starts, its scale and its limits."""
        self.names.append(name)
        self.unknowns.append((kind, index))
        self.start.append(min(max(start, low), high) / scale)
        self.scales.append(scale)
        self.bounds.append((low / scale, high / scale))

    def equation(self, name: str, kind: int, a: int, b: int = 0, target: float = 0.0, weight: float = 1.0) -> None:
        """Add an equation: its kind and indices for the kernel, its target, and how much it counts."""
        self.equation_names.append(name)
        self.equations.append((kind, a, b))
        self.targets.append((target, weight))


def pose(craft: Aircraft, condition: Condition) -> tuple[Problem, Floats, Floats]:
    """Return the unknowns and equations of a condition, and the chart state and inputs to start from."""
    problem = Problem([], [], [], [], [], [], [], [])
    u = craft.default_inputs()
    for name, value in condition.inputs.items():
        u[craft.input_index(name)] = value
    z = np.zeros(12 + len(craft.tape.states))
    z[0], z[1], z[2], z[8] = condition.north, condition.east, condition.altitude, condition.heading
    (_pose_steep if condition.is_steep else _pose_angles)(problem, condition, z, u, craft)
    names = craft.tape.names
    for i, (name, spec) in enumerate(craft.inputs.items()):
        if spec.follows:
            problem.unknown(name, 1, i, spec.default, 1.0, spec.low, spec.high)
            problem.equation(f"{name} - {spec.follows}", 2, names[name], names[spec.follows])
        elif spec.trim and name not in condition.inputs:
            span = spec.high - spec.low
            bounded = math.isfinite(span)
            if bounded and spec.low >= 0.0:
                problem.levers.append(len(problem.names))
            start = spec.low + 0.4 * span if bounded and spec.low >= 0.0 else spec.default
            problem.unknown(name, 1, i, start, 0.5 * span if bounded else 1.0, spec.low, spec.high)
    limits, legs = craft.limits, contact_states(craft.definition.legs)
    for i, slot in enumerate(craft.tape.states):
        z[12 + i] = slot.initial
        if slot.is_integral or slot.name in legs:
            continue
        low, high = limits.get(slot.name, (-math.inf, math.inf))
        if math.isfinite(high) and not low <= 0.0 <= high:
            z[12 + i] = low
        size = state_scale(slot)
        problem.shafts |= slot.initial != 0.0
        if slot.name not in limits:
            low, high = walls(craft, slot)
            problem.walls[len(problem.names)] = (low / size, high / size)
        problem.unknown(slot.name, 0, 12 + i, float(z[12 + i]), size, low, high)
        problem.equation(f"{slot.name}_rate_of_change", 0, 12 + i, weight=1.0 / size)
    _take_guess(problem, condition, craft)
    return problem, z, u


def _take_guess(problem: Problem, condition: Condition, craft: Aircraft) -> None:
    """Start the search where the condition's guess says; raises DravikError for what the search does not move."""
    for name, value in condition.guess.items():
        alias = next((n for n in (name, f"{name}_increment", f"{name}_command") if n in problem.names), "")
        if not alias:
            raise DravikError(
                f"a guess of {name}, which this trim does not move", where="guess", expected=", ".join(problem.names),
                hint=nearest(name, problem.names),
            )  # fmt: skip
        i = problem.names.index(alias)
        number = in_si(value, kind_of_unit(craft.signal(alias).unit), where=f"guess {name}") / problem.scales[i]
        low, high = problem.bounds[i]
        problem.start[i] = min(max(number, low), high)


def state_scale(slot: StateSlot) -> float:
    """Return what a state counts by: a shaft's hundreds of rad/s as ones, and so does their rate."""
    return max(1.0, abs(slot.initial))


def walls(craft: Aircraft, slot: StateSlot) -> tuple[float, float]:
    """Return the limits of a state where they are constants: beyond them its formula may mean nothing."""
    registers, written = craft.tape.registers, craft.tape.code[:, 1]
    low = float(registers[slot.low]) if slot.low >= 0 and slot.low not in written else -math.inf
    high = float(registers[slot.high]) if slot.high >= 0 and slot.high not in written else math.inf
    return (low, high) if low < high else (-math.inf, math.inf)


def _pose_angles(problem: Problem, condition: Condition, z: Floats, u: Floats, craft: Aircraft) -> None:
    """Add airspeed and the angles to the flow, and the equations of the rigid body in them."""
    z[3], z[5] = condition.airspeed, condition.sideslip
    alpha = 0.05
    z[4], z[7] = alpha, (condition.flight_path or 0.0) + alpha
    angles = [("alpha", alpha, 1.4), ("theta", z[7], 1.55)]
    if condition.bank is None:
        angles.append(("phi", 0.0, 1.5))
    else:
        z[6] = condition.bank
        angles.append(("beta", 0.0, 1.4))
    for name, start, limit in angles:
        problem.unknown(name, 0, _CHART[name], start, 1.0, -limit, limit)
    for index, name in _RIGID.items():
        problem.equation(f"{name}_dot", 0, index)
    if condition.flight_path is not None:
        problem.equation("flight_path", 1, craft.tape.names["flight_path"], target=condition.flight_path)


def _pose_steep(problem: Problem, condition: Condition, z: Floats, u: Floats, craft: Aircraft) -> None:
    """Add body velocities and attitude, and the equations that the velocity over the ground is the one wanted."""
    problem.chart = BODY_CHART
    path = condition.flight_path or 0.0
    level = condition.airspeed * math.cos(path)
    wanted = [
        level * math.cos(condition.heading),
        level * math.sin(condition.heading),
        condition.airspeed * math.sin(path),
    ]
    air = craft.air_at((condition.north, condition.east, condition.altitude), u)
    wanted = [w + a for w, a in zip(wanted, air, strict=True)]
    for index, name in enumerate(("u", "v", "w"), 3):
        problem.unknown(name, 0, index, 0.0, max(1.0, condition.airspeed))
        problem.equation(f"{name}_dot", 0, index)
    for name in ("phi", "theta"):
        problem.unknown(name, 0, _CHART[name], 0.0, 1.0, -1.5, 1.5)
    for index in (9, 10, 11):
        problem.equation(f"{_RIGID[index]}_dot", 0, index)
    for index, (name, rate) in enumerate(zip(("north", "east", "altitude"), wanted, strict=True)):
        problem.equation(f"{name}_dot", 0, index, target=rate)
