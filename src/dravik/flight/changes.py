"""What is changed in a flight that goes on: a part of it is recorded, tanks, turbulence, another loading."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.core import Flight
from dravik.flight.provenance import ending, origin
from dravik.flight.resuming import start_of
from dravik.flight.row_buffer import RowBuffer
from dravik.flight.schedule import GUSTS
from dravik.flight.snapshots import Start
from dravik.frames import body_from_station
from dravik.mass import after_drop
from dravik.recording.recording import Event, Recording
from dravik.recording.writing import RecordingWriter
from dravik.surroundings.gusts import GustStream
from dravik.surroundings.turbulence import Turbulence
from dravik.units import in_si

__all__ = ["begin_recording", "end_recording", "fill_tank", "set_turbulence", "start_in"]


def begin_recording(flight: Flight, path: str | Path, signals: Sequence[str] | None, every: int) -> None:
    """Record a flight from now on to a file; its metadata ``begin`` is the state to fly it again from.

    Raises DravikError for signals that are not there, where it is recorded already, or the file cannot be written.
    """
    if flight.save_to is not None:
        raise DravikError("the flight is recorded already", where=str(flight.save_to), hint="end that recording first")
    body = flight.body
    for name in signals or ():
        if name not in flight.tasks.board:
            body.signal(name)
    names = [*(n for n in body.signals if n not in body.parameters), *flight.tasks.board]
    rows = RowBuffer(body, names if signals is None else signals, flight.tasks.units, every)
    begin = ending(flight)
    metadata = {**origin(flight), "begin": begin, "asked_s": 0.0}
    flight.writer = RecordingWriter(path, rows.names, rows.units, metadata, begin)
    flight.rows_aside, flight.rows, flight.save_to = flight.rows, rows, path
    flight.note["begin"] = begin


def end_recording(flight: Flight) -> Recording:
    """End a recording that ``begin_recording`` began, with the row of this instant; return it.

    Raises DravikError where there is none, FlightError where it cannot be written.
    """
    if flight.rows_aside is None:
        raise DravikError("nothing is recorded that was begun in flight", hint="begin_recording(path)")
    found = flight.recording(present=True, copied=False)
    begun = float(flight.note["begin"]["time_s"])
    found = replace(found, events=[e for e in found.events if e.time >= begun])
    try:
        if flight.writer is not None:
            flight.close_file(found)
    finally:
        flight.rows, flight.rows_aside = flight.rows_aside, None
        flight.writer = flight.save_to = None
        flight.note.pop("begin", None)
    return found


def fill_tank(flight: Flight, tank: str, mass: str | float) -> None:
    """Put a mass (kg) into a tank at once; raises DravikError for a tank that does not flow, or that holds less."""
    craft = _craft(flight)
    now = float(flight.read(f"tank_{tank}")) if f"tank_{tank}" in flight.body.signals else 0.0
    flight.x[:] = craft.with_tank(flight.x, tank, mass)
    flight.evaluate()
    text = f"tank {tank}: {now:.6g} to {in_si(mass, 'mass', where=tank):.6g} kg (set)"
    flight.notes.append(Event(flight.time_of(flight.step), text))


def set_turbulence(flight: Flight, turbulence: Turbulence | None) -> None:
    """Fly in other turbulence from now on, or in none; the gusts of the old one end at once.

    Raises DravikError for a plant that is no aircraft.
    """
    craft, schedule = _craft(flight), flight.schedule
    schedule.turbulence = turbulence
    schedule.gusts = None if turbulence is None else GustStream(turbulence, craft.definition.reference.span)
    schedule.gust_inputs = np.array([flight.body.input_index(n) for n in GUSTS], dtype=np.int64)
    schedule.gusts_for = None
    flight.notes.append(Event(flight.time_of(flight.step), f"turbulence: {_words(turbulence)} (set)"))


def _words(turbulence: Turbulence | None) -> str:
    return "none" if turbulence is None else f"{turbulence.severity}, seed {turbulence.seed}"


def start_in(flight: Flight, craft: Aircraft) -> Start:
    """Return the start with which the same flight goes on in another loading of its aircraft.

    States and inputs keep their values by name; position and velocity become those of the new centre of gravity.
    Raises DravikError where the other aircraft has a state that this flight does not have.
    """
    before, end = _craft(flight), ending(flight)
    state, inputs = dict(end["state"]), dict(end["inputs"])
    defaults = dict(zip(craft.input_names, craft.default_inputs().tolist(), strict=True))
    end["inputs"] = {n: inputs.get(n, v) for n, v in defaults.items()}
    masses = _tanks_of(craft)
    missing = [n for n in craft.state_names if n not in state and n not in masses]
    if missing:
        raise DravikError(
            f"{craft.name} ({craft.loading_name}) has states that the flight has not: {', '.join(missing[:5])}",
            expected="another loading of the same aircraft, with the same laws",
        )
    end["state"] = {n: state.get(n, masses.get(n, 0.0)) for n in craft.state_names}
    end["following"] = [f for f in end.get("following") or [] if f[0] in defaults]
    start = start_of(end)
    places = ("cg_x", "cg_y", "cg_z")
    then = np.array([before.values(flight.x, flight.schedule.inputs, [n])[n] for n in places])
    now = np.array([craft.values(start.state, start.inputs, [n])[n] for n in places])
    shift = body_from_station(now, (then[0], then[1], then[2]))
    return replace(start, state=after_drop(start.state, shift))


def _tanks_of(craft: Aircraft) -> Mapping[str, float]:
    """Return what flowing tanks hold at the start in a loading, by their states."""
    begun = craft.state(velocity=(1.0, 0.0, 0.0))  # any velocity: only the tanks are looked at
    found = dict(zip(craft.state_names, begun.tolist(), strict=True))
    return {n: v for n, v in found.items() if n.startswith("tank_")}


def _craft(flight: Flight) -> Aircraft:
    body = flight.body
    if not isinstance(body, AircraftBody):
        raise DravikError(f"{body.name} is no aircraft", expected="an aircraft")
    return body.craft
