"""What a flight does when a fault or a new mode pauses it: inputs are set, a tank is emptied, a gust begins."""

from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.compiling.built import EventSpec
from dravik.aircraft.description.faults import Gust
from dravik.aircraft.description.laws import engagements, followers
from dravik.aircraft.settings import parameter_in_si
from dravik.errors import DravikError
from dravik.flight import histories
from dravik.flight.histories import History
from dravik.kernel import Workspace
from dravik.kernel.program import EVENT_COUNT, EVENTS, N_EVENTS
from dravik.mode_logic.modes import END
from dravik.recording.recording import Event

__all__ = ["Change", "begin", "change_inputs", "enter", "follow", "gust_of", "happened", "switched"]

Floats = NDArray[np.float64]
DEEPEST = 20  # modes that machines put each other into, one from the other
_SHAPES = {"gust": histories.gust, "pulse": histories.pulse, "ramp": histories.ramp}


class Change(NamedTuple):
    """A flight after a pause: the state, the inputs, histories that now begin, by the input's place, and parameters."""

    state: Floats
    inputs: Floats
    histories: list[tuple[int, History]]
    parameters: tuple[tuple[str, str | float], ...] = ()


def begin(craft: Aircraft, x: Floats, u: Floats) -> tuple[Change, list[Event]]:
    """Return the start with each machine in its mode, and with the faults whose conditions hold from the beginning.

    A machine goes on from there at once while a way out of its mode is open.
    """
    machines, plan = craft.configuration.machines, craft.configuration.plan
    if not plan and not machines:
        return Change(x, u, []), []
    change, events = Change(x, u.copy(), []), []
    for name, machine in machines.items():
        k = int(change.inputs[craft.input_index(name)]) - 1
        events.append(Event(0.0, f"{name}: {list(machine.modes)[k]}"))
        change = _entered(craft, change, name, k)
    for _ in range(sum(len(m.modes) for m in machines.values())):
        open_ways = [s for s in _holding(craft, change) if s.on_pause[0] == "mode" and s.on_pause[2] != END]
        if not open_ways:
            break
        _, name, number = open_ways[0].on_pause
        change = _entered(craft, change, name, int(number) - 1)
        events.append(Event(0.0, open_ways[0].text))
    for spec in _holding(craft, change):
        if spec.on_pause[0] == "fault":
            after = follow(craft, spec.on_pause, 0.0, change.state, change.inputs, change.inputs.copy())
            change = after._replace(
                histories=[*change.histories, *after.histories], parameters=(*change.parameters, *after.parameters)
            )
            events.append(Event(0.0, spec.text))
    return change, events


def _holding(craft: Aircraft, change: Change) -> list[EventSpec]:
    """Return the pauses whose conditions hold."""
    registers = craft.registers(change.state, change.inputs).registers
    pairs = zip(craft.events, _conditions(craft), strict=True)
    return [spec for spec, register in pairs if spec.action == "pause" and registers[register] != 0.0]


def _entered(craft: Aircraft, change: Change, name: str, k: int) -> Change:
    """Return the start with a machine in a mode, counted from nought."""
    u = change.inputs.copy()
    own = enter(craft, name, k, u, lambda signal: craft.values(change.state, u, [signal])[signal])
    return change._replace(inputs=u, parameters=(*change.parameters, *own))


def _conditions(craft: Aircraft) -> list[int]:
    layout = craft.program.layout
    first = int(layout[EVENTS])
    return [int(r) for r in layout[first : first + int(layout[N_EVENTS])]]


def happened(craft: Aircraft, w: Workspace, since: int) -> Iterable[tuple[str, ...]]:
    """Return what the pauses logged after the first ``since`` events stand for, in order."""
    n = int(craft.program.layout[N_EVENTS])
    specs = [craft.events[int(i)] for _, i in w.events[n + since : n + int(w.counters[EVENT_COUNT])]]
    return [spec.on_pause for spec in specs if spec.action == "pause"]


def follow(
    craft: Aircraft, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats, work: Workspace | None = None
) -> Change:
    """Return the flight after what has happened at a time; raises DravikError for quantities that do not fit.

    ``u`` are the inputs that were set, which it changes; ``now`` are those in force, with histories and turbulence.
    """
    kind, name, *more = then

    def read(signal: str) -> float:
        return craft.values(x, now, [signal], t, work)[signal]

    if kind == "mode":
        return Change(x, u, [], enter(craft, name, int(more[0]) - 1, u, read))
    _hold(craft, name, u, read)
    effect = craft.configuration.plan.faults[name].effect(name, lambda signal: craft.signal(signal).unit)
    if effect.tank is not None:
        x = craft.with_tank(x, *effect.tank)
    return Change(x, u, [gust_of(craft, name, t)] if effect.gust else [])


def gust_of(craft: Aircraft, name: str, t: float) -> tuple[int, History]:
    """Return the gust of a fault that began at a time: its input's place, and its history."""
    fault = craft.configuration.plan.faults[name]
    assert isinstance(fault, Gust)
    blown = _SHAPES[fault.shape](fault.size, at=t, width=fault.width) if fault.shape != "step" else None
    return craft.input_index(fault.axis), blown or histories.step(fault.size, at=t)


def enter(
    craft: Aircraft, name: str, k: int, u: Floats, read: Callable[[str], float], depth: int = 0
) -> tuple[tuple[str, str | float], ...]:
    """Put a machine into a mode, counted from nought: set its inputs in ``u``, and return the parameters that it sets.

    ``read`` gives the present value of a signal. Raises DravikError for quantities that do not fit, and for machines
    that put each other into modes without an end.
    """
    if depth > DEEPEST:
        raise DravikError(f"{name} and another machine put each other into modes without an end")
    machine = craft.configuration.machines[name]
    label = list(machine.modes)[k]
    mode = machine.modes[label]
    u[craft.input_index(name)] = k + 1.0
    taken = {target: read(signal) for target, signal in mode.take.items()}
    try:
        return change_inputs(craft, {**mode.set, **taken}, u, read, depth)
    except DravikError as error:
        raise error if depth else error.at(f"{name} {label!r}") from None


def change_inputs(
    craft: Aircraft, values: Mapping[str, str | float], u: Floats, read: Callable[[str], float], depth: int = 0
) -> tuple[tuple[str, str | float], ...]:
    """Set inputs in ``u`` by name, and return the parameters among them, whose values fit.

    A law that is engaged takes over the present value for each target that is not set besides; a machine that is put
    into another mode begins it.
    """
    own = tuple((n, v) for n, v in values.items() if n in craft.parameters)
    for name, value in own:
        parameter_in_si(craft.configuration.parameters, name, value)
    numbers = craft.inputs_in_si({n: v for n, v in values.items() if n not in craft.parameters})
    laws, machines = engagements(craft.configuration.laws), craft.configuration.machines
    for name, number in numbers.items():
        if name in laws and number > 0.5 and u[craft.input_index(name)] <= 0.5:
            for target, signal in followers(laws[name]).items():
                if target not in numbers:
                    u[craft.input_index(target)] = read(signal)
        if name in machines and number != int(number):
            raise DravikError(f"{name} = {number:g} is no mode", expected=", ".join(machines[name].modes))
        if name in machines and number != u[craft.input_index(name)]:
            own += enter(craft, name, int(number) - 1, u, read, depth + 1)
    for name, number in numbers.items():
        fault = name.removeprefix("fault_")
        begins = number > 0.5 and u[craft.input_index(name)] <= 0.5
        if name != fault and begins and fault in craft.configuration.plan.faults:
            _hold(craft, fault, u, read)
        u[craft.input_index(name)] = number
    return own


def _hold(craft: Aircraft, name: str, u: Floats, read: Callable[[str], float]) -> None:
    """Set the inputs of a fault that begins: what it holds, it holds where that is now."""
    effect = craft.configuration.plan.faults[name].effect(name, lambda signal: craft.signal(signal).unit)
    for target, value in effect.inputs.items():
        u[craft.input_index(target)] = value
    if effect.hold is not None:
        target, signal = effect.hold
        u[craft.input_index(target)] = read(signal)


def switched(craft: Aircraft, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
    """Return modes that have begun, faults that were set, laws engaged or disengaged between two sets of inputs.

    But for the modes of the machine ``but``, or the fault of that name, which is logged already.
    """
    found = []
    for name, machine in craft.configuration.machines.items():
        i = craft.input_index(name)
        if name != but and before[i] != after[i]:
            found.append(Event(t, f"{name}: {list(machine.modes)[int(after[i]) - 1]} (set)"))
    for name, fault in craft.configuration.plan.faults.items():
        if fault.has_switch and name != but:
            i = craft.input_index(f"fault_{name}")
            if (before[i] > 0.5) != (after[i] > 0.5):
                found.append(Event(t, f"fault: {name} {'(set)' if after[i] > 0.5 else 'ends (set)'}"))
    for name, law in engagements(craft.configuration.laws).items():
        i = craft.input_index(name)
        if (before[i] > 0.5) != (after[i] > 0.5):
            found.append(Event(t, f"law: {law.name} {'engaged' if after[i] > 0.5 else 'disengaged'}"))
    return found
