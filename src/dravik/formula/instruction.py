"""One instruction of the tape as a record, and the one place that turns it into the numbers that the kernel reads."""

from dataclasses import dataclass

from dravik.formula.opcodes import LOCATE, SKIP, TABLE, WEIGHTS

__all__ = ["COLUMNS", "Instruction"]

COLUMNS = 7  # of the tape, documented one by one in docs/background/design.md
NONE = -1


@dataclass(slots=True)
class Instruction:
    """What an instruction does, which registers it reads, and where its result goes.

    ``op`` is its number (``opcodes``), ``result`` the first register it writes, ``reads`` are the registers it reads.
    Further numbers by kind: the search of an axis has ``policy`` (what happens outside), ``counter`` and ``axis``;
    weights have ``shape``; a table ``shape``, ``corners`` (numbers of a cell), ``table`` (its number, until it is
    grouped), ``members`` and ``group``; a skip ``count``, the instructions that it may pass over.
    """

    op: int
    result: int
    reads: list[int]
    policy: int = NONE
    counter: int = NONE
    axis: int = NONE
    shape: int = NONE
    corners: int = NONE
    table: int = NONE
    members: int = NONE
    group: int = NONE
    count: int = NONE

    def encoded(self) -> list[int]:
        """Return its row of the tape, COLUMNS numbers."""
        # each kind has its own numbers in the same seven columns: the kernel reads one array without a case for its
        # length
        if self.op == LOCATE:
            numbers = [*self.reads, self.policy, self.counter, NONE, self.axis]
        elif self.op == TABLE:
            numbers = [*self.reads, self.shape, self.corners, self.members, self.group]
        elif self.op == SKIP:
            numbers = [*self.reads, self.count, NONE, NONE, NONE]
        else:
            last = self.shape if self.op == WEIGHTS else NONE
            numbers = [*self.reads, *[NONE] * (4 - len(self.reads)), last]
        return [self.op, self.result, *numbers]
