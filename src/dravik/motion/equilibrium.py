"""The compiled search for an equilibrium: residuals, finite-difference slopes, Newton's method."""

from typing import ClassVar, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.kernel.program import Program, Workspace
from dravik.motion.minimal_coordinates import minimal_rates
from dravik.surroundings.earth_motion import wrapped

__all__ = [
    "DIFFERENCE",
    "DIRECTION",
    "INPUT",
    "RATE",
    "SIGNAL",
    "STATE",
    "Equilibrium",
    "newton",
    "residual",
    "residual_slopes",
]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# kinds of unknowns: a minimal coordinate, an input
STATE, INPUT = 0, 1
# kinds of equations: the rate of a minimal coordinate, a signal, the difference of two signals; each less its target
RATE, SIGNAL, DIFFERENCE = 0, 1, 2
# a signal that is an angle on the full circle: the shorter way to its target
DIRECTION = 3
DIFFERENCE_STEP = 1e-6  # step of the scaled unknowns for finite differences
NEAR = 1e-3  # below this residual the slopes are central differences, above it one-sided
QUICK = 0.1  # a step that leaves less than this share over is followed by one with updated slopes
SINGULAR = 1e-14  # pivots below this count as zero


class _Equilibrium(NamedTuple):
    coordinates: Ints  # (2,)
    state: Floats
    inputs: Floats
    unknowns: Ints
    scales: Floats
    hard_bounds: Floats
    equations: Ints
    targets: Floats
    left: Floats  # (m,): residual of each equation
    slopes: Floats  # (m, n)
    sides: Floats  # (2, m): residuals on both sides of a difference, and of a trial step
    matrix: Floats  # (m, n): the slopes again, overwritten by the elimination
    steps: Floats  # (2, n): Newton's step, and the unknowns tried
    scratch: Floats  # (3, k + 1): two integrated states, rates


class Equilibrium(_Equilibrium):
    """One search: the point, n unknowns, m equations and scratch arrays; k coordinates.

    ``coordinates`` are the kind of minimal coordinates, and how much of the formulas is evaluated; ``state`` (k,) is in
    these, and ``inputs`` are those of the program; both are changed.
    ``unknowns`` (n, 2): kind and index; ``scales`` (n,) turn scaled unknowns into SI; ``hard_bounds`` (2, n) are what
    no step goes beyond, scaled. ``equations`` (m, 3): kind, index, second index; ``targets`` (m, 2): target and weight.
    """

    __slots__ = ()
    kinds: ClassVar = (
        "i8:1", "f8:1", "f8:1", "i8:2", "f8:1", "f8:2", "i8:2", "f8:2", "f8:1", "f8:2", "f8:2", "f8:2", "f8:2", "f8:2",
    )  # fmt: skip


@compiled
def residual(program: Program, work: Workspace, e: Equilibrium, v: Floats, left: Floats, steady: bool) -> None:
    """Evaluate at the scaled unknowns ``v`` and put the residual of each equation into ``left``.

    With ``steady`` rate limits and stops are lifted: a saturated one would zero a column of the Jacobian.
    """
    for i in range(e.unknowns.shape[0]):
        if e.unknowns[i, 0] == STATE:
            e.state[e.unknowns[i, 1]] = v[i] * e.scales[i]
        else:
            e.inputs[e.unknowns[i, 1]] = v[i] * e.scales[i]
    k = e.state.shape[0]
    rates = e.scratch[2, :k]
    x, dx = e.scratch[0, : k + 1], e.scratch[1, : k + 1]
    minimal_rates(program, work, 0.0, e.state, e.inputs, e.coordinates[0], x, dx, rates, steady, e.coordinates[1])
    reg = work.registers
    for i in range(e.equations.shape[0]):
        if e.equations[i, 0] == RATE:
            found = rates[e.equations[i, 1]]
        elif e.equations[i, 0] == SIGNAL:
            found = reg[e.equations[i, 1]]
        elif e.equations[i, 0] == DIRECTION:
            found = e.targets[i, 0] + wrapped(reg[e.equations[i, 1]] - e.targets[i, 0])
        else:
            found = reg[e.equations[i, 1]] - reg[e.equations[i, 2]]
        # weights bring speeds, angles and accelerations to one scale
        left[i] = (found - e.targets[i, 0]) * e.targets[i, 1]


@compiled
def residual_slopes(program: Program, work: Workspace, e: Equilibrium, v: Floats, steady: bool, both: bool) -> None:
    """Fill the slopes of the equations by the scaled unknowns with central differences.

    Without ``both`` they are one-sided, from ``left``: half the work, and good enough far from the solution.
    """
    for k in range(v.shape[0]):
        before = v[k]
        v[k] = before + DIFFERENCE_STEP
        residual(program, work, e, v, e.sides[0], steady)
        if not both:
            v[k] = before
            for i in range(e.slopes.shape[0]):
                e.slopes[i, k] = (e.sides[0, i] - e.left[i]) / DIFFERENCE_STEP
            continue
        v[k] = before - DIFFERENCE_STEP
        residual(program, work, e, v, e.sides[1], steady)
        v[k] = before
        for i in range(e.slopes.shape[0]):
            e.slopes[i, k] = (e.sides[0, i] - e.sides[1, i]) / (2.0 * DIFFERENCE_STEP)


@inlined
def solve_linear(matrix: Floats, right: Floats) -> bool:
    """Solve in place by elimination with row pivoting; ``right`` becomes the solution. False when singular."""
    n = right.shape[0]
    for k in range(n):
        pivot = k
        for i in range(k + 1, n):
            if abs(matrix[i, k]) > abs(matrix[pivot, k]):
                pivot = i
        # written so that a NaN counts as singular
        if not abs(matrix[pivot, k]) > SINGULAR:
            return False
        if pivot != k:
            for j in range(k, n):
                matrix[k, j], matrix[pivot, j] = matrix[pivot, j], matrix[k, j]
            right[k], right[pivot] = right[pivot], right[k]
        for i in range(k + 1, n):
            factor = matrix[i, k] / matrix[k, k]
            if factor != 0.0:
                for j in range(k + 1, n):
                    matrix[i, j] -= factor * matrix[k, j]
                right[i] -= factor * right[k]
    for k in range(n - 1, -1, -1):
        for j in range(k + 1, n):
            right[k] -= matrix[k, j] * right[j]
        right[k] /= matrix[k, k]
    return True


@inlined
def largest(values: Floats) -> float:
    """Return the largest absolute value; NaN when one is NaN."""
    found = 0.0
    for i in range(values.shape[0]):
        # written so that a NaN is found
        if not abs(values[i]) <= found:
            found = abs(values[i])
    return found


@inlined
def updated(slopes: Floats, moved: Floats, trial: Floats) -> None:
    """Turn slopes into those that would have foreseen the residual after a whole Newton step (Broyden)."""
    square = 0.0
    for j in range(moved.shape[0]):
        square += moved[j] * moved[j]
    for i in range(trial.shape[0]):
        share = trial[i] / square if square > 0.0 else 0.0
        for j in range(moved.shape[0]):
            slopes[i, j] -= share * moved[j]


@compiled
def newton(
    program: Program, work: Workspace, e: Equilibrium, v: Floats, longest: float, rest: float, most: int
) -> tuple[float, int]:
    """Move ``v`` by Newton steps, each halved until the residual falls; return the largest residual, and evaluations.

    As many equations as unknowns: otherwise nothing is moved. A step is at most ``longest`` in any scaled unknown; the
    search ends below ``rest``, after ``most`` steps, or where no step makes the residual fall. As long as whole steps
    leave less than a tenth over, the slopes are updated by Broyden's formula (C. G. Broyden, A class of methods for
    solving nonlinear simultaneous equations, Mathematics of Computation 19 (1965), 577), not found anew.
    """
    step, tried, trial = e.steps[0], e.steps[1], e.sides[0]
    residual(program, work, e, v, e.left, True)
    size, n = largest(e.left), v.shape[0]
    if e.left.shape[0] != n or e.steps.shape[1] < n or e.matrix.shape[0] < n:
        return size, 1
    evaluations, is_updated, is_polished, is_central = 1, False, False, False
    for _ in range(most + 1):
        if not size >= rest:
            # one more step by slopes that are at hand costs one evaluation, and leaves next to nothing over
            if is_polished or not is_updated:
                break
            is_polished = True
        if not is_updated:
            # one-sided slopes suffice while far away; near the solution central ones give quadratic convergence
            both = is_central or size < NEAR
            residual_slopes(program, work, e, v, True, both)
            evaluations += 2 * n if both else n
        for i in range(n):
            step[i] = e.left[i]
            for j in range(n):
                e.matrix[i, j] = e.slopes[i, j]
        if not solve_linear(e.matrix, step):
            if not is_updated:
                if is_central or size < NEAR:
                    break
                # a slope upwards alone is zero at an upper stop, such as that of an engine at full power
                is_central = True
            is_updated = False
            continue
        # a step that is too long for the model to be linear is shortened in its direction
        share = min(1.0, longest / (largest(step) + 1e-300))
        is_whole = share == 1.0
        now = size
        for _ in range(1 if is_updated else 6):
            for i in range(n):
                # hard bounds only: limits of controls are checked after the search, which may pass beyond them
                tried[i] = min(max(v[i] - share * step[i], e.hard_bounds[0, i]), e.hard_bounds[1, i])
                is_whole = is_whole and tried[i] == v[i] - share * step[i]
            residual(program, work, e, tried, trial, True)
            evaluations += 1
            now = largest(trial)
            if now < size:
                break
            share *= 0.5
            is_whole = False
        if not now < size:
            # leave the field consistent with ``v``; without descent along Newton's own direction give up
            residual(program, work, e, v, e.left, True)
            evaluations += 1
            if not is_updated:
                break
            is_updated = False
            continue
        is_updated = is_whole and now < QUICK * size
        if is_updated:
            updated(e.slopes, step, trial)
        for i in range(n):
            v[i] = tried[i]
            e.left[i] = trial[i]
        size = now
    return size, evaluations
