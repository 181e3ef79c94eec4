"""Roots of a closed loop that grow: how many by eigenvalues, and of each the state that moves most in it."""

import math
from typing import Any, NamedTuple, cast

import numpy as np
from numpy.typing import NDArray

from dravik.loops.open_loop_response import border_of, count_growing
from dravik.systems import LinearSystem

__all__ = ["GrowingRoot", "count_closed", "growing_roots", "without"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
STAYS = 1e-9  # of its size: a root of the open loop that closing it does not move at all
SAME_ROOT = 1e-3  # of its size: a root that the loop leaves where it is


class GrowingRoot(NamedTuple):
    """A root of the closed loop that grows (1/s, or of z), the state that moves most in it, and the time to double (s).

    ``is_hidden``: the loop does not move it or does not see it, so that no gain changes it.
    """

    root: complex
    state: str
    doubles: float
    is_hidden: bool = False

    def __str__(self) -> str:
        where = f"{self.root.real:.3g}" if not self.root.imag else f"{self.root:.3g}"
        hidden = ", not touched by this loop" if self.is_hidden else ""
        return f"a root at {where} doubles in {self.doubles:.3g} s, mostly {self.state}{hidden}"


def count_closed(system: LinearSystem, delay: float) -> int | None:
    """Return the number of unstable closed-loop roots by eigenvalues; None with a delay, and for 1 + D of zero."""
    closed = closed_matrix(system, delay)
    return None if closed is None else count_growing(closed, system.sample_time)


def closed_matrix(system: LinearSystem, delay: float) -> Floats | None:
    """Return the matrix of the loop closed with negative feedback; None with a delay, and for 1 + D of zero."""
    if delay or abs(1.0 + system.D[0, 0]) < 1e-12:
        return None
    return np.asarray(system.A - system.B @ system.C / (1.0 + system.D[0, 0]))


def without(roots: Complexes, kept: Complexes) -> list[complex]:
    """Return roots without those that are nearest to some that were kept."""
    left = [complex(r) for r in roots]
    for root in kept:
        if left:
            left.pop(int(np.argmin([abs(r - root) for r in left])))
    return left


def growing_roots(loop: LinearSystem, delay: float, hidden: list[complex]) -> list[GrowingRoot]:
    """Return the growing roots of the closed loop with the state that moves most in each, the fastest first.

    ``hidden`` are the open loop's roots that take no part in it. A delay is a fraction of fifth order here.
    """
    if delay and loop.sample_time is None:
        loop, delay = loop.delayed(loop.inputs[0], delay, order=5), 0.0
    matrix = closed_matrix(loop, delay)
    if matrix is None:
        return []
    from scipy.linalg import eig

    values, left, right = cast(Any, eig(matrix, left=True, right=True))
    values = np.asarray(values, dtype=np.complex128)
    border = border_of(values) if loop.sample_time is None else 1.0 + 1e-7
    open_roots = np.linalg.eigvals(loop.A).tolist()
    found = []
    for k, root in enumerate(values):
        size = root.real if loop.sample_time is None else abs(root)
        if size > border and root.imag >= 0.0:
            # how much of each state is in the mode, in any units: its motion times what moves the mode there
            state = loop.states[int(np.argmax(np.abs(left[:, k] * right[:, k])))]
            rate = float(size) if loop.sample_time is None else math.log(size) / loop.sample_time
            # told by the states that are left out, or, where rounding alone couples it, by where it stays
            near = [(h, SAME_ROOT) for h in hidden] + [(h, STAYS) for h in open_roots]
            is_hidden = any(abs(root - h) < share * max(abs(h), border) for h, share in near)
            found.append(GrowingRoot(complex(root), state, math.log(2.0) / rate, is_hidden))
    return sorted(found, key=lambda g: g.doubles)
