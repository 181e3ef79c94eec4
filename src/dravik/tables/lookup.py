"""Compiled look-up: find the cell once, then interpolate any number of tables that share the axis."""

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled

__all__ = ["HOLD", "linear1", "linear2", "linear3", "linear4", "locate", "smooth"]

HOLD, EXTEND, ERROR = 0, 1, 2

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@compiled
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


@compiled
def linear1(v: Floats, o: int, s0: int, fx: float) -> float:
    """Return the linear interpolation from offset ``o`` along stride ``s0``."""
    return v[o] + fx * (v[o + s0] - v[o])


@compiled
def linear2(v: Floats, o: int, s0: int, s1: int, fx: float, fy: float) -> float:
    """Return the bilinear interpolation."""
    a = linear1(v, o, s1, fy)
    return a + fx * (linear1(v, o + s0, s1, fy) - a)


@compiled
def linear3(v: Floats, o: int, s0: int, s1: int, s2: int, fx: float, fy: float, fz: float) -> float:
    """Return the trilinear interpolation."""
    a = linear2(v, o, s1, s2, fy, fz)
    return a + fx * (linear2(v, o + s0, s1, s2, fy, fz) - a)


@compiled
def linear4(v: Floats, o: int, s0: int, s1: int, s2: int, s3: int, fx: float, fy: float, fz: float, fw: float) -> float:
    """Return the four-dimensional linear interpolation."""
    a = linear3(v, o, s1, s2, s3, fy, fz, fw)
    return a + fx * (linear3(v, o + s0, s1, s2, s3, fy, fz, fw) - a)


@compiled
def hermite_basis(basis: Floats, at: int, fraction: float, width: float) -> None:
    """Put the cubic's four weights for one dimension into ``basis`` from ``at``; straight lines outside the cell."""
    f = fraction
    if f < 0.0:
        left, left_slope, right, right_slope = 1.0, f, 0.0, 0.0
    elif f > 1.0:
        left, left_slope, right, right_slope = 0.0, 0.0, 1.0, f - 1.0
    else:
        left = (1.0 + 2.0 * f) * (1.0 - f) * (1.0 - f)
        left_slope = f * (1.0 - f) * (1.0 - f)
        right = f * f * (3.0 - 2.0 * f)
        right_slope = f * f * (f - 1.0)
    basis[at] = left
    basis[at + 1] = left_slope * width
    basis[at + 2] = right
    basis[at + 3] = right_slope * width


@compiled
def smooth(v: Floats, offset: int, strides: Ints, first: int, n: int, basis: Floats, at: int) -> float:
    """Return the tensor-product cubic Hermite value from node blocks of 2**n values and slopes.

    ``strides`` are read from ``first``, the weights of the dimensions from ``at``.
    """
    total = 0.0
    for corner in range(1 << n):
        node = offset
        for k in range(n):
            node += ((corner >> k) & 1) * strides[first + k]
        for slope in range(1 << n):
            weight = v[node + slope]
            for k in range(n):
                weight *= basis[at + 4 * k + 2 * ((corner >> k) & 1) + ((slope >> k) & 1)]
            total += weight
    return total


@compiled
def table_values(
    breaks: Floats, starts: Ints, sizes: Ints, values: Floats, strides: Ints, policy: int,
    is_smooth: bool, points: Floats, out: Floats, scratch: Floats,
) -> None:  # fmt: skip
    """Fill ``out`` (m,) with a table's values at ``points`` (m, n); ``scratch`` holds 20 numbers."""
    n = sizes.shape[0]
    basis, f = scratch[:16], scratch[16:]
    for i in range(points.shape[0]):
        offset = 0
        for k in range(n):
            cell, f[k], width = locate(breaks, starts[k], sizes[k], points[i, k], policy)
            offset += cell * strides[k]
            if is_smooth:
                hermite_basis(basis, 4 * k, f[k], width)
        if is_smooth:
            out[i] = smooth(values, offset, strides, 0, n, basis, 0)
        elif n == 1:
            out[i] = linear1(values, offset, strides[0], f[0])
        elif n == 2:
            out[i] = linear2(values, offset, strides[0], strides[1], f[0], f[1])
        elif n == 3:
            out[i] = linear3(values, offset, strides[0], strides[1], strides[2], f[0], f[1], f[2])
        else:
            out[i] = linear4(values, offset, strides[0], strides[1], strides[2], strides[3], f[0], f[1], f[2], f[3])
