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
    outputs: bool,
) -> None:  # fmt: skip
    """Put the scaled unknowns ``v`` into ``z`` and ``u``, and what each equation leaves over into ``out``.

    ``unknowns`` (n, 2): kind, index; ``equations`` (m, 3): kind, index, second index. ``scratch`` (3, states + 2).
    """
    for i in range(unknowns.shape[0]):
        if unknowns[i, 0] == 0:
            z[unknowns[i, 1]] = v[i] * scales[i]
        else:
            u[unknowns[i, 1]] = v[i] * scales[i]
    n = z.shape[0]
    rates = scratch[2, :n]
    chart_rates(p, w, 0.0, z, u, chart, scratch[0, : n + 1], scratch[1, : n + 1], rates, steady, outputs)
    r = w.registers
    for i in range(equations.shape[0]):
        if equations[i, 0] == 0:
            out[i] = rates[equations[i, 1]] - targets[i]
        elif equations[i, 0] == 1:
            out[i] = r[equations[i, 1]] - targets[i]
        else:
            out[i] = r[equations[i, 1]] - r[equations[i, 2]] - targets[i]


@compiled
def residual_slopes(
    p: Program, w: Workspace, z: Floats, u: Floats, chart: int, unknowns: Ints, scales: Floats, equations: Ints,
    targets: Floats, v: Floats, slopes: Floats, scratch: Floats, sides: Floats, steady: bool,
    outputs: bool,
) -> None:  # fmt: skip
    """Fill ``slopes`` (equations, unknowns) with central differences in the scaled unknowns."""
    step = 1e-6
    for k in range(v.shape[0]):
        before = v[k]
        v[k] = before + step
        residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, sides[0], scratch, steady, outputs)
        v[k] = before - step
        residual(p, w, z, u, chart, unknowns, scales, equations, targets, v, sides[1], scratch, steady, outputs)
        v[k] = before
        for i in range(slopes.shape[0]):
            slopes[i, k] = (sides[0, i] - sides[1, i]) / (2.0 * step)
