"""The origin and the end of a recording, as its side file keeps them beside units and events."""

import time as clock
from dataclasses import asdict
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.flight.body import Body
from dravik.flight.devices import Tasks
from dravik.flight.row_buffer import RowBuffer
from dravik.flight.schedule import Schedule
from dravik.kernel import Workspace
from dravik.version import __version__

__all__ = ["ending", "origin"]

Floats = NDArray[np.float64]


class FlightState(Protocol):
    """What of a flight these functions read."""

    note: dict[str, Any]
    body: Body
    dt: float
    asked: float
    begun: float
    step: int
    x: Floats
    work: Workspace
    schedule: Schedule
    tasks: Tasks
    rows: RowBuffer
    start_inputs: dict[str, float]
    parameters_begun: dict[str, float]
    begun_gusts: list[tuple[str, float]]

    def time_of(self, step: int) -> float:
        """Return the time of a step, s."""


def origin(flight: FlightState) -> dict[str, Any]:
    """Return versions, hashes of what is flown, and how it is flown, as plain data."""
    own, turbulence = flight.body.origin(), flight.schedule.turbulence
    limits = own.pop("limits")
    planned = {key: own.pop(key) for key in ("faults", "gusts", "phases", "mode_logic")}
    return {
        "dravik": __version__,
        **flight.note,
        **own,
        "step_s": flight.dt,
        "asked_s": flight.asked,
        "controls": flight.schedule.texts,
        "parameters": flight.parameters_begun,
        "devices": [task.name for task in flight.tasks.list],
        "turbulence": None if turbulence is None else asdict(turbulence),
        **planned,
        "start_inputs": flight.start_inputs,
        "limits": {n: limits[n] for n in flight.rows.names if n in limits},
        "wall_time_s": round(clock.perf_counter() - flight.begun, 4),
    }


def ending(flight: FlightState) -> dict[str, Any]:
    """Return all that is needed to fly on from where the flight is now, as plain data."""
    names, inputs, schedule = flight.body.state_names, flight.body.inputs, flight.schedule
    found = {
        "time_s": flight.time_of(flight.step),
        "state": dict(zip(names, flight.x.tolist(), strict=True)),
        "inputs": dict(zip(inputs, schedule.inputs.tolist(), strict=True)),
        "gusts_for": schedule.gusts_for,
        "gust_segments": schedule.gusts.made if schedule.gusts is not None else [],
        "begun": flight.begun_gusts,
    }
    if schedule.followers:
        names_of_inputs = list(inputs)
        found["following"] = [[names_of_inputs[f.place], *f[1:]] for f in schedule.followers]
    if flight.body.parameters:
        registers = flight.work.registers
        found["parameters"] = {n: float(registers[flight.body.registers[n]]) for n in flight.body.parameters}
    memory = flight.body.memory()
    if memory:
        found["memory"] = memory
    if flight.tasks.list:
        try:
            found["devices"] = flight.tasks.save()
        except DravikError as error:
            found["devices"] = {"refused": str(error)}
    return found
