"""Zeros, minimal realisations and balanced reduction of state-space systems, by orthogonal transformations.

Sources: zeros by A. Emami-Naeini and P. Van Dooren, Computation of zeros of linear multivariable systems, Automatica 18
(1982), 415-430; staircase form by P. Van Dooren, The generalized eigenstructure problem in linear system theory, IEEE
Trans. Automatic Control 26 (1981), 111-129; balancing by M. S. Tombs and I. Postlethwaite, Truncated balanced
realization of a stable non-minimal state-space system, Int. J. Control 46 (1987), 1319-1330.
"""

import math
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

__all__ = ["balance", "minimal", "sizes", "split", "transmission_zeros"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Matrices = tuple[Floats, Floats, Floats]
ROUNDED = 1e-12  # of the largest element
SMALL = 1e-4  # a direct part, of what is seen of the states, that is not divided by


def scaled(a: Floats, b: Floats, c: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Return A, B, C in states that are scaled so that rows and columns of A are of like size, and the scales.

    Parts of A that nothing joins are scaled so that inputs move as much of each as outputs see of it. Inputs and
    outputs are scaled to columns and rows of length one: ranks are then found on matrices without units.
    """
    if not len(a):
        return a, b, c, np.zeros(0)
    scale = _rows_and_columns(a)
    apart = _parts(a)
    if len(apart) > 1:
        moved, seen = np.sqrt((b * b).sum(axis=1)) / scale, np.sqrt((c * c).sum(axis=0)) * scale
        for part in apart:
            into, out = math.hypot(*moved[part]), math.hypot(*seen[part])
            if into > 0.0 and out > 0.0:
                scale[part] *= _power_of_two(math.sqrt(into / out))
    balanced = a * scale[None, :] / scale[:, None]
    b, c = b / scale[:, None], c * scale[None, :]
    wide, tall = np.sqrt((b * b).sum(axis=0)), np.sqrt((c * c).sum(axis=1))
    return balanced, b / np.where(wide > 0, wide, 1.0), c / np.where(tall > 0, tall, 1.0)[:, None], scale


def _rows_and_columns(a: Floats) -> Floats:
    """Return scales by which A has rows and columns of like size, as far as powers of two do it."""
    from scipy.linalg.lapack import dgebal

    # a diagonal that is zero but for rounding would be balanced against its whole row: that state would be scaled away
    clean = np.where(np.eye(len(a), dtype=bool) & (np.abs(a) < ROUNDED * np.abs(a).max()), 0.0, a)
    # LAPACK's own balancing, by powers of two: SciPy's function around it takes six times as long as it
    return np.array(cast(Any, dgebal)(clean, scale=1, permute=0)[3], dtype=np.float64)


def _parts(a: Floats) -> list[NDArray[np.int64]]:
    """Return the states in groups that no element of A joins."""
    joined = ((a != 0.0) | (a.T != 0.0) | np.eye(len(a), dtype=bool)).astype(float)
    reach = 1
    while reach < len(a):
        joined, reach = (joined @ joined > 0.0).astype(float), 2 * reach
    first = joined.argmax(axis=1)
    return [np.flatnonzero(first == k) for k in np.unique(first)]


def _power_of_two(value: Any) -> Any:
    return np.exp2(np.round(np.log2(value)))


BEYOND = 1.5  # of a matrix's size, which is where its largest root may be


def sizes(a: Floats, b: Floats, c: Floats) -> Floats:
    """Return sizes of states in which inputs move as much of each as outputs see of it: the same in any units of them.

    Moved and seen at one point of the plane beyond all roots, where neither a resonance nor a root at rest decides.
    """
    n = len(a)
    total = np.ones(n)
    if not n or not b.size or not c.size:
        return total
    total = _rows_and_columns(a)
    for _ in range(2):  # the second time with inputs and outputs that count alike
        own = a * total[None, :] / total[:, None]
        b_, c_ = b / total[:, None], c * total[None, :]
        wide, tall = np.sqrt((b_ * b_).sum(axis=0)), np.sqrt((c_ * c_).sum(axis=1))
        inner = BEYOND * (float(np.linalg.norm(own)) or 1.0) * np.eye(n) - own
        moved = np.sqrt((np.linalg.solve(inner, b_ / np.where(wide > 0, wide, 1.0)) ** 2).sum(axis=1))
        seen = np.sqrt((np.linalg.solve(inner.T, (c_ / np.where(tall > 0, tall, 1.0)[:, None]).T) ** 2).sum(axis=1))
        both = (moved > 0.0) & (seen > 0.0)
        total = total * np.where(
            both, _power_of_two(np.sqrt(np.where(both, moved, 1.0) / np.where(both, seen, 1.0))), 1.0
        )
    return total


def _rank(values: Floats, limit: float) -> int:
    return int(np.sum(values > limit))


def transmission_zeros(a: Floats, b: Floats, c: Floats, d: Floats, tolerance: float = 1e-10) -> Complexes:
    """Return the finite invariant zeros: where [[A - s I, B], [C, D]] loses rank."""
    from scipy.linalg import eigvals

    a, b_, c_, scale = scaled(a, b, c)
    # D is scaled as B and C are
    wide, tall = (np.linalg.norm(m, axis=k) for m, k in ((b / scale[:, None], 0), (c * scale[None, :], 1)))
    d = d / np.where(wide > 0, wide, 1.0) / np.where(tall > 0, tall, 1.0)[:, None]
    limit = tolerance * max(1.0, math.sqrt(sum(float(np.vdot(m, m)) for m in (a, b_, c_, d))))
    if d.shape == (1, 1):
        found = _zeros_of_one(a, b_[:, 0], c_[0], float(d[0, 0]), limit)
        if found is not None:
            return found
    a, b, c, d = _full_row_rank(a, b_, c_, d, limit)
    a, c, b, d = (m.T for m in _full_row_rank(a.T, c.T, b.T, d.T, limit))
    if not len(a):
        return np.zeros(0, dtype=complex)
    if not d.size:
        return np.asarray(eigvals(a), dtype=np.complex128)
    # compress the columns so that [C D] Q = [0 F]: the rest is a regular pencil of the size of A
    _, _, q = np.linalg.svd(np.hstack([c, d]))
    q = q.T[:, len(d) :]
    left, right = np.hstack([a, b]) @ q, q[: len(a)]
    found = np.asarray(eigvals(left, right), dtype=complex)
    finite: Complexes = found[np.isfinite(found)]
    return finite


def _zeros_of_one(a: Floats, b: Floats, c: Floats, d: float, limit: float) -> Complexes | None:
    """Return the same for one channel, several times as fast; None where that would lose digits or nothing is seen."""
    while abs(d) <= limit:
        seen = math.sqrt(float(c @ c))
        if not seen > limit:
            return None
        # a reflection makes what is seen the last state, which no output at all holds at zero: what drives it is
        # the new output
        v = c.copy()
        v[-1] += math.copysign(seen, v[-1])
        v *= math.sqrt(2.0) / math.sqrt(float(v @ v))
        a = a - np.outer(v, v @ a)
        a, b = a - np.outer(a @ v, v), b - v * float(v @ b)
        c, d, a, b = a[-1, :-1], float(b[-1]), a[:-1, :-1], b[:-1]
    if abs(d) < SMALL * math.sqrt(float(c @ c)):
        return None
    return np.asarray(np.linalg.eigvals(a - np.outer(b, c) / d), dtype=np.complex128)


def _full_row_rank(a: Floats, b: Floats, c: Floats, d: Floats, limit: float) -> tuple[Floats, Floats, Floats, Floats]:
    """Return a system with the same zeros whose D has full row rank: states seen without D are constrained to zero."""
    while len(c):
        u, s, _ = np.linalg.svd(d) if d.size else (np.eye(len(c)), np.zeros(0), None)
        rank = _rank(s, limit)
        if rank == len(c):
            break
        c, d = u.T @ c, u.T @ d
        still = c[rank:]
        _, s, v = np.linalg.svd(still) if still.size else (None, np.zeros(0), np.eye(len(a)))
        held = _rank(s, limit)
        c, d = c[:rank], d[:rank]
        if held == 0:
            break
        v = np.roll(v.T, -held, axis=1)  # free states first, then those constrained to zero
        a, b, c = v.T @ a @ v, v.T @ b, c @ v
        free = len(a) - held
        c, d = np.vstack([c[:, :free], a[free:, :free]]), np.vstack([d, b[free:]])
        a, b = a[:free, :free], b[:free]
    return a, b, c, d


def reachable(a: Floats, b: Floats, tolerance: float) -> Floats:
    """Return an orthonormal basis (n, k) of what the inputs can reach, by the staircase algorithm."""
    n = len(a)
    basis, rest = np.zeros((n, 0)), np.eye(n)
    limit = tolerance * max(1.0, float(np.linalg.norm(a)), float(np.linalg.norm(b)) if b.size else 0.0)
    drive = b
    if b.shape[1] == 1:
        return _reachable_by_one(a, b[:, 0], limit)
    while rest.shape[1] and drive.size:
        u, s, _ = np.linalg.svd(rest.T @ drive)
        rank = _rank(s, limit)
        if rank == 0:
            break
        new = rest @ u[:, :rank]
        basis, rest = np.hstack([basis, new]), rest @ u[:, rank:]
        drive = a @ new
    return basis


def _reachable_by_one(a: Floats, b: Floats, limit: float) -> Floats:
    """Return the same for one input: one direction after another, made orthogonal twice so that none comes back."""
    basis = np.zeros((len(a), len(a)))
    new = b
    for k in range(len(a)):
        before = basis[:, :k]
        for _ in range(2):
            new = new - before @ (before.T @ new)
        size = math.sqrt(float(new @ new))
        if not size > limit:
            return basis[:, :k]
        basis[:, k] = new / size
        new = a @ basis[:, k]
    return basis


def minimal(a: Floats, b: Floats, c: Floats, tolerance: float) -> Matrices:
    """Return A, B, C without the states that no input reaches or no output sees."""
    scale_a, scale_b, scale_c, scale = scaled(a, b, c)
    here = reachable(scale_a, scale_b, tolerance)
    b, c = b / scale[:, None], c * scale[None, :]
    a1, b1, c1, c_rank = here.T @ scale_a @ here, here.T @ b, c @ here, scale_c @ here
    seen = reachable(a1.T, c_rank.T, tolerance)
    return seen.T @ a1 @ seen, seen.T @ b1, c1 @ seen


def split(a: Floats, edge: float, *, sampled: bool) -> tuple[Floats, Floats, int]:
    """Return a transformation T, its inverse, and k: T separates the k stable roots (first) from all others.

    ``edge``: a root decays if its real part is below -edge, or for sampled systems its size below 1 - edge.
    """
    from scipy.linalg import schur, solve_sylvester

    def decays(real: float, imaginary: float = 0.0) -> bool:
        root = complex(real) if imaginary == 0.0 else complex(real, imaginary)
        return abs(root) < 1.0 - edge if sampled else root.real < -edge

    triangle, q, k = cast(Any, schur)(a, output="real", sort=decays)
    n = len(a)
    over = (
        solve_sylvester(triangle[:k, :k], -triangle[k:, k:], -triangle[:k, k:]) if 0 < k < n else np.zeros((k, n - k))
    )
    upper, back = np.eye(n), np.eye(n)
    upper[:k, k:], back[:k, k:] = over, -over
    return q @ upper, back @ q.T, int(k)


def balance(a: Floats, b: Floats, c: Floats, *, sampled: bool) -> tuple[Floats, Floats, Floats]:
    """Return Hankel singular values, and matrices L (k, n), R (n, k): z = L x, x = R z is the balanced system.

    All roots must decay. Square roots of the gramians, not the gramians, are multiplied: small values stay exact.
    """
    from scipy.linalg import solve_continuous_lyapunov, solve_discrete_lyapunov

    if sampled:
        controllability, observability = solve_discrete_lyapunov(a, b @ b.T), solve_discrete_lyapunov(a.T, c.T @ c)
    else:
        controllability = solve_continuous_lyapunov(a, -b @ b.T)
        observability = solve_continuous_lyapunov(a.T, -c.T @ c)
    reach, see = (_square_root(np.asarray(g, dtype=float)) for g in (controllability, observability))
    u, values, v = np.linalg.svd(see.T @ reach)
    kept = values > 1e-14 * max(float(values.max(initial=0.0)), 1e-300)
    size = np.sqrt(values[kept])
    return values, (u[:, kept] / size).T @ see.T, reach @ (v.T[:, kept] / size)


def _square_root(gramian: Floats) -> Floats:
    values, vectors = np.linalg.eigh(0.5 * (gramian + gramian.T))
    root: Floats = vectors * np.sqrt(np.maximum(values, 0.0))
    return root
