"""Which results must be finite in flight: those of operations that may give infinity or no number at all.

A limit, a condition or a minimum may swallow such a value, so that what follows looks sound: it is looked for where it
arises. In the branch of an ``if_else`` that is not taken it harms nobody.
"""

from collections.abc import Callable, Collection, Iterable, Sequence
from typing import NamedTuple

from dravik.formula import opcodes as op
from dravik.formula.instruction import Instruction

__all__ = ["Watched", "watched"]

RISKY = frozenset(
    (op.DIV, op.MOD, op.POW, op.SQRT, op.EXP, op.LOG, op.LOG10, op.ASIN, op.ACOS, op.SINH, op.COSH)
)  # fmt: skip
MOST = 12  # ways to the results, each with its conditions, that are kept for one register

Conditions = frozenset[tuple[int, bool]]


class Watched(NamedTuple):
    """Registers that must be finite ``always``, and those that must be while some conditions hold.

    Each of ``while_taken`` is a register, and conditions with the side on which each must be.
    """

    always: list[int]
    while_taken: list[tuple[int, tuple[tuple[int, bool], ...]]]

    def encoded(self) -> list[int]:
        """Return the second kind as numbers: how many; of each register, count, and condition and side of each."""
        rows = [
            n
            for r, conditions in self.while_taken
            for n in (r, len(conditions), *(int(v) for c in conditions for v in c))
        ]
        return [len(self.while_taken), *rows]


def watched(
    code: Sequence[Instruction], roots: Iterable[int], moving: Collection[int], constant: Callable[[int], float | None]
) -> Watched:
    """Return what of a tape must be finite; ``roots`` are the registers that are read by name or by the kernel.

    Of all results those that are ``moving`` count: what the motion needs. ``constant`` gives the value of a register
    that holds a constant, else None.
    """
    risky = [r.result for r in code if r.op in RISKY and r.result in moving and not _is_safe(r, constant)]
    # most aircraft divide by constants alone and have nothing to watch
    if not risky:
        return Watched([], [])
    always, branches = set(roots), dict[int, list[tuple[int, int, bool]]]()
    for row in reversed(code):
        if row.op == op.IF:
            condition, yes, no = row.reads
            branches.setdefault(yes, []).append((row.result, condition, True))
            branches.setdefault(no, []).append((row.result, condition, False))
    readers: dict[int, list[int]] = {}
    for row in code:
        # of a choice only the condition is always read: the two branches are followed with their condition
        for register in row.reads[:1] if row.op == op.IF else row.reads:
            readers.setdefault(register, []).append(row.result)
    # results are written after all that they read: from the last to the first everything that reads is known
    ways: dict[int, set[Conditions]] = {}
    for row in reversed(code):
        ways[row.result] = _ways(row.result, always, readers, branches, ways)
    found = Watched([], [])
    for register in risky:
        # a way without conditions makes all others needless
        if frozenset() in ways[register]:
            found.always.append(register)
        else:
            found.while_taken.extend((register, tuple(sorted(c))) for c in ways[register])
    return found


def _ways(
    register: int, always: set[int], readers: dict[int, list[int]], branches: dict[int, list[tuple[int, int, bool]]],
    ways: dict[int, set[Conditions]],
) -> set[Conditions]:  # fmt: skip
    """Return the ways from a register to what is read, each as the conditions under which it is open."""
    if register in always:
        return {frozenset()}
    found: set[Conditions] = set()
    for reader in readers.get(register, ()):
        found |= ways.get(reader, set())
        if frozenset() in found:
            return {frozenset()}
    for result, condition, side in branches.get(register, ()):
        # a way that needs a condition both true and false can never be open
        found |= {one | {(condition, side)} for one in ways.get(result, set()) if (condition, not side) not in one}
    # of too many the shortest are kept: with the fewest conditions they are open most often
    return found if len(found) <= MOST else set(sorted(found, key=lambda c: (len(c), sorted(c)))[:MOST])


def _is_safe(row: Instruction, constant: Callable[[int], float | None]) -> bool:
    """Whether an operation's second argument is a constant with which its result is finite."""
    if row.op in (op.DIV, op.MOD):
        return constant(row.reads[1]) is not None  # zero was refused when the formula was read
    if row.op == op.POW:
        power = constant(row.reads[1])
        return power is not None and power > 0.0 and power == int(power)
    return False
