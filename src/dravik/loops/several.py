"""Margins of several loops at once: each alone with the others closed, and the disc of all together.

The disc is that of diagonal, complex changes I + D, |D| < disc/2 in the symmetric form of ``margins``: the inverse of
the structured singular value of (S - T)/2, by its upper bound with scalings, which is exact for up to three loops (J.
Doyle, Analysis of feedback systems with structured uncertainties, IEE Proc. D 129 (1982), 242).
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.host.notebooks import Shown, ShownAsTable
from dravik.loops.margins import DiscFigures, Margins, margins
from dravik.loops.open_loop_response import STANDING
from dravik.systems import LinearSystem

__all__ = ["SeveralMargins", "one_of", "several_margins"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
COUNT = 400  # frequencies
SAME = 1e-9  # share by which sizes at two frequencies must differ to be told apart
BETWEEN = 7  # frequencies between neighbours of the highest
ROUNDS, HALVINGS, CLOSE = 100, 30, 1e-10  # of the search for the scalings
SCALED = 60  # rounds of scaling at most


@dataclass(frozen=True, repr=False)
class SeveralMargins(ShownAsTable, DiscFigures):
    """Margins of several loops: ``each`` with the others closed, and the ``disc`` of all at once, with its frequency.

    ``disc_gain`` and ``disc_phase`` are what every loop may change by at the same time, each in its own way.
    """

    each: dict[str, Margins]
    disc: float
    frequency: float
    is_stable: bool

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each loop with the others closed."""
        rows = [
            (name, one.gain_decibels, math.degrees(one.phase), one.delay, one.disc) for name, one in self.each.items()
        ]
        title = f"{'stable' if self.is_stable else 'not stable'}: disc {self.disc:.3g} of all loops at once"
        return title, ("loop", "gain margin [dB]", "phase margin [deg]", "delay margin [s]", "disc"), rows


def one_of(loop: LinearSystem, k: int) -> LinearSystem:
    """Return one of several loops, the others closed with negative feedback.

    Parameters
    ----------
    loop : LinearSystem
        The loops.
    k : int
        The number of the one, from 0.

    Returns
    -------
    LinearSystem

    Examples
    --------
    >>> both = LinearSystem.of([], states=[], inputs=["a", "b"], outputs=["a", "b"], C=np.zeros((2, 0)),
    ...                        D=[[1.0, 2.0], [3.0, 1.0]])
    >>> one_of(both, 0).D.tolist()
    [[-2.0]]
    """
    require(loop, LinearSystem, "the loops", "cut_loop(craft, point, [...])")
    if not isinstance(k, int) or not 0 <= k < min(len(loop.outputs), len(loop.inputs)):
        raise DravikError(
            f"there is no loop {arguments.shown(k)}", expected=f"a number from 0 to {len(loop.outputs) - 1}"
        )
    n = len(loop.inputs)
    rest = [i for i in range(min(n, len(loop.outputs))) if i != k]
    # outputs beyond those of the loops follow with their own sign
    kept = [k, *range(n, len(loop.outputs))]
    d = loop.D
    inner = np.eye(len(rest)) + d[np.ix_(rest, rest)]
    if rest and np.linalg.cond(inner) > 1e12:
        raise DravikError("the other loops have no solution without a lag", hint="an actuator or a filter in them")
    solve = np.linalg.inv(inner)
    b_o, c_o = loop.B[:, rest], loop.C[rest]
    a = loop.A - b_o @ solve @ c_o
    b = loop.B[:, [k]] - b_o @ solve @ d[np.ix_(rest, [k])]
    c = loop.C[kept] - d[np.ix_(kept, rest)] @ solve @ c_o
    dd = d[np.ix_(kept, [k])] - d[np.ix_(kept, rest)] @ solve @ d[np.ix_(rest, [k])]
    outputs = [loop.outputs[i] for i in kept]
    return LinearSystem(a, b, c, dd, loop.states, [loop.inputs[k]], outputs, {}, loop.sample_time, loop.title)


def several_margins(loop: LinearSystem) -> SeveralMargins:
    """Return the margins of loops closed with negative feedback, as many outputs as inputs, in their order.

    Parameters
    ----------
    loop : LinearSystem
        The open loops, as many outputs as inputs.

    Returns
    -------
    SeveralMargins

    Raises
    ------
    DravikError
        For a system that is not square.

    Examples
    --------
    >>> import dravik as dv
    >>> one = dv.LinearSystem.filtered("a", "u", [2.0], [1.0, -1.0])
    >>> both = one.beside(dv.LinearSystem.filtered("b", "v", [2.0], [1.0, -1.0]))
    >>> found = several_margins(both)
    >>> round(found.disc, 6) == round(found.each["a"].disc, 6) == 0.666667
    True
    """
    require(loop, LinearSystem, "the loops", "cut_loop(craft, point, [...])")
    n = len(loop.inputs)
    if n != len(loop.outputs) or n < 1:
        raise DravikError(f"the loops have {n} inputs and {len(loop.outputs)} outputs", expected="as many of both")
    each = {name: margins(one_of(loop, k)) for k, name in enumerate(loop.outputs)}
    through = np.eye(n) + loop.D
    closed = loop.A - loop.B @ np.linalg.solve(through, loop.C)
    roots = np.asarray(np.linalg.eigvals(closed), dtype=np.complex128)
    # one loop closed behind all others is all of them closed; what stands still, such as a position, does not grow
    stable = all(found.is_stable for found in each.values())
    w = _frequencies(loop, roots)
    peak, at = _peak(loop, w)
    return SeveralMargins(each, min(2.0 / peak, 2.0), at, stable)


def _frequencies(loop: LinearSystem, roots: Complexes) -> Floats:
    poles = np.concatenate([loop.poles(), roots])
    if loop.sample_time is not None:
        poles = np.log(np.where(poles == 0.0, 1e-12, poles).astype(complex)) / loop.sample_time
    sizes = np.abs(poles)
    # slower roots may be there by rounding alone
    standing = sizes <= STANDING * float(sizes.max(initial=0.0))
    sizes = sizes[~standing]
    low, high = (float(sizes.min()) / 100.0, float(sizes.max()) * 100.0) if len(sizes) else (1e-2, 1e2)
    if loop.sample_time is not None:
        high = math.pi / loop.sample_time
        low = min(low, 1e-3 * high)
    near = [abs(p.imag) + k * abs(p.real) for p in poles for k in (-1.0, -0.3, 0.0, 0.3, 1.0)]
    w = np.concatenate([np.geomspace(low, high * (1.0 - 1e-9), COUNT), [v for v in near if low < v < high]])
    # and rest and the other end, where loops without integrals have their peak
    ends = [*([] if np.any(standing) else [1e-6 * low]), *([1e6 * high] if loop.sample_time is None else [])]
    return np.unique(np.concatenate([w, ends]))


def _greatest(loop: LinearSystem, w: Floats) -> tuple[float, int]:
    """Return the greatest structured size of S - T over frequencies, and where among them."""
    eye = np.eye(len(loop.inputs))
    found = np.asarray(2.0 * np.linalg.inv(eye + loop.frequency_response(w)) - eye, dtype=np.complex128)
    # the size with balanced rows and columns is one that the search only makes smaller: most need no search
    bounds = _sizes(found, _balanced(found))
    best, at = -1.0, 0
    while np.max(bounds) > best + SAME * abs(best):
        k = int(np.argmax(bounds))
        size, logs = _scaled(found[k])
        if size > best:
            best, at = size, k
        # the scalings of one frequency serve its neighbours nearly as well
        bounds = np.minimum(bounds, _sizes(found, np.broadcast_to(logs, (len(found), len(logs)))))
        bounds[k] = size
    return best, at


def _sizes(matrices: Complexes, logs: Floats) -> Floats:
    """Return the largest singular values of D M D^-1 of matrices (k, n, n), by the logarithms (k, n) of D."""
    scaled = matrices * np.exp(logs[:, :, None] - logs[:, None, :])
    return np.asarray(np.linalg.norm(scaled, 2, axis=(1, 2)), dtype=np.float64)


def _peak(loop: LinearSystem, w: Floats) -> tuple[float, float]:
    """Return the greatest structured size over all frequencies and where it is, from a grid and a search between."""
    from scipy.optimize import minimize_scalar

    size, k = _greatest(loop, w)
    places = np.linspace(math.log(w[max(k - 1, 0)]), math.log(w[min(k + 1, len(w) - 1)]), BETWEEN)
    near, j = _greatest(loop, np.exp(places))
    best = max((size, float(w[k])), (near, float(math.exp(places[j]))))
    ends = float(places[max(j - 1, 0)]), float(places[min(j + 1, BETWEEN - 1)])
    if ends[1] > ends[0]:
        found = minimize_scalar(
            lambda place: -_greatest(loop, np.exp(np.array([place])))[0], bounds=ends, method="bounded",
            options={"xatol": 1e-4},
        )  # fmt: skip
        best = max(best, (-float(found.fun), float(math.exp(found.x))))
    return best


def structured(matrix: Complexes) -> float:
    """Return the least largest singular value of D M D^-1 over positive diagonal D.

    The logarithm is a convex function of the logarithms of D, with a kink where singular values meet: Broyden's method
    with a weak line search goes down to there (A. S. Lewis, M. L. Overton, Nonsmooth optimization via quasi-Newton
    methods, Mathematical Programming 141 (2013), 135).

    >>> round(structured(np.array([[1.0 + 0j, 100.0], [0.0, 1.0]])), 3)
    1.0
    """
    return _scaled(matrix)[0]


def _scaled(matrix: Complexes) -> tuple[float, Floats]:
    """Return the least largest singular value, and the logarithms of D that give it."""
    n = len(matrix)
    if n == 1 or not np.any(matrix):
        return float(np.abs(matrix).max()), np.zeros(n)
    logs = _balanced(matrix[None])[0]
    x, curvature = (logs - logs[-1])[:-1], np.eye(n - 1)
    value, slope = _size_and_slope(matrix, x)
    for k in range(ROUNDS):
        along = -curvature @ slope
        step = _wolfe(matrix, x, value, along, float(slope @ along))
        if step is None:
            break
        length, after, then = step
        moved, turned = length * along, then - slope
        gained, x, value, slope = value - after, x + moved, after, then
        bend = float(moved @ turned)
        if gained < CLOSE or not bend > 0.0:
            break
        if k == 0:
            curvature *= bend / float(turned @ turned)
        left = np.eye(n - 1) - np.outer(moved, turned) / bend
        curvature = left @ curvature @ left.T + np.outer(moved, moved) / bend
    return math.exp(value), np.append(x, 0.0)


def _size_and_slope(matrix: Complexes, rest: Floats) -> tuple[float, Floats]:
    """Return the logarithm of the largest singular value of D M D^-1 and its slope by all logarithms of D but one."""
    d = np.exp(np.append(rest, 0.0))
    left, sizes, right = np.linalg.svd(matrix * (d[:, None] / d[None, :]))
    return math.log(float(sizes[0])), (np.abs(left[:, 0]) ** 2 - np.abs(right[0]) ** 2)[:-1]


def _wolfe(
    matrix: Complexes, x: Floats, value: float, along: Floats, slope: float
) -> tuple[float, float, Floats] | None:
    """Return a step by the weak conditions of Wolfe with the value and slope there, or None where nothing goes down."""
    low, high, length = 0.0, math.inf, 1.0
    for _ in range(HALVINGS if slope < 0.0 else 0):
        then, there = _size_and_slope(matrix, x + length * along)
        if then > value + 1e-4 * length * slope:
            high = length
        elif float(there @ along) < 0.9 * slope:
            low = length
        else:
            return length, then, there
        length = 0.5 * (low + high) if math.isfinite(high) else 2.0 * length
    return None


def _balanced(matrices: Complexes) -> Floats:
    """Return logarithms (k, n) with which rows and columns of D M D^-1 are of like size, of matrices (k, n, n)."""
    n = matrices.shape[-1]
    squares = np.abs(matrices) ** 2 * (1.0 - np.eye(n))
    logs = np.zeros(matrices.shape[:2])
    # E. E. Osborne, On pre-conditioning of matrices, Journal of the ACM 7 (1960), 338
    for _ in range(SCALED):
        before = logs.copy()
        for i in range(n):
            scale = np.exp(2.0 * (logs[:, i : i + 1] - logs))
            row, column = (squares[:, i] * scale).sum(axis=1), (squares[:, :, i] / scale).sum(axis=1)
            logs[:, i] += 0.25 * np.log(np.maximum(column, 1e-24) / np.maximum(row, 1e-24))
        if np.max(np.abs(logs - before)) < 1e-3:
            break
    return logs
