"""What a flight does when a fault or a new mode pauses it: inputs are set, a tank is emptied, a gust begins."""

from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.description.laws import engagements, followers
from dravik.definition.settings import sort_settings
from dravik.definition.signals import EventSpec
from dravik.definition.values import parameter_in_si
from dravik.errors import DravikError
from dravik.flight import histories
from dravik.flight.histories import History
from dravik.kernel import Workspace
from dravik.kernel.program import EVENT_COUNT, EVENTS, N_EVENTS
from dravik.mode_logic.effects import Parameters, enter_mode, mode_of
from dravik.mode_logic.modes import END
from dravik.recording.recording import Event

__all__ = ["Change", "begin", "change_inputs", "enter", "follow", "gust_of", "happened", "switched"]

Floats = NDArray[np.float64]
_SHAPES = {"gust": histories.gust, "pulse": histories.pulse, "ramp": histories.ramp}


class Change(NamedTuple):
    """A flight after a pause: the state, the inputs, histories that now begin, by the input's place, and parameters."""

    state: Floats
    inputs: Floats
    histories: list[tuple[int, History]]
    parameters: Parameters = ()


def begin(craft: Aircraft, x: Floats, u: Floats) -> tuple[Change, list[Event]]:
    """Return the start with each mode logic in its mode, and with the faults whose conditions hold from the beginning.

    From there it goes on at once while the condition of a transition holds.
    """
    mode_logic, script = craft.configuration.mode_logic, craft.configuration.script
    if not script and not mode_logic:
        return Change(x, u, []), []
    change, events = Change(x, u.copy(), []), []
    for name, logic in mode_logic.items():
        number = float(change.inputs[craft.input_index(name)])
        events.append(Event(0.0, f"{name}: {mode_of(logic, number)}"))
        change = _entered(craft, change, name, number)
    for _ in range(sum(len(m.modes) for m in mode_logic.values())):
        open_transitions = [s for s in _holding(craft, change) if s.on_pause[0] == "mode" and s.on_pause[2] != END]
        if not open_transitions:
            break
        _, name, to = open_transitions[0].on_pause
        change = _entered(craft, change, name, float(to))
        events.append(Event(0.0, open_transitions[0].text))
    for spec in _holding(craft, change):
        if spec.on_pause[0] in ("fault", "gust"):
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


def _entered(craft: Aircraft, change: Change, name: str, number: float) -> Change:
    """Return the start with a mode active, counted from one."""
    u = change.inputs.copy()
    own = enter(craft, name, number, u, lambda signal: craft.values(change.state, u, [signal])[signal])
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
    if kind == "gust":
        return Change(x, u, [gust_of(craft, name, t)])

    def read(signal: str) -> float:
        return craft.values(x, now, [signal], t, work)[signal]

    if kind == "mode":
        return Change(x, u, [], enter(craft, name, float(more[0]), u, read))
    _hold(craft, name, u, read)
    effect = craft.configuration.script.faults[name].effect(name, lambda signal: craft.signal(signal).unit)
    if effect.tank is not None:
        x = craft.with_tank(x, *effect.tank)
    return Change(x, u, [])


def gust_of(craft: Aircraft, name: str, t: float) -> tuple[int, History]:
    """Return a gust of the script that began at a time: its input's place, and its history."""
    gust = craft.configuration.script.gusts[name]
    blown = _SHAPES[gust.shape](gust.size, at=t, width=gust.width) if gust.shape != "step" else None
    return craft.input_index(gust.axis), blown or histories.step(gust.size, at=t)


def enter(
    craft: Aircraft, name: str, number: float, u: Floats, read: Callable[[str], float], depth: int = 0
) -> Parameters:
    """Make a mode active, counted from one: set its inputs in ``u``, and return the parameters that it sets.

    ``read`` gives the present value of a signal. Raises DravikError for quantities that do not fit, and for mode logic
    whose modes set one another without an end.
    """
    u[craft.input_index(name)] = number

    def change(values: Mapping[str, str | float]) -> Parameters:
        return change_inputs(craft, values, u, read, depth)

    return enter_mode(name, craft.configuration.mode_logic[name], number, read, change, depth=depth)


def change_inputs(
    craft: Aircraft, values: Mapping[str, str | float], u: Floats, read: Callable[[str], float], depth: int = 0
) -> Parameters:
    """Set inputs in ``u`` by name, and return the parameters among them, whose values fit.

    A law that is engaged takes over the present value for each target that is not set besides; another mode that is set
    begins.
    """
    given = sort_settings(values, craft.parameters)
    own = tuple(given.parameters.items())
    for name, value in own:
        parameter_in_si(craft.configuration.parameters, name, value)
    numbers = craft.inputs_in_si({**given.inputs, **given.loop_keys})
    laws, mode_logic = engagements(craft.configuration.laws), craft.configuration.mode_logic
    for name, number in numbers.items():
        if name in laws and number > 0.5 and u[craft.input_index(name)] <= 0.5:
            for target, signal in followers(laws[name]).items():
                if target not in numbers:
                    u[craft.input_index(target)] = read(signal)
        if name in mode_logic and number != int(number):
            raise DravikError(f"{name} = {number:g} is no mode", expected=", ".join(mode_logic[name].modes))
        if name in mode_logic and number != u[craft.input_index(name)]:
            own += enter(craft, name, number, u, read, depth + 1)
    for name, number in numbers.items():
        fault = name.removeprefix("fault_")
        begins = number > 0.5 and u[craft.input_index(name)] <= 0.5
        if name != fault and begins and fault in craft.configuration.script.faults:
            _hold(craft, fault, u, read)
        u[craft.input_index(name)] = number
    return own


def _hold(craft: Aircraft, name: str, u: Floats, read: Callable[[str], float]) -> None:
    """Set the inputs of a fault that begins: what it holds, it holds where that is now."""
    effect = craft.configuration.script.faults[name].effect(name, lambda signal: craft.signal(signal).unit)
    for target, value in effect.inputs.items():
        u[craft.input_index(target)] = value
    if effect.hold is not None and effect.hold[1] in craft.signals:  # a sensor as a whole holds its outputs itself
        target, signal = effect.hold
        u[craft.input_index(target)] = read(signal)


def switched(craft: Aircraft, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
    """Return modes that have begun, faults that were set, laws engaged or disengaged between two sets of inputs.

    But for the modes of the mode logic ``but``, or the fault of that name, which is logged already.
    """
    found = []
    for name, logic in craft.configuration.mode_logic.items():
        i = craft.input_index(name)
        if name != but and before[i] != after[i]:
            found.append(Event(t, f"{name}: {mode_of(logic, after[i])} (set)"))
    for name, fault in craft.configuration.script.faults.items():
        if fault.has_switch and name != but:
            i = craft.input_index(f"fault_{name}")
            if (before[i] > 0.5) != (after[i] > 0.5):
                found.append(Event(t, f"fault: {name} {'(set)' if after[i] > 0.5 else 'ends (set)'}"))
    for name, law in engagements(craft.configuration.laws).items():
        i = craft.input_index(name)
        if (before[i] > 0.5) != (after[i] > 0.5):
            found.append(Event(t, f"law: {law.name} {'engaged' if after[i] > 0.5 else 'disengaged'}"))
    return found
