"""The search for an equilibrium on the compiled residual and its compiled slopes.

First Newton's method, without limits: nearly always it is done in a few steps. If it stalls, SciPy's
hybrid method (Powell) takes over; if the point lies outside a limit, SciPy's bounded least-squares search
finds the best one within the limits, so that a failure can say which equation is left over and which control is
at its stop. SciPy's optimisers are loaded only then: they take longer to load than a trim takes.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, TrimError
from dravik.kernel import BASE_SIGNALS
from dravik.kernel.chart import AIR_CHART, state_from_chart
from dravik.kernel.equilibrium import newton, residual, residual_slopes
from dravik.kernel.program import EVERYTHING, SIGNALS
from dravik.plants import Plant
from dravik.trimming.condition import Condition, Quantity
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.units import KINDS, in_si

__all__ = ["trim", "trim_plant"]

Floats = NDArray[np.float64]
LARGEST_STEP = 0.5  # of a scaled unknown: rad, or half the range of an input
CONVERGED = 1e-12  # the same, at which the search rests
TOLERANCE = 1e-8  # largest residual of a trim that counts as reached, m/s^2, rad/s^2, rad/s
_RIGID = {3: "airspeed", 4: "alpha", 5: "beta", 9: "p", 10: "q", 11: "r"}
_MEANING = {
    "airspeed": "force along the flight path",
    "alpha": "force across it, in the plane of symmetry",
    "beta": "side force",
    "p": "rolling moment",
    "q": "pitching moment",
    "r": "yawing moment",
}
_CHART = {"alpha": 4, "beta": 5, "phi": 6, "theta": 7}


@dataclass
class _Problem:
    """Unknowns and equations of one trim, in the form the kernel wants."""

    names: list[str]
    unknowns: list[tuple[int, int]]
    start: list[float]
    scales: list[float]
    bounds: list[tuple[float, float]]
    equation_names: list[str]
    equations: list[tuple[int, int, int]]
    targets: list[float]

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
        self.names.append(name)
        self.unknowns.append((kind, index))
        self.start.append(min(max(start, low), high) / scale)
        self.scales.append(scale)
        self.bounds.append((low / scale, high / scale))

    def equation(self, name: str, kind: int, a: int, b: int = 0, target: float = 0.0) -> None:
        self.equation_names.append(name)
        self.equations.append((kind, a, b))
        self.targets.append(target)


def trim(
    craft: Aircraft,
    *,
    airspeed: Quantity,
    altitude: Quantity,
    flight_path: Quantity = "0 deg",
    heading: Quantity = "0 deg",
    sideslip: Quantity = "0 deg",
    bank: Quantity | None = None,
    inputs: dict[str, Quantity] | None = None,
    strict: bool = True,
) -> TrimPoint:
    """Return straight, unaccelerated flight at an airspeed, an altitude and a flight-path angle.

    Quantities are strings with units or numbers in SI. Free to move are alpha, theta, the bank (or, with
    ``bank`` given, the sideslip), the inputs marked ``trim``, actuators and engines; ``inputs`` sets others,
    such as a flap lever, and takes a trim input that is named out of the search. Integrals of control
    laws stay at their initial value; those that would not stand still are reported as ``drifting``.

    Raises DravikError for wrong quantities or names. When the condition cannot be held: TrimError saying what is
    left over and what is at its stop, or, with ``strict=False``, a point whose ``reached`` is False.
    """
    spec = craft.inputs
    values: dict[str, float] = {}
    for name, value in (inputs or {}).items():
        target = craft.input_names[craft.input_index(name)]
        kind = next(k for k, (unit, _) in KINDS.items() if unit == spec[target].unit)
        values[target] = in_si(value, kind, where=f"input {name}")
    condition = Condition.of(
        airspeed=airspeed, altitude=altitude, flight_path=flight_path, heading=heading, sideslip=sideslip,
        bank=bank, inputs=values,
    )  # fmt: skip
    problem, z, u = _pose(craft, condition)
    search = _Search(craft, problem, z, u)
    v, reached = search.solve()
    point = _report(craft, condition, problem, search, v, reached)
    if strict and not point.reached:
        raise TrimError(_failure(point), result=point, where=craft.name, hint=_advice(point))
    return point


def _pose(craft: Aircraft, condition: Condition) -> tuple[_Problem, Floats, Floats]:
    """Return the unknowns and equations of a condition, and the chart state and inputs to start from."""
    problem = _Problem([], [], [], [], [], [], [], [])
    u = craft.default_inputs()
    for name, value in condition.inputs.items():
        u[craft.input_index(name)] = value
    z = np.zeros(12 + len(craft.tape.states))
    z[2], z[3], z[8] = condition.altitude, condition.airspeed, condition.heading
    z[5] = condition.sideslip
    alpha = 0.05
    z[4], z[7] = alpha, condition.flight_path + alpha
    angles = [("alpha", alpha, 1.4), ("theta", z[7], 1.55)]
    if condition.bank is None:
        angles.append(("phi", 0.0, 1.5))
    else:
        z[6] = condition.bank
        angles.append(("beta", 0.0, 1.4))
    for name, start, limit in angles:
        problem.unknown(name, 0, _CHART[name], start, 1.0, -limit, limit)
    names = craft.tape.names
    for i, (name, spec) in enumerate(craft.inputs.items()):
        if spec.follows:
            problem.unknown(name, 1, i, spec.default, 1.0, spec.low, spec.high)
            problem.equation(f"{name} - {spec.follows}", 2, names[name], names[spec.follows])
        elif spec.trim and name not in condition.inputs:
            span = spec.high - spec.low
            bounded = math.isfinite(span)
            start = spec.low + 0.4 * span if bounded and spec.low >= 0.0 else spec.default
            problem.unknown(name, 1, i, start, 0.5 * span if bounded else 1.0, spec.low, spec.high)
    for index, name in _RIGID.items():
        problem.equation(f"{name}_dot", 0, index)
    problem.equation("flight_path", 1, names["flight_path"], target=condition.flight_path)
    limits = craft.limits
    for i, slot in enumerate(craft.tape.states):
        z[12 + i] = slot.initial
        if slot.is_integral:
            continue
        low, high = limits.get(slot.name, (-math.inf, math.inf))
        if math.isfinite(high) and not low <= 0.0 <= high:
            z[12 + i] = low
        problem.unknown(slot.name, 0, 12 + i, float(z[12 + i]), 1.0, low, high)
        problem.equation(f"{slot.name}_rate_of_change", 0, 12 + i)
    return problem, z, u


class _Search:
    """The compiled residual of one problem behind SciPy's interface."""

    def __init__(self, craft: Aircraft, problem: _Problem, z: Floats, u: Floats) -> None:
        self.craft, self.z, self.u = craft, z, u
        self.problem = problem
        self.work = craft.workspace()
        self.evaluations = 0
        n, m = len(problem.names), len(problem.equations)
        self.out, self.slopes = np.empty(m), np.empty((m, n))
        self.scratch, self.sides = np.empty((3, len(z) + 2)), np.empty((2, m))
        self.args = (
            np.array(problem.unknowns, dtype=np.int64),
            np.array(problem.scales),
            np.array(problem.equations, dtype=np.int64),
            np.array(problem.targets),
        )
        # formulas that no force needs are run only when an equation asks for one
        asked = any(kind != 0 and max(a, b) >= len(BASE_SIGNALS) for kind, a, b in problem.equations)
        self.extent = EVERYTHING if asked else SIGNALS
        self.low, self.high = (np.array(side) for side in zip(*problem.bounds, strict=True))

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        self.evaluations += 1
        residual(
            self.craft.program, self.work, self.z, self.u, 0, *self.args, v, self.out, self.scratch, steady,
            self.extent,
        )  # fmt: skip
        return self.out.copy()

    def jacobian(self, v: Floats) -> Floats:
        self.evaluations += 2 * len(v)
        residual_slopes(
            self.craft.program, self.work, self.z, self.u, 0, *self.args, np.array(v), self.slopes, self.scratch,
            self.sides, True, self.extent,
        )  # fmt: skip
        return self.slopes.copy()

    def solve(self) -> tuple[Floats, bool]:
        """Return the unknowns, scaled, and whether every equation holds within the limits."""
        start = np.array(self.problem.start)
        square = len(start) == len(self.problem.equations)
        if square:
            v, size = self._newton(start.copy())
            if not size < 1e-6:
                from scipy.optimize import root

                v, _ = self._newton(np.asarray(root(self.residual, start, jac=self.jacobian).x, dtype=float))
            inside = bool(np.all(v >= self.low - 1e-12) and np.all(v <= self.high + 1e-12))
            if inside and self._holds(v):
                return v, True
        v = self._best_inside(start)
        if square and not self._holds(v) and np.max(np.abs(self.residual(v))) < 1e-4:
            v = np.clip(self._newton(v)[0], self.low, self.high)
        return v, self._holds(v)

    def _best_inside(self, start: Floats) -> Floats:
        """Return the point within the limits that leaves least over, the speed giving way first.

        A dive too steep to hold shall end as idle power and speed left over, not as a stall that happens to leave
        a smaller number.
        """
        from scipy.optimize import least_squares

        weights = np.array([_weight(n) for n in self.problem.equation_names])

        def weighted(v: Floats) -> Floats:
            weighted_residual: Floats = self.residual(v) * weights
            return weighted_residual

        def weighted_slopes(v: Floats) -> Floats:
            slopes: Floats = self.jacobian(v) * weights[:, None]
            return slopes

        first = np.clip(start, self.low + 1e-6, self.high - 1e-6)
        best = least_squares(
            weighted, first, jac=weighted_slopes, bounds=(self.low, self.high), xtol=1e-15, ftol=1e-15, gtol=1e-15,
            max_nfev=400, x_scale="jac",
        )  # fmt: skip
        return np.asarray(best.x, dtype=float)

    def _newton(self, v: Floats) -> tuple[Floats, float]:
        """Return the point after Newton's method, and the largest residual there."""
        n = len(v)
        size, steps = newton(
            self.craft.program, self.work, self.z, self.u, 0, *self.args, v, self.out, self.slopes, self.scratch,
            self.sides, np.empty((n, n)), np.empty((2, n)), self.extent, LARGEST_STEP, CONVERGED, 25,
        )  # fmt: skip
        self.evaluations += 1 + steps * (2 * n + 1)
        return v, size

    def _holds(self, v: Floats) -> bool:
        # with limits and rates in force: what flies must hold, not what the search saw
        left = self.residual(v, steady=False)
        return bool(np.all(np.isfinite(left)) and np.max(np.abs(left)) < TOLERANCE)


def _report(
    craft: Aircraft, condition: Condition, problem: _Problem, search: _Search, v: Floats, reached: bool
) -> TrimPoint:
    left = search.residual(v, steady=False)
    u = search.u.copy()
    x = np.empty(len(search.z) + 1)
    state_from_chart(craft.program, search.z, u, AIR_CHART, x)
    signals = craft.values(x, u, workspace=search.work)
    at_stop = _at_stop(problem, search, v)
    drifting = {
        slot.name: float(search.work.registers[slot.rate])
        for slot in craft.tape.states
        if slot.is_integral and abs(search.work.registers[slot.rate]) > TOLERANCE
    }
    residuals = {n: float(r) for n, r in zip(problem.equation_names, left, strict=True)}
    return TrimPoint(
        craft,
        condition,
        x,
        u,
        signals,
        residuals,
        at_stop,
        drifting,
        reached,
        search.evaluations,
        problem.names,
    )


def _at_stop(problem: _Problem, search: _Search, v: Floats) -> list[str]:
    """Name the inputs at a limit, and the effectors at one that such an input commands."""
    span = search.high - search.low
    room = np.where(np.isfinite(span), 1e-6 * span, 0.0)
    below, above = v <= search.low + room, v >= search.high - room
    movers = [i for i, (kind, _) in enumerate(problem.unknowns) if kind == 1]
    found = []
    for i in np.flatnonzero(below | above):
        name = problem.names[i]
        row = f"{name}_rate_of_change"
        moved = int(i) in movers or (
            row in problem.equation_names
            and bool(np.any(np.abs(search.slopes[problem.equation_names.index(row), movers]) > 1e-9))
        )
        if moved:
            found.append(f"{name} at its {'lower' if below[i] else 'upper'} stop")
    return found


def _weight(equation: str) -> float:
    """Return how much an equation counts when not all can hold: speed gives way first."""
    return 0.005 if equation == "airspeed_dot" else 1.0


def _failure(point: TrimPoint) -> str:
    broken = [(n, v) for n, v in point.residuals.items() if not abs(v) < TOLERANCE]
    left = sorted(((abs(v) * _weight(n), n, v) for n, v in broken), reverse=True)
    parts = []
    # what is small beside the worst follows from it, and would only hide it
    for _, name, value in [entry for entry in left if entry[0] >= 0.1 * left[0][0]][:3]:
        state = name.removesuffix("_dot")
        meaning = f" ({_MEANING[state]})" if state in _MEANING else ""
        parts.append(f"{name} = {value:.3g}{meaning}")
    text = f"no trim at {point.condition}: left over: {', '.join(parts) or 'nothing, but a limit is broken'}"
    if point.at_stop:
        text += "; " + ", ".join(point.at_stop)
    return text


def _advice(point: TrimPoint) -> str:
    alpha = math.degrees(point.signals["alpha"])
    if "throttle" in " ".join(point.at_stop) or "power" in " ".join(point.at_stop):
        upper = any("upper" in s for s in point.at_stop)
        return f"a {'lower' if upper else 'higher'} flight path, or another airspeed (alpha is {alpha:.1f} deg there)"
    if point.at_stop:
        return f"another flap setting, loading or airspeed (alpha is {alpha:.1f} deg there)"
    return f"another airspeed or altitude (alpha is {alpha:.1f} deg there)"


def trim_plant(
    plant: Plant, *, state: dict[str, float], inputs: dict[str, float] | None = None, free: list[str],
    steady: list[str] | None = None, strict: bool = True,
) -> PlantTrim:  # fmt: skip
    """Return an equilibrium of any plant.

    ``state`` and ``inputs`` give starting values by name (others are zero); ``free`` names the states and inputs
    that may move; ``steady`` the states whose rates must be zero (all unless named). Raises DravikError for unknown
    names, and TrimError, naming the largest rate left over, when there is no equilibrium (``strict``).
    """
    names, input_names = plant.state_names, plant.input_names
    for name in [*state, *(inputs or {}), *free, *(steady or [])]:
        if name not in names and name not in input_names:
            raise DravikError(f"the plant has no state or input {name!r}", expected=", ".join([*names, *input_names]))
    x = np.array([state.get(n, 0.0) for n in names], dtype=float)
    u = np.array([(inputs or {}).get(n, 0.0) for n in input_names], dtype=float)
    rows = [names.index(n) for n in (steady if steady is not None else names)]
    places = [(n in names, (names if n in names else input_names).index(n)) for n in free]

    def put(v: Floats) -> None:
        for (is_state, index), value in zip(places, v, strict=True):
            (x if is_state else u)[index] = value

    def left_over(v: Floats) -> Floats:
        put(v)
        return plant.derivatives(0.0, x, u)[rows]

    from scipy.optimize import least_squares

    start = np.array([(x if is_state else u)[index] for is_state, index in places])
    found = least_squares(left_over, start, xtol=1e-15, ftol=1e-15, gtol=1e-15, x_scale="jac")
    left = left_over(found.x)
    reached = bool(np.max(np.abs(left), initial=0.0) < TOLERANCE)
    residuals = {names[r]: float(value) for r, value in zip(rows, left, strict=True)}
    result = PlantTrim(x, u, residuals, reached)
    if strict and not reached:
        worst = max(residuals, key=lambda n: abs(residuals[n]))
        raise TrimError(f"no equilibrium: the rate of {worst} is left at {residuals[worst]:.3g}", result=result)
    return result
