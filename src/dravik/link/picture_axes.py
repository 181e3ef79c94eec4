"""Axes of pictures, which may be left-handed: place and attitude along the axes that a picture says it has."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.errors import DravikError, nearest

__all__ = ["BODY", "WORLD", "pose_in_axes"]

Floats = NDArray[np.float64]
#: Directions of the world and of the body, in north, east, down and in forward, right, down.
WORLD: dict[str, tuple[float, float, float]] = {
    "north": (1, 0, 0), "south": (-1, 0, 0), "east": (0, 1, 0), "west": (0, -1, 0), "down": (0, 0, 1), "up": (0, 0, -1),
}  # fmt: skip
BODY: dict[str, tuple[float, float, float]] = {
    "forward": (1, 0, 0), "aft": (-1, 0, 0), "right": (0, 1, 0), "left": (0, -1, 0),
    "down": (0, 0, 1), "up": (0, 0, -1),
}  # fmt: skip


def axes_matrix(names: Sequence[str], directions: dict[str, tuple[float, float, float]]) -> Floats:
    """Return the matrix onto axes that are named by their directions; raises DravikError for axes that are none."""
    for name in names:
        if name not in directions:
            raise DravikError(
                f"there is no direction {name!r}", expected=", ".join(directions), hint=nearest(name, directions)
            )
    matrix = np.array([directions[n] for n in names], dtype=float)
    if matrix.shape != (3, 3) or abs(abs(np.linalg.det(matrix)) - 1.0) > 1e-9:
        raise DravikError(
            f"{list(names)} are no three axes across each other", expected='such as ["east", "up", "north"]'
        )
    return matrix


def pose_in_axes(
    place: Sequence[float], attitude: Sequence[float], world: Sequence[str], body: Sequence[str]
) -> tuple[Floats, Floats]:
    """Return place and quaternion (scalar first) along a picture's axes.

    Parameters
    ----------
    place : sequence of float
        North, east and up of the origin, m.
    attitude : sequence of float
        phi, theta, psi, rad.
    world, body : sequence of str
        The picture's axes by their directions: ``["east", "up", "north"]`` of the world, ``["right", "up",
        "forward"]`` of the body. Both of one handedness: two left-handed sets, or two right-handed ones.

    Returns
    -------
    tuple of array and array
        Place (m), and the quaternion that turns the picture's body axes into its world axes.

    Raises
    ------
    DravikError
        For axes that are none, and for a left-handed set with a right-handed one.

    Examples
    --------
    >>> axes = ["east", "up", "north"], ["right", "up", "forward"]
    >>> place, turn = pose_in_axes([1.0, 2.0, 3.0], [0, 0, np.pi / 2], *axes)
    >>> place.tolist(), turn.round(3).tolist()  # heading east: a quarter turn about up, clockwise seen from above
    ([2.0, 3.0, 1.0], [0.707, 0.0, 0.707, 0.0])
    """
    to_world, to_body = axes_matrix(world, WORLD), axes_matrix(body, BODY)
    if np.linalg.det(to_world) * np.linalg.det(to_body) < 0.0:
        raise DravikError(
            f"{list(world)} and {list(body)} are of different handedness",
            expected="both left-handed, or both right-handed",
        )
    north, east, up = (float(v) for v in place)
    turned = to_world @ np.asarray(frames.dcm_from_euler(*attitude)).T @ to_body.T
    quaternion = np.asarray(frames.quaternion_from_dcm(turned.T))
    return to_world @ np.array([north, east, -up]), quaternion if quaternion[0] >= 0.0 else -quaternion
