"""The frequency response of one loop: quick at many frequencies, with an exact delay, and sampled where it turns."""

import cmath
import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.systems import LinearSystem
from dravik.systems.reduction import transmission_zeros

__all__ = ["OpenLoopResponse", "border_of", "count_growing", "least"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
WELL = 1e7  # condition of the eigenvectors up to which sums over the roots are used
TURN = math.radians(20.0)  # largest turn of 1 + L, and of L, between neighbouring frequencies
LITTLE = math.cos(TURN)
CLOSEST = 1e-9  # relative distance of neighbouring frequencies at which halving stops
PER_DECADE = 16
BESIDE = np.array([-2.0, -1.0, 0.0, 1.0, 2.0])  # widths of a peak or dip, at which it is looked at besides
TURNS, MOST_TURNS = 100, 1000  # of a delay: those looked at where little is felt, and the most
NEAR_ONE = 0.3  # a gain that may still come near to one
NEAR_REST = 120  # frequencies between rest and the grid, for Nyquist's count
BEYOND = 30.0  # how far beyond the roots the frequencies reach, as a factor
MORE_DECADES = 12  # at most, where the loop is neither far from one nor constant there
NOTHING, STILL = 1e-3, 1e-3  # a gain far from one; a relative change that is none
UNBOUNDED, INFINITE = 1e8, 1e150  # a gain at rest beyond the first is an integral's, and counts as the second
SLOW = 5e-5  # 1/s: doubles in four hours
STANDING = 1e-4  # of the largest root: slower ones may be coupled by rounding alone
ROUNDED, UNREAD = 1e-14, 1e-7  # of the largest slope of a row: nothing but rounding; next to nothing
AS_ZERO = 1e-6  # of the largest root: what rounding makes of two or three roots at rest
LOOSER = (1e-10, 1e-9, 1e-8, 1e-7)  # tolerances tried
LOOKS = 6  # frequencies at which a response says whether a state takes part
SAME = 1e-5  # relative change of the response at any frequency that is none
NOISE = 1e-10  # figures below this that change their sign do so by rounding


def border_of(roots: Complexes) -> float:
    """Return up to which real part (1/s) roots count as standing still: a battery that empties in days, rounding.

    >>> print(border_of(np.array([-20.0 + 0j])))
    5e-05
    """
    size = max(float(np.abs(roots).max(initial=0.0)), 1e-3)
    return max(1e-7 * size, min(SLOW, 1e-3 * size))


def least(loop: LinearSystem) -> LinearSystem:
    """Return a loop without the states that take no part in it, those that rounding alone couples among them.

    Models made by differences have slopes of 1e-10 where there are none: places and headings, whose roots are nearly
    zero, then seem to be in the loop and spoil its value at rest. What is left out must not change the response. A
    system that is minimal stays as it is: transformed, roots that coincide would part.

    >>> one, other = (LinearSystem.filtered(o, i, [1.0], [1.0, 1.0]) for o, i in ("yu", "zv"))
    >>> both = one.beside(other)
    >>> len(least(both.part(inputs=["u"], outputs=["y"])).states)
    1
    """
    # states that nothing reads go first: an orthogonal transformation would mix their roots at rest with slow ones
    found = _without_unread(loop, ROUNDED).minimal()
    # what reads little in number may read much in other units: the response says whether it did
    if len(found.states) < len(loop.states) and not _is_alike(found, loop):
        smaller = loop.minimal()
        found = smaller if _is_alike(smaller, loop) else loop
    felt, standing = _felt(found)
    # an integral by itself is one: it takes two roots at rest to spoil each other
    if standing > 1 and len(felt):
        rate = 1.0 if loop.sample_time is None else 1.0 / loop.sample_time
        top = 10.0 * float(felt.max()) * rate if loop.sample_time is None else math.pi * rate
        w = np.geomspace(0.1 * float(felt.min()) * rate, top, 40)
        whole, growing = found.frequency_response(w)[:, 0, 0], _growing(found)
        for tolerance in (0.0, *LOOSER):
            less = loop.minimal(tolerance) if tolerance else _without_unread(loop, UNREAD).minimal()
            if len(less.states) == len(found.states):
                continue
            off = np.abs(less.frequency_response(w)[:, 0, 0] - whole)
            if np.any(off > SAME * np.abs(whole)) or _growing(less) > growing:
                break  # a looser one leaves out still more
            found = less
            if _felt(less)[1] < 2:
                break
    return loop if len(found.states) == len(loop.states) else found


def _felt(loop: LinearSystem) -> tuple[Floats, int]:
    """Return the distances from rest of the roots that move, and how many stand as still as rounding leaves them."""
    sizes = np.abs(np.linalg.eigvals(loop.A) - (0.0 if loop.sample_time is None else 1.0))
    largest = float(sizes.max(initial=0.0))
    return sizes[sizes > STANDING * largest], int(np.sum(sizes <= AS_ZERO * largest))


def _growing(loop: LinearSystem) -> int:
    """Return how many roots grow, of the open loop and of the closed one: what is left out must not make one."""
    through = 1.0 + float(loop.D[0, 0])
    closed = loop.A - loop.B @ loop.C / through if through != 0.0 else loop.A
    return count_growing(loop.A, loop.sample_time) + count_growing(closed, loop.sample_time)


def count_growing(a: Floats, sample_time: float | None) -> int:
    """Return how many roots of a matrix grow, beyond what stands still or rounding moves."""
    roots = np.asarray(np.linalg.eigvals(a), dtype=np.complex128)
    return (
        int(np.sum(np.abs(roots) > 1.0 + 1e-7))
        if sample_time is not None
        else int(np.sum(roots.real > border_of(roots)))
    )


def _is_alike(less: LinearSystem, loop: LinearSystem) -> bool:
    """Whether a system without some states responds as the whole does, at the frequencies of its roots not at rest."""
    felt, _ = _felt(loop)
    if not len(felt):
        return True
    rate = 1.0 if loop.sample_time is None else 1.0 / loop.sample_time
    top = 3.0 * float(felt.max()) * rate if loop.sample_time is None else math.pi * rate
    w = np.geomspace(min(0.3 * float(felt.min()) * rate, 0.5 * top), top, LOOKS)
    whole = loop.frequency_response(w)
    off = np.abs(less.frequency_response(w) - whole)
    return bool(np.all(off <= SAME * np.maximum(np.abs(whole), ROUNDED * np.abs(whole).max(initial=0.0))))


def _without_unread(loop: LinearSystem, share: float) -> LinearSystem:
    """Return a system without the states that no other and no output reads, but for a share of what each reads.

    Such are places and headings.
    """
    kept = list(range(len(loop.states)))
    rows = [np.abs(loop.A).max(axis=1, initial=0.0), np.abs(loop.C).max(axis=1, initial=0.0)]
    shares = [np.abs(m) / np.where(r > 0.0, r, 1.0)[:, None] for m, r in zip((loop.A, loop.C), rows, strict=True)]
    for _ in range(len(kept)):
        unread = [
            j for j in kept
            if all(shares[0][i, j] < share for i in kept if i != j) and float(shares[1][:, j].max(initial=0.0)) < share
        ]  # fmt: skip
        if not unread:
            break
        kept = [j for j in kept if j not in unread]
    return loop.part(states=[loop.states[j] for j in kept])


def _are_near(values: Complexes) -> NDArray[np.bool_]:
    """Whether each value is turned by less than TURN from the one before; False where either is not a number."""
    with np.errstate(invalid="ignore"):
        turned = values[1:] * values[:-1].conj()
        return np.asarray(turned.real >= LITTLE * np.abs(turned))


class OpenLoopResponse:
    """L(j omega) of a loop with one input and output, times exp(-j omega delay); sampled: L(exp(j omega h))."""

    def __init__(self, system: LinearSystem, delay: float) -> None:
        self.system, self.delay, self.sample_time = system, delay, system.sample_time
        self._grid: Floats | None = None
        self._on_grid: Complexes = np.zeros(0, dtype=np.complex128)
        values, vectors = np.linalg.eig(system.A) if len(system.A) else (np.zeros(0), np.zeros((0, 0)))
        self.poles: Complexes = np.asarray(values, dtype=np.complex128)
        self._is_diagonal = len(system.A) == 0 or float(np.linalg.cond(vectors)) < WELL
        if self._is_diagonal:
            left = np.linalg.solve(vectors, system.B[:, 0].astype(complex)) if len(values) else np.zeros(0)
            self._values, self._residues = values, (system.C[0] @ vectors) * left if len(values) else np.zeros(0)
            self._pairs = list(zip(self._values.tolist(), self._residues.tolist(), strict=True))
        self._direct = complex(system.D[0, 0])
        self.zeros = transmission_zeros(system.A, system.B, system.C, system.D)

    def at(self, points: Any) -> Complexes:
        """Return L at points of the plane of s (or z)."""
        s = np.atleast_1d(np.asarray(points, dtype=complex))
        if self._is_diagonal:
            with np.errstate(divide="ignore", invalid="ignore"):
                found = (self._residues / (s[:, None] - self._values)).sum(axis=1) + self._direct
        else:
            found = self._solved(s) + self._direct
        if self.delay:
            late = np.exp(-self.delay * s) if self.sample_time is None else s ** (-self.delay / self.sample_time)
            found = np.where(np.isfinite(found), np.where(np.isfinite(found), found, 0.0) * late, found)
        return np.asarray(found, dtype=np.complex128)

    def _solved(self, s: Complexes) -> Complexes:
        """Return C (s - A)^-1 B point by point; infinite at a root of A."""
        wide = s[:, None, None] * np.eye(len(self.system.A)) - self.system.A
        try:
            found = (self.system.C @ np.linalg.solve(wide, self.system.B + 0j))[:, 0, 0]
        except np.linalg.LinAlgError:
            if len(s) == 1:
                return np.array([complex(math.inf)])
            found = np.concatenate([self._solved(s[k : k + 1]) for k in range(len(s))])
        return np.asarray(found, dtype=np.complex128)

    def points(self, omega: Any, aside: float = 0.0) -> Complexes:
        """Return the points of the plane at frequencies, moved ``aside`` to the unstable side of their border."""
        w = np.atleast_1d(np.asarray(omega, dtype=float))
        if self.sample_time is None:
            return np.asarray(aside + 1j * w)
        return np.asarray((1.0 + aside) * np.exp(1j * w * self.sample_time))

    def __call__(self, omega: Any) -> Complexes:
        """Return L at frequencies (rad/s)."""
        if omega is self._grid:  # crossings, peaks and bandwidth all begin from there
            return self._on_grid
        return self.at(self.points(omega))

    def _alone(self, omega: float) -> Complexes:
        """Return L at one frequency: a search asks for it one by one, and arrays cost more than they do there."""
        if not self._is_diagonal:
            return self(omega)
        s = 1j * omega if self.sample_time is None else cmath.exp(1j * omega * self.sample_time)
        value = self._direct
        for pole, residue in self._pairs:
            value += residue / (s - pole) if s != pole else math.inf
        if self.delay:
            value *= cmath.exp(-self.delay * s) if self.sample_time is None else s ** (-self.delay / self.sample_time)
        return np.array([value])

    def ends(self) -> list[tuple[float, complex]]:
        """Return frequency and L at rest and at the other end: infinitely fast, or at half the sampling rate."""
        at_rest = complex(self.at(self.points(0.0))[0])
        found = [(0.0, at_rest if abs(at_rest) < UNBOUNDED else complex(INFINITE))]
        if self.sample_time is not None:
            found.append((math.pi / self.sample_time, complex(self.at(self.points(math.pi / self.sample_time))[0])))
        elif not self.delay:
            found.append((math.inf, self._direct))
        return found

    def _reach(self, sizes: Floats) -> tuple[float, float]:
        """Return the range of frequencies: beyond the roots, on until the loop is far from one or stays as it is."""
        middle = [float(sizes.min()), float(sizes.max())] if len(sizes) else [1.0, 1.0]
        if self.delay:
            middle[1] = max(middle[1], 10.0 / self.delay)
        low, high = middle[0] / BEYOND, middle[1] * BEYOND
        if self.sample_time is not None:
            high = math.pi / self.sample_time
            low = min(low, high / 1e3)
        elif self.delay:
            return low, max(self._end_of_turns(low, high), 10.0 * low)
        for _ in range(MORE_DECADES):
            a, b = abs(self._alone(low)[0]), abs(self._alone(0.1 * low)[0])
            if abs(b - a) < STILL * a or a > 1.0 / NOTHING or a < NOTHING:
                break
            low *= 0.1
        for _ in range(MORE_DECADES if self.sample_time is None else 0):
            a, b = abs(self._alone(high)[0]), abs(self._alone(10.0 * high)[0])
            if abs(b - a) < STILL * a or a < NOTHING:
                break
            high *= 10.0
        return low, high

    def _end_of_turns(self, low: float, high: float) -> float:
        """Return up to which frequency a loop with a delay is looked at: it turns on and on, ever smaller.

        Raises DravikError where it turns too often while its gain is still felt.
        """
        w = np.geomspace(low, high, 40 * max(1, math.ceil(math.log10(high / low))))
        sizes = np.abs(self.at(self.points(w)))
        most = min(1.0, float(sizes[np.isfinite(sizes)].max(initial=0.0)))
        felt = [float(w[sizes > share * most].max(initial=low)) for share in (NEAR_ONE, NOTHING)]
        turns = felt[0] * self.delay / (2.0 * math.pi)
        if turns > MOST_TURNS:
            raise DravikError(
                f"a delay of {self.delay:g} s turns the loop {turns:.0f} times while its gain is above {NEAR_ONE:g}",
                expected=f"{MOST_TURNS} turns at most, a delay below {self.delay * MOST_TURNS / turns:.3g} s",
            )
        return min(felt[1], max(1.1 * felt[0], 2.0 * math.pi * TURNS / self.delay))

    def grid(self) -> Floats:
        """Return frequencies at which neither L nor 1 + L turns by more than some degrees from one to the next."""
        if self._grid is not None:
            return self._grid
        roots = np.concatenate([self.poles, self.zeros])
        if self.sample_time is not None:
            roots = np.log(roots[np.abs(roots) > 1e-12].astype(complex)) / self.sample_time
        sizes = np.abs(roots)
        sizes = sizes[sizes > 1e-6 * max(float(sizes.max(initial=0.0)), 1e-9)]
        low, high = self._reach(sizes)
        count = max(60, int(PER_DECADE * math.log10(high / low)))
        w = np.geomspace(low, high * (1.0 - 1e-12), count)
        # narrow peaks and dips: their own frequencies, and those a fraction of their width beside
        near = (np.abs(roots.imag) + BESIDE[:, None] * np.abs(roots.real)).ravel()
        grid, self._on_grid = self._refined(np.unique(np.concatenate([w, near[(near > low) & (near < high)]])))
        self._grid = grid
        return grid

    def _refined(self, w: Floats) -> tuple[Floats, Complexes]:
        """Return frequencies with those put between that turn too far, and L at all of them."""
        values = self(w)
        for _ in range(40):
            # far below the unit circle nothing can come near to -1
            felt = np.abs(values) > 1e-4
            near = felt[1:] | felt[:-1]
            near &= np.diff(w) > CLOSEST * w[1:]
            where = np.flatnonzero(near & ~(_are_near(values) & _are_near(1.0 + values)))
            if not len(where):
                break
            more = np.sqrt(w[where] * w[where + 1])
            w, values = np.insert(w, where + 1, more), np.insert(values, where + 1, self(more))
        return w, values

    def roots_of(self, figure: Callable[[Complexes], Floats], w: Floats) -> list[float]:
        """Return the frequencies at which a real figure of L changes its sign, to the last digits."""
        from scipy.optimize import brentq

        values = figure(self(w))
        changes = values[:-1] * values[1:] <= 0.0
        changes &= np.maximum(np.abs(values[:-1]), np.abs(values[1:])) > NOISE
        found: list[float] = []
        for k in np.flatnonzero(changes):
            if values[k] == 0.0 or values[k + 1] == 0.0:
                found += [float(w[k])] if values[k] == 0.0 else []
                continue
            low, high = math.log(w[k]), math.log(w[k + 1])

            def at(x: float) -> float:
                return float(figure(self._alone(math.exp(x)))[0])

            a, b = at(low), at(high)
            if a * b > 0.0:  # one by one the last bits differ from those of many at once
                found.append(math.exp(low if abs(a) < abs(b) else high))
                continue
            found.append(math.exp(brentq(at, low, high, xtol=1e-14, rtol=1e-14)))
        return sorted(found)

    def count_unstable(self) -> int:
        """Return how many closed-loop roots are unstable: open-loop ones less the turns of 1 + L about zero (Nyquist).

        On a line just inside the unstable region, so that roots on its border count as stable.
        """
        aside = border_of(self.poles) if self.sample_time is None else 1e-7
        border = self.poles.real if self.sample_time is None else np.abs(self.poles) - 1.0
        grid = self.grid()
        # near roots at rest the turns of L are as many as there are roots: none may be passed over in one step
        near = 0.01 * aside / (1.0 if self.sample_time is None else self.sample_time)
        w = np.concatenate([[0.0], np.geomspace(near, grid[0], NEAR_REST)[:-1] if near < grid[0] else [], grid])
        curve = 1.0 + self.at(self.points(w, aside))
        for _ in range(40):
            steps = np.angle(curve[1:] / curve[:-1])
            where = np.flatnonzero((np.abs(steps) > TURN) & (np.diff(w) > 1e-14 * w[-1]))
            if not len(where):
                break
            more = 0.5 * (w[where] + w[where + 1])
            w = np.insert(w, where + 1, more)
            curve = np.insert(curve, where + 1, 1.0 + self.at(self.points(more, aside)))
        if self.sample_time is None:
            # beyond the highest frequency L is as good as its direct part: the rest of the turn
            steps = np.append(steps, np.angle((1.0 + self._direct) / curve[-1]) if not self.delay else 0.0)
        return int(np.sum(border > aside)) - round(float(np.sum(steps)) / math.pi)
