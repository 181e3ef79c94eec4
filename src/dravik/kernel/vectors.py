"""Vectors and the attitude's matrix in compiled code: nine numbers, row by row, from local axes to body axes."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.compiled import inlined

__all__ = ["cross", "dcm_elements", "matrix_of", "rotate", "rotate_back"]

Floats = NDArray[np.float64]
dcm_elements = inlined(frames.dcm_elements)


@inlined
def rotate(m: tuple[float, ...], x: float, y: float, z: float) -> tuple[float, float, float]:
    """Return local components in body axes."""
    return m[0] * x + m[1] * y + m[2] * z, m[3] * x + m[4] * y + m[5] * z, m[6] * x + m[7] * y + m[8] * z


@inlined
def rotate_back(m: tuple[float, ...], x: float, y: float, z: float) -> tuple[float, float, float]:
    """Return body components in local axes."""
    return m[0] * x + m[3] * y + m[6] * z, m[1] * x + m[4] * y + m[7] * z, m[2] * x + m[5] * y + m[8] * z


@inlined
def cross(a: float, b: float, c: float, x: float, y: float, z: float) -> tuple[float, float, float]:
    """Return the cross product."""
    return b * z - c * y, c * x - a * z, a * y - b * x


@inlined
def matrix_of(x: Floats) -> tuple[float, float, float, float, float, float, float, float, float]:
    """Return the local-to-body matrix of the state's quaternion, whatever its length has drifted to."""
    q0, q1, q2, q3 = x[6], x[7], x[8], x[9]
    # normalised here and not in the state: an integrator's error estimate must not see a jump after each step
    n = 1.0 / math.sqrt(q0 * q0 + q1 * q1 + q2 * q2 + q3 * q3)
    return dcm_elements(q0 * n, q1 * n, q2 * n, q3 * n)
