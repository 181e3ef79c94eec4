"""The ground around a track, sampled at the end of a flight, so that figures can show the land itself."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["terrain_around"]

Floats = NDArray[np.float64]
POINTS = 25  # grid points along each side
HALF = 0.55  # of the track's extent, to each side of its middle
FLATTEST = 0.3  # of the longer side: a straight track still shows land to its left and right


def terrain_around(height_at: Callable[[float, float], float], names: Sequence[str], rows: Floats) -> dict[str, Any]:
    """Return ``terrain``: heights of the ground (m, rows along north) at even places around a recorded track.

    Nothing where the track was not recorded. ``height_at`` gives the height of the ground (m) at a place north and east
    of the origin (m); ``names`` and ``rows`` (rows, names) are the recording's, SI.
    """
    if not {"north", "east"} <= set(names) or not len(rows):
        return {}
    north, east = rows[:, names.index("north")], rows[:, names.index("east")]
    longer = max(float(np.ptp(north)), float(np.ptp(east)), 1.0)
    sides = []
    for coordinate in (north, east):
        half = HALF * max(float(np.ptp(coordinate)), FLATTEST * longer)
        middle = 0.5 * (float(coordinate.max()) + float(coordinate.min()))
        sides.append(np.linspace(middle - half, middle + half, POINTS))
    found = np.array([[height_at(a, b) for b in sides[1]] for a in sides[0]])
    if not np.all(np.isfinite(found)):
        return {}
    a, b = (side.round(1).tolist() for side in sides)
    return {"terrain": {"north_m": a, "east_m": b, "height_m": found.round(2).tolist()}}
