"""How near a track comes to a point, also between its rows."""

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["closest_approach", "closest_pass"]

Floats = NDArray[np.float64]


def closest_approach(time: Floats, offsets: Floats) -> tuple[float, float]:
    """Return the least distance (m) from the origin of places (k, 3), and when (s), straight between two rows.

    >>> t = np.array([0.0, 1.0, 2.0])
    >>> miss, when = closest_approach(t, np.stack([50.0 * (t - 1.4), 0.0 * t + 3.0, 0.0 * t], axis=1))
    >>> round(miss, 6), round(when, 6)
    (3.0, 1.4)
    """
    moved = np.diff(offsets, axis=0)
    lengths = np.maximum((moved * moved).sum(axis=1), 1e-300)
    parts = np.clip(-(offsets[:-1] * moved).sum(axis=1) / lengths, 0.0, 1.0)
    nearest = np.linalg.norm(offsets[:-1] + parts[:, None] * moved, axis=1)
    k = int(np.argmin(nearest))
    return float(nearest[k]), float(time[k] + parts[k] * (time[k + 1] - time[k]))


def closest_pass(time: Floats, distance: Floats) -> tuple[float, float]:
    """Return the least distance (m) to a point that is passed, and when (s), also between two rows.

    On a straight path its square is a parabola over time: that through the least one and its neighbours. Rows that only
    repeat the last one, because a law computes the distance at a rate of its own, do not count.

    >>> t = np.array([0.0, 1.0, 2.0, 3.0])
    >>> miss, when = closest_pass(t, np.hypot(50.0 * (t - 1.4), 3.0))
    >>> round(miss, 6), round(when, 6)
    (3.0, 1.4)
    """
    changes = np.concatenate([[True], np.diff(distance) != 0.0])
    time, distance = time[changes], distance[changes]
    k = int(np.argmin(distance))
    best = float(distance[k]), float(time[k])
    if len(time) < 3:
        return best
    k = min(max(k, 1), len(time) - 2)
    before, after = time[k] - time[k - 1], time[k + 1] - time[k]
    squares = distance[k - 1 : k + 2] ** 2
    if not (before > 0.0 and after > 0.0 and np.isfinite(squares).all()):
        return best
    falls, rises = (squares[1] - squares[0]) / before, (squares[2] - squares[1]) / after
    bend = (rises - falls) / (before + after)
    slope = (falls * after + rises * before) / (before + after)
    after_middle = -slope / (2.0 * bend) if bend > 0.0 else math.inf  # s from the middle one of three to the pass
    if not -before <= after_middle <= after:  # it was still coming nearer
        return best
    return math.sqrt(max(float(squares[1] - bend * after_middle**2), 0.0)), float(time[k] + after_middle)
