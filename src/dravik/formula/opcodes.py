"""The tape's instructions: number, name, how many arguments, and what they mean on plain numbers."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

__all__ = ["ARITY", "OPS", "Op"]


class Op(NamedTuple):
    """An instruction: its number on the tape, its arity, and a NumPy function with the same meaning."""

    code: int
    arity: int
    apply: Callable[..., object] | None


def _wrap(x: float) -> float:
    # floor, not a remainder: -pi stays -pi, and the kernel computes the same to the last bit
    return x - 2.0 * np.pi * np.floor((x + np.pi) / (2.0 * np.pi))


def _deadzone(x: float, width: float) -> float:
    return np.sign(x) * max(abs(x) - width, 0.0)


ADD, SUB, MUL, DIV, POW, NEG = 0, 1, 2, 3, 4, 5
LT, LE, GT, GE, EQ, NE, AND, OR, NOT = 6, 7, 8, 9, 10, 11, 12, 13, 14
MIN, MAX, IF, LIMIT, ABS, SIGN = 15, 16, 17, 18, 19, 20
SQRT, EXP, LOG, LOG10 = 21, 22, 23, 24
SIN, COS, TAN, ASIN, ACOS, ATAN, ATAN2 = 25, 26, 27, 28, 29, 30, 31
SINH, COSH, TANH, HYPOT, FLOOR, MOD, WRAP, DEADZONE = 32, 33, 34, 35, 36, 37, 38, 39
# With ``steady`` these pass their argument through, so that a saturated limit does not zero a column of the Jacobian.
RATE_LIMIT, HOLD_AT_LIMIT, POSITION_LIMIT = 40, 41, 42
LOCATE, WEIGHTS, TABLE = 43, 44, 45
# Where its condition is false, jumps over the instructions that follow, after setting their results to zero once.
SKIP = 46
# A product whose only reader is a sum is fused with it: a*b + c, a*b - c, c - a*b.
MULTIPLY_ADD, MULTIPLY_SUBTRACT, SUBTRACT_PRODUCT = 47, 48, 49
# What a memory holds, in flight; outside one (a trim, a linear model) what it would take over at once.
REMEMBERED = 50

OPS: dict[str, Op] = {
    "add": Op(ADD, 2, np.add),
    "sub": Op(SUB, 2, np.subtract),
    "mul": Op(MUL, 2, np.multiply),
    "div": Op(DIV, 2, np.divide),
    "pow": Op(POW, 2, np.power),
    "neg": Op(NEG, 1, np.negative),
    "lt": Op(LT, 2, np.less),
    "le": Op(LE, 2, np.less_equal),
    "gt": Op(GT, 2, np.greater),
    "ge": Op(GE, 2, np.greater_equal),
    "eq": Op(EQ, 2, np.equal),
    "ne": Op(NE, 2, np.not_equal),
    "and": Op(AND, 2, np.logical_and),
    "or": Op(OR, 2, np.logical_or),
    "not": Op(NOT, 1, np.logical_not),
    "min": Op(MIN, 2, np.minimum),
    "max": Op(MAX, 2, np.maximum),
    "if_else": Op(IF, 3, np.where),
    "limit": Op(LIMIT, 3, lambda x, low, high: np.minimum(np.maximum(x, low), high)),
    "abs": Op(ABS, 1, np.abs),
    "sign": Op(SIGN, 1, np.sign),
    "sqrt": Op(SQRT, 1, np.sqrt),
    "exp": Op(EXP, 1, np.exp),
    "log": Op(LOG, 1, np.log),
    "log10": Op(LOG10, 1, np.log10),
    "sin": Op(SIN, 1, np.sin),
    "cos": Op(COS, 1, np.cos),
    "tan": Op(TAN, 1, np.tan),
    "asin": Op(ASIN, 1, np.arcsin),
    "acos": Op(ACOS, 1, np.arccos),
    "atan": Op(ATAN, 1, np.arctan),
    "atan2": Op(ATAN2, 2, np.arctan2),
    "sinh": Op(SINH, 1, np.sinh),
    "cosh": Op(COSH, 1, np.cosh),
    "tanh": Op(TANH, 1, np.tanh),
    "hypot": Op(HYPOT, 2, np.hypot),
    "floor": Op(FLOOR, 1, np.floor),
    "mod": Op(MOD, 2, np.mod),
    "wrap": Op(WRAP, 1, _wrap),
    "deadzone": Op(DEADZONE, 2, _deadzone),
    "rate_clip": Op(RATE_LIMIT, 2, None),
    "hold_at_limit": Op(HOLD_AT_LIMIT, 4, None),
    "position_limit": Op(POSITION_LIMIT, 3, None),
    "locate": Op(LOCATE, 1, None),
    "weights": Op(WEIGHTS, 4, None),
    "table": Op(TABLE, 1, None),
    "skip": Op(SKIP, 1, None),
    "remembered": Op(REMEMBERED, 2, None),
    "multiply_add": Op(MULTIPLY_ADD, 3, None),
    "multiply_subtract": Op(MULTIPLY_SUBTRACT, 3, None),
    "subtract_product": Op(SUBTRACT_PRODUCT, 3, None),
}

#: Number of arguments by instruction number.
ARITY: dict[int, int] = {op.code: op.arity for op in OPS.values()}
