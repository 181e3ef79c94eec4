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
ZOOMS = 12
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
    rest = [i for i in range(len(loop.outputs)) if i != k]
    d = loop.D
    inner = np.eye(len(rest)) + d[np.ix_(rest, rest)]
    if rest and np.linalg.cond(inner) > 1e12:
        raise DravikError("the other loops have no solution without a lag", hint="an actuator or a filter in them")
    solve = np.linalg.inv(inner)
    b_o, c_o = loop.B[:, rest], loop.C[rest]
    a = loop.A - b_o @ solve @ c_o
    b = loop.B[:, [k]] - b_o @ solve @ d[np.ix_(rest, [k])]
    c = loop.C[[k]] - d[np.ix_([k], rest)] @ solve @ c_o
    dd = d[np.ix_([k], [k])] - d[np.ix_([k], rest)] @ solve @ d[np.ix_(rest, [k])]
    return LinearSystem(a, b, c, dd, loop.states, [loop.inputs[k]], [loop.outputs[k]], {}, loop.sample_time, loop.title)


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
    found = 2.0 * np.linalg.inv(eye + loop.frequency_response(w)) - eye
    # the size with balanced rows and columns is one that the search only makes smaller: most need no search
    bounds = np.array([_size_at(m, _balanced(m)) for m in found])
    best, at = -math.inf, 0
    for k in np.argsort(-bounds, kind="stable"):
        if bounds[k] <= best:
            break
        size = structured(found[k])
        if size > best:
            best, at = size, int(k)
    return best, at


def _peak(loop: LinearSystem, w: Floats) -> tuple[float, float]:
    size, k = _greatest(loop, w)
    low, high = math.log(w[max(k - 1, 0)]), math.log(w[min(k + 1, len(w) - 1)])
    best = (size, float(w[k]))
    for _ in range(ZOOMS):
        places = np.linspace(low, high, 7)
        size, j = _greatest(loop, np.exp(places))
        best = max(best, (size, float(math.exp(places[j]))))
        low, high = float(places[max(j - 1, 0)]), float(places[min(j + 1, 6)])
    return best


def _size_at(matrix: Complexes, logs: Floats) -> float:
    """Return the largest singular value of D M D^-1, by the logarithms of D."""
    return float(np.linalg.norm(matrix * np.exp(logs[:, None] - logs[None, :]), 2))


def structured(matrix: Complexes) -> float:
    """Return the least largest singular value of D M D^-1 over positive diagonal D.

    >>> round(structured(np.array([[1.0 + 0j, 100.0], [0.0, 1.0]])), 3)
    1.0
    """
    n = len(matrix)
    if n == 1:
        return float(abs(matrix[0, 0]))
    from scipy.optimize import minimize

    logs = _balanced(matrix)

    def value(rest: Floats) -> float:
        return _size_at(matrix, np.append(rest, 0.0))

    first = (logs - logs[-1])[:-1]
    found = minimize(value, first, method="Nelder-Mead", options={"xatol": 1e-7, "fatol": 1e-10, "maxiter": 200 * n})
    return min(float(found.fun), value(first))


def _balanced(matrix: Complexes) -> Floats:
    """Return logarithms of D with which rows and columns of D M D^-1 are of like size."""
    n, sizes = len(matrix), np.abs(matrix)
    logs = np.zeros(n)
    # E. E. Osborne, On pre-conditioning of matrices, Journal of the ACM 7 (1960), 338
    for _ in range(SCALED):
        before = logs.copy()
        scaled = sizes * np.exp(logs[:, None] - logs[None, :])
        for i in range(n):
            row = math.sqrt(float((np.delete(scaled[i], i) ** 2).sum()))
            column = math.sqrt(float((np.delete(scaled[:, i], i) ** 2).sum()))
            move = 0.5 * math.log(max(column, 1e-12) / max(row, 1e-12))
            logs[i] += move
            scaled = sizes * np.exp(logs[:, None] - logs[None, :])
        if np.max(np.abs(logs - before)) < 1e-3:
            break
    return logs
