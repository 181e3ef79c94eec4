"""Fixed-step integration over a stretch of flight, recording and watching for events as it goes.

The classical fourth-order Runge-Kutta method; inputs run straight from their value at the start of
each step to their value at its end, so a smooth history is followed to the method's order.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.kernel.calls import call_evaluate
from dravik.kernel.own_device import run_own_device, set_own_values
from dravik.kernel.program import (
    COUNTING,
    END,
    EVENT_ACTIONS,
    EVENT_CAPACITY,
    EVENT_COUNT,
    EVENTS,
    EVERYTHING,
    FINITE,
    FINITE_IF,
    FOUND,
    HIGHS,
    LOWS,
    MOTION,
    N_EVENTS,
    N_FINITE,
    N_STATES,
    NOT_FINITE,
    OUTSIDE_TABLE,
    OWN_DEVICE,
    PAUSE,
    PAUSED,
    STOP_EVENT,
    Program,
    Workspace,
)
from dravik.kernel.sampled_cells import recall, remember, store
from dravik.motion.equations import N_RIGID

__all__ = ["LAST_EVALUATED", "LAST_RECORDED", "LAST_UNTOUCHED", "clamp_states", "derivative_many", "fly_steps"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
EVENT_WIDTH = 1e-8  # s: the time of an event is bisected to this width
# after the last step: leave the final state, evaluate all its signals, or evaluate and record a row
LAST_UNTOUCHED, LAST_EVALUATED, LAST_RECORDED = 0, 1, 2
BEFORE, SLOPE, TRIAL = 5, 6, 7  # rows of a workspace's slopes: last good state and its slope, a state in between


@compiled
def clamp_states(program: Program, reg: Floats, x: Floats) -> None:
    """Restore the quaternion's length, and put states that have limits back inside them."""
    # the quaternion's length drifts with the integration error only: restore it after each step
    n = 1.0 / math.sqrt(x[6] * x[6] + x[7] * x[7] + x[8] * x[8] + x[9] * x[9])
    for i in range(6, 10):
        x[i] *= n
    layout = program.layout
    for i in range(layout[N_STATES]):
        low, high = layout[layout[LOWS] + i], layout[layout[HIGHS] + i]
        if low >= 0 and x[N_RIGID + i] < reg[low]:
            x[N_RIGID + i] = reg[low]
        if high >= 0 and x[N_RIGID + i] > reg[high]:
            x[N_RIGID + i] = reg[high]


@inlined
def rk4_step(program: Program, work: Workspace, t: float, x: Floats, um: Floats, u1: Floats, dt: float) -> None:
    """Advance ``x`` by one step whose first slope stands in ``work.slopes[0]``.

    ``um`` and ``u1`` are the inputs half way and at the end.
    """
    k, n = work.slopes, x.shape[0]
    z = k[4]
    for i in range(n):
        z[i] = x[i] + 0.5 * dt * k[0, i]
    call_evaluate(program, work, t + 0.5 * dt, z, um, k[1], False, MOTION)
    for i in range(n):
        z[i] = x[i] + 0.5 * dt * k[1, i]
    call_evaluate(program, work, t + 0.5 * dt, z, um, k[2], False, MOTION)
    for i in range(n):
        z[i] = x[i] + dt * k[2, i]
    call_evaluate(program, work, t + dt, z, u1, k[3], False, MOTION)
    for i in range(n):
        x[i] += dt / 6.0 * (k[0, i] + 2.0 * (k[1, i] + k[2, i]) + k[3, i])


@inlined
def part_of_step(program: Program, work: Workspace, t: float, dt: float, share: float) -> None:
    """Put the state at a share of the last step into row TRIAL, and all signals there into the registers.

    The step began at ``t`` in the state of row BEFORE, with the slope of row SLOPE and the inputs of rows 1 and 2.
    """
    x, u = work.slopes[TRIAL], work.inputs
    # repeat the step with a shorter length: the same accuracy as the step itself, no interpolation
    for i in range(x.shape[0]):
        x[i] = work.slopes[BEFORE, i]
        work.slopes[0, i] = work.slopes[SLOPE, i]
    for i in range(u.shape[1]):
        u[0, i] = u[1, i] + 0.5 * share * (u[2, i] - u[1, i])
        u[3, i] = u[1, i] + share * (u[2, i] - u[1, i])
    rk4_step(program, work, t, x, u[0], u[3], share * dt)
    clamp_states(program, work.registers, x)
    call_evaluate(program, work, t + share * dt, x, u[3], work.slopes[0], False, EVERYTHING)


@inlined
def locate_event(program: Program, work: Workspace, register: int, t: float, dt: float) -> float:
    """Return the share of the last step at whose end a condition has become true, to EVENT_WIDTH seconds."""
    low, high = 0.0, 1.0
    # bisection: conditions are logical (0 or 1), so nothing faster applies
    while (high - low) * dt > EVENT_WIDTH:
        middle = 0.5 * (low + high)
        part_of_step(program, work, t, dt, middle)
        if work.registers[register] != 0.0:
            high = middle
        else:
            low = middle
    return high


@inlined
def watch_events(program: Program, work: Workspace, t: float, dt: float) -> float:
    """Log conditions that have become true since the last call; return the share of the step where one ends the run.

    2 means that none does. If something was found, which the flag FOUND tells, the registers are
    those of another time afterwards and must be evaluated again.
    """
    layout, counters, n = program.layout, work.counters, program.layout[N_EVENTS]
    counters[FOUND] = 0
    stop, begun = 2.0, counters[EVENT_COUNT]
    for i in range(n):
        now = work.registers[layout[layout[EVENTS] + i]]
        # an event is a change from false to true; the first look (NaN before) is none
        work.events[i, 1] = 1.0 if now != 0.0 and work.events[i, 0] == 0.0 else 0.0
        work.events[i, 0] = now
    for i in range(n):
        if work.events[i, 1] == 0.0 or counters[EVENT_COUNT] >= EVENT_CAPACITY:
            continue
        counters[FOUND] = 1
        share = locate_event(program, work, layout[layout[EVENTS] + i], t - dt, dt)
        work.events[n + counters[EVENT_COUNT], 0] = t - dt + share * dt
        work.events[n + counters[EVENT_COUNT], 1] = i
        counters[EVENT_COUNT] += 1
        action = layout[layout[EVENT_ACTIONS] + i]
        if action == END and share < stop:
            stop = share
            counters[STOP_EVENT] = i + 1
        if action == PAUSE:
            counters[PAUSED] = 1
    if stop <= 1.0:
        # drop events of this step that lie after the event that ends the run
        kept = begun
        for k in range(begun, counters[EVENT_COUNT]):
            if work.events[n + k, 0] <= t - dt + stop * dt:
                work.events[n + kept, 0], work.events[n + kept, 1] = work.events[n + k, 0], work.events[n + k, 1]
                kept += 1
        counters[EVENT_COUNT] = kept
    return stop


@inlined
def all_finite(x: Floats) -> bool:
    """Whether every entry is a finite number."""
    total = 0.0
    for i in range(x.shape[0]):
        # 0 * x is 0 for finite x and NaN otherwise: one branch for all entries
        total += x[i] * 0.0
    return total == 0.0


@inlined
def formulas_finite(program: Program, reg: Floats) -> bool:
    """Whether no formula divides by zero, takes the root of a negative number, or the like, in a branch that counts."""
    layout = program.layout
    total, k = 0.0, layout[FINITE]
    for i in range(layout[N_FINITE]):
        total += reg[layout[k + i]] * 0.0
    if total != 0.0:
        return False
    k = layout[FINITE_IF]
    count, k = layout[k], k + 1
    for _ in range(count):
        value, n = reg[layout[k]], layout[k + 1]
        k += 2
        if value * 0.0 != 0.0:
            is_taken = True
            for i in range(n):
                is_taken &= (reg[layout[k + 2 * i]] != 0.0) == (layout[k + 2 * i + 1] != 0)
            if is_taken:
                return False
        k += 2 * n
    return True


@compiled
def fly_steps(
    program: Program, work: Workspace, x: Floats, start: float, dt: float, first: int, controls: Floats,
    every: int, picks: Ints, out: Floats, last: int,
) -> tuple[int, int]:  # fmt: skip
    """Fly ``controls.shape[0]`` steps from step number ``first``; return steps done and rows written.

    ``controls`` (steps, 2, inputs) holds each step's inputs at its start and end. Every ``every``-th step
    the picked registers go to a row of ``out``, and ``last`` says what is done with the state after the final step. The
    run stops early on a state, rate or formula that is not finite (flag NOT_FINITE, of a rate or formula), a table left
    where that is an error, an event that ends it, or where ``out`` is full; ``x`` is then the last good state. At an
    event that pauses the run it returns before the step's row, with the flag PAUSED: the caller handles the event,
    clears the flag, and calls again from there.
    """
    rows = 0
    steps = controls.shape[0]
    n = x.shape[0]
    before, slope, u = work.slopes[BEFORE], work.slopes[SLOPE], work.inputs
    for step in range(steps + 1):
        if step == steps and last == LAST_UNTOUCHED:
            break
        t = start + (first + step) * dt
        u0 = controls[step, 0] if step < steps else controls[steps - 1, 1]
        work.counters[COUNTING] = 1
        # visits outside tables are counted here only, once a step, and not in the stages between
        call_evaluate(program, work, t, x, u0, work.slopes[0], False, EVERYTHING)
        work.counters[COUNTING] = 0
        if not all_finite(work.slopes[0]) or not formulas_finite(program, work.registers):
            work.counters[NOT_FINITE] = 1
            return step, rows
        stop = watch_events(program, work, t, dt)
        if work.counters[FOUND] != 0:
            if stop <= 1.0:
                # the run ends where the event is, not at the end of its step
                part_of_step(program, work, t - dt, dt, stop)
                for i in range(n):
                    x[i] = work.slopes[TRIAL, i]
            else:
                call_evaluate(program, work, t, x, u0, work.slopes[0], False, EVERYTHING)
                if work.counters[PAUSED] != 0 and step < steps:
                    return step, rows
        wanted = (first + step) % every == 0 and (step < steps or last == LAST_RECORDED)
        wanted = wanted or work.counters[STOP_EVENT] != 0
        if wanted and rows == out.shape[0]:
            return step, rows
        if step == steps:
            store(program, work)
        if work.counters[STOP_EVENT] == 0 and (step < steps or wanted):
            remember(program, work, t, x, u0, dt, first + step)
            if work.counters[OWN_DEVICE] != 0:
                run_own_device(program, work, t, x, u0, first + step)
                if step < steps:
                    set_own_values(work.own, controls[step, 1])
        if wanted:
            for i in range(picks.shape[0]):
                out[rows, i] = work.registers[picks[i]]
            rows += 1
        if step == steps:
            # the row looked ahead: the next stretch begins with the same change of the cells
            recall(program, work)
        if work.counters[OUTSIDE_TABLE] != 0 or work.counters[STOP_EVENT] != 0 or step == steps:
            return step, rows
        for i in range(n):
            # kept for finding events within the step, and as the last good state
            before[i], slope[i] = x[i], work.slopes[0, i]
        for i in range(u.shape[1]):
            u[1, i], u[2, i] = u0[i], controls[step, 1, i]
            u[0, i] = 0.5 * (u[1, i] + u[2, i])
        rk4_step(program, work, t, x, u[0], u[2], dt)
        clamp_states(program, work.registers, x)
        if work.counters[OUTSIDE_TABLE] != 0 or not all_finite(x):
            for i in range(n):
                x[i] = before[i]
            return step, rows
    return steps, rows


@compiled
def derivative_many(program: Program, work: Workspace, t: float, x: Floats, u: Floats, dx: Floats, count: int) -> None:
    """Evaluate the derivatives ``count`` times: for measuring the kernel without Python around it."""
    for _ in range(count):
        call_evaluate(program, work, t, x, u, dx, False, MOTION)
