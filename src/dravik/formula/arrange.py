"""The order of a tape's instructions: by stage, and behind guards that skip what is known to be nought."""

from collections.abc import Sequence
from typing import NamedTuple

from dravik.formula.opcodes import (
    ADD,
    ARITY,
    MUL,
    MULTIPLY_ADD,
    MULTIPLY_SUBTRACT,
    SKIP,
    SUB,
    SUBTRACT_PRODUCT,
    WEIGHTS,
)

__all__ = ["Guard", "arguments", "arrange", "guarded", "reachable"]


class Guard(NamedTuple):
    """Formulas that are all zero where a condition is false: they are then not computed, but set to zero."""

    condition: str
    names: tuple[str, ...]


def arguments(row: Sequence[int]) -> list[int]:
    """Return the registers that an instruction reads."""
    if row[0] == WEIGHTS:
        return [r for r in row[2:6] if r >= 0]
    return [r for r in row[2 : 2 + ARITY[row[0]]] if r >= 0]


def reachable(code: Sequence[Sequence[int]], roots: Sequence[int]) -> set[int]:
    """Return the registers of the instructions that some registers need."""
    writers = {row[1]: row for row in code}
    seen: set[int] = set()
    stack = list(roots)
    while stack:
        register = stack.pop()
        if register in seen or register not in writers:
            continue
        seen.add(register)
        stack.extend(arguments(writers[register]))
    return seen


def arrange(
    code: Sequence[list[int]], stage: Sequence[int], guards: Sequence[tuple[int, int]], members: dict[int, int],
    fixed: set[int], joined: set[int],
) -> tuple[list[int], dict[int, list[int]]]:  # fmt: skip
    """Return the rows in order, and for each row that begins a guarded stretch the instruction to put before it.

    A product that only a sum uses is put into the sum, which changes its row.

    ``guards`` (condition's register, flag's register) apply to rows of stage 1 alone, those of ``members``.
    ``fixed`` are registers that others read by name, ``joined`` rows that others do the work of. Guards whose
    stretches do not come apart are left out.
    """
    ranks = _ranks(code, stage, members)
    if ranks is None:
        members, ranks = {}, [0] * len(code)
    gone = joined | _fuse(code, stage, members, fixed)
    order = sorted((i for i in range(len(code)) if i not in gone), key=lambda i: (stage[i], ranks[i]))
    skips: dict[int, list[int]] = {}
    for k, (condition, flag) in enumerate(guards):
        block = [i for i in order if members.get(code[i][1]) == k]
        if block:
            skips[block[0]] = [SKIP, flag, condition, len(block), -1, -1, -1]
    return order, skips


def guarded(
    code: Sequence[list[int]], stage: Sequence[int], wanted: Sequence[set[int]], fixed: set[int]
) -> dict[int, int]:
    """Return the guard of each register that a guard may leave out: nothing outside needs it."""
    found: dict[int, int] = {}
    results = set().union(*wanted) if wanted else set()
    place = {row[1]: i for i, row in enumerate(code)}
    for k, outputs in enumerate(wanted):
        for register in reachable(code, list(outputs)):
            if register not in found and stage[place[register]] == 1:
                found[register] = k
    changed = True
    while changed:
        changed = False
        for row in code:
            for register in arguments(row):
                inside = register in found and found.get(row[1]) == found[register]
                if register in found and register not in results and not inside:
                    del found[register]
                    changed = True
        for register in [r for r in found if r in fixed and r not in results]:
            del found[register]
            changed = True
    return found


def _fuse(code: Sequence[list[int]], stage: Sequence[int], members: dict[int, int], fixed: set[int]) -> set[int]:
    """Put products that one sum alone reads into it; return the rows that are no more."""
    readers: dict[int, int] = {}
    for row in code:
        for register in arguments(row):
            readers[register] = readers.get(register, 0) + 1
    products = {
        row[1]: i for i, row in enumerate(code) if row[0] == MUL and readers.get(row[1]) == 1 and row[1] not in fixed
    }
    gone: set[int] = set()
    for i, row in enumerate(code):
        if row[0] not in (ADD, SUB):
            continue
        for register, other in ((row[2], row[3]), (row[3], row[2])):
            j = products.get(register)
            if j is None or stage[j] != stage[i] or members.get(row[1]) != members.get(register):
                continue
            first = register == row[2]
            kind = MULTIPLY_ADD if row[0] == ADD else MULTIPLY_SUBTRACT if first else SUBTRACT_PRODUCT
            row[:5] = [kind, row[1], code[j][2], code[j][3], other]
            gone.add(j)
            break
    return gone


def _ranks(code: Sequence[list[int]], stage: Sequence[int], members: dict[int, int]) -> list[int] | None:
    """Return each row's place among the stretches: odd ones are guarded; None where they do not come apart."""
    rank: dict[int, int] = {}
    for i, row in enumerate(code):
        before = max((rank.get(r, 0) for r in arguments(row)), default=0) if stage[i] == 1 else 0
        if row[1] in members:
            mine = 2 * members[row[1]] + 1
            if before > mine:
                return None
            rank[row[1]] = mine
        else:
            rank[row[1]] = before + before % 2
    return [rank[row[1]] for row in code]
