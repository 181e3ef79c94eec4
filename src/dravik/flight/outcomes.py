"""The outcome of a flight in words: the events that the kernel has logged, and why it could not go on."""

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.finite_values import not_finite
from dravik.kernel import RIGID_STATES, Workspace
from dravik.kernel.program import EVENT_COUNT, EVERYTHING, N_EVENTS, OUTSIDE_TABLE
from dravik.motion.equations import evaluate
from dravik.motion.integration import BEFORE, SLOPE
from dravik.recording.recording import Event

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
