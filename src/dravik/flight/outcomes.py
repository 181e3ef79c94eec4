"""The outcome of a flight in words: the events that the kernel has logged, and why it could not go on."""

import numpy as np

from dravik.aircraft import Aircraft
from dravik.flight.recording import Event
from dravik.kernel import RIGID_STATES, Workspace
from dravik.kernel.integrate import BEFORE, SLOPE
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVENT_COUNT, EVERYTHING, N_EVENTS, OUTSIDE_TABLE

__all__ = ["failure", "logged_events"]


def logged_events(craft: Aircraft, w: Workspace) -> list[Event]:
    """Return what the kernel has logged, in order of time."""
    n = int(craft.program.layout[N_EVENTS])
    log = w.events[n : n + int(w.counters[EVENT_COUNT])]
    return sorted((Event(float(t), craft.events[int(i)].text) for t, i in log), key=lambda e: e.time)


def failure(craft: Aircraft, w: Workspace, t: float, dt: float) -> tuple[float, str]:
    """Return when (``t`` unless the kernel knows better) and why the kernel could not go on in a step, in words."""
    counter = int(w.counters[OUTSIDE_TABLE]) - 1
    if counter >= 0:
        return t, craft.outside_message(counter, float(w.worst[counter, 2]))
    if not np.isfinite(w.registers[: len(RIGID_STATES)]).all():
        # a Runge-Kutta stage produced a NaN, which spread to the rest: repeat the step's first stage to find its origin
        x = w.slopes[BEFORE] + dt * w.slopes[SLOPE]
        evaluate(craft.program, w, t + dt, x, w.inputs[2], w.slopes[0], False, EVERYTHING)
    return float(w.registers[0]), not_finite(craft, w)


def not_finite(craft: Aircraft, w: Workspace) -> str:
    """Return in words which value stopped being finite, and in which formula it arose."""
    tape = craft.tape
    roots = [*(s.rate for s in tape.states), *tape.names.values()]
    registers = w.registers[: len(tape.registers)]
    by_register = {r: n for n, r in tape.names.items()}
    rates = {s.rate: f"the rate of {s.name}" for s in tape.states}
    found = ""
    for register in roots:
        if register < 0 or np.isfinite(registers[register]):
            continue
        name = by_register.get(register) or rates.get(register, "a value")
        source = tape.trace(register, registers)
        text = f"{name} is {registers[register]}"
        if source is not None and source.text:
            start = max(0, source.position - 40)
            snippet = source.text[start : start + 80]
            return f"{text}: it arises in {source.name}\n  {snippet}\n  {' ' * (source.position - start)}^"
        # prefer a formula's name over the kernel's own signals computed from it
        found = found or text
    return found or "the motion has left all bounds"
