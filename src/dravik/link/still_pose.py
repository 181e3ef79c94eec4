"""A pose that stands still, by which the signs and axes of a picture are checked before anything flies."""

import math
from collections.abc import Iterable, Mapping

__all__ = ["POSE", "still_pose", "what_is_seen"]

#: The pose: bank to the right, nose up, heading east; 100 m north, 200 m east of the origin, 300 m up.
POSE = {
    "phi": math.radians(30.0), "theta": math.radians(10.0), "psi": math.radians(90.0),
    "north": 100.0, "east": 200.0, "altitude": 300.0,
}  # fmt: skip
MOVES = (
    "u", "v", "w", "p", "q", "r", "u_dot", "v_dot", "w_dot", "p_dot", "q_dot", "r_dot", "climb_rate", "ground_speed",
)  # fmt: skip
SEEN = {
    "elevator": "trailing edge down", "flap": "trailing edge down", "rudder": "trailing edge left",
    "aileron": "left trailing edge down, right one up",
}  # fmt: skip


def still_pose(signals: Mapping[str, float], limits: Mapping[str, tuple[float, float]]) -> dict[str, float]:
    """Return signals with the pose in them: nothing moves, each control stands at half of its positive range.

    Parameters
    ----------
    signals : mapping of str to float
        The signals of an aircraft at any instant, SI.
    limits : mapping of str to (float, float)
        Ranges of its controls, SI.

    Returns
    -------
    dict of str to float

    Examples
    --------
    >>> still_pose({"phi": 0.0, "q": 0.1, "elevator": 0.0}, {"elevator": (-0.4, 0.2)})["elevator"]
    0.1
    """
    found = {n: 0.0 if n in MOVES else float(v) for n, v in signals.items()}
    found |= POSE
    for name, (_, high) in limits.items():
        if name in found and math.isfinite(high):
            found[name] = 0.5 * high
    return found


def what_is_seen(limits: Mapping[str, tuple[float, float]], sent: Iterable[str]) -> list[tuple[str, str]]:
    """Return what a right picture shows of the pose, row by row.

    Parameters
    ----------
    limits : mapping of str to (float, float)
        Ranges of the aircraft's controls, SI.
    sent : iterable of str
        Signals that the link sends.

    Returns
    -------
    list of (str, str)

    Examples
    --------
    >>> what_is_seen({"rudder": (-0.4, 0.4)}, ["rudder"])[-1]
    ('rudder', 'trailing edge left, 11.5 deg')
    """
    rows = [
        ("nose", "to the east, 10 deg above the horizon"), ("right wing", "30 deg down"),
        ("place", "100 m north and 200 m east of the origin, 300 m up"), ("motion", "none"),
    ]  # fmt: skip
    for name in sent:
        if name in limits:
            angle = math.degrees(0.5 * limits[name][1])
            rows.append((name, f"{SEEN.get(name, 'half of its positive range')}, {angle:.3g} deg"))
    return rows
