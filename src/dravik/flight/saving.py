"""A flight saved and restored: all that it is at one instant."""

from copy import deepcopy
from typing import Any, Protocol

from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.flight.body import Body
from dravik.flight.devices import Tasks
from dravik.flight.row_buffer import RowBuffer
from dravik.flight.schedule import Schedule
from dravik.flight.snapshots import SavedFlight
from dravik.kernel import Workspace
from dravik.recording.recording import Event
from dravik.recording.writing import RecordingWriter

__all__ = ["restore", "saved_of"]


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
