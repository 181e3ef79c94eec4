"""The order of a tape's instructions: by stage, and behind guards that skip results known to be zero."""

from collections.abc import Sequence
from enum import IntEnum
from typing import NamedTuple

from dravik.formula.instruction import Instruction
from dravik.formula.opcodes import (
    ADD,
    MUL,
    MULTIPLY_ADD,
    MULTIPLY_SUBTRACT,
    SKIP,
    SUB,
    SUBTRACT_PRODUCT,
)

__all__ = ["NONLINEAR", "Guard", "Stage", "arrange", "degree_of", "guarded", "reachable"]

NONLINEAR = 9  # degree of anything above linear


class Stage(IntEnum):
    """When an instruction runs, by what it needs."""

    WIND = 0  # what the wind's formulas need: runs before any air data are known
    STATES = 1  # states and inputs only
    ANGLE_RATES = 2  # alpha_dot or beta_dot, which the forces may contain linearly
    ACCELERATIONS = 3  # accelerations, known once the forces are
    RECORDED = 4  # what no force and no state needs: only when something is recorded


class Guard(NamedTuple):
    """Formulas that are all zero where a condition is false: they are then not computed, but set to zero."""

    condition: str
    names: tuple[str, ...]


def degree_of(op: str, degrees: list[int]) -> int:
    """Return the degree of the result in alpha_dot and beta_dot; NONLINEAR for anything above one."""
    # the usual case, and the one in which division or a function does no harm
    if not any(degrees):
        return 0
    if op in ("add", "sub", "neg"):
        return max(degrees)
    if op == "mul":
        return min(sum(degrees), NONLINEAR)
    # divided by what holds no rate it stays linear; a rate below the line does not
    if op == "div" and degrees[1] == 0:
        return degrees[0]
    # a condition that reads a rate would switch the equation that determines it
    if op == "if_else" and degrees[0] == 0:
        return max(degrees)
    return NONLINEAR


def reachable(code: Sequence[Instruction], roots: Sequence[int]) -> set[int]:
    """Return the registers of the instructions that some registers need."""
    writers = {row.result: row for row in code}
    seen: set[int] = set()
    stack = list(roots)
    while stack:
        register = stack.pop()
        if register in seen or register not in writers:
            continue
        seen.add(register)
        stack.extend(writers[register].reads)
    return seen


def arrange(
    code: Sequence[Instruction], stage: Sequence[int], guards: Sequence[tuple[int, int]], members: dict[int, int],
    fixed: set[int], joined: set[int],
) -> tuple[list[int], dict[int, Instruction]]:  # fmt: skip
    """Return the rows in order, and for each row that begins a guarded stretch the instruction to put before it.

    A product read by one sum only is fused into it, which changes the sum's row.

    ``guards`` (condition's register, flag's register) apply to rows of stage STATES alone, those of ``members``.
    ``fixed`` are registers that are read by name; ``joined`` are rows left out because a grouped table instruction
    computes their results. Guards whose stretches overlap are left out.
    """
    # a guarded stretch must stand in one piece, after what it reads and before what reads it
    ranks = _ranks(code, stage, members)
    if ranks is None:
        members, ranks = {}, [0] * len(code)
    gone = joined | _fuse(code, stage, members, fixed)
    order = sorted((i for i in range(len(code)) if i not in gone), key=lambda i: (stage[i], ranks[i]))
    skips: dict[int, Instruction] = {}
    for k, (condition, flag) in enumerate(guards):
        # empty where every result of the guard is read elsewhere too
        block = [i for i in order if members.get(code[i].result) == k]
        if block:
            skips[block[0]] = Instruction(SKIP, flag, [condition], count=len(block))
    return order, skips


def guarded(
    code: Sequence[Instruction], stage: Sequence[int], wanted: Sequence[set[int]], fixed: set[int]
) -> dict[int, int]:
    """Return the guard of each register that is read within that guard's stretch only, so that it may be skipped."""
    found: dict[int, int] = {}
    results = set().union(*wanted) if wanted else set()
    place = {row.result: i for i, row in enumerate(code)}
    for k, outputs in enumerate(wanted):
        for register in reachable(code, list(outputs)):
            # the first guard that reaches a result takes it: a result in two stretches cannot be skipped with one
            if register not in found and stage[place[register]] == Stage.STATES:
                found[register] = k
    # take out whatever something outside the guard reads, until nothing changes: a removal may expose another
    changed = True
    while changed:
        changed = False
        for row in code:
            for register in row.reads:
                inside = register in found and found.get(row.result) == found[register]
                if register in found and register not in results and not inside:
                    del found[register]
                    changed = True
        for register in [r for r in found if r in fixed and r not in results]:
            del found[register]
            changed = True
    return found


def _fuse(code: Sequence[Instruction], stage: Sequence[int], members: dict[int, int], fixed: set[int]) -> set[int]:
    """Fuse products with the one sum that reads them; return the rows that drop out."""
    readers: dict[int, int] = {}
    for row in code:
        for register in row.reads:
            readers[register] = readers.get(register, 0) + 1
    products = {
        row.result: i
        for i, row in enumerate(code)
        if row.op == MUL and readers.get(row.result) == 1 and row.result not in fixed
    }
    gone: set[int] = set()
    for i, row in enumerate(code):
        if row.op not in (ADD, SUB):
            continue
        # either side of the sum may be the product; the sign then says which of the three fused forms it is
        one, two = row.reads
        for register, other in ((one, two), (two, one)):
            j = products.get(register)
            # only within one stage and one guard, where both always run together
            if j is None or stage[j] != stage[i] or members.get(row.result) != members.get(register):
                continue
            first = register == one
            row.op = MULTIPLY_ADD if row.op == ADD else MULTIPLY_SUBTRACT if first else SUBTRACT_PRODUCT
            row.reads = [*code[j].reads, other]
            gone.add(j)
            break
    return gone


def _ranks(code: Sequence[Instruction], stage: Sequence[int], members: dict[int, int]) -> list[int] | None:
    """Return each row's stretch (odd ones are guarded); None where guarded stretches depend on each other."""
    rank: dict[int, int] = {}
    for i, row in enumerate(code):
        before = max((rank.get(r, 0) for r in row.reads), default=0) if stage[i] == Stage.STATES else 0
        if row.result in members:
            mine = 2 * members[row.result] + 1
            if before > mine:
                return None
            rank[row.result] = mine
        else:
            # what reads a guarded result comes in the next even stretch, behind it
            rank[row.result] = before + before % 2
    return [rank[row.result] for row in code]
