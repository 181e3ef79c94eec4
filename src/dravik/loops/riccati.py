"""The Riccati equations of optimal control, continuous and sampled: SciPy's solvers, and what is left of the equation.

Source: A. J. Laub, A Schur method for solving algebraic Riccati equations, IEEE Trans. Automatic Control 24 (1979),
913, the pencil balanced by P. Benner, Symplectic balancing of Hamiltonian matrices, SIAM J. Sci. Comput. 22 (2001),
1885.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.systems.reduction import sizes

__all__ = ["residual", "solve_riccati", "solve_sampled_riccati"]

Floats = NDArray[np.float64]
LARGEST = 1e-8  # of what may be left of the equation, each state in its own size
FELT = 1e-10  # of the largest share of the cost: a state that costs less is measured by this


def solve_riccati(a: Floats, b: Floats, q: Floats, r: Floats) -> tuple[Floats, float]:
    """Return P of A'P + P A - P B R^-1 B'P + Q = 0 that makes A - B R^-1 B'P stable, and what is left of the equation.

    Raises DravikError where there is none (a mode that does not decay and is not moved, or one on the axis that costs
    nothing), and where more than 1e-8 is left.

    >>> p, residual = solve_riccati(np.array([[0.0]]), np.array([[1.0]]), np.array([[4.0]]), np.array([[1.0]]))
    >>> print(p, residual < 1e-12)
    [[2.]] True
    """
    from scipy.linalg import solve_continuous_are

    # states of like size first: SciPy balances the pencil, but what it refuses as singular depends on their units
    d = sizes(a, b, _root(q))
    inside = a * d[None, :] / d[:, None], b / d[:, None], q * np.outer(d, d)
    try:
        scaled = np.asarray(solve_continuous_are(*inside, r), dtype=np.float64)
    except np.linalg.LinAlgError:
        raise _none() from None
    closed = inside[0] - inside[1] @ np.linalg.solve(r, inside[1].T @ scaled)
    roots: Any = np.linalg.eigvals(closed)
    if not np.all(np.isfinite(scaled)) or float(roots.real.max(initial=-1.0)) >= 0.0:
        raise _none()
    found = residual(*inside, r, scaled)
    if not found <= LARGEST:
        raise _too_much(found)
    return scaled / np.outer(d, d), found


def solve_sampled_riccati(a: Floats, b: Floats, q: Floats, r: Floats, cross: Floats) -> tuple[Floats, Floats, float]:
    """Return P and the gain K of the sampled equation, and what is left of it.

    P = A'P A - (A'P B + N) K + Q with K = (R + B'P B)^-1 (B'P A + N'), that makes A - B K stable. Raises DravikError as
    ``solve_riccati`` does.

    >>> one = np.array([[1.0]])
    >>> p, k, left = solve_sampled_riccati(one, one, one, one, np.zeros((1, 1)))
    >>> print(round(float(p[0, 0]), 6), round(float(k[0, 0]), 6), left < 1e-12)
    1.618034 0.618034 True
    """
    from scipy.linalg import solve_discrete_are

    d = sizes(a, b, _root(q))
    inside = a * d[None, :] / d[:, None], b / d[:, None], q * np.outer(d, d)
    n = cross * d[:, None]
    try:
        p = np.asarray(solve_discrete_are(*inside, r, s=n), dtype=np.float64)
    except (np.linalg.LinAlgError, ValueError):
        raise _none() from None
    moved, driven, _ = inside
    bends = r + driven.T @ p @ driven
    k = np.linalg.solve(bends, driven.T @ p @ moved + n.T)
    if not np.all(np.isfinite(p)) or float(np.abs(np.linalg.eigvals(moved - driven @ k)).max(initial=0.0)) >= 1.0:
        raise _none()
    curved = k.T @ bends @ k
    terms = np.abs(moved.T) @ np.abs(p) @ np.abs(moved) + np.abs(p) + np.abs(curved) + np.abs(inside[2])
    found = _left(moved.T @ p @ moved - p - curved + inside[2], terms)
    if not found <= LARGEST:
        raise _too_much(found)
    return p / np.outer(d, d), k / d[None, :], found


def residual(a: Floats, b: Floats, q: Floats, r: Floats, p: Floats) -> float:
    """Return the largest element of what is left of the equation, over the terms of its row and column.

    It is the same in any units of the states, so a small state is seen as well as a large one.
    """
    if not len(a):
        return 0.0
    gain = p @ b
    curved = gain @ np.linalg.solve(r, gain.T)
    left = a.T @ p + p @ a - curved + q
    terms = np.abs(a.T) @ np.abs(p) + np.abs(p) @ np.abs(a) + np.abs(curved) + np.abs(q)
    return _left(left, terms)


def _left(left: Floats, terms: Floats) -> float:
    if not len(left):
        return 0.0
    own = np.diag(terms)
    # what each state costs from a disturbance of its own size; next to nothing is measured by what is felt
    size = np.sqrt(np.maximum(own, FELT * float(own.max(initial=0.0))))
    size = np.where(size > 0.0, size, 1.0)
    return float(np.max(np.abs(left) / np.outer(size, size)))


def _root(q: Floats) -> Floats:
    """Return a matrix whose rows, squared, are the cost: what an optimal control sees of the states."""
    return np.asarray(np.diag(np.sqrt(np.maximum(np.diag(q), 0.0))))


def _too_much(found: float) -> DravikError:
    return DravikError(
        f"the Riccati equation is left with {found:.2g} of its terms: no gain can be relied on",
        expected=f"{LARGEST:g} at most",
        hint="weights and states of less different size, or fewer states: system.part(states=[...])",
    )


def _none() -> DravikError:
    return DravikError(
        "no gain makes this optimal and stable",
        hint="a mode that does not decay and is not moved, or one that stays on the axis and costs nothing",
    )
