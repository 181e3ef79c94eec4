"""Sampled forms of continuous linear systems and back; delays.

Sources: G. F. Franklin, J. D. Powell, M. Workman, Digital Control of Dynamic Systems, 3rd edition (1998), chapter 6
(holds, bilinear rule with one frequency matched); H. Padé's fractions of exp(-s T) as in G. H. Golub, C. F. Van Loan,
Matrix Computations, 3rd edition (1996), 11.3.1.

A test holds the holds and the bilinear rule against ``scipy.signal.cont2discrete``, which takes the same exponentials.
They stand here because SciPy's rule matches no frequency, its bilinear form weighs inputs and outputs unlike (a
balanced system is not balanced any more), and its hold gives no ramped part, which responses need.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.systems.exact_steps import input_step

__all__ = ["bilinear", "continuous", "delay", "first_order_hold", "zero_order_hold"]

Floats = NDArray[np.float64]
Matrices = tuple[Floats, Floats, Floats, Floats]


def zero_order_hold(a: Floats, b: Floats, c: Floats, d: Floats, h: float) -> Matrices:
    """Return the matrices at samples h (s) apart, exact for inputs that are held between them."""
    phi, held, _ = input_step(a, b, h)
    return phi, held, c, d


def first_order_hold(a: Floats, b: Floats, c: Floats, d: Floats, h: float) -> Matrices:
    """Return the matrices at samples h (s) apart, exact for inputs straight between them.

    The state is the continuous one less the part of the input's present value: x - ramped u.
    """
    phi, held, ramped = input_step(a, b, h)
    return phi, held - ramped + phi @ ramped, c, d + c @ ramped


def bilinear(a: Floats, b: Floats, c: Floats, d: Floats, h: float, match: float = 0.0) -> Matrices:
    """Return the matrices for s = k (z - 1)/(z + 1); k = 2/h, or such that ``match`` (rad/s) keeps its place."""
    if not 0.0 <= match * h < math.pi:
        raise DravikError(
            f"the frequency of {match:g} rad/s cannot be matched", expected=f"below {math.pi / h:.4g}, half the rate"
        )
    k = 2.0 / h if match == 0.0 else match / math.tan(0.5 * match * h)
    n = len(a)
    inverse = np.linalg.inv(k * np.eye(n) - a)
    return (
        inverse @ (k * np.eye(n) + a),
        math.sqrt(2.0 * k) * inverse @ b,
        math.sqrt(2.0 * k) * c @ inverse,
        d + c @ inverse @ b,
    )


def continuous(a: Floats, b: Floats, c: Floats, d: Floats, h: float, method: str) -> Matrices:
    """Return the continuous matrices of a sampled form; raises DravikError where there is none."""
    from scipy.linalg import logm

    n, m = b.shape
    if method == "bilinear":
        k = 2.0 / h
        if np.any(np.abs(np.linalg.eigvals(a) + 1.0) < 1e-9):
            raise DravikError("a root at z = -1 has no continuous form")
        inverse = np.linalg.inv(a + np.eye(n))
        return (
            k * inverse @ (a - np.eye(n)), math.sqrt(2.0 * k) * inverse @ b, math.sqrt(2.0 * k) * c @ inverse,
            d - c @ inverse @ b,
        )  # fmt: skip
    if method != "zero_order_hold":
        raise DravikError(f"there is no method {method!r}", expected="zero_order_hold or bilinear")
    roots = np.linalg.eigvals(a)
    if np.any((np.abs(roots.imag) < 1e-12) & (roots.real <= 0.0)):
        raise DravikError("a root of z at or below zero has no continuous form with a held input")
    block = np.eye(n + m)
    block[:n, :n], block[:n, n:] = a, b
    found = np.real(logm(block)) / h
    return found[:n, :n], found[:n, n:], c, d


def delay(time: float, order: int, sample_time: float | None) -> Matrices:
    """Return a delay of one signal; raises DravikError for one that is negative, or no whole number of samples."""
    if not (time >= 0.0 and math.isfinite(time)) or not 1 <= order <= 12:
        raise DravikError(
            f"a fraction of order {order} cannot stand for a delay of {time:g} s",
            expected="zero or more; order 1 to 12",
        )
    if sample_time is not None:
        n = round(time / sample_time)
        if abs(n * sample_time - time) > 1e-6 * sample_time:
            raise DravikError(
                f"the delay of {time:g} s is no whole number of samples of {sample_time:g} s",
                expected="a whole number of samples",
            )
        if n > 0:
            return np.eye(n, k=-1), np.eye(n)[:, :1], np.eye(n)[-1:], np.zeros((1, 1))
        time = 0.0
    if time == 0.0:
        return np.zeros((0, 0)), np.zeros((0, 1)), np.zeros((1, 0)), np.ones((1, 1))
    # exp(-p) in p = s T; coefficients of rising powers, those of the numerator with alternating signs
    n = order
    f = math.factorial
    below = np.array([f(2 * n - k) * f(n) / (f(2 * n) * f(k) * f(n - k)) for k in range(n + 1)])
    above = below * (-1.0) ** np.arange(n + 1)
    lead = below[n]
    through = above[n] / lead
    rest = (above - through * below) / lead
    a = np.vstack([-(below[:n] / lead)[::-1], np.eye(n)[: n - 1]]) / time
    return a, np.eye(n)[:, :1] / time, rest[:n][::-1][None, :], np.array([[through]])
