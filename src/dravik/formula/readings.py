"""What a sensor's output is made of: random numbers, samples that may be missed and come late, and their count.

Not for formulas. Outside a flight, in a trim or a linear model, a random number is 0 and a reading passes its second
argument: the first without what is rounded.
"""

from itertools import pairwise
from typing import Protocol

from dravik.formula import dynamics
from dravik.formula.layout import Cell, RandomChange
from dravik.formula.parse import Node

__all__ = ["NAMES", "Builder", "changes", "value"]

NAMES = ("random", "reading", "ticks")
CLOSE = 1e-9  # share of a period within which a delay is a whole number of periods


class Builder(dynamics.Builder, Protocol):
    """What functions with memory write to: a tape while it is made."""

    def new_cell(self, suffix: str, node: Node) -> Cell:
        """Add a cell for a function in the formula being compiled; ``changes`` is called for it at the end."""


def value(b: Builder, node: Node) -> int:
    """Add the cells of one call and return the register of its value."""
    numbers = [a.value for a in node.args]
    if node.name == "random":
        cell = b.new_cell("", node)
        _, stream, cell.period, keep, scale, begin = numbers
        cell.random = RandomChange(int(stream), keep, scale, begin)
        return _ranked(b, b.emit("remembered", cell.register, b.constant(0.0)), 1)
    if node.name == "ticks":
        cell = b.new_cell("", node)
        cell.period, cell.rank = numbers[1], b.ranks[b.compile(node.args[0])]
        return _ranked(b, b.emit("remembered", cell.register, b.constant(0.0)), cell.rank + 1)
    x, at_rest, held = (b.compile(a) for a in node.args[:3])
    period, delay = numbers[3:]
    rank = max(b.ranks[x], b.ranks[held])
    whole = int(delay / period + CLOSE)
    late = delay - whole * period
    # a shift register for whole periods, of which all cells change at once, and a cell for the rest
    cells = [b.new_cell("sample", node) for _ in range(1 + whole)]
    for cell in cells:
        cell.period, cell.rank, cell.quiet = period, rank, True
    if late > CLOSE * period:
        cells.append(b.new_cell("held", node))
        cells[-1].period, cells[-1].late, rank = period, late, 0
    cells[-1].quiet = False
    return _ranked(b, b.emit("remembered", cells[-1].register, at_rest), rank + 1)


def _ranked(b: Builder, register: int, rank: int) -> int:
    """Return a register, with its rank raised."""
    b.ranks[register] = max(rank, b.ranks[register])
    return register


def changes(b: Builder, cells: list[Cell], node: Node) -> None:
    """Compile what the cells of one call hold next; ``cells`` in the order in which ``value`` made them."""
    first = cells[0]
    if node.name == "random":
        first.next = b.compile(node.args[0])
        return
    if node.name == "ticks":
        more = b.emit("add", first.register, b.constant(1.0))
        first.next, first.start = b.emit("if_else", b.compile(node.args[0]), first.register, more), b.constant(0.0)
        return
    x = b.compile(node.args[0])
    first.next = b.emit("if_else", b.compile(node.args[2]), first.register, x)
    for before, cell in pairwise(cells):
        cell.next = before.register
    for cell in cells:
        cell.start = x
