"""A small aircraft of lines, for figures that show attitude; drawn with east to the right, north away, up upwards."""

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dravik.frames import dcm_from_euler

if TYPE_CHECKING:
    from mpl_toolkits.mplot3d import Axes3D

__all__ = ["attitude_matrix", "draw_wire", "level_room", "to_view"]

Floats = NDArray[np.float64]
#: Polygons in body axes: fuselage seen from the side, wing, tail, fin. The nose is at +1 along x.
_SHAPES: tuple[tuple[str, Floats], ...] = (
    ("fuselage", np.array([[1.0, 0, 0], [0.7, 0, -0.12], [-1.0, 0, -0.05], [0.6, 0, 0.1], [1.0, 0, 0]])),
    ("wing", np.array([[0.25, 0, -0.1], [0.1, 1.1, -0.14], [-0.1, 1.1, -0.14], [-0.15, 0, -0.1], [-0.1, -1.1, -0.14],
                       [0.1, -1.1, -0.14], [0.25, 0, -0.1]])),
    ("tail", np.array([[-0.8, 0, -0.1], [-0.88, 0.42, -0.1], [-1.0, 0.42, -0.1], [-1.0, -0.42, -0.1],
                       [-0.88, -0.42, -0.1], [-0.8, 0, -0.1]])),
    ("fin", np.array([[-0.72, 0, -0.07], [-0.95, 0, -0.45], [-1.06, 0, -0.45], [-1.0, 0, -0.06], [-0.72, 0, -0.07]])),
)  # fmt: skip


def to_view(north_east_down: Floats) -> tuple[Floats, Floats, Floats]:
    """Return east, north, up of local components, shape (..., 3)."""
    n, e, d = np.moveaxis(np.asarray(north_east_down, dtype=float), -1, 0)
    return e, n, -d


def attitude_matrix(phi: float, theta: float, psi: float) -> Floats:
    """Return the matrix from body to local axes."""
    return dcm_from_euler(phi, theta, psi).T


def draw_wire(
    axes: "Axes3D", body_to_local: Floats, place: Floats, size: Floats | float, colour: str, wing_colour: str,
    **style: Any,
) -> None:  # fmt: skip
    """Draw the aircraft at a local place, ``size`` half its length (one for each axis where these differ in scale)."""
    from mpl_toolkits.mplot3d.art3d import Poly3DCollection

    for name, shape in _SHAPES:
        corners = np.asarray(place) + (shape @ body_to_local.T) * size
        faces = Poly3DCollection(
            [np.column_stack(to_view(corners))], facecolor=wing_colour if name == "wing" else colour,
            edgecolor=colour, linewidth=0.6, alpha=style.get("alpha", 0.85),
        )  # fmt: skip
        axes.add_collection3d(faces)


def level_room(axes: "Axes3D") -> None:
    """Take the clutter off a three-dimensional panel."""
    for axis in (axes.xaxis, axes.yaxis, axes.zaxis):
        axis.pane.set_facecolor("white")
        axis.pane.set_edgecolor("#dfe5e8")
        axis._axinfo["grid"]["color"] = "#e7ecee"
