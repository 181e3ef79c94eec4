"""Exact steps of linear systems over an interval, by matrix exponentials of blocks.

Source: C. F. Van Loan, Computing integrals involving the matrix exponential, IEEE Trans. Automatic Control 23 (1978),
395-404.
"""

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["input_step", "noise_step"]

Floats = NDArray[np.float64]


def input_step(a: Floats, b: Floats, interval: float) -> tuple[Floats, Floats, Floats]:
    """Return what a state becomes over an interval (s): phi x + held u0 + ramped (u1 - u0).

    x' = a x + b u, where u runs straight from u0 to u1. Shapes (n, n), (n, m), (n, m).
    """
    from scipy.linalg import expm

    n, m = b.shape
    # the exponential of A augmented by the input and its slope gives all three integrals at once
    block = np.zeros((n + 2 * m, n + 2 * m))
    block[:n, :n], block[:n, n : n + m] = a * interval, b * interval
    block[n : n + m, n + m :] = np.eye(m)
    step = expm(block)
    return step[:n, :n], step[:n, n : n + m], step[:n, n + m :]


def noise_step(a: Floats, density: Floats, interval: float) -> tuple[Floats, Floats]:
    """Return the transition over an interval (s), and the covariance that white noise gathers in it.

    x' = a x + w, where w has the two-sided spectral density ``density`` (n, n), per s: the covariance of its integral
    over one second.
    """
    from scipy.linalg import expm

    n = len(a)
    block = np.zeros((2 * n, 2 * n))
    block[:n, :n], block[:n, n:], block[n:, n:] = -a, density, a.T
    # exp(-A t) overflows over an interval long for the fastest root: compute a short one and double it
    doublings = max(0, math.ceil(math.log2(max(float(np.linalg.norm(a, 1)) * interval, 1e-9))))
    big = expm(block * (interval / 2**doublings))
    transition = big[n:, n:].T
    covariance = transition @ big[:n, n:]
    for _ in range(doublings):
        covariance = covariance + transition @ covariance @ transition.T
        transition = transition @ transition
    return transition, np.asarray(covariance, dtype=float)
