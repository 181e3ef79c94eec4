"""A flight at one instant: where one starts without a trim, and all that one is, saved."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.flight.body import Body
from dravik.flight.schedule import Following, Schedule
from dravik.kernel import Workspace
from dravik.recording.recording import Event
from dravik.trimming import PlantTrim, TrimPoint

__all__ = ["SavedFlight", "Start", "Startable", "following_of"]

Floats = NDArray[np.float64]
STANDS = 1e-9  # rad/s, m/s: slower, what an input follows stands still


@dataclass(frozen=True)
class Start:
    """Where a flight starts without a trim.

    Parameters
    ----------
    state : array, shape (n,)
        The integrated state in the kernel's order, SI: see ``Aircraft.state``.
    inputs : array, shape (m,)
        The inputs in the kernel's order, SI.
    time : float, default 0
        The time, s; that which another flight had reached where this one goes on from it.
    gusts_for, gust_segments : optional
        Airspeed, heights and heading for which turbulence was made.
    begun : tuple, optional
        Discrete gusts that had begun, with their times (s).
    devices, parameters, memory : mapping, optional
        Of devices, parameters (SI) and functions that remember, as they were.
    following : tuple, optional
        Inputs that go on following what they followed in a turn or climb that was trimmed: name, value, rate, since
        when, whether an angle.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika")
    >>> begun = dv.Start(craft.state(position=(0, 0, 300), velocity=(15, 0, 1)), craft.default_inputs())
    >>> dv.fly(craft, start=begun, duration=1).flown
    1.0
    """

    state: Floats
    inputs: Floats
    time: float = 0.0
    gusts_for: tuple[float, float, float, float, float] | None = None
    gust_segments: tuple[tuple[float, float], ...] = ()
    begun: tuple[tuple[str, float], ...] = ()
    devices: Mapping[str, Any] = field(default_factory=dict)
    parameters: Mapping[str, float] = field(default_factory=dict)
    memory: Mapping[str, float] = field(default_factory=dict)
    following: tuple[tuple[str, float, float, float, bool], ...] = ()


Startable = TrimPoint | PlantTrim | Start


def following_of(
    body: Body, start: Startable, inputs: Floats, controls: Mapping[str, object], since: float
) -> list[Following]:
    """Return the inputs, from their values ``inputs``, that go on with a trimmed turn or climb from time ``since`` (s).

    Those in ``controls`` are told otherwise.
    """
    if isinstance(start, Start):
        return [
            Following(body.input_index(n), base, rate, begun, wraps) for n, base, rate, begun, wraps in start.following
        ]
    if not isinstance(start, TrimPoint):
        return []
    taken = {body.input_index(n) for n in controls}
    rates = {"psi": start.turning, "track": start.turning, "altitude": start.signals["climb_rate"]}
    found = []
    for place, spec in enumerate(body.inputs.values()):
        rate = rates.get(spec.follows, 0.0)
        if place not in taken and abs(rate) > STANDS:
            wraps = spec.follows != "altitude" and math.isfinite(spec.high)
            found.append(Following(place, float(inputs[place]), rate, since, wraps))
    return found


@dataclass(frozen=True)
class SavedFlight:
    """Everything a flight is at one instant; ``restore`` it into a flight of the same aircraft, step and devices."""

    fingerprint: tuple[object, ...]
    step: int
    rows: Floats
    state: Floats
    workspace: Workspace
    schedule: Schedule
    devices: Mapping[str, Any]
    notes: tuple[Event, ...]
    begun_gusts: tuple[tuple[str, float], ...]
