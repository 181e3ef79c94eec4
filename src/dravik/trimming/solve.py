"""The search for an equilibrium on the compiled residual and its compiled slopes.

First Newton's method, without limits: nearly always it is done in a few steps. If it stalls, SciPy's
hybrid method (Powell) takes over; if the point lies outside a limit, SciPy's bounded least-squares search
finds the best one within the limits, so that a failure can say which equation is left over and which control is
at its stop. SciPy's optimisers are loaded only then: they take longer to load than a trim takes.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, TrimError, require
from dravik.kernel import BASE_SIGNALS
from dravik.kernel.chart import N_CHART, state_from_chart
from dravik.kernel.equilibrium import newton, residual, residual_slopes
from dravik.kernel.program import EVERYTHING, SIGNALS
from dravik.plants import Plant
from dravik.trimming.condition import Condition, Quantity
from dravik.trimming.posing import Problem, pose
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.settling import SETTLED, follow_to_rest

__all__ = ["trim", "trim_plant"]

Floats = NDArray[np.float64]
BEYOND = 1e100  # a residual that no search can do anything with
LARGEST_STEP = 0.5  # of a scaled unknown: rad, or half the range of an input
CONVERGED = 1e-12  # the same, at which the search rests
LEVERS = (0.8, 0.15, 0.5)  # of their range, where a search starts anew
ALPHAS = (0.2, 0.1, -0.05)  # rad, the same
TOLERANCE = 1e-8  # largest residual of a trim that counts as reached, m/s^2, rad/s^2, rad/s
_MEANING = {
    "airspeed": "force along the flight path",
    "alpha": "force across it, in the plane of symmetry",
    "beta": "side force",
    "p": "rolling moment",
    "q": "pitching moment",
    "r": "yawing moment",
    "u": "force along body x",
    "v": "force along body y",
    "w": "force along body z",
}


def trim(
    craft: Aircraft,
    *,
    airspeed: Quantity,
    altitude: Quantity,
    flight_path: Quantity | None = "0 deg",
    heading: Quantity = "0 deg",
    sideslip: Quantity | None = None,
    bank: Quantity | None = None,
    inputs: Mapping[str, Quantity] | None = None,
    north: Quantity = 0.0,
    east: Quantity = 0.0,
    guess: Mapping[str, Quantity] | None = None,
    strict: bool = True,
) -> TrimPoint:
    """Return straight, unaccelerated flight at an airspeed, an altitude and a flight-path angle, or hover.

    Hover is an airspeed of zero: the aircraft moves with the air. ``flight_path=None`` leaves the climb free, for
    inputs that are given instead (full power, or none).
    Quantities are strings with units or numbers in SI. Free to move are alpha, theta, the bank (or, with
    ``bank`` given, the sideslip), the inputs marked ``trim``, actuators and engines; ``inputs`` sets others,
    such as a flap lever, and takes a trim input that is named out of the search. Integrals of control
    laws stay at their initial value; those that would not stand still are reported as ``drifting``. Without
    ``sideslip`` there is none, unless ``bank`` is given. ``guess`` tells by name where the search starts; it tries
    others as well.

    Raises DravikError for wrong quantities or names, and inputs outside their range. When the condition cannot be
    held: TrimError saying what is left over and what is at its stop, or, with ``strict=False``, a point whose
    ``reached`` is False.
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    condition = Condition.of(
        airspeed=airspeed, altitude=altitude, flight_path=flight_path, heading=heading, sideslip=sideslip,
        bank=bank, inputs=craft.inputs_in_si(inputs or {}), north=north, east=east, guess=guess,
    )  # fmt: skip
    problem, z, u = pose(craft, condition)
    search = _Search(craft, problem, z, u)
    v, reached = search.solve()
    point = _report(craft, condition, problem, search, v, reached)
    if strict and not point.reached:
        raise TrimError(_failure(point), result=point, where=craft.name, hint=_advice(point))
    return point


class _Search:
    """The compiled residual of one problem behind SciPy's interface."""

    def __init__(self, craft: Aircraft, problem: Problem, z: Floats, u: Floats) -> None:
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
        self.walls = np.array([[-np.inf] * n, [np.inf] * n])
        for i, pair in problem.walls.items():
            self.walls[:, i] = pair

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        self.evaluations += 1
        residual(
            self.craft.program, self.work, self.z, self.u, self.problem.chart, *self.args, v, self.out, self.scratch,
            steady, self.extent,
        )  # fmt: skip
        return self.out.copy()

    def jacobian(self, v: Floats) -> Floats:
        self.evaluations += 2 * len(v)
        residual_slopes(
            self.craft.program, self.work, self.z, self.u, self.problem.chart, *self.args, np.array(v), self.slopes,
            self.scratch, self.sides, True, self.extent,
        )  # fmt: skip
        return self.slopes.copy()

    def solve(self) -> tuple[Floats, bool]:
        """Return the unknowns, scaled, and whether every equation holds within the limits."""
        start = np.array(self.problem.start)
        square = len(start) == len(self.problem.equations)
        if square:
            v, _ = self._newton(self._settled(start) if self.problem.shafts else start.copy())
            if self._is_answer(v):
                return v, True
            for other in self._other_starts(start):
                v, _ = self._newton(other)
                if self._is_answer(v):
                    return v, True
            from scipy.optimize import root

            with np.errstate(all="ignore"), suppress(ValueError, np.linalg.LinAlgError):
                v, _ = self._newton(np.asarray(root(self.residual, start, jac=self.jacobian).x, dtype=float))
            if self._is_answer(v):
                return v, True
        v = self._best_inside(start)
        if square and not self._holds(v) and np.max(np.abs(self.residual(v))) < 1e-4:
            v = np.clip(self._newton(v)[0], self.low, self.high)
        return v, self._holds(v)

    def _is_answer(self, v: Floats) -> bool:
        inside = bool(np.all(v >= self.low - 1e-12) and np.all(v <= self.high + 1e-12))
        return inside and self._holds(v)

    def _other_starts(self, start: Floats) -> Iterator[Floats]:
        """Yield points to start anew from: engines settled, at other levers, at other angles of attack."""
        yield self._settled(start)
        levers = self.problem.levers
        for share in LEVERS if levers else ():
            v = start.copy()
            v[levers] = self.low[levers] + share * (self.high[levers] - self.low[levers])
            yield self._settled(v)
        names = self.problem.names
        for alpha in ALPHAS if "alpha" in names else ():
            v = start.copy()
            v[names.index("theta")] += alpha - v[names.index("alpha")]
            v[names.index("alpha")] = alpha
            yield self._settled(v)

    def _settled(self, v: Floats) -> Floats:
        """Return the point with shafts and other states where they stand still while the aircraft is held."""
        rows = [i for i, (kind, k) in enumerate(self.problem.unknowns) if kind == 0 and k >= N_CHART]
        equations = [i for i, (kind, k, _) in enumerate(self.problem.equations) if kind == 0 and k >= N_CHART]
        found = v.copy()
        if not rows:
            return found
        self.residual(v)  # puts all unknowns in place
        found[rows], size = self._newton(v[rows], rows, equations)
        if not size < SETTLED:
            whole = v.copy()

            def rates(part: Floats) -> Floats:
                whole[rows] = part
                return self.residual(whole)[equations]

            def slopes(part: Floats) -> Floats:
                whole[rows] = part
                return self.jacobian(whole)[np.ix_(equations, rows)]

            low, high = (np.maximum, np.minimum)
            found[rows], _ = follow_to_rest(
                rates, slopes, v[rows], low(self.low, self.walls[0])[rows], high(self.high, self.walls[1])[rows]
            )
        return found

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
        # where the aircraft cannot be evaluated (an altitude without air, a speed without bounds) nothing is searched
        with np.errstate(all="ignore"), suppress(ValueError, np.linalg.LinAlgError):
            if np.all(np.abs(weighted(first)) < BEYOND):
                best = least_squares(
                    weighted, first, jac=weighted_slopes, bounds=(self.low, self.high), xtol=1e-15, ftol=1e-15,
                    gtol=1e-15, max_nfev=400, x_scale="jac",
                )  # fmt: skip
                return np.asarray(best.x, dtype=float)
        return first

    def _newton(
        self, v: Floats, rows: Sequence[int] | None = None, equations: Sequence[int] | None = None
    ) -> tuple[Floats, float]:
        """Return the point after Newton's method and the largest residual; of some unknowns and equations only."""
        n = len(v)
        pick = slice(None) if rows is None else np.array(rows, dtype=np.int64)
        among = slice(None) if equations is None else np.array(equations, dtype=np.int64)
        unknowns, scales, laws, targets = self.args
        size, steps = newton(
            self.craft.program, self.work, self.z, self.u, self.problem.chart, unknowns[pick], scales[pick],
            laws[among], targets[among], v, np.empty(n), np.empty((n, n)), self.scratch, np.empty((2, n)),
            np.empty((n, n)), np.empty((2, n)), self.walls[:, pick].copy(), self.extent, LARGEST_STEP, CONVERGED, 25,
        )  # fmt: skip
        self.evaluations += 1 + steps * (2 * n + 1)
        return v, size

    def _holds(self, v: Floats) -> bool:
        # with limits and rates in force: what flies must hold, not what the search saw
        left = self.residual(v, steady=False)
        return bool(np.all(np.isfinite(left)) and np.max(np.abs(left)) < TOLERANCE)


def _report(
    craft: Aircraft, condition: Condition, problem: Problem, search: _Search, v: Floats, reached: bool
) -> TrimPoint:
    left = search.residual(v, steady=False)
    u = search.u.copy()
    x = np.empty(len(search.z) + 1)
    state_from_chart(craft.program, search.work, 0.0, search.z, u, problem.chart, x)
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


def _at_stop(problem: Problem, search: _Search, v: Floats) -> list[str]:
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
