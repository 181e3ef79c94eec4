"""What a flight does when a fault or a new phase pauses it: inputs are set, a tank is emptied, a gust begins."""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.faults import Gust
from dravik.aircraft.parameters import parameter_in_si
from dravik.errors import DravikError
from dravik.flight import histories
from dravik.flight.histories import History
from dravik.flight.recording import Event
from dravik.kernel import Workspace
from dravik.kernel.program import EVENT_COUNT, EVENTS, N_EVENTS

__all__ = ["Change", "begin", "follow", "gust_of", "happened"]

Floats = NDArray[np.float64]
_SHAPES = {"gust": histories.gust, "pulse": histories.pulse, "ramp": histories.ramp}


class Change(NamedTuple):
    """A flight after a pause: the state, the inputs, histories that now begin, by the input's place, and parameters."""

    state: Floats
    inputs: Floats
    histories: list[tuple[int, History]]
    parameters: tuple[tuple[str, str | float], ...] = ()


def begin(craft: Aircraft, x: Floats, u: Floats) -> tuple[Change, list[Event]]:
    """Return the start with the first phase set, and with the faults whose conditions hold from the beginning."""
    plan = craft.configuration.plan
    if not plan:
        return Change(x, u, []), []
    change, events = Change(x, u.copy(), []), []
    if plan.phases:
        change = change._replace(parameters=_set_phase(craft, change.inputs, 0))
        events.append(Event(0.0, f"phase: {plan.phases[0].name}"))
    registers = craft.registers(change.state, change.inputs).registers
    for spec, register in zip(craft.events, _conditions(craft), strict=True):
        if spec.action == "pause" and spec.on_pause[0] == "fault" and registers[register] != 0.0:
            after = follow(craft, spec.on_pause, 0.0, change.state, change.inputs, change.inputs.copy())
            change = after._replace(histories=[*change.histories, *after.histories])
            events.append(Event(0.0, spec.text))
    return change, events


def _conditions(craft: Aircraft) -> list[int]:
    layout = craft.program.layout
    first = int(layout[EVENTS])
    return [int(r) for r in layout[first : first + int(layout[N_EVENTS])]]


def happened(craft: Aircraft, w: Workspace, since: int) -> Iterable[tuple[str, ...]]:
    """Return what the pauses logged after the first ``since`` events stand for, in order."""
    n = int(craft.program.layout[N_EVENTS])
    specs = [craft.events[int(i)] for _, i in w.events[n + since : n + int(w.counters[EVENT_COUNT])]]
    return [spec.on_pause for spec in specs if spec.action == "pause"]


def follow(craft: Aircraft, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats) -> Change:
    """Return the flight after what has happened at a time; raises DravikError for quantities that do not fit.

    ``u`` are the inputs that were set, which it changes; ``now`` are those in force, with histories and turbulence.
    """
    kind, name = then
    if kind == "phase":
        return Change(x, u, [], _set_phase(craft, u, int(name)))
    effect = craft.configuration.plan.faults[name].effect(name, lambda signal: craft.signal(signal).unit)
    for target, value in effect.inputs.items():
        u[craft.input_index(target)] = value
    if effect.hold is not None:
        target, signal = effect.hold
        u[craft.input_index(target)] = craft.values(x, now, [signal], t)[signal]
    if effect.tank is not None:
        x = craft.with_tank(x, *effect.tank)
    return Change(x, u, [gust_of(craft, name, t)] if effect.gust else [])


def gust_of(craft: Aircraft, name: str, t: float) -> tuple[int, History]:
    """Return the gust of a fault that began at a time: its input's place, and its history."""
    fault = craft.configuration.plan.faults[name]
    assert isinstance(fault, Gust)
    blown = _SHAPES[fault.shape](fault.size, at=t, width=fault.width) if fault.shape != "step" else None
    return craft.input_index(fault.axis), blown or histories.step(fault.size, at=t)


def _set_phase(craft: Aircraft, u: Floats, k: int) -> tuple[tuple[str, str | float], ...]:
    """Set the inputs of a phase, counted from nought, and return the parameters that it sets."""
    phase = craft.configuration.plan.phases[k]
    u[craft.input_index("phase")] = k + 1.0
    own = tuple((name, value) for name, value in phase.set.items() if name in craft.parameters)
    try:
        found = craft.inputs_in_si({n: v for n, v in phase.set.items() if n not in craft.parameters})
        for name, value in own:
            parameter_in_si(craft.configuration.parameters, name, value)
    except DravikError as error:
        raise error.at(f"phase {phase.name!r}") from None
    for name, number in found.items():
        u[craft.input_index(name)] = number
    return own
