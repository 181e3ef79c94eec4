"""An aircraft of polygons, for figures that show attitude; drawn with east to the right, north away, up upwards."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dravik.frames import dcm_from_euler
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, THIRD

if TYPE_CHECKING:
    from mpl_toolkits.mplot3d import Axes3D

    from dravik.recording import Recording

__all__ = ["SYMBOL", "Craft", "attitude_matrix", "body_drawn", "draw_wire", "level_room", "symbol_of", "to_view"]

Floats = NDArray[np.float64]
Craft = Sequence[Mapping[str, Any]]  # polygons as ``aero.drawing.outline`` gives them, about the centre of gravity
LEAST = 0.012  # of the aircraft's size: what is smaller is left out of a symbol
#: Where nothing is known of the aircraft, body axes: fuselage seen from the side, wing, tail, fin. The nose is at +1.
SYMBOL: Craft = (
    {"kind": "body", "points": [[1.0, 0, 0], [0.7, 0, -0.12], [-1.0, 0, -0.05], [0.6, 0, 0.1], [1.0, 0, 0]]},
    {"kind": "surface", "points": [[0.25, 0, -0.1], [0.1, 1.1, -0.14], [-0.1, 1.1, -0.14], [-0.15, 0, -0.1],
                                   [-0.1, -1.1, -0.14], [0.1, -1.1, -0.14], [0.25, 0, -0.1]]},
    {"kind": "surface", "points": [[-0.8, 0, -0.1], [-0.88, 0.42, -0.1], [-1.0, 0.42, -0.1], [-1.0, -0.42, -0.1],
                                   [-0.88, -0.42, -0.1], [-0.8, 0, -0.1]]},
    {"kind": "surface", "points": [[-0.72, 0, -0.07], [-0.95, 0, -0.45], [-1.06, 0, -0.45], [-1.0, 0, -0.06],
                                   [-0.72, 0, -0.07]]},
)  # fmt: skip
#: Faces and edges by kind, and how much they let through.
PAINT: Mapping[str, tuple[str, str, float]] = {
    "surface": (ACTUAL, INK, 0.85), "control": (COMMANDED, INK, 0.95), "body": (INK, INK, 0.55),
    "disc": (THIRD, THIRD, 0.18),
}  # fmt: skip


def to_view(north_east_down: Floats) -> tuple[Floats, Floats, Floats]:
    """Return east, north, up of local components, shape (..., 3)."""
    n, e, d = np.moveaxis(np.asarray(north_east_down, dtype=float), -1, 0)
    return e, n, -d


def attitude_matrix(phi: float, theta: float, psi: float) -> Floats:
    """Return the matrix from body to local axes."""
    return dcm_from_euler(phi, theta, psi).T


def body_drawn(run: "Recording") -> Craft:
    """Return the outline that a recording keeps of its aircraft, its size one; a symbol where it keeps none."""
    return symbol_of(run.metadata.get("outline"))


def symbol_of(kept: Any) -> Craft:
    """Return an outline in a size of one, from the middle to what lies farthest away; a symbol for what is none."""
    try:
        parts = [{**part, **_placed(part)} for part in kept]
        every = np.concatenate([part["points"] for part in parts])
    except (TypeError, KeyError, ValueError):
        return SYMBOL
    reach = float(np.max(np.abs(every)))
    if not 0.0 < reach < np.inf:
        return SYMBOL
    return [{**part, **{key: place / reach for key, place in _placed(part).items()}} for part in parts]


def _placed(part: Mapping[str, Any]) -> dict[str, Floats]:
    """Return what of a part has a place, shape (n, 3)."""
    return {key: np.asarray(part[key], dtype=float).reshape(-1, 3) for key in ("points", "hinge") if key in part}


def turned(part: Mapping[str, Any], angles: Mapping[str, float]) -> Floats:
    """Return the corners of a part, a control about its hinge by the angle (rad) of its signal."""
    points = np.asarray(part["points"], dtype=float)
    angle = float(part.get("sign", 1.0)) * angles.get(str(part.get("signal", "")), 0.0)
    if not angle or "hinge" not in part:
        return points
    begin, end = np.asarray(part["hinge"], dtype=float)
    axis = (end - begin) / max(float(np.linalg.norm(end - begin)), 1e-12)
    # rotation about a line (O. Rodrigues, 1840)
    arm = points - begin
    c, s = np.cos(angle), np.sin(angle)
    found: Floats = begin + c * arm + s * np.cross(axis, arm) + (1.0 - c) * np.outer(arm @ axis, axis)
    return found


def draw_wire(
    axes: "Axes3D", craft: Craft, body_to_local: Floats, place: Floats, size: Floats | float, *,
    angles: Mapping[str, float] | None = None, is_pale: bool = False,
) -> None:  # fmt: skip
    """Draw an aircraft at a local place, ``size`` half its length (one for each axis where these differ in scale).

    ``angles`` are the deflections of its controls by signal, rad.
    """
    from matplotlib.colors import to_rgba
    from mpl_toolkits.mplot3d.art3d import Poly3DCollection

    faces: list[Floats] = []
    paints: list[tuple[str, str, float]] = []
    for part in craft:
        corners = turned(part, angles or {})
        if float(np.max(np.ptp(corners, axis=0))) < LEAST:
            continue
        faces.append(np.column_stack(to_view(np.asarray(place) + (corners @ body_to_local.T) * size)))
        face, edge, alpha = PAINT.get(str(part.get("kind")), PAINT["surface"])
        paints.append(("#cfd9dd", SOFT, 0.75) if is_pale else (face, edge, alpha))
    # together, so that what lies behind is drawn first, and all at once
    together = Poly3DCollection(
        faces, facecolor=[to_rgba(f, alpha) for f, _, alpha in paints], edgecolor=[e for _, e, _ in paints],
        linewidth=0.5,
    )  # fmt: skip
    # the room is the caller's: polygons of several lengths are kept with padding, which has no place in it
    axes.add_collection3d(together, autolim=False)


def level_room(axes: "Axes3D") -> None:
    """Take the clutter off a three-dimensional panel."""
    for axis in (axes.xaxis, axes.yaxis, axes.zaxis):
        axis.pane.set_facecolor("white")
        axis.pane.set_edgecolor("#dfe5e8")
        axis._axinfo["grid"]["color"] = "#e7ecee"
