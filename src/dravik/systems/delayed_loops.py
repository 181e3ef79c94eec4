"""Loops closed through an exact delay: their roots, and their steps by the method of steps.

Roots: the generator of the delay equation on Chebyshev points (D. Breda, S. Maset, R. Vermiglio, Pseudospectral
differencing methods for characteristic roots of delay differential equations, SIAM J. Sci. Comput. 27 (2005), 482),
each then solved for in the characteristic equation itself. Steps: R. Bellman, K. L. Cooke, Differential-Difference
Equations, 1963, section 3.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.systems.reduction import sizes
from dravik.systems.responses import TimeResponse
from dravik.systems.system import LinearSystem
from dravik.units import in_si

__all__ = ["DelayedLoop"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
NODES, MOST_STATES = 40, 1500  # points on the delay, and rows of the generator at most
ROUNDS, EXACT = 30, 1e-12  # of Newton's method for a root
BACK = 16  # delays that a step looks back, whose terms fall as 1/k!
NOTHING, MOST_INTERVALS = 1e-13, 20000  # term that may be left out; intervals in a delay at most
POINTS = 1200


class DelayedLoop:
    """A continuous system whose outputs are fed back to its inputs, negative, a delay later: u(t) = r(t) - y(t - T).

    Parameters
    ----------
    loop : LinearSystem
        The open loop, as many outputs as inputs; what is put in must not come out at once (D = 0).
    delay : str or float
        Its delay, with its unit or in s; above zero.

    Raises
    ------
    DravikError
        For a sampled or improper loop, and for other delays.

    Examples
    --------
    >>> import dravik as dv
    >>> loop = DelayedLoop(dv.LinearSystem.filtered("y", "u", [0.5], [1.0, 0.0]), "1 s")
    >>> print(np.round(loop.roots(1), 6).tolist())
    [(-0.794024+0.770112j)]
    """

    def __init__(self, loop: LinearSystem, delay: str | float) -> None:
        require(loop, LinearSystem, "the loop")
        self.loop, self.delay = loop, in_si(delay, "time", where="delay")
        if not 0.0 < self.delay < math.inf:
            raise DravikError(f"the delay cannot be {delay!r}", expected="a time above zero")
        if loop.sample_time is not None or len(loop.inputs) != len(loop.outputs) or np.any(loop.D != 0.0):
            raise DravikError(
                "no exact loop can be closed around this system",
                expected="a continuous one, as many outputs as inputs, nothing that comes out at once (D = 0)",
                hint="an actuator's lag in the loop",
            )
        self._back = -loop.B @ loop.C

    # -- roots -----------------------------------------------------------------------------------------------------

    def roots(self, count: int = 10) -> Complexes:
        """Return the rightmost roots (1/s), of a pair the one above, the rightmost first; there are endlessly many.

        Raises DravikError for a count that the points on the delay do not give.
        """
        wanted = int(arguments.number(count, "count"))
        found = self._refined(self._approximate())
        if not 1 <= wanted <= len(found):
            raise DravikError(f"{count} roots cannot be had", expected=f"1 to {len(found)}")
        return found[:wanted]

    @property
    def is_stable(self) -> bool:
        """Whether every root decays: the rightmost does.

        Raises DravikError where the delay is so long beside the fastest root that a growing one could be missed.
        """
        if self._points()[1]:
            raise DravikError(
                f"a delay of {self.delay:g} s is too long beside the fastest root to see every root",
                expected="at most some hundred of its time constants", hint="margins(loop, delay=...), which counts",
            )  # fmt: skip
        return bool(self.roots(1)[0].real < 0.0)

    def _points(self) -> tuple[int, bool]:
        """Return how many points stand on the delay, and whether they are too few for roots as fast as the loop's."""
        n = max(len(self.loop.states), 1)
        rates = [float(np.abs(np.linalg.eigvals(m)).max(initial=0.0)) for m in (self.loop.A, self.loop.A + self._back)]
        # a polynomial follows a wave with somewhat more than pi points in each of its lengths
        wanted = NODES + math.ceil(0.6 * max(rates) * self.delay)
        most = max(MOST_STATES // n - 1, 4)
        return min(wanted, most), wanted > most

    def _approximate(self) -> Complexes:
        """Return eigenvalues of the generator on Chebyshev points from now back to the delay."""
        n, nodes = len(self.loop.states), self._points()[0]
        places = np.cos(np.pi * np.arange(nodes + 1) / nodes)
        # the differentiation matrix of these points: L. N. Trefethen, Spectral Methods in MATLAB, 2000, chapter 6
        weights = np.where((np.arange(nodes + 1) == 0) | (np.arange(nodes + 1) == nodes), 2.0, 1.0)
        weights *= (-1.0) ** np.arange(nodes + 1)
        apart = places[:, None] - places[None, :] + np.eye(nodes + 1)
        slopes = np.outer(weights, 1.0 / weights) / apart
        slopes -= np.diag(slopes.sum(axis=1))
        generator = np.kron(2.0 / self.delay * slopes, np.eye(n))
        generator[:n] = 0.0
        generator[:n, :n], generator[:n, -n:] = self.loop.A, self._back
        return np.asarray(np.linalg.eigvals(generator), dtype=np.complex128)

    def _refined(self, guesses: Complexes) -> Complexes:
        """Return the guesses that Newton's method leads to roots of det(s - A + B C exp(-s T)), each once."""
        found: list[complex] = []
        for guess in guesses[np.argsort(-guesses.real, kind="stable")]:
            if guess.imag < -1e-9 * abs(guess):
                continue
            root = self._root_near(complex(guess))
            if root is not None and all(abs(root - other) > 1e-7 * max(1.0, abs(root)) for other in found):
                found.append(root)
        return np.array(sorted(found, key=lambda s: -s.real), dtype=np.complex128)

    def _matrix(self, s: complex) -> Complexes:
        late = np.exp(-s * self.delay)
        return np.asarray(s * np.eye(len(self.loop.A)) - self.loop.A - self._back * late, dtype=np.complex128)

    def _root_near(self, guess: complex) -> complex | None:
        """Return the root by Newton's method on the smallest eigenvalue of the characteristic matrix."""
        s, slope_of = guess, np.eye(len(self.loop.A))
        reach = 0.5 * abs(guess) + 1.0 / self.delay
        for _ in range(ROUNDS):
            with np.errstate(all="ignore"):
                matrix = self._matrix(s)
                change = slope_of + self.delay * self._back * np.exp(-s * self.delay)
            if not np.all(np.isfinite(matrix)):
                return None
            # one over the trace of M^-1 M' is Newton's step for the determinant
            try:
                trace = complex(np.trace(np.linalg.solve(matrix, change)))
            except np.linalg.LinAlgError:
                return s
            step = 1.0 / trace if trace else math.inf
            if not abs(step) < reach or not abs(s - step - guess) < reach:
                return None
            s -= step
            if abs(step) <= EXACT * max(1.0, abs(s)):
                return complex(s.real, abs(s.imag) if abs(s.imag) > 1e-10 * max(1.0, abs(s)) else 0.0)
        return None

    # -- in time ---------------------------------------------------------------------------------------------------

    def step(
        self, output: str = "", input: str = "", *, duration: str | float | None = None, points: int = POINTS
    ) -> TimeResponse:  # fmt: skip
        """Return the response of an output to a unit step of a command, from rest, exact at its times.

        The delay is a whole number of the intervals between them, about ``points`` in all. ``duration`` is ten times
        the slowest root's time unless given. Raises DravikError for unknown names.
        """
        loop = self.loop
        j = loop.indices([input or loop.inputs[0]], "inputs")[0]
        k = loop.indices([output or loop.outputs[0]], "outputs")[0]
        roots = self.roots(1)
        slowest = 10.0 / max(abs(float(roots[0].real)), 1e-9)
        lasts = min(slowest, 1e3 * self.delay) if duration is None else in_si(duration, "time", where="duration")
        if not 0.0 < lasts < math.inf:
            raise DravikError(f"the duration cannot be {duration!r}", expected="a time above zero")
        per_delay = max(1, math.ceil(self.delay * points / lasts))
        # so short that what came about more than BACK delays before counts for nothing
        while self._left_out(self.delay / per_delay) > NOTHING and per_delay < MOST_INTERVALS:
            per_delay *= 2
        interval = self.delay / per_delay
        count = max(2, math.ceil(lasts / interval - 1e-9) + 1)
        values = self._states(interval, per_delay, count, loop.B[:, j]) @ loop.C[k]
        end = math.nan
        if roots[0].real < 0.0 and not self._points()[1]:
            inner = np.linalg.solve(-(loop.A + self._back), loop.B[:, j])
            end = float(loop.C[k] @ inner)
        time = interval * np.arange(count, dtype=np.float64)
        return TimeResponse(loop.outputs[k], loop.inputs[j], "step", time, values, end)

    def _left_out(self, interval: float) -> float:
        """Return the size of the first term that a chain of BACK delays leaves out, each state in its own size."""
        size = sizes(self.loop.A, self.loop.B, self.loop.C)
        back = float(np.linalg.norm(self._back * size[None, :] / size[:, None], 2)) * interval
        return float(math.exp((BACK + 1) * math.log(max(back, 1e-300)) - math.lgamma(BACK + 2)))

    def _states(self, interval: float, per_delay: int, count: int, moved: Floats) -> Floats:
        """Return the states at the times: on each interval they and those of the delays before make one plain system.

        z_j' = A z_j - B C z_(j-1) + B r, where z_j is the state j delays before; the exponential of this chain over
        one interval moves all of it on at once.
        """
        from scipy.linalg import expm

        n, depth = len(moved), min(BACK, (count - 1) // per_delay)
        chain = np.kron(np.eye(depth + 1), self.loop.A) + np.kron(np.eye(depth + 1, k=-1), self._back)
        block = np.zeros((len(chain) + 1, len(chain) + 1))
        block[: len(chain), : len(chain)] = chain * interval
        block[: len(chain), -1] = np.tile(moved, depth + 1) * interval
        # the last rows of the exponential hold the terms of the state now by those of the delays before
        whole = expm(block)
        last = whole[n * depth : n * (depth + 1)]
        now_by = [last[:, n * (depth - k) : n * (depth - k + 1)] for k in range(depth + 1)]
        pushed = [whole[n * k : n * (k + 1), -1] for k in range(depth + 1)]
        states = np.zeros((count, n))
        for i in range(count - 1):
            # before the step everything was at rest: no more of the chain than has begun
            begun = min(depth, i // per_delay)
            x = pushed[begun].copy()
            for k in range(begun + 1):
                x += now_by[k] @ states[i - k * per_delay]
            states[i + 1] = x
        return states
