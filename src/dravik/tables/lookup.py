"""Compiled look-up: find the cell and the weights of its corners once, then weigh any number of tables on the grid."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined

__all__ = ["HOLD", "hermite", "locate", "node_offsets", "spread"]

HOLD, EXTEND, ERROR = 0, 1, 2

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@inlined
def locate(breaks: Floats, start: int, size: int, x: float, policy: int) -> tuple[int, float, float]:
    """Return cell, position in the cell (0 to 1 inside; outside it when extended) and cell width."""
    # unsigned: an index that could be negative would be compared with zero each time, to count from the end
    low, cells, first = np.uintp(0), np.uintp(size - 1), np.uintp(start)
    while cells > np.uintp(1):
        half = cells >> np.uintp(1)
        if not x < breaks[first + low + half]:
            low += half
            cells -= half
        else:
            cells = half
    left = breaks[first + low]
    width = breaks[first + low + np.uintp(1)] - left
    fraction = (x - left) / width
    if policy != EXTEND:
        # NaN must stay NaN, so that a run stops instead of flying on a held value
        if fraction < 0.0:
            fraction = 0.0
        elif fraction > 1.0:
            fraction = 1.0
    return np.intp(low), fraction, width  # type: ignore[return-value]


@inlined
def hermite(f: float, width: float) -> tuple[float, float, float, float]:
    """Return the weights of value and slope to the left, value and slope to the right: cubic, straight outside."""
    if f < 0.0:
        return 1.0, f * width, 0.0, 0.0
    if f > 1.0:
        return 0.0, 0.0, 1.0, (f - 1.0) * width
    g = 1.0 - f
    return (1.0 + 2.0 * f) * g * g, f * g * g * width, f * f * (3.0 - 2.0 * f), -f * f * g * width


@inlined
def spread(w: Floats, at: int, count: int, fraction: float, width: float, is_smooth: bool) -> int:
    """Spread ``count`` weights in ``w`` from ``at`` over one more axis and return how many they are then.

    Begin with one weight of 1. A straight axis makes two of each: the value to the left and to the right; a smooth one
    four: value and slope to the left, value and slope to the right (cubic Hermite; straight lines outside the cell).
    """
    f = fraction
    first, n, one = np.uintp(at), np.uintp(count), np.uintp(1)
    j, end = first, np.uintp(at + count)
    if not is_smooth:
        while j < end:
            w[j + n] = w[j] * f
            w[j] -= w[j + n]
            j += one
        return 2 * count
    left, left_slope, right, right_slope = hermite(f, width)
    while j < end:
        weight = w[j]
        w[j] = weight * left
        w[j + n] = weight * left_slope
        w[j + n + n] = weight * right
        w[j + n + n + n] = weight * right_slope
        j += one
    return 4 * count


def node_offsets(strides: Sequence[int], smooth_axes: Sequence[int]) -> list[int]:
    """Return where the numbers that ``spread`` weighs lie behind the first one of a cell, in its order.

    At each grid point stands the value, then the slopes: bit j of their place means along the j-th smooth axis.
    """
    offsets = [0]
    for k, stride in enumerate(strides):
        own = (
            [0, 1 << smooth_axes.index(k), stride, stride + (1 << smooth_axes.index(k))]
            if k in smooth_axes
            else [0, stride]
        )
        offsets = [o + more for more in own for o in offsets]
    return offsets


@compiled
def table_values(
    breaks: Floats, starts: Ints, sizes: Ints, values: Floats, strides: Ints, offsets: Ints, policy: int,
    mask: int, points: Floats, out: Floats, weights: Floats,
) -> None:  # fmt: skip
    """Fill ``out`` (m,) with a table's values at ``points`` (m, n); ``weights`` is room for 256 numbers."""
    for i in range(points.shape[0]):
        first, count = 0, 1
        weights[0] = 1.0
        for k in range(sizes.shape[0]):
            cell, fraction, width = locate(breaks, starts[k], sizes[k], points[i, k], policy)
            first += cell * strides[k]
            count = spread(weights, 0, count, fraction, width, (mask >> k) & 1 == 1)
        total = 0.0
        for k in range(count):
            total += weights[k] * values[first + offsets[k]]
        out[i] = total
