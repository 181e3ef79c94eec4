"""What a flight made of a route: how near each point was met, and the path as figures show it."""

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from dravik.guidance.path import Path
from dravik.recording import Recording

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["drawn", "route_log"]


def route_log(run: Recording, path: Path) -> "DataFrame":
    """Return what a flight made of a route: a row for each point.

    Closest approach (m), the time of it (s), whether within the point's acceptance, and there the error in altitude
    (m) and the mass (kg) where it was recorded. A circle's point is as near as its radius.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    path : Path
        The path that was flown.

    Returns
    -------
    DataFrame

    Raises
    ------
    DravikError
        For a recording without ``north``, ``east``, ``altitude`` and ``route_point``.
    """
    import pandas as pd

    north, east, now = run["north"], run["east"], run["route_point"]
    rows = []
    for k, p in enumerate(path.points, start=1):
        off = np.hypot(north - p.north, east - p.east)
        off = np.abs(off - p.radius) if p.kind == "circle" else off
        # a turn by a point ends after the next point's number has come: the segments beside it count too
        near = (now >= k - 1) & (now <= k + 1)
        if not np.any(near):
            rows.append((p.name, math.nan, math.nan, False, math.nan, math.nan))
            continue
        i = int(np.flatnonzero(near)[np.argmin(off[near])])
        mass = float(run["mass"][i]) if "mass" in run.names else math.nan
        error = float(run["altitude"][i]) - p.altitude
        rows.append((p.name, float(off[i]), float(run.time[i]), bool(off[i] <= p.acceptance), error, mass))
    names = ["point", "closest_m", "time_s", "met", "height_error_m", "mass_kg"]
    return pd.DataFrame(rows, columns=names)


def drawn(path: Path) -> dict[str, Any]:
    """Return what a figure shows of a path, as plain data: the line, and the points with their acceptance."""
    rows = path.samples()
    points = [
        {"name": p.name, "north_m": p.north, "east_m": p.east, "acceptance_m": min(p.acceptance, 1e6)}
        for p in path.points
    ]
    return {
        "name": path.name, "north_m": rows[:, 0].round(1).tolist(), "east_m": rows[:, 1].round(1).tolist(),
        "altitude_m": rows[:, 2].round(1).tolist(), "points": points,
    }  # fmt: skip
