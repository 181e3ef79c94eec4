"""The ground around a track, sampled at the end of a flight, so that figures can show the land itself."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.kernel.program import EVERYTHING
from dravik.motion.equations import evaluate

__all__ = ["terrain_around"]

Floats = NDArray[np.float64]
POINTS = 25  # grid points along each side
HALF = 0.55  # of the track's extent, to each side of its middle
FLATTEST = 0.3  # of the longer side: a straight track still shows land to its left and right


def terrain_around(craft: Aircraft, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
    """Return ``terrain``: heights of the ground (m, rows along north) at even places around a recorded track.

    Nothing where the ground is level, or the track was not recorded. ``x`` and ``u`` are any state and inputs.
    """
    if not isinstance(craft.configuration.world.ground, str) or not {"north", "east"} <= set(names) or not len(rows):
        return {}
    north, east = rows[:, names.index("north")], rows[:, names.index("east")]
    longer = max(float(np.ptp(north)), float(np.ptp(east)), 1.0)
    sides = []
    for way in (north, east):
        half = HALF * max(float(np.ptp(way)), FLATTEST * longer)
        middle = 0.5 * (float(way.max()) + float(way.min()))
        sides.append(np.linspace(middle - half, middle + half, POINTS))
    work, place = craft.workspace(), np.array(x, dtype=float)
    height, slopes = craft.tape.names["ground_height"], np.empty(len(place))
    found = np.empty((POINTS, POINTS))
    for i, a in enumerate(sides[0]):
        for j, b in enumerate(sides[1]):
            place[0], place[1] = a, b
            evaluate(craft.program, work, 0.0, place, u, slopes, False, EVERYTHING)
            found[i, j] = work.registers[height]
    if not np.all(np.isfinite(found)):
        return {}
    a, b = (side.round(1).tolist() for side in sides)
    return {"terrain": {"north_m": a, "east_m": b, "height_m": found.round(2).tolist()}}
