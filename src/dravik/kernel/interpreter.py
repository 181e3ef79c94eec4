"""The tape's interpreter: one loop over the instructions."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled
from dravik.formula import opcodes as op
from dravik.formula.layout import SHAPE_HEADER
from dravik.kernel.program import (
    AXIS_SIZE,
    AXIS_START,
    COUNTING,
    FLAGS,
    OUTSIDE_TABLE,
    SHAPES,
    TABLE_INTO,
    TABLE_START,
)
from dravik.tables.lookup import locate, spread

__all__ = ["run_tape"]

Codes = NDArray[np.int32]
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
ERROR_POLICY = 2

(ADD, SUB, MUL, DIV, POW, NEG) = (op.ADD, op.SUB, op.MUL, op.DIV, op.POW, op.NEG)
(LT, LE, GT, GE, EQ, NE, AND, OR, NOT) = (op.LT, op.LE, op.GT, op.GE, op.EQ, op.NE, op.AND, op.OR, op.NOT)
(MIN, MAX, IF, LIMIT, ABS, SIGN) = (op.MIN, op.MAX, op.IF, op.LIMIT, op.ABS, op.SIGN)
(SQRT, EXP, LOG, LOG10) = (op.SQRT, op.EXP, op.LOG, op.LOG10)
(SIN, COS, TAN, ASIN, ACOS, ATAN, ATAN2) = (op.SIN, op.COS, op.TAN, op.ASIN, op.ACOS, op.ATAN, op.ATAN2)
(SINH, COSH, TANH, HYPOT, FLOOR, MOD) = (op.SINH, op.COSH, op.TANH, op.HYPOT, op.FLOOR, op.MOD)
(WRAP, DEADZONE) = (op.WRAP, op.DEADZONE)
(RATE_LIMIT, HOLD_AT_LIMIT, TRAVEL) = (op.RATE_LIMIT, op.HOLD_AT_LIMIT, op.TRAVEL)
(LOCATE, WEIGHTS, TABLE, SKIP) = (op.LOCATE, op.WEIGHTS, op.TABLE, op.SKIP)
(MULTIPLY_ADD, MULTIPLY_SUBTRACT, SUBTRACT_PRODUCT) = (op.MULTIPLY_ADD, op.MULTIPLY_SUBTRACT, op.SUBTRACT_PRODUCT)


@compiled
def function_of(code: int, x: float, y: float) -> float:
    """Return the value of one of the less frequent instructions on plain numbers."""
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
        return x - y * np.floor(x / y)
    if code == WRAP:
        return x - 2.0 * math.pi * np.floor((x + math.pi) / (2.0 * math.pi))
    if code == DEADZONE:
        return np.sign(x) * max(abs(x) - y, 0.0)
    return math.nan


@compiled
def state_function(code: int, x: float, y: float, low: float, high: float, steady: bool) -> float:
    """Return the value of an instruction that steps aside while an equilibrium is sought."""
    if steady:
        return x
    if code == RATE_LIMIT:
        return min(max(x, -y), y) if x == x else x
    if code == TRAVEL:
        return min(max(x, y), low) if x == x else x
    # HOLD_AT_LIMIT: nothing is gathered while x pushes a state beyond its limit; a state that stands just at
    # it may still move within a step, at the end of which it is put back
    if (y > high and x > 0.0) or (y < low and x < 0.0):
        return 0.0
    return x


@compiled
def visit_axis(
    code: Codes, layout: Ints, numbers: Floats, r: Floats, counters: Ints, worst: Floats, row: int, x: float
) -> None:
    """Find the cell of one axis; count and remember a visit outside it."""
    axis, policy, counter, dst = code[row, 6], code[row, 3], code[row, 4], code[row, 1]
    start, size = layout[layout[AXIS_START] + axis], layout[layout[AXIS_SIZE] + axis]
    cell, fraction, width = locate(numbers, start, size, x, policy)
    r[dst] = cell
    r[dst + 1] = fraction
    r[dst + 2] = width
    if x < numbers[start] or x > numbers[start + size - 1]:
        if policy == ERROR_POLICY and counters[OUTSIDE_TABLE] == 0:
            counters[OUTSIDE_TABLE] = counter + 1
            worst[counter, 2] = x
        if counters[COUNTING] == 1:
            counters[FLAGS + counter] += 1
            worst[counter, 0] = min(worst[counter, 0], x)
            worst[counter, 1] = max(worst[counter, 1], x)


@compiled
def table_weights(code: Codes, layout: Ints, r: Floats, row: int) -> None:
    """Put the offset of a cell, and the weights of its numbers, into registers that follow one another."""
    shape = layout[layout[SHAPES] + code[row, 6]]
    mask, dst = layout[shape + 1], code[row, 1]
    offset, count = 0, 1
    r[dst + 1] = 1.0
    for k in range(layout[shape]):
        cell = code[row, 2 + k]
        offset += int(r[cell]) * layout[shape + 2 + k]
        count = spread(r, dst + 1, count, r[cell + 1], r[cell + 2], (mask >> k) & 1 == 1)
    r[dst] = offset


@compiled
def look_up(code: Codes, layout: Ints, v: Floats, r: Floats, row: int) -> None:
    """Put the values of a group of tables into their registers, from the weights found before."""
    w, count, tables, group = code[row, 2], code[row, 4], code[row, 5], code[row, 6]
    offsets = layout[layout[SHAPES] + code[row, 3]] + SHAPE_HEADER
    into = layout[layout[TABLE_INTO] + group]
    first = layout[layout[TABLE_START] + group] + int(r[w]) * tables
    t = 0
    while t + 4 <= tables:
        # four sums side by side: one alone would wait for itself at every term
        a, b, c, d = 0.0, 0.0, 0.0, 0.0
        for k in range(count):
            weight, at = r[w + 1 + k], first + layout[offsets + k] * tables + t
            a += weight * v[at]
            b += weight * v[at + 1]
            c += weight * v[at + 2]
            d += weight * v[at + 3]
        r[layout[into + t]], r[layout[into + t + 1]] = a, b
        r[layout[into + t + 2]], r[layout[into + t + 3]] = c, d
        t += 4
    if t + 2 <= tables:
        a, b = 0.0, 0.0
        for k in range(count):
            weight, at = r[w + 1 + k], first + layout[offsets + k] * tables + t
            a += weight * v[at]
            b += weight * v[at + 1]
        r[layout[into + t]], r[layout[into + t + 1]] = a, b
        t += 2
    if t < tables:
        a, b = 0.0, 0.0
        for k in range(0, count, 2):
            a += r[w + 1 + k] * v[first + layout[offsets + k] * tables + t]
            b += r[w + 2 + k] * v[first + layout[offsets + k + 1] * tables + t]
        r[layout[into + t]] = a + b


@compiled
def skipped(code: Codes, layout: Ints, r: Floats, row: int) -> int:
    """Return how many instructions to pass over; the first time their results become zero, which a flag remembers."""
    flag, count = code[row, 1], code[row, 3]
    if r[code[row, 2]] != 0.0:
        r[flag] = 1.0
        return 0
    if r[flag] != 0.0:
        for k in range(row + 1, row + 1 + count):
            r[code[k, 1]] = 0.0
            if code[k, 0] == TABLE:
                # one instruction looks up a whole group of tables: every one of them has a result
                into = layout[layout[TABLE_INTO] + code[k, 6]]
                for t in range(code[k, 5]):
                    r[layout[into + t]] = 0.0
        r[flag] = 0.0
    return count


@compiled
def run_tape(
    code: Codes, layout: Ints, numbers: Floats, r: Floats, counters: Ints, worst: Floats,
    start: int, stop: int, steady: bool,
) -> None:  # fmt: skip
    """Execute the instructions from ``start`` to ``stop`` on the workspace's registers.

    ``steady`` lifts rate limits and stops, so that a search for an equilibrium sees through them.
    """
    i = start - 1
    while i < stop - 1:
        i += 1
        k, dst, a, b = code[i, 0], code[i, 1], code[i, 2], code[i, 3]
        if k == ADD:
            r[dst] = r[a] + r[b]
        elif k == SUB:
            r[dst] = r[a] - r[b]
        elif k == MUL:
            r[dst] = r[a] * r[b]
        elif k == MULTIPLY_ADD:
            r[dst] = r[a] * r[b] + r[code[i, 4]]
        elif k == MULTIPLY_SUBTRACT:
            r[dst] = r[a] * r[b] - r[code[i, 4]]
        elif k == SUBTRACT_PRODUCT:
            r[dst] = r[code[i, 4]] - r[a] * r[b]
        elif k == DIV:
            r[dst] = r[a] / r[b]
        elif k == NEG:
            r[dst] = -r[a]
        elif k == LOCATE:
            visit_axis(code, layout, numbers, r, counters, worst, i, r[a])
        elif k == TABLE:
            look_up(code, layout, numbers, r, i)
        elif k == WEIGHTS:
            table_weights(code, layout, r, i)
        elif k == POW:
            r[dst] = r[a] ** r[b]
        elif k == LT:
            r[dst] = 1.0 if r[a] < r[b] else 0.0
        elif k == LE:
            r[dst] = 1.0 if r[a] <= r[b] else 0.0
        elif k == GT:
            r[dst] = 1.0 if r[a] > r[b] else 0.0
        elif k == GE:
            r[dst] = 1.0 if r[a] >= r[b] else 0.0
        elif k == EQ:
            r[dst] = 1.0 if r[a] == r[b] else 0.0
        elif k == NE:
            r[dst] = 1.0 if r[a] != r[b] else 0.0
        elif k == AND:
            r[dst] = 1.0 if r[a] != 0.0 and r[b] != 0.0 else 0.0
        elif k == OR:
            r[dst] = 1.0 if r[a] != 0.0 or r[b] != 0.0 else 0.0
        elif k == NOT:
            r[dst] = 1.0 if r[a] == 0.0 else 0.0
        elif k == MIN:
            r[dst] = np.minimum(r[a], r[b])
        elif k == MAX:
            r[dst] = np.maximum(r[a], r[b])
        elif k == IF:
            r[dst] = r[b] if r[a] != 0.0 else r[code[i, 4]]
        elif k == LIMIT:
            r[dst] = np.minimum(np.maximum(r[a], r[b]), r[code[i, 4]])
        elif k == ABS:
            r[dst] = abs(r[a])
        elif k == SIGN:
            r[dst] = np.sign(r[a])
        elif k == SQRT:
            r[dst] = np.sqrt(r[a])
        elif k == RATE_LIMIT:
            r[dst] = state_function(k, r[a], r[b], 0.0, 0.0, steady)
        elif k == TRAVEL:
            r[dst] = state_function(k, r[a], r[b], r[code[i, 4]], 0.0, steady)
        elif k == SKIP:
            i += skipped(code, layout, r, i)
        elif k == HOLD_AT_LIMIT:
            r[dst] = state_function(k, r[a], r[b], r[code[i, 4]], r[code[i, 5]], steady)
        else:
            r[dst] = function_of(k, r[a], r[b] if b >= 0 else 0.0)
