"""The tape as it is laid out for the kernel: instructions, registers, and tables that are looked up together."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.formula.instruction import Instruction
from dravik.formula.opcodes import ARITY, IF, LOCATE, TABLE, WEIGHTS
from dravik.formula.watching import Watched
from dravik.tables import Table
from dravik.tables.table import interleaved_nodes

__all__ = ["SHAPE_HEADER", "Cell", "RandomChange", "Source", "StateSlot", "Tape", "group_tables"]

SHAPE_HEADER = 6  # entries of a shape before its offsets: axes, mask of smooth axes, four strides


class Source(NamedTuple):
    """Where an instruction comes from: the formula's name and text, and the character."""

    name: str
    text: str
    position: int


@dataclass
class StateSlot:
    """A state that a stateful function or an actuator brings: its registers and its start."""

    name: str
    register: int
    initial: float = 0.0
    rate: int = -1
    low: int = -1
    high: int = -1
    is_integral: bool = False
    partner: "StateSlot | None" = None
    is_rate: bool = False


class RandomChange(NamedTuple):
    """How a random cell changes: its stream of normal numbers, the share it keeps, and the scale of what is added.

    ``begin`` is the scale of what it holds at first.
    """

    stream: int
    keep: float
    scale: float
    begin: float


@dataclass
class Cell:
    """A number that a function remembers from step to step: its register, and that of its next value.

    ``start`` is the register it takes over when a flight begins (its ``initial`` value without one). With a ``period``
    (s) it changes once each period, ``late`` (s) after the sample; otherwise at each step. A ``quiet`` one changes
    nothing but what the next change will be; a ``last`` one is quiet too, and changes after all others. Samples of what
    is computed from samples are taken after those: by ``rank``. Of a ``random`` one ``next`` is the register of a seed.
    """

    name: str
    register: int
    initial: float = 0.0
    next: int = -1
    start: int = -1
    period: float = 0.0
    late: float = 0.0
    quiet: bool = False
    last: bool = False
    rank: int = 0
    random: RandomChange | None = None


@dataclass(frozen=True)
class Tape:
    """Compiled formulas: instructions, registers by name, states, memory cells, and the tables laid out flat.

    A table instruction looks up a group of tables whose numbers stand interleaved from ``table_start``, and writes the
    registers of ``table_into``. Each of ``shapes`` is a grid's: number of axes, smooth ones as bits, four strides, and
    where a cell's numbers lie.
    """

    code: NDArray[np.int32]
    stages: tuple[int, int, int, int, int]
    registers: NDArray[np.float64]
    names: dict[str, int]
    states: list[StateSlot]
    cells: list[Cell]
    sources: list[Source]
    breaks: NDArray[np.float64]
    axis_start: NDArray[np.int64]
    axis_size: NDArray[np.int64]
    values: NDArray[np.float64]
    table_start: list[int]
    table_into: list[list[int]]
    shapes: list[tuple[int, ...]]
    locates: list[list[tuple[str, str]]]
    watched: Watched = field(default_factory=lambda: Watched([], []))

    @cached_property
    def values_sha256(self) -> str:
        """A hash of the tables' numbers: what a recording keeps."""
        return hashlib.sha256(self.values.tobytes()).hexdigest()

    def trace(self, register: int, values: NDArray[np.float64]) -> Source | None:
        """Return the place where a value that is not finite first arose, going back from ``register``."""
        # one row may write several registers; of a group of tables each must lead back to its row
        writers = {int(row[1]): i for i, row in enumerate(self.code)}
        for i, row in enumerate(self.code):
            if row[0] == TABLE:
                writers.update(dict.fromkeys(self.table_into[row[6]], i))
        current = writers.get(register)
        while current is not None:
            row = self.code[current]
            arguments = [int(r) for r in row[2 : 2 + ARITY[int(row[0])]]]
            # only the branch that was taken can have brought the value
            if row[0] == IF:
                arguments = [arguments[1] if values[arguments[0]] != 0.0 else arguments[2]]
            # the first argument that is not finite leads further back; when all are finite the operation itself is to
            # blame
            bad = [r for r in arguments if not np.all(np.isfinite(values[r : r + self._width(writers.get(r))]))]
            if not bad or bad[0] not in writers:
                return self.sources[current]
            current = writers[bad[0]]
        return None

    def _width(self, writer: int | None) -> int:
        """Return how many registers of an instruction's result must be looked at to tell whether it is finite."""
        # cell, share and width of a search; of weights the offset and the first weight, which spoils with the others
        return {LOCATE: 3, WEIGHTS: 2}.get(int(self.code[writer, 0]), 1) if writer is not None else 1


@dataclass
class Groups:
    """Tables that are looked up together: numbers, where each group's begin, registers, and rows that are left out."""

    values: list[NDArray[np.float64]] = field(default_factory=list)
    starts: list[int] = field(default_factory=list)
    into: list[list[int]] = field(default_factory=list)
    joined: set[int] = field(default_factory=set)


def group_tables(code: list[Instruction], stage: list[int], tables: Sequence[Table]) -> Groups:
    """Join the tables of a stage that are asked with the same weights into one instruction, and return the groups.

    The first row of a group takes the number of its tables and the group's number; the others are left out.
    """
    found = Groups()
    members: dict[tuple[int, int], list[int]] = {}
    for i, row in enumerate(code):
        if row.op == TABLE:
            # the register of the weights stands for grid, arguments and policies together
            members.setdefault((row.reads[0], stage[i]), []).append(i)
    known: dict[tuple[int, ...], int] = {}
    for group, rows in enumerate(members.values()):
        ids = tuple(code[i].table for i in rows)
        # the same tables asked twice, with other arguments, need their numbers only once
        if ids not in known:
            known[ids] = sum(len(v) for v in found.values)
            found.values.append(interleaved_nodes([tables[t] for t in ids]))
        found.starts.append(known[ids])
        found.into.append([code[i].result for i in rows])
        found.joined.update(rows[1:])
        code[rows[0]].members, code[rows[0]].group = len(rows), group
    return found
