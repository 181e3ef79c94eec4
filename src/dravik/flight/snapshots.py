"""A flight at one instant: where one starts without a trim, and all that one is, saved and restored."""

import math
from collections.abc import Mapping
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.flight.body import Body
from dravik.flight.devices import Tasks
from dravik.flight.row_buffer import RowBuffer
from dravik.flight.schedule import Following, Schedule
from dravik.kernel import Workspace
from dravik.recording.recording import Event
from dravik.recording.writing import RecordingWriter
from dravik.trimming import PlantTrim, TrimPoint

__all__ = ["SavedFlight", "Start", "Startable", "following_of", "restore", "saved_of"]

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


class Flying(Protocol):
    """What of a flight is saved and restored."""

    body: Body
    dt: float
    step: int
    x: NDArray[Any]
    work: Workspace
    schedule: Schedule
    tasks: Tasks
    notes: list[Event]
    begun_gusts: list[tuple[str, float]]
    rows: RowBuffer
    rows_aside: RowBuffer | None
    writer: RecordingWriter | None
    called: int


def saved_of(flight: Flying) -> SavedFlight:
    """Return all that a flight is now; raises DravikError for a device whose state is no plain data."""
    rows = flight.rows_aside or flight.rows  # what is recorded of a part of it to a file is not saved
    return SavedFlight(
        _fingerprint(flight), flight.step, rows.values.copy(), flight.x.copy(), deepcopy(flight.work),
        flight.schedule.copied(), flight.tasks.save(), tuple(flight.notes), tuple(flight.begun_gusts),
    )  # fmt: skip


def restore(flight: Flying, saved: SavedFlight) -> None:
    """Restore a saved flight, to the last bit; raises DravikError for another aircraft, loading, step, device."""
    require(saved, SavedFlight, "what is restored", "session.save()")
    own = _fingerprint(flight)
    if saved.fingerprint != own:
        raise DravikError(
            f"what was saved is of {saved.fingerprint[:2]}, not of {own[:2]}",
            expected="the same aircraft, loading, laws, devices and step",
        )
    if flight.writer is not None:
        raise DravikError("a flight that is written to a file cannot go back", hint="record without save")
    for mine, other in zip(flight.work, saved.workspace, strict=True):
        mine[...] = other
    flight.step, flight.x = saved.step, saved.state.copy()
    flight.schedule = saved.schedule.copied()
    flight.schedule.body = flight.body
    flight.tasks.restore(saved.devices)
    flight.notes, flight.begun_gusts = list(saved.notes), list(saved.begun_gusts)
    flight.rows.put(saved.rows)
    flight.called = -1


def _fingerprint(flight: Flying) -> tuple[object, ...]:
    rows = flight.rows_aside or flight.rows
    return (
        *flight.body.key, flight.dt, tuple(task.name for task in flight.tasks.list), tuple(rows.names),
        tuple(w.shape for w in flight.work),
    )  # fmt: skip
