"""The Riccati equation of optimal control, continuous: the Hamiltonian's stable subspace, refined by Newton's method.

Sources: A. J. Laub, A Schur method for solving algebraic Riccati equations, IEEE Trans. Automatic Control 24 (1979),
913; D. L. Kleinman, On an iterative technique for Riccati equation computations, the same 13 (1968), 114.
"""

from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError

__all__ = ["residual", "solve_riccati"]

Floats = NDArray[np.float64]
REFINED = 3  # steps of Newton's method: each squares what is left


def solve_riccati(a: Floats, b: Floats, q: Floats, r: Floats) -> Floats:
    """Return P of A'P + P A - P B R^-1 B'P + Q = 0 that makes A - B R^-1 B'P stable.

    Raises DravikError where there is none: a mode that does not decay and is not moved, or one on the axis that costs
    nothing.

    >>> print(solve_riccati(np.array([[0.0]]), np.array([[1.0]]), np.array([[4.0]]), np.array([[1.0]])))
    [[2.]]
    """
    from scipy.linalg import schur

    n = len(a)
    spread = b @ np.linalg.solve(r, b.T)
    # states of like size: otherwise small ones are lost in the subspace
    scale = _scales(a, q, spread) if np.any(q) and np.any(spread) else np.ones(n)
    a_, q_, s_ = a * scale[None, :] / scale[:, None], q * np.outer(scale, scale), spread / np.outer(scale, scale)
    hamiltonian = np.block([[a_, -s_], [-q_, -a_.T]])
    _, u, stable = cast(Any, schur)(hamiltonian, output="real", sort="lhp")
    if stable != n or np.linalg.cond(u[:n, :n]) > 1e14:
        raise DravikError(
            "no gain makes this optimal and stable",
            hint="a mode that does not decay and is not moved, or one that stays on the axis and costs nothing",
        )
    p = np.linalg.solve(u[:n, :n].T, u[n:, :n].T).T / np.outer(scale, scale)
    p = 0.5 * (p + p.T)
    return _refined(a, b, q, r, p)


def residual(a: Floats, b: Floats, q: Floats, r: Floats, p: Floats) -> float:
    """Return the size of what is left of the equation, over the sizes of its terms."""
    terms = [a.T @ p, p @ a, p @ b @ np.linalg.solve(r, b.T @ p), q]
    left = terms[0] + terms[1] - terms[2] + terms[3]
    return float(np.linalg.norm(left) / max(sum(np.linalg.norm(t) for t in terms), 1e-300))


def _refined(a: Floats, b: Floats, q: Floats, r: Floats, p: Floats) -> Floats:
    from scipy.linalg import solve_continuous_lyapunov

    for _ in range(REFINED):
        k = np.linalg.solve(r, b.T @ p)
        closed = a - b @ k
        if float(np.linalg.eigvals(closed).real.max()) > -1e-12 * float(np.abs(closed).max()):
            break
        found = np.asarray(solve_continuous_lyapunov(closed.T, -(q + k.T @ r @ k)), dtype=np.float64)
        found = 0.5 * (found + found.T)
        if not residual(a, b, q, r, found) < residual(a, b, q, r, p):
            break
        p = found
    return p


def _scales(a: Floats, q: Floats, spread: Floats) -> Floats:
    """Return scales of the states by which A has rows and columns of like size, as far as powers of two do it."""
    from scipy.linalg import matrix_balance

    _, (scale, _) = cast(Any, matrix_balance)(a + np.eye(len(a)) * np.abs(a).max(), permute=False, separate=True)
    # and such that cost and effect are of like size
    size = np.linalg.norm(spread / np.outer(scale, scale)) / max(
        float(np.linalg.norm(q * np.outer(scale, scale))), 1e-300
    )
    return np.asarray(scale * float(size) ** 0.25)
