"""Memory between steps: cells that change at a step's beginning, all at once, from the signals of that instant."""

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.kernel.calls import call_evaluate
from dravik.kernel.program import (
    CELL_NEXT,
    CELL_QUIET,
    CELL_RANDOM,
    CELL_RANK,
    CELL_START,
    CELL_STREAM,
    CELL_TIMES,
    CELLS,
    EVERYTHING,
    FLYING,
    N_CELLS,
    N_RANKS,
    Program,
    Workspace,
)
from dravik.kernel.random_numbers import normal

__all__ = ["begin_memory", "read_still", "recall", "remember", "store"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
LAST = 2
PASSES = 8  # most changes that follow from each other at one instant, such as of a latch that sets a latch


@inlined
def is_due(program: Program, dt: float, step: int, i: int) -> bool:
    """Whether a cell that is sampled changes at this step."""
    at = program.layout[CELL_TIMES] + 2 * i
    period, late = program.numbers[at], program.numbers[at + 1]
    # counted in whole steps: a comparison of times would be lost to rounding after an hour
    return (step - round(late / dt)) % round(period / dt) == 0


@inlined
def drawn(program: Program, work: Workspace, dt: float, step: int, i: int) -> float:
    """Return what a random cell holds next: a share of what it holds, and a normal number times its scale."""
    layout, numbers = program.layout, program.numbers
    at = layout[CELL_RANDOM] + 3 * i
    held = work.registers[layout[layout[CELLS] + i]]
    if numbers[at + 1] == 0.0:  # drawn once, at the beginning
        return numbers[at] * held
    # the number of the period, not of the step: the same numbers at any step
    place = step // round(numbers[layout[CELL_TIMES] + 2 * i] / dt)
    seed = int(work.registers[layout[layout[CELL_NEXT] + i]])
    return numbers[at] * held + numbers[at + 1] * normal(seed, layout[layout[CELL_STREAM] + i], place)


@inlined
def take_next(program: Program, work: Workspace, dt: float, step: int, rank: int) -> bool:
    """Let cells hold their next values, of sampled ones those of a rank; return whether one not quiet has changed."""
    layout, reg, new = program.layout, work.registers, work.memory[0]
    n = layout[N_CELLS]
    # gathered before any changes, so that each is computed from what all held before
    for i in range(n):
        due = program.numbers[layout[CELL_TIMES] + 2 * i] == 0.0
        if layout[layout[CELL_RANK] + i] == rank and not due:
            due = is_due(program, dt, step, i)
        # those that come last read the outcome of all the others, so they wait for the end of remember
        take = due and layout[layout[CELL_QUIET] + i] != LAST
        if take and layout[layout[CELL_STREAM] + i] >= 0:
            new[i] = drawn(program, work, dt, step, i)
        else:
            new[i] = reg[layout[layout[CELL_NEXT] + i]] if take else reg[layout[layout[CELLS] + i]]
    changed = False
    for i in range(n):
        cell = layout[layout[CELLS] + i]
        # a quiet cell is read by no formula at once: its change needs no new evaluation
        if reg[cell] != new[i] and layout[layout[CELL_QUIET] + i] == 0:
            changed = True
        reg[cell] = new[i]
    return changed


@compiled
def remember(program: Program, work: Workspace, t: float, x: Floats, u: Floats, dt: float, step: int) -> None:
    """Let cells change at the beginning of a step, whose signals stand in the registers; evaluate what follows."""
    layout, reg = program.layout, work.registers
    if layout[N_CELLS] == 0:
        return
    for rank in range(layout[N_RANKS]):
        # a latch may set another at the same instant; the sampled ones change in the first pass alone, once a period
        for k in range(PASSES):
            if not take_next(program, work, dt, step, rank if k == 0 else -1):
                break
            call_evaluate(program, work, t, x, u, work.slopes[0], False, EVERYTHING)
    for i in range(layout[N_CELLS]):
        if layout[layout[CELL_QUIET] + i] == LAST and is_due(program, dt, step, i):
            reg[layout[layout[CELLS] + i]] = reg[layout[layout[CELL_NEXT] + i]]


@compiled
def begin_memory(program: Program, work: Workspace, t: float, x: Floats, u: Floats) -> None:
    """Begin to remember: cells hold what they take over at the start of a flight."""
    layout, reg, new = program.layout, work.registers, work.memory[0]
    n = layout[N_CELLS]
    # outside a flight, what remembers passes its argument on: that is the value a cell takes over
    work.counters[FLYING] = 0
    if n > 0:
        call_evaluate(program, work, t, x, u, work.slopes[0], False, EVERYTHING)
    for i in range(n):
        # a cell without a formula for its start keeps its initial value, which stands in the register already
        start = layout[layout[CELL_START] + i]
        new[i] = reg[start] if start >= 0 else reg[layout[layout[CELLS] + i]]
        stream = layout[layout[CELL_STREAM] + i]
        if stream >= 0:
            # place -1: before all that are drawn in flight
            seed = int(reg[layout[layout[CELL_NEXT] + i]])
            new[i] = program.numbers[layout[CELL_RANDOM] + 3 * i + 2] * normal(seed, stream, -1)
    for i in range(n):
        reg[layout[layout[CELLS] + i]] = new[i]
    work.counters[FLYING] = 1
    if n > 0:
        call_evaluate(program, work, t, x, u, work.slopes[0], False, EVERYTHING)


@compiled
def store(program: Program, work: Workspace) -> None:
    """Keep what the cells hold, for ``recall``."""
    for i in range(program.layout[N_CELLS]):
        work.memory[1, i] = work.registers[program.layout[program.layout[CELLS] + i]]


@compiled
def recall(program: Program, work: Workspace) -> None:
    """Let the cells hold what was kept: a row recorded at the end of a stretch looks ahead, the next stretch begins."""
    for i in range(program.layout[N_CELLS]):
        work.registers[program.layout[program.layout[CELLS] + i]] = work.memory[1, i]


@compiled
def read_still(
    program: Program, work: Workspace, x: Floats, u: Floats, dt: float, every: int, picks: Ints, out: Floats
) -> None:
    """Let cells change step by step while the state stands still; keep picked registers each ``every`` steps."""
    for step in range((out.shape[0] - 1) * every + 1):
        t = step * dt
        call_evaluate(program, work, t, x, u, work.slopes[0], False, EVERYTHING)
        remember(program, work, t, x, u, dt, step)
        if step % every == 0:
            for i in range(picks.shape[0]):
                out[step // every, i] = work.registers[picks[i]]
