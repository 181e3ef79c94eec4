"""Compiled look-up: find the cell and the weights of its corners once, then weigh any number of tables on the grid."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined

__all__ = ["HOLD", "locate", "node_offsets", "spread"]

HOLD, EXTEND, ERROR = 0, 1, 2

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@inlined
def locate(breaks: Floats, start: int, size: int, x: float, policy: int) -> tuple[int, float, float]:
    """Return cell, position in the cell (0 to 1 inside; outside it when extended) and cell width."""
    low, high = 0, size - 1
    while high - low > 1:
        middle = (low + high) >> 1
        if x < breaks[start + middle]:
            high = middle
        else:
            low = middle
    left = breaks[start + low]
    width = breaks[start + low + 1] - left
    fraction = (x - left) / width
    if policy != EXTEND:
        # NaN must stay NaN, so that a run stops instead of flying on a held value
        if fraction < 0.0:
            fraction = 0.0
        elif fraction > 1.0:
            fraction = 1.0
    return low, fraction, width


@inlined
def spread(w: Floats, at: int, count: int, fraction: float, width: float, is_smooth: bool) -> int:
    """Spread ``count`` weights in ``w`` from ``at`` over one more axis and return how many they are then.

    Begin with one weight of 1. A straight axis makes two of each: the value to the left and to the right; a smooth one
    four: value and slope to the left, value and slope to the right (cubic Hermite; straight lines outside the cell).
    """
    f = fraction
    if not is_smooth:
        for j in range(at, at + count):
            w[j + count] = w[j] * f
            w[j] -= w[j + count]
        return 2 * count
    if f < 0.0:
        left, left_slope, right, right_slope = 1.0, f, 0.0, 0.0
    elif f > 1.0:
        left, left_slope, right, right_slope = 0.0, 0.0, 1.0, f - 1.0
    else:
        g = 1.0 - f
        left, left_slope = (1.0 + 2.0 * f) * g * g, f * g * g
        right, right_slope = f * f * (3.0 - 2.0 * f), -f * f * g
    left_slope *= width
    right_slope *= width
    for j in range(at, at + count):
        weight = w[j]
        w[j] = weight * left
        w[j + count] = weight * left_slope
        w[j + 2 * count] = weight * right
        w[j + 3 * count] = weight * right_slope
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
