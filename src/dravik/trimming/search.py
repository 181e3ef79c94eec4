"""The search for an equilibrium, the same for an aircraft and for any plant.

First Newton's method, without limits: nearly always it is done in a few steps. If it stalls, it starts anew from
settled engines, other throttle settings and angles; then SciPy's hybrid method (Powell) takes over; if the point lies
outside a limit, SciPy's bounded least-squares search finds the best one within the limits, so that a failure can say
which equation is not met and which control is at its stop. SciPy's optimisers are loaded only then: they take longer
to load than a trim takes.
"""

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from itertools import chain, islice, product
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.trimming.redundancy import Freedom, least_deflection, rank_of, shares, spare_inputs
from dravik.trimming.settling import SETTLED, follow_to_rest
from dravik.trimming.statement import Statement

__all__ = ["TOLERANCE", "Field", "Search", "explain"]

Floats = NDArray[np.float64]
FEW_STEPS = 12  # of Newton's method, which needs three to six from nearby
MOST_EVALUATIONS = 120  # of the bounded least squares, whose result is reported and not held
ROUNDS = 4  # of engines and the rest in turns
BEYOND = 1e100  # residuals beyond this count as no value at all
NEARLY = 0.3  # residual that is worth more steps
CLEARLY = 1e-6  # share by which a way must be better than those before: equal ways leave the first
LARGEST_STEP = 0.5  # largest Newton step of a scaled unknown (angles in rad, inputs in half ranges)
THROTTLES = (0.8, 0.15, 0.5)  # throttle settings, as shares of the range, from which a stalled search is restarted
ALPHAS = (0.2, 0.1, -0.05)  # rad: angles of attack for the same
SPEEDS = (0.6, 0.8, 1.0, 1.3, 1.7, 2.4)  # of the first guess, where several solutions are looked for
MANY_ALPHAS = (-0.1, 0.05, 0.15, 0.3, 0.6)  # rad, the same
SAME = 1e-5  # difference in scaled unknowns below which two solutions are one
TOLERANCE = 1e-8  # largest residual that counts as held, m/s^2, rad/s^2, rad/s
DEPENDENT = 1e-9  # singular values below this share of the largest count as zero


class Field(Protocol):
    """What is searched: residuals of a statement's equations as functions of its scaled unknowns."""

    evaluations: int

    def residual(self, v: Floats, steady: bool = True) -> Floats:
        """Return the residual of each equation; without ``steady`` with rate limits and stops in force."""

    def slopes(self, v: Floats) -> Floats:
        """Return the slopes, shape (equations, unknowns)."""

    def newton(
        self, v: Floats, rows: Sequence[int] | None = None, equations: Sequence[int] | None = None, *,
        longest: float = LARGEST_STEP, most: int = 25,
    ) -> tuple[Floats, float]:  # fmt: skip
        """Return the point after Newton's method and the largest residual, of some unknowns and equations only."""


class Search:
    """The search in one field for what a statement asks.

    ``throttles`` are the unknown inputs whose lower limit is zero or more; ``inner`` are the unknowns that are states
    of engines and actuators, and ``inner_equations`` those that hold them still.
    """

    def __init__(
        self, statement: Statement, field: Field, throttles: Sequence[int], inner: Sequence[int],
        inner_equations: Sequence[int], freedom: Freedom | None = None,
    ) -> None:  # fmt: skip
        self.statement, self.field = statement, field
        free = statement.free
        self.names = [e.name for e in statement.equations]
        scales = np.array([f.scale for f in free])
        start, self.low, self.high = np.array([(f.start, f.low, f.high) for f in free]).reshape(-1, 3).T / scales
        self.start = np.minimum(np.maximum(start, self.low), self.high)
        self._lowest, self._highest = self.low - 1e-12, self.high + 1e-12
        self.throttles, self.inner, self.inner_equations = list(throttles), list(inner), list(inner_equations)
        # initial values of engine states may be far from equilibrium at any throttle
        self._settle_first = any(free[i].start != 0.0 for i in self.inner)
        self.freedom = freedom

    @cached_property
    def spare(self) -> int:
        """How many more inputs are free than the condition needs; with unknowns that move nothing counted too."""
        if self.freedom is None or not self.freedom.places:
            return 0
        if self.statement.coordinates == "air":
            return len(self.start) - len(self.names)
        # in hover controls may move nothing
        rank = rank_of(self.field.slopes(self.settled(self.start)))
        return min(len(self.start) - rank, len(self.freedom.places))

    def _least(self, start: Floats) -> Floats | None:
        """Return the solution with as many inputs at neutral as are spare and the others deflected least, or None."""
        freedom = self.freedom
        assert freedom is not None
        best: Floats | None = None
        for held in freedom.choices(self.spare):
            v = self._with_held(start, held)
            if v is not None and (best is None or freedom.cost(v) < freedom.cost(best) * (1.0 - CLEARLY)):
                best = v
        if best is None:
            v = least_deflection(self.field, start, freedom, (self.low, self.high), LARGEST_STEP)
            best = v if self._is_answer(v) else None
        return best

    def _with_held(self, start: Floats, held: Sequence[int]) -> Floats | None:
        """Return the solution with some inputs at their neutral value, or None."""
        freedom = self.freedom
        assert freedom is not None
        v, rest = freedom.at_neutral(start, held), [i for i in range(len(start)) if i not in held]
        if len(rest) == len(self.names):
            self.field.residual(v)  # leaves the field at this point
            v[rest], _ = self.field.newton(v[rest], rest, range(len(self.names)))
        else:
            v = least_deflection(self.field, v, freedom, (self.low, self.high), LARGEST_STEP, held=held)
        return v if self._is_answer(v) else None

    def told(self, v: Floats) -> list[str]:
        """Return in words how spare inputs were dealt with at a solution; nothing where there are none."""
        if not self.spare or self.freedom is None:
            return []
        return shares(self.field, v, self.freedom, [f.name for f in self.statement.free])

    def interchangeable(self, v: Floats) -> list[str]:
        """Return the inputs that can stand for each other at a solution, such as a stick and a wheel; none if not."""
        if not self.spare or self.freedom is None:
            return []
        return spare_inputs(self.field, v, self.freedom, [f.name for f in self.statement.free])[1]

    def solve(self) -> tuple[Floats, bool]:
        """Return the unknowns, scaled, and whether every equation holds within the limits."""
        start = self.start
        square = len(start) == len(self.statement.equations)
        if self.spare:
            first = self.settled(start) if self._settle_first else start.copy()
            for begin in chain([first], self._other_starts(start)):
                least = self._least(begin)
                if least is not None:
                    return least, True
        elif square:
            v, _ = self.field.newton(self.settled(start) if self._settle_first else start.copy())
            if self._is_answer(v):
                return v, True
            for other in self._other_starts(start):
                v, _ = self.field.newton(other)
                if self._is_answer(v):
                    return v, True
            from scipy.optimize import root

            with np.errstate(all="ignore"), suppress(ValueError, np.linalg.LinAlgError):
                found = root(self.field.residual, start, jac=self.field.slopes)
                v, _ = self.field.newton(np.asarray(found.x, dtype=float))
            if self._is_answer(v):
                return v, True
        v = self._best_inside(start)
        if square and not self.holds(v) and np.max(np.abs(self.field.residual(v))) < 1e-4:
            v = np.clip(self.field.newton(v)[0], self.low, self.high)
        return v, self.holds(v)

    def nearby(self, v: Floats) -> Floats | None:
        """Return the solution that a few steps of Newton's method find from one point, or None."""
        if self.spare:
            return self._nearby_least(v)
        found, size = self.field.newton(v, most=FEW_STEPS)
        if TOLERANCE <= size < NEARLY:  # engines that hardly turn come to their rest slowly
            found, _ = self.field.newton(found)
        return found if self._is_answer(found) else None

    def _nearby_least(self, v: Floats) -> Floats | None:
        """Return the solution near a point with the same inputs at neutral, or else that of all ways."""
        freedom = self.freedom
        assert freedom is not None
        held = [k for k, value in zip(freedom.places, freedom.neutral, strict=True) if v[k] == value]
        found = self._with_held(v, held) if len(held) == self.spare else None
        return found if found is not None else self._least(v)

    def quick(self, starts: int, *, patient: bool = True) -> Floats | None:
        """Return a solution by Newton's method from so many of the usual starts, or None.

        Unless ``patient``, engines that do not settle by Newton's method stay where it left them.
        """
        first = self.settled(self.start, patient=patient) if self._settle_first else self.start
        for start in islice(chain([first], self._other_starts(self.start, patient=patient)), starts):
            found = self.nearby(start)
            if found is not None:
                return found
        return None

    def all_solutions(self) -> list[Floats]:
        """Return all different solutions that Newton's method finds from a grid of starts."""
        names, found = [f.name for f in self.statement.free], list[Floats]()
        axes: list[list[tuple[str, float]]] = []
        if "airspeed" in names:
            axes.append([("airspeed", factor) for factor in SPEEDS])
        if {"alpha", "theta"} <= set(names):
            axes.append([("alpha", alpha) for alpha in MANY_ALPHAS])
        axes.append([("throttles", share) for share in (THROTTLES if self.throttles else (0.5,))])
        for chosen in product(*axes):
            v = self.start.copy()
            for what, value in chosen:
                if what == "airspeed":
                    v[names.index(what)] *= value
                elif what == "alpha":
                    v[names.index("theta")] += value - v[names.index("alpha")]
                    v[names.index("alpha")] = value
                else:
                    v[self.throttles] = self.low[self.throttles] + value * (self.high - self.low)[self.throttles]
            v, _ = self.field.newton(self.settled(v))
            if self._is_answer(v) and not any(np.max(np.abs(v - w)) < SAME for w in found):
                found.append(v)
        return found

    def solve_from(self, v: Floats) -> tuple[Floats, bool]:
        """Return the unknowns after a search from one point, and whether every equation holds within the limits."""
        v, _ = self.field.newton(v)
        if not self._is_answer(v):
            from scipy.optimize import root

            with np.errstate(all="ignore"), suppress(ValueError, np.linalg.LinAlgError):
                v = np.asarray(root(self.field.residual, v, jac=self.field.slopes, tol=1e-12).x, dtype=float)
        return v, self._is_answer(v)

    def solve_apart(self, v: Floats) -> Floats:
        """Return the unknowns after engines were settled, and the rest was solved with these held, a few times over.

        For engines that come to rest nowhere exactly, such as a propeller that friction just stops.
        """
        rest = [i for i in range(len(v)) if i not in self.inner]
        others = [i for i in range(len(self.names)) if i not in self.inner_equations]
        for _ in range(ROUNDS):
            v = self.settled(v)
            self.field.residual(v)  # leaves the field at this point
            v[rest], size = self.field.newton(v[rest], rest, others)
            if not size < TOLERANCE:
                break
        return v

    def _is_answer(self, v: Floats) -> bool:
        inside = (v >= self._lowest).all() and (v <= self._highest).all()
        return bool(inside) and self.holds(v)

    def _other_starts(self, start: Floats, *, patient: bool = True) -> Iterator[Floats]:
        """Yield further starting points: engines settled at other throttle settings, other angles of attack."""
        yield self.settled(start, patient=patient)
        throttles = self.throttles
        for share in THROTTLES if throttles else ():
            v = start.copy()
            v[throttles] = self.low[throttles] + share * (self.high[throttles] - self.low[throttles])
            yield self.settled(v, patient=patient)
        names = [f.name for f in self.statement.free]
        for alpha in ALPHAS if {"alpha", "theta"} <= set(names) else ():
            v = start.copy()
            v[names.index("theta")] += alpha - v[names.index("alpha")]
            v[names.index("alpha")] = alpha
            yield self.settled(v, patient=patient)

    def settled(
        self, v: Floats, *, longest: float = LARGEST_STEP, most: int = 25, patient: bool = True
    ) -> Floats:  # fmt: skip
        """Return the point with engines and other inner states at their equilibrium while the rest is held.

        Where Newton's method does not find it, and unless not ``patient``, they are followed in time to their rest.
        """
        rows, equations = self.inner, self.inner_equations
        found = v.copy()
        if not rows or len(rows) != len(equations):
            return found
        self.field.residual(v)  # leaves the field at this point
        found[rows], size = self.field.newton(v[rows], rows, equations, longest=longest, most=most)
        if not size < SETTLED and patient:
            whole = v.copy()

            def rates(part: Floats) -> Floats:
                whole[rows] = part
                return self.field.residual(whole)[equations]

            def slopes(part: Floats) -> Floats:
                whole[rows] = part
                return self.field.slopes(whole)[np.ix_(equations, rows)]

            found[rows], _ = follow_to_rest(rates, slopes, v[rows], self.low[rows], self.high[rows])
        return found

    def _best_inside(self, start: Floats) -> Floats:
        """Return the point within the limits with the least sum of squared residuals.

        The speed error is weighted down, so that an impossible dive reports idle power and a residual acceleration,
        not a spurious stall.
        """
        from scipy.optimize import least_squares

        weights = np.array([weight(name) for name in self.names])

        def weighted(v: Floats) -> Floats:
            weighted_residual: Floats = self.field.residual(v) * weights
            return weighted_residual

        def weighted_slopes(v: Floats) -> Floats:
            slopes: Floats = self.field.slopes(v) * weights[:, None]
            return slopes

        first = np.clip(start, self.low + 1e-6, self.high - 1e-6)
        # nothing to search if the aircraft cannot be evaluated at the start (above the atmosphere, absurd speed)
        with np.errstate(all="ignore"), suppress(ValueError, np.linalg.LinAlgError):
            if np.all(np.abs(weighted(first)) < BEYOND):
                best = least_squares(
                    weighted, first, jac=weighted_slopes, bounds=(self.low, self.high), xtol=1e-15, ftol=1e-15,
                    gtol=1e-15, max_nfev=MOST_EVALUATIONS, x_scale="jac",
                )  # fmt: skip
                return np.asarray(best.x, dtype=float)
        return first

    def holds(self, v: Floats) -> bool:
        """Whether every equation holds with rate limits and stops in force, as in flight."""
        left = self.field.residual(v, steady=False)
        return bool((np.abs(left) < TOLERANCE).all())  # False for what is not a number, too

    def check(self) -> None:
        """Raise DravikError where equations and unknowns do not fit each other in number, or depend on each other."""
        if self.statement.is_checked:
            return
        self.statement.check()
        text = explain(self.statement, self.field.slopes(self.settled(self.start)))
        if text:
            raise DravikError(text, where=self.statement.title)


def weight(equation: str) -> float:
    """Return how much an equation counts when not all can hold: speed gives way first."""
    return 0.005 if equation == "airspeed_dot" else 1.0


def explain(statement: Statement, slopes: Floats) -> str:
    """Return in words why equations do not determine the unknowns; empty where they do."""
    if not slopes.size or not np.all(np.isfinite(slopes)):
        return ""
    equations, free = [e.name for e in statement.equations], [f.name for f in statement.free]
    rows = np.max(np.abs(slopes), axis=1)
    scaled = slopes / np.where(rows > 0.0, rows, 1.0)[:, None]
    columns = np.max(np.abs(scaled), axis=0)
    dead = [equations[i] for i in np.flatnonzero(rows < 1e-12)]
    if dead:
        return f"nothing that is free moves {_listed(dead)}"
    idle = [free[j] for j in np.flatnonzero(columns < 1e-12)]
    if idle:
        return f"{_listed(idle)} {'move' if len(idle) > 1 else 'moves'} none of the equations"
    left, values, right = np.linalg.svd(scaled / columns)
    if len(equations) != len(free) or values[-1] > DEPENDENT * values[0]:
        return ""
    same = [equations[i] for i in np.flatnonzero(np.abs(left[:, -1]) > 0.1)]
    alike = [free[j] for j in np.flatnonzero(np.abs(right[-1]) > 0.1)]
    return f"the equations {_listed(same)} do not tell {_listed(alike)} apart: one follows from the others"


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
