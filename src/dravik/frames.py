"""Attitude and axes: quaternions, direction cosines, Euler angles, station axes to body axes.

Body axes: x forward, y right, z down. Local axes: north, east, down. Euler angles turn local axes
into body axes by yaw psi, then pitch theta, then roll phi (3-2-1). Quaternions are unit, scalar
first, and turn local components into body components. Station axes, in which geometry and masses
are given: x aft, y right, z up from a declared datum.

The functions on components take scalars or arrays of one shape; the kernel compiles the same functions.

Source: B. L. Stevens, F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003, ch. 1.
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = [
    "body_from_station",
    "dcm_elements",
    "dcm_from_euler",
    "dcm_from_quaternion",
    "euler_from_dcm",
    "euler_from_elements",
    "euler_from_quaternion",
    "quaternion_elements",
    "quaternion_from_dcm",
    "quaternion_from_euler",
    "quaternion_multiply",
    "rotation_inverse",
    "station_from_body",
]

FloatArray = NDArray[np.float64]
# Components are scalars in the compiled kernel and arrays in the functions below: ``Number`` says either.
Number = float
GIMBAL_SINE = 1.0 - 1e-14


def dcm_elements(
    q0: Number, q1: Number, q2: Number, q3: Number
) -> tuple[Number, Number, Number, Number, Number, Number, Number, Number, Number]:
    """Return the nine elements, row by row, of the matrix that takes local components to body components."""
    return (
        q0 * q0 + q1 * q1 - q2 * q2 - q3 * q3,
        2.0 * (q1 * q2 + q0 * q3),
        2.0 * (q1 * q3 - q0 * q2),
        2.0 * (q1 * q2 - q0 * q3),
        q0 * q0 - q1 * q1 + q2 * q2 - q3 * q3,
        2.0 * (q2 * q3 + q0 * q1),
        2.0 * (q1 * q3 + q0 * q2),
        2.0 * (q2 * q3 - q0 * q1),
        q0 * q0 - q1 * q1 - q2 * q2 + q3 * q3,
    )


def quaternion_elements(phi: Number, theta: Number, psi: Number) -> tuple[Number, Number, Number, Number]:
    """Return the quaternion's four components from Euler angles in rad."""
    cf, sf = np.cos(0.5 * phi), np.sin(0.5 * phi)
    ct, st = np.cos(0.5 * theta), np.sin(0.5 * theta)
    cp, sp = np.cos(0.5 * psi), np.sin(0.5 * psi)
    return (
        cf * ct * cp + sf * st * sp,
        sf * ct * cp - cf * st * sp,
        cf * st * cp + sf * ct * sp,
        cf * ct * sp - sf * st * cp,
    )


def euler_from_elements(
    r11: float, r12: float, r13: float, r21: float, r22: float, r23: float, r33: float
) -> tuple[float, float, float]:
    """Return phi, theta, psi from the elements of the local-to-body matrix that they need.

    At a pitch of ±90° only the sum or difference of roll and yaw is defined: yaw is then set to 0
    and roll takes the whole rotation, so that the angles still give back the same attitude.
    """
    if abs(r13) >= GIMBAL_SINE:
        # gimbal lock: only psi - phi (or their sum) is defined, whose sine and cosine are r21 and r22
        sign = -1.0 if r13 > 0.0 else 1.0
        return np.arctan2(sign * r21, r22), sign * 0.5 * np.pi, 0.0
    return np.arctan2(r23, r33), -np.arcsin(r13), np.arctan2(r12, r11)


def dcm_from_quaternion(quaternion: ArrayLike) -> FloatArray:
    """Return the local-to-body matrix, shape (..., 3, 3), of unit quaternions, shape (..., 4)."""
    q = np.moveaxis(np.asarray(quaternion, dtype=float), -1, 0)
    rows = np.stack(np.broadcast_arrays(*dcm_elements(q[0], q[1], q[2], q[3])), axis=-1)
    return rows.reshape(*rows.shape[:-1], 3, 3)


def quaternion_from_euler(phi: ArrayLike, theta: ArrayLike, psi: ArrayLike) -> FloatArray:
    """Return quaternions, shape (..., 4), from Euler angles in rad."""
    f, t, p = np.broadcast_arrays(np.asarray(phi, float), np.asarray(theta, float), np.asarray(psi, float))
    return np.stack(quaternion_elements(f, t, p), axis=-1)  # type: ignore[arg-type]


def dcm_from_euler(phi: ArrayLike, theta: ArrayLike, psi: ArrayLike) -> FloatArray:
    """Return the local-to-body matrix, shape (..., 3, 3), from Euler angles in rad."""
    return dcm_from_quaternion(quaternion_from_euler(phi, theta, psi))


def euler_from_dcm(matrix: ArrayLike) -> FloatArray:
    """Return (phi, theta, psi) in rad, shape (..., 3); see ``euler_from_elements`` for ±90° pitch."""
    m = np.asarray(matrix, dtype=float)
    flat = m.reshape(-1, 3, 3)
    angles = [euler_from_elements(r[0, 0], r[0, 1], r[0, 2], r[1, 0], r[1, 1], r[1, 2], r[2, 2]) for r in flat]
    return np.array(angles, dtype=float).reshape(*m.shape[:-2], 3)


def euler_from_quaternion(quaternion: ArrayLike) -> FloatArray:
    """Return (phi, theta, psi) in rad, shape (..., 3), of unit quaternions, shape (..., 4)."""
    return euler_from_dcm(dcm_from_quaternion(quaternion))


def quaternion_from_dcm(matrix: ArrayLike) -> FloatArray:
    """Return the unit quaternion, shape (4,), scalar part not negative, of one local-to-body matrix.

    The largest component is found first, so that no attitude loses digits (Shepperd's method,
    Journal of Guidance and Control 1 (1978), 223).
    """
    m = np.asarray(matrix, dtype=float)
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    squares = np.array([trace, m[0, 0], m[1, 1], m[2, 2]])
    k = int(np.argmax(squares))
    largest = 0.5 * np.sqrt(max(0.0, 1.0 + 2.0 * squares[k] - trace))
    d = np.array([m[1, 2] - m[2, 1], m[2, 0] - m[0, 2], m[0, 1] - m[1, 0]]) / (4.0 * largest)
    q = np.empty(4)
    if k == 0:
        q[0], q[1:] = largest, d
    else:
        i, j, n = k - 1, k % 3, (k + 1) % 3
        q[0] = d[i]
        q[1 + i] = largest
        q[1 + j] = (m[i, j] + m[j, i]) / (4.0 * largest)
        q[1 + n] = (m[i, n] + m[n, i]) / (4.0 * largest)
    return -q if q[0] < 0 else q


def quaternion_multiply(first: ArrayLike, second: ArrayLike) -> FloatArray:
    """Return the quaternion of the rotation ``first`` followed by the rotation ``second``, shape (..., 4)."""
    a, b = np.moveaxis(np.asarray(first, float), -1, 0), np.moveaxis(np.asarray(second, float), -1, 0)
    return np.stack(
        [
            a[0] * b[0] - a[1] * b[1] - a[2] * b[2] - a[3] * b[3],
            a[0] * b[1] + a[1] * b[0] + a[2] * b[3] - a[3] * b[2],
            a[0] * b[2] - a[1] * b[3] + a[2] * b[0] + a[3] * b[1],
            a[0] * b[3] + a[1] * b[2] - a[2] * b[1] + a[3] * b[0],
        ],
        axis=-1,
    )


def rotation_inverse(quaternion: ArrayLike) -> FloatArray:
    """Return the quaternions, shape (..., 4), of the opposite rotations."""
    return np.asarray(quaternion, float) * np.array([1.0, -1.0, -1.0, -1.0])


def body_from_station(position: ArrayLike, origin: ArrayLike = (0.0, 0.0, 0.0)) -> FloatArray:
    """Return body-axes components, shape (..., 3), of station positions measured from a station origin."""
    return (np.asarray(position, float) - np.asarray(origin, float)) * np.array([-1.0, 1.0, -1.0])


def station_from_body(position: ArrayLike, origin: ArrayLike = (0.0, 0.0, 0.0)) -> FloatArray:
    """Return station positions, shape (..., 3), of body-axes components measured from a station origin."""
    return np.asarray(position, float) * np.array([-1.0, 1.0, -1.0]) + np.asarray(origin, float)
