"""The compiled residual of a trim: pick unknowns, pick equations, evaluate; and its slopes.

Unknowns are chart coordinates (kind 0) or inputs (kind 1). Equations are the rate of a chart coordinate
(kind 0), a signal less its target (kind 1), or the difference of two signals (kind 2).
"""

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled
from dravik.kernel.chart import chart_rates
from dravik.kernel.program import Program, Workspace

__all__ = ["residual", "residual_slopes"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@compiled
def residual(
    p: Program, w: Workspace, z: Floats, u: Floats, chart: int, unknowns: Ints, scales: Floats, equations: Ints,
    targets: Floats, v: Floats, out: Floats, scratch: Floats, steady: bool,
    extent: int,
) -> None:  # fmt: skip
    """Put the scaled unknowns ``v`` into ``z`` and ``u``, and what each equation leaves over into ``out``.

    ``unknowns`` (n, 2): kind, index; ``equations`` (m, 3): kind, index, second index; ``targets`` (m, 2): target,
    weight. ``scratch`` (3, states + 2).
    """
    for i in range(unknowns.shape[0]):
        if unknowns[i, 0] == 0:
            z[unknowns[i, 1]] = v[i] * scales[i]
        else:
            u[unknowns[i, 1]] = v[i] * scales[i]
    n = z.shape[0]
    rates = scratch[2, :n]
    chart_rates(p, w, 0.0, z, u, chart, scratch[0, : n + 1], scratch[1, : n + 1], rates, steady, extent)
    r = w.registers
    for i in range(equations.shape[0]):
        if equations[i, 0] == 0:
            out[i] = (rates[equations[i, 1]] - targets[i, 0]) * targets[i, 1]
        elif equations[i, 0] == 1:
            out[i] = (r[equations[i, 1]] - targets[i, 0]) * targets[i, 1]
        else:
            out[i] = (r[equations[i, 1]] - r[equations[i, 2]] - targets[i, 0]) * targets[i, 1]


@compiled
def residual_slopes(
    p: Program, w: Workspace, z: Floats, u: Floats, chart: int, unknowns: Ints, scales: Floats, equations: Ints,
    targets: Floats, v: Floats, slopes: Floats, scratch: Floats, sides: Floats, steady: bool,
    extent: int,
) -> None:  # fmt: skip
    """Fill ``slopes`` (equations, unknowns) with central differences in the scaled unknowns."""
    step = 1e-6
    for k in range(v.shape[0]):
        before = v[k]
        v[k] = before + step
        residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, sides[0], scratch, steady, extent)
        v[k] = before - step
        residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, sides[1], scratch, steady, extent)
        v[k] = before
        for i in range(slopes.shape[0]):
            slopes[i, k] = (sides[0, i] - sides[1, i]) / (2.0 * step)


@compiled
def solve_linear(matrix: Floats, right: Floats) -> bool:
    """Solve in place by elimination with row pivoting; ``right`` becomes the solution. False when singular."""
    n = right.shape[0]
    for k in range(n):
        pivot = k
        for i in range(k + 1, n):
            if abs(matrix[i, k]) > abs(matrix[pivot, k]):
                pivot = i
        if not abs(matrix[pivot, k]) > 1e-14:
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


@compiled
def largest(values: Floats) -> float:
    """Return the largest size; NaN when one is not a number."""
    found = 0.0
    for i in range(values.shape[0]):
        if not abs(values[i]) <= found:
            found = abs(values[i])
    return found


@compiled
def newton(
    p: Program, w: Workspace, z: Floats, u: Floats, chart: int, unknowns: Ints, scales: Floats, equations: Ints,
    targets: Floats, v: Floats, out: Floats, slopes: Floats, scratch: Floats, sides: Floats, work: Floats,
    trial: Floats, walls: Floats, extent: int, longest: float, rest: float, steps: int,
) -> tuple[float, int]:  # fmt: skip
    """Move ``v`` by Newton steps, each halved until the residual falls; return the largest residual and steps taken.

    A step is at most ``longest`` in any scaled unknown; the search rests below ``rest``. As many equations as
    unknowns; ``work`` has the shape of ``slopes``, ``trial`` (2, unknowns). No step goes through ``walls``
    (2, unknowns).
    """
    step, tried = trial[0], trial[1]
    residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, out, scratch, True, extent)
    size = largest(out)
    for k in range(steps):
        if not size >= rest:
            return size, k
        residual_slopes(
            p, w, z, u, chart, unknowns, scales, equations, targets, v, slopes, scratch, sides, True, extent
        )
        for i in range(out.shape[0]):
            step[i] = out[i]
            for j in range(out.shape[0]):
                work[i, j] = slopes[i, j]
        if not solve_linear(work, step):
            return size, k
        share = min(1.0, longest / (largest(step) + 1e-300))
        now = size
        for _ in range(6):
            for i in range(step.shape[0]):
                tried[i] = min(max(v[i] - share * step[i], walls[0, i]), walls[1, i])
            residual(p, w, z, u, chart, unknowns, scales, equations, targets, tried, sides[0], scratch, True, extent)
            now = largest(sides[0])
            if now < size:
                break
            share *= 0.5
        if not now < size:
            residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, out, scratch, True, extent)
            return size, k
        for i in range(step.shape[0]):
            v[i] = tried[i]
            out[i] = sides[0, i]
        size = now
    return size, steps
