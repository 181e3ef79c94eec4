"""The tape's interpreter: one loop over the instructions."""

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.formula import opcodes as op
from dravik.formula.layout import SHAPE_HEADER
from dravik.kernel.calls import call_own_code, call_run_tape
from dravik.kernel.grouped_lookup import weigh_eight, weigh_four, weigh_one, weigh_two
from dravik.kernel.program import (
    AXIS_SIZE,
    AXIS_START,
    COUNTING,
    FLAGS,
    FLYING,
    INTERPRETER,
    OUTSIDE_TABLE,
    SHAPES,
    TABLE_INTO,
    TABLE_START,
    TAPE_CODE,
    Program,
    Workspace,
)
from dravik.tables.lookup import hermite, locate, spread

__all__ = ["run_stage", "run_tape"]

Codes = NDArray[np.int32]
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Index = int | np.unsignedinteger[Any]
ERROR_POLICY = 2

(ADD, SUB, MUL, DIV, POW, NEG) = (op.ADD, op.SUB, op.MUL, op.DIV, op.POW, op.NEG)
(LT, LE, GT, GE, EQ, NE, AND, OR, NOT) = (op.LT, op.LE, op.GT, op.GE, op.EQ, op.NE, op.AND, op.OR, op.NOT)
(MIN, MAX, IF, LIMIT, ABS, SIGN) = (op.MIN, op.MAX, op.IF, op.LIMIT, op.ABS, op.SIGN)
(SQRT, EXP, LOG, LOG10) = (op.SQRT, op.EXP, op.LOG, op.LOG10)
(SIN, COS, TAN, ASIN, ACOS, ATAN, ATAN2) = (op.SIN, op.COS, op.TAN, op.ASIN, op.ACOS, op.ATAN, op.ATAN2)
(SINH, COSH, TANH, HYPOT, FLOOR, MOD) = (op.SINH, op.COSH, op.TANH, op.HYPOT, op.FLOOR, op.MOD)
(WRAP, DEADZONE) = (op.WRAP, op.DEADZONE)
(RATE_LIMIT, HOLD_AT_LIMIT, POSITION_LIMIT) = (op.RATE_LIMIT, op.HOLD_AT_LIMIT, op.POSITION_LIMIT)
(LOCATE, WEIGHTS, TABLE, SKIP) = (op.LOCATE, op.WEIGHTS, op.TABLE, op.SKIP)
REMEMBERED = op.REMEMBERED
(MULTIPLY_ADD, MULTIPLY_SUBTRACT, SUBTRACT_PRODUCT) = (op.MULTIPLY_ADD, op.MULTIPLY_SUBTRACT, op.SUBTRACT_PRODUCT)


@inlined
def function_of(code: int, x: float, y: float) -> float:
    """Return the value of one of the less frequent instructions on plain numbers."""
    # math or numpy by which of them compiles to the call that the machine code makes: the bits must agree
    if code == SIN:
        return math.sin(x)
    if code == COS:
        return math.cos(x)
    if code == TAN:
        return math.tan(x)
    if code == ASIN:
        return np.arcsin(x)
    if code == ACOS:
        return np.arccos(x)
    if code == ATAN:
        return math.atan(x)
    if code == ATAN2:
        return math.atan2(x, y)
    if code == EXP:
        return np.exp(x)
    if code == LOG:
        return np.log(x)
    if code == LOG10:
        return np.log10(x)
    if code == SINH:
        return np.sinh(x)
    if code == COSH:
        return np.cosh(x)
    if code == TANH:
        return math.tanh(x)
    if code == HYPOT:
        return math.hypot(x, y)
    if code == FLOOR:
        return np.floor(x)
    if code == MOD:
        # sign of the divisor, so that an angle or a time comes back into one turn or period from below too
        return x - y * np.floor(x / y)
    if code == WRAP:
        return x - 2.0 * math.pi * np.floor((x + math.pi) / (2.0 * math.pi))
    if code == DEADZONE:
        return np.sign(x) * max(abs(x) - y, 0.0)
    return math.nan


@inlined
def state_function(code: int, x: float, y: float, low: float, high: float, steady: bool) -> float:
    """Return the value of a limiting instruction; with ``steady`` (in a trim) its argument: limits hide no slope."""
    if steady:
        return x
    if code == RATE_LIMIT:
        return min(max(x, -y), y) if x == x else x
    if code == POSITION_LIMIT:
        return min(max(x, y), low) if x == x else x
    # HOLD_AT_LIMIT: the rate x is zero while it pushes the state y beyond its limit. At the limit itself it still
    # counts, because clamp_states puts the state back after the step; holding there would stop it from leaving
    if (y > high and x > 0.0) or (y < low and x < 0.0):
        return 0.0
    return x


@inlined
def visit_axis(
    code: Codes, layout: Ints, numbers: Floats, reg: Floats, counters: Ints, worst: Floats, row: Index, x: float
) -> None:
    """Find the cell of one axis; count and remember a visit outside it."""
    axis, policy, counter, dst = code[row, 6], code[row, 3], code[row, 4], code[row, 1]
    start, size = layout[layout[AXIS_START] + axis], layout[layout[AXIS_SIZE] + axis]
    cell, fraction, width = locate(numbers, start, size, x, policy)
    reg[dst] = cell
    reg[dst + 1] = fraction
    reg[dst + 2] = width
    # rare, so this is checked after the look-up; NaN is neither and passes on into the result
    # a NaN compares false with both: it is found where results are watched
    if x < numbers[start] or x > numbers[start + size - 1]:
        if policy == ERROR_POLICY and counters[OUTSIDE_TABLE] == 0:
            counters[OUTSIDE_TABLE] = counter + 1
            worst[counter, 2] = x
        if counters[COUNTING] == 1:
            counters[FLAGS + counter] += 1
            worst[counter, 0] = min(worst[counter, 0], x)
            worst[counter, 1] = max(worst[counter, 1], x)


@inlined
def smooth_weights(code: Codes, layout: Ints, reg: Floats, row: Index, shape: Index) -> None:
    """Do what ``table_weights`` does over two smooth axes, the usual case, without its loops."""
    one, two = np.uintp(1), np.uintp(2)
    c, d, at = np.uintp(code[row, 2]), np.uintp(code[row, 3]), np.uintp(code[row, 1])
    reg[at] = int(reg[c]) * layout[shape + 2] + int(reg[d]) * layout[shape + 3]
    x, y = hermite(reg[c + one], reg[c + two]), hermite(reg[d + one], reg[d + two])
    for weight in y:
        reg[at + one] = x[0] * weight
        reg[at + two] = x[1] * weight
        reg[at + np.uintp(3)] = x[2] * weight
        reg[at + np.uintp(4)] = x[3] * weight
        at += np.uintp(4)


@inlined
def table_weights(code: Codes, layout: Ints, reg: Floats, row: Index) -> None:
    """Put the offset of a cell and its interpolation weights into consecutive registers."""
    shape = layout[layout[SHAPES] + code[row, 6]]
    # two smooth axes, as of alpha and a control, are the usual case and have a way of their own
    mask, dst = layout[shape + 1], code[row, 1]
    if layout[shape] == 2 and mask == 3:
        smooth_weights(code, layout, reg, row, shape)
        return
    # tensor product, one axis after the other: each axis multiplies the weights so far by its own two or four
    # the first weight is one; each axis multiplies what stands there by its own two or four
    offset, count = 0, 1
    reg[dst + 1] = 1.0
    for k in range(layout[shape]):
        cell = code[row, 2 + k]
        offset += int(reg[cell]) * layout[shape + 2 + k]
        count = spread(reg, dst + 1, count, reg[cell + 1], reg[cell + 2], (mask >> k) & 1 == 1)
    reg[dst] = offset


@inlined
def look_up(code: Codes, layout: Ints, v: Floats, reg: Floats, row: Index) -> None:
    """Put the values of a group of tables into their registers, from the weights found before."""
    w, count, tables, group = code[row, 2], code[row, 4], code[row, 5], code[row, 6]
    offsets = layout[layout[SHAPES] + code[row, 3]] + SHAPE_HEADER
    # where each result goes stands in layout: the tables of a group lie side by side, their results need not
    into = layout[layout[TABLE_INTO] + group]
    first = layout[layout[TABLE_START] + group] + int(reg[w]) * tables
    # as many tables at a time as a vector of the machine holds; the rest in halves, so that no lane is idle
    t = 0
    while t + 8 <= tables:
        weigh_eight(v, first + t, tables, reg, w + 1, layout, offsets, count, into + t)
        t += 8
    if t + 4 <= tables:
        weigh_four(v, first + t, tables, reg, w + 1, layout, offsets, count, into + t)
        t += 4
    if t + 2 <= tables:
        weigh_two(v, first + t, tables, reg, w + 1, layout, offsets, count, into + t)
        t += 2
    if t < tables:
        weigh_one(v, first + t, tables, reg, w + 1, layout, offsets, count, into + t)


@inlined
def skipped(code: Codes, layout: Ints, reg: Floats, row: Index) -> int:
    """Return how many instructions to jump over; when a guard closes, set their results to zero once (``flag``)."""
    flag, count = code[row, 1], code[row, 3]
    # the guard is open: what follows is computed as if there were none
    if reg[code[row, 2]] != 0.0:
        reg[flag] = 1.0
        return 0
    # results are zeroed once, when the guard closes; the flag remembers that they are zero
    if reg[flag] != 0.0:
        for k in range(row + 1, row + 1 + count):
            reg[code[k, 1]] = 0.0
            if code[k, 0] == TABLE:
                # a table instruction writes the results of its whole group
                into = layout[layout[TABLE_INTO] + code[k, 6]]
                for t in range(code[k, 5]):
                    reg[layout[into + t]] = 0.0
        reg[flag] = 0.0
    return count


@compiled
def run_tape(
    code: Codes, layout: Ints, numbers: Floats, reg: Floats, counters: Ints, worst: Floats,
    start: int, stop: int, steady: bool,
) -> None:  # fmt: skip
    """Execute the instructions from ``start`` to ``stop`` on the workspace's registers.

    ``steady`` lifts rate limits and stops, so that a search for an equilibrium sees through them.
    """
    # unsigned: an index that could be negative would be compared with zero each time, to count from the end
    i, end, one = np.uintp(start), np.uintp(stop), np.uintp(1)
    # in the order of the tape: everything that an instruction reads has been written before it
    while i < end:
        k, dst, a, b = code[i, 0], np.uintp(code[i, 1]), np.uintp(code[i, 2]), np.uintp(code[i, 3])
        # in order of frequency in compiled aircraft: an early branch saves comparisons
        if k == ADD:
            reg[dst] = reg[a] + reg[b]
        elif k == SUB:
            reg[dst] = reg[a] - reg[b]
        elif k == MUL:
            reg[dst] = reg[a] * reg[b]
        elif k == MULTIPLY_ADD:
            reg[dst] = reg[a] * reg[b] + reg[np.uintp(code[i, 4])]
        elif k == MULTIPLY_SUBTRACT:
            reg[dst] = reg[a] * reg[b] - reg[np.uintp(code[i, 4])]
        elif k == SUBTRACT_PRODUCT:
            reg[dst] = reg[np.uintp(code[i, 4])] - reg[a] * reg[b]
        elif k == DIV:
            reg[dst] = reg[a] / reg[b]
        elif k == NEG:
            reg[dst] = -reg[a]
        elif k == LOCATE:
            visit_axis(code, layout, numbers, reg, counters, worst, i, reg[a])
        elif k == TABLE:
            look_up(code, layout, numbers, reg, i)
        elif k == WEIGHTS:
            table_weights(code, layout, reg, i)
        elif k == POW:
            reg[dst] = reg[a] ** reg[b]
        elif k == LT:
            reg[dst] = 1.0 if reg[a] < reg[b] else 0.0
        elif k == LE:
            reg[dst] = 1.0 if reg[a] <= reg[b] else 0.0
        elif k == GT:
            reg[dst] = 1.0 if reg[a] > reg[b] else 0.0
        elif k == GE:
            reg[dst] = 1.0 if reg[a] >= reg[b] else 0.0
        elif k == EQ:
            reg[dst] = 1.0 if reg[a] == reg[b] else 0.0
        elif k == NE:
            reg[dst] = 1.0 if reg[a] != reg[b] else 0.0
        elif k == AND:
            reg[dst] = 1.0 if reg[a] != 0.0 and reg[b] != 0.0 else 0.0
        elif k == OR:
            reg[dst] = 1.0 if reg[a] != 0.0 or reg[b] != 0.0 else 0.0
        elif k == NOT:
            reg[dst] = 1.0 if reg[a] == 0.0 else 0.0
        elif k == MIN:
            # numpy's minimum and maximum hand on a NaN, Python's may lose it
            reg[dst] = np.minimum(reg[a], reg[b])
        elif k == MAX:
            reg[dst] = np.maximum(reg[a], reg[b])
        elif k == IF:
            reg[dst] = reg[b] if reg[a] != 0.0 else reg[np.uintp(code[i, 4])]
        elif k == LIMIT:
            reg[dst] = np.minimum(np.maximum(reg[a], reg[b]), reg[np.uintp(code[i, 4])])
        elif k == ABS:
            reg[dst] = abs(reg[a])
        elif k == SIGN:
            reg[dst] = np.sign(reg[a])
        elif k == SQRT:
            reg[dst] = np.sqrt(reg[a])
        elif k == RATE_LIMIT:
            reg[dst] = state_function(k, reg[a], reg[b], 0.0, 0.0, steady)
        elif k == POSITION_LIMIT:
            reg[dst] = state_function(k, reg[a], reg[b], reg[np.uintp(code[i, 4])], 0.0, steady)
        elif k == REMEMBERED:
            reg[dst] = reg[a] if counters[FLYING] != 0 else reg[b]
        elif k == SKIP:
            i += np.uintp(skipped(code, layout, reg, i))
        elif k == HOLD_AT_LIMIT:
            reg[dst] = state_function(k, reg[a], reg[b], reg[np.uintp(code[i, 4])], reg[np.uintp(code[i, 5])], steady)
        else:
            reg[dst] = function_of(k, reg[a], reg[b] if code[i, 3] >= 0 else 0.0)
        i += one


@inlined
def run_stage(program: Program, work: Workspace, stage: int, steady: bool) -> None:
    """Execute a stage of the tape in a workspace, by the aircraft's machine code where it has been made."""
    layout = program.layout
    start, stop = 0 if stage == 0 else layout[stage - 1], layout[stage]
    if stop > start:
        reg, counters, worst = work.registers, work.counters, work.worst
        # zero where no machine code was made: during a search that builds many aircraft it would not pay
        address = layout[TAPE_CODE + stage]
        if address != 0:
            call_own_code(address, reg, program.numbers, counters, worst, steady)  # type: ignore[call-arg]
        else:
            call_run_tape(  # type: ignore[call-arg]
                layout[INTERPRETER], program.code, layout, program.numbers, reg, counters, worst, start, stop, steady
            )
