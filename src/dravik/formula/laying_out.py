"""From gathered instructions to a tape: when each runs, what is skipped, which tables are looked up together."""

from collections.abc import Mapping, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.formula.arrange import Guard, Stage, arrange, guarded, reachable
from dravik.formula.instruction import COLUMNS, Instruction
from dravik.formula.layout import Cell, Source, StateSlot, Tape, group_tables
from dravik.formula.watching import watched
from dravik.tables import Table

__all__ = ["lay_out"]


class Builder(Protocol):
    """What is laid out: instructions with their sources, registers, states, cells, and tables by number."""

    code: list[Instruction]
    sources: list[Source]
    values: list[float]
    levels: list[int]
    names: dict[str, int]
    states: list[StateSlot]
    cells: list[Cell]
    locates: list[list[tuple[str, str]]]
    axes: dict[tuple[float, ...], int]
    shapes: dict[tuple[int, ...], int]
    table_ids: dict[str, int]

    @property
    def tables(self) -> Mapping[str, Table]:
        """The tables by name."""

    def new_register(self, value: float = 0.0) -> int:
        """Return a new register that holds a value."""

    def is_constant(self, register: int) -> bool:
        """Whether a register holds a constant."""


def lay_out(b: Builder, needed: list[int], first: list[int], guards: Sequence[Guard]) -> Tape:
    """Return the tape of all instructions: by stage, guarded stretches behind their skip, tables in groups."""
    # whatever loads, rates of states and limits need runs at every evaluation; the rest only when recorded
    roots = [*needed, *(r for s in b.states for r in (s.rate, s.low, s.high) if r >= 0)]
    # the flag starts at 1, as if the guard were open, so that the first evaluation sets the results to zero
    asked = [(b.names[g.condition], b.new_register(1.0), _results(b, g) - set(first)) for g in guards]
    roots += [condition for condition, _, _ in asked]
    # the wind comes before the air data; what only a recording asks for must not cost time at each step
    useful, wind = reachable(b.code, roots), reachable(b.code, first)
    stage = [_stage(b, row.result, useful, wind) for row in b.code]
    # registers read by name must keep their values: they are neither fused away nor skipped
    cells = [r for c in b.cells for r in (c.next, c.start) if r >= 0]
    fixed = {*b.names.values(), *roots, *cells}
    # what only a recording reads does not move anything: it is told of, and stops nothing
    moving = {row.result for row, s in zip(b.code, stage, strict=True) if s != Stage.RECORDED}
    watch = watched(b.code, fixed, moving, lambda r: b.values[r] if b.is_constant(r) else None)
    members = guarded(b.code, stage, [results for _, _, results in asked], fixed)
    # tables are grouped only within one stage and one guard: otherwise a group would run when not all are needed
    apart = [len(Stage) * (members.get(row.result, -1) + 1) + s for row, s in zip(b.code, stage, strict=True)]
    groups = group_tables(b.code, apart, [b.tables[n] for n in b.table_ids])
    order, skips = arrange(b.code, stage, [(c, f) for c, f, _ in asked], members, fixed, groups.joined)
    rows, sources, counts = [], [], [0] * len(Stage)
    for i in order:
        # a skip counts as a row of its stage, and an error in it is told as that of the row it guards
        for row in ([skips[i]] if i in skips else []) + [b.code[i]]:
            rows.append(row.encoded())
            sources.append(b.sources[i])
            counts[stage[i]] += 1
    ends = [int(e) for e in np.cumsum(counts)]
    sizes = np.array([len(a) for a in b.axes], dtype=np.int64)
    return Tape(
        code=np.array(rows, dtype=np.int32).reshape(-1, COLUMNS),
        stages=(ends[0], ends[1], ends[2], ends[3], ends[4]),
        registers=_initial_registers(b),
        names=dict(b.names),
        states=b.states,
        cells=b.cells,
        sources=sources,
        breaks=np.array([v for axis in b.axes for v in axis], dtype=float),
        axis_start=np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64) if len(sizes) else sizes,
        axis_size=sizes,
        values=np.concatenate(groups.values) if groups.values else np.zeros(0),
        table_start=groups.starts,
        table_into=groups.into,
        shapes=list(b.shapes),
        locates=b.locates,
        watched=watch,
    )


def _initial_registers(b: Builder) -> NDArray[np.float64]:
    """Return the registers at the beginning: constants and parameters, cells at their initial values."""
    values = np.array(b.values)
    for cell in b.cells:
        values[cell.register] = cell.initial
    return values


def _stage(b: Builder, register: int, useful: set[int], wind: set[int]) -> Stage:
    """Return when a result is computed: registers of ``wind`` first, those that are not ``useful`` last."""
    # what the wind needs runs early even where a recording alone asked for it
    if register in wind:
        return Stage.WIND
    if register not in useful:
        return Stage.RECORDED
    return (Stage.STATES, Stage.ANGLE_RATES, Stage.ACCELERATIONS)[b.levels[register]]


def _results(b: Builder, guard: Guard) -> set[int]:
    """Return the registers that a guard skips: its formulas, and the rates and limits of its states."""
    slots = [r for s in b.states if s.name in guard.names for r in (s.rate, s.low, s.high) if r >= 0]
    return {*(b.names[n] for n in guard.names), *slots}
