"""From formulas to one flat tape: names resolved, order found, shared parts computed once.

Every value lives in a register. Instructions are sorted into five stages, by what they need: ``arrange.Stage``.
"""

from collections.abc import Iterable, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter
from typing import NoReturn

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, FormulaError, nearest
from dravik.formula import dynamics, memory
from dravik.formula.arrange import Guard, Stage, arrange, degree_of, guarded, reachable
from dravik.formula.functions import CONSTANTS, FUNCTIONS
from dravik.formula.instruction import COLUMNS, Instruction
from dravik.formula.layout import Cell, Source, StateSlot, Tape, group_tables
from dravik.formula.opcodes import OPS
from dravik.formula.parse import Node, parse
from dravik.formula.watching import watched
from dravik.tables import OUTSIDE, Table

__all__ = ["TapeBuilder"]


class TapeBuilder:
    """Gathers formulas in any order and compiles them to a tape.

    ``base`` maps the names of signals known beforehand to their level: 0 from states, 1 for alpha_dot and
    beta_dot, 2 for accelerations; their registers come first, the ``inputs`` follow, then the ``parameters``, whose
    values may be set in the registers later. ``adjusted`` gives for a table the formulas of its scale and its shift.
    """

    def __init__(
        self,
        base: Mapping[str, int],
        inputs: Sequence[str] = (),
        tables: Mapping[str, Table] | None = None,
        constants: Mapping[str, float] | None = None,
        parameters: Mapping[str, float] | None = None,
        adjusted: Mapping[str, tuple[Node, Node]] | None = None,
    ) -> None:
        self.tables = dict(tables or {})
        self.constants = {**CONSTANTS, **(constants or {})}
        self.values: list[float] = []
        self.levels: list[int] = []
        self.degrees: list[int] = []
        self.ranks: list[int] = []  # 0: read from no sample; 1: from samples of such; and so on
        self.names: dict[str, int] = {}
        self.nodes: dict[str, tuple[Node, str, str]] = {}
        self.states: list[StateSlot] = []
        self.cells: list[Cell] = []
        self.code: list[Instruction] = []
        self.sources: list[Source] = []
        self._known: dict[tuple[object, ...], int] = {}
        self._pending: list[tuple[Source, StateSlot, Node]] = []
        self._remembering: list[tuple[Source, list[Cell], Node]] = []
        self._source = Source("", "", 0)
        self._where = ""
        self._axes: dict[tuple[float, ...], int] = {}
        self._table_ids: dict[str, int] = {}
        self._shapes: dict[tuple[int, ...], int] = {}
        self.locates: list[list[tuple[str, str]]] = []
        for name, level in base.items():
            self.names[name] = self._register(0.0, level, 1 if level == 1 else 0)
        for name in inputs:
            self._refuse_taken(name, "")
            self.names[name] = self._register(0.0)
        # a parameter's register is read like a constant's, but never folded, because its value may be set later
        for name, value in (parameters or {}).items():
            self._refuse_taken(name, f"parameters.{name}")
            self.names[name] = self._register(value)
        self._adjusted = dict(adjusted or {})

    # -- registers and instructions ---------------------------------------------------------------

    def _register(self, value: float = 0.0, level: int = 0, degree: int = 0) -> int:
        self.values.append(value)
        self.levels.append(level)
        self.degrees.append(degree)
        self.ranks.append(0)
        return len(self.values) - 1

    def constant(self, value: float) -> int:
        """Return the register of a constant."""
        key = ("constant", value)
        if key not in self._known:
            self._known[key] = self._register(value)
            self._known["is", self._known[key]] = 1
        return self._known[key]

    def is_constant(self, register: int) -> bool:
        """Whether a register holds a constant."""
        return ("is", register) in self._known

    def emit(self, op: str, *args: int, position: int = 0, extra: int = -1, width: int = 1) -> int:
        """Append an instruction, or find the one that already computes the same; return its register."""
        # common subexpressions: equal operations on equal registers are computed once
        key = (op, args, extra)
        if key in self._known:
            return self._known[key]
        if op in ("div", "mod") and self.is_constant(args[1]) and self.values[args[1]] == 0.0:
            self.fail("division by zero", position)
        # constant folding, with the NumPy function that means the same as the kernel's instruction
        if OPS[op].apply is not None and all(self.is_constant(a) for a in args):
            return self._fold(op, args, position)
        # a result is known no earlier than its latest argument
        level = max([self.levels[a] for a in args]) if args else 0
        degree = degree_of(op, [self.degrees[a] for a in args])
        register = self._register(0.0, level, degree)
        for _ in range(width - 1):
            self._register(0.0, level, degree)
        self.ranks[register] = max([self.ranks[a] for a in args]) if args else 0
        self.code.append(Instruction(OPS[op].code, register, list(args)))
        self.sources.append(self._source._replace(position=position))
        self._known[key] = register
        return register

    def _fold(self, op: str, args: tuple[int, ...], position: int) -> int:
        numbers = [self.values[a] for a in args]
        with np.errstate(all="ignore"):
            result = float(OPS[op].apply(*numbers))  # type: ignore[misc, arg-type]
        if not np.isfinite(result):
            shown = ", ".join(f"{n:g}" for n in numbers)
            self.fail(f"{op}({shown}) is not a finite number", position)
        return self.constant(result)

    def fail(self, what: str, position: int = 0, hint: str = "") -> NoReturn:
        """Raise a FormulaError at a character of the formula being compiled."""
        raise FormulaError(what, text=self._source.text, position=position, where=self._where, hint=hint)

    # -- definitions ----------------------------------------------------------------------------------

    def define(self, name: str, formula: str | float | Node, *, where: str = "") -> None:
        """Give a name to a formula. Raises DravikError for a taken or impossible name, FormulaError for its text."""
        self._refuse_taken(name, where)
        if isinstance(formula, Node):
            self.nodes[name] = (formula, where, "")
        else:
            self.nodes[name] = (parse(formula, where=where), where, str(formula))

    def _refuse_taken(self, name: str, where: str) -> None:
        if not name.isidentifier():
            raise DravikError(f"{name!r} is no name", where=where, expected="letters, digits and _, no digit first")
        for names, what in (
            (self.names, "a signal or input"),
            (self.nodes, "another formula"),
            (self.constants, "a constant"),
            (FUNCTIONS, "a function"),
            (self.tables, "a table"),
        ):
            if name in names:
                raise DravikError(f"the name {name!r} is taken by {what}", where=where, hint="another name")

    def _order(self) -> list[str]:
        """Return the formulas' names so that each comes after those it needs at the same instant."""
        # functions with states break loops: their value needs only the arguments in ``direct_names``
        graph = {
            name: [n for n in dynamics.direct_names(node) if n in self.nodes]
            for name, (node, _, _) in self.nodes.items()
        }
        try:
            return list(TopologicalSorter(graph).static_order())
        except CycleError as error:
            path = list(reversed(error.args[1]))
            _, where, text = self.nodes[path[0]]
            raise FormulaError(
                "formulas need each other at the same instant: " + " -> ".join(path),
                text=text,
                where=where,
                hint="a lag or an actuator in the loop, or a formula that does not lead back",
            ) from None

    def build(self, needed: Iterable[str], first: Sequence[str] = (), guards: Sequence[Guard] = ()) -> Tape:
        """Compile everything; ``needed`` are the names that forces and the integrator read.

        ``first`` are the names that the WIND stage computes; ``guards`` name what is skipped.
        """
        for name in self._order():
            node, where, text = self.nodes[name]
            self._source, self._where = Source(name, text, 0), where
            register = self.compile(node)
            self.names[name] = register
        # rates come last, because they may read any formula; compiling one may add further states
        while self._pending or self._remembering:
            if self._pending:
                self._source, slot, node = self._pending.pop(0)
                self._where = self.nodes[self._source.name][1]
                dynamics.rates(self, slot, node)
            else:
                self._source, cells, node = self._remembering.pop(0)
                self._where = self.nodes[self._source.name][1]
                memory.changes(self, cells, node)
        for slot in self.states:
            self.names.setdefault(slot.name, slot.register)
        for cell in self.cells:
            self.names.setdefault(cell.name, cell.register)
        return self._finish([self.names[n] for n in needed], [self.names[n] for n in first], guards)

    def new_state(self, suffix: str, node: Node, *, partner: StateSlot | None = None) -> StateSlot:
        """Add a state for a function in the formula being compiled; its rate is compiled at the end.

        ``partner`` is the state whose rate this one is.
        """
        slot = StateSlot(self._own_name(suffix), self._register(), partner=partner, is_rate=partner is not None)
        if partner is not None:
            partner.partner = slot
        self.states.append(slot)
        self._pending.append((self._source, slot, node))
        return slot

    def new_cell(self, suffix: str, node: Node) -> Cell:
        """Add a cell of memory for a function in the formula being compiled; what it holds next is compiled at the end.

        The cells of one call follow one another.
        """
        cell = Cell(self._own_name(suffix), self._register())
        self.cells.append(cell)
        if self._remembering and self._remembering[-1][2] is node:
            self._remembering[-1][1].append(cell)
        else:
            self._remembering.append((self._source, [cell], node))
        return cell

    def _own_name(self, suffix: str) -> str:
        """Return a free name for a state or a cell of the formula being compiled."""
        stem = f"{self._source.name}_{suffix}" if suffix else self._source.name
        taken = {s.name for s in self.states} | {c.name for c in self.cells} | set(self.names)
        taken |= set(self.nodes) - {self._source.name}
        name, count = stem, 2
        while name in taken:
            name, count = f"{stem}_{count}", count + 1
        return name

    # -- compiling a tree ---------------------------------------------------------------------------------

    def compile(self, node: Node) -> int:
        """Return the register that holds a node's value."""
        if node.kind == "number":
            return self.constant(node.value)
        if node.kind == "name":
            return self._name(node)
        if node.kind == "call":
            if node.name in dynamics.STATEFUL:
                # a function around this one compiles its argument twice (value and rate): both get the same state
                key = ("stateful", self._source.name, id(node))
                if key not in self._known:
                    made = memory.value if node.name in memory.MEMORY else dynamics.value
                    self._known[key] = made(self, node)
                return self._known[key]
            return self._table(node)
        args = [self.compile(a) for a in node.args]
        # a square is a product: much cheaper than pow, and exact for negative bases
        if node.name == "pow" and self.is_constant(args[1]) and self.values[args[1]] == 2.0:
            return self.emit("mul", args[0], args[0], position=node.position)
        return self.emit(node.name, *args, position=node.position)

    def _name(self, node: Node) -> int:
        if node.name in self.names:
            return self.names[node.name]
        if node.name in self.constants:
            return self.constant(self.constants[node.name])
        if node.name in self.tables:
            axes = ", ".join(a.name for a in self.tables[node.name].axes)
            self.fail(f"{node.name} is a table", node.position, f"{node.name}({axes})")
        if node.name in FUNCTIONS:
            wanted = ", ".join(FUNCTIONS[node.name].arguments)
            self.fail(f"{node.name} is a function", node.position, f"{node.name}({wanted})")
        hint = nearest(node.name, [*self.names, *self.nodes, *self.constants])
        raise FormulaError(
            f"there is no signal {node.name!r}",
            text=self._source.text,
            position=node.position,
            where=self._where,
            hint=hint or "dravik signals",
        )

    def _table(self, node: Node) -> int:
        table = self.tables.get(node.name)
        if table is None:
            hint = nearest(node.name, [*self.tables, *FUNCTIONS])
            raise FormulaError(
                f"there is no function or table {node.name!r}",
                text=self._source.text,
                position=node.position,
                where=self._where,
                hint=hint,
            )
        if len(node.args) != len(table.axes):
            axes = ", ".join(a.name for a in table.axes)
            self.fail(f"table {node.name} has {len(node.args)} arguments", node.position, f"{node.name}({axes})")
        # each axis is searched once for each argument and policy, whatever number of tables use it
        cells = []
        for axis, argument in zip(table.axes, node.args, strict=True):
            axis_id = self._axes.setdefault(axis.key, len(self._axes))
            key = (axis_id, self.compile(argument), OUTSIDE[table.outside])
            cells.append(self._locate(key, table.name or node.name, axis.name, node.position))
        table_id = self._table_ids.setdefault(node.name, len(self._table_ids))
        # tables on equal grids with equal arguments share the interpolation weights
        form = (len(cells), table.mask, *(int(s) for s in table.strides), *[0] * (4 - len(cells)), *table.offsets)
        shape = self._shapes.setdefault(form, len(self._shapes))
        count = len(table.offsets)
        weights = self.emit("weights", *cells, position=node.position, extra=shape, width=1 + count)
        self._row(weights).shape = shape
        register = self.emit("table", weights, position=node.position, extra=table_id)
        row = self._row(register)
        row.shape, row.corners, row.table = shape, count, table_id
        if node.name in self._adjusted:
            scale, shift = (self.compile(part) for part in self._adjusted[node.name])
            register = self.emit("mul", scale, register, position=node.position)
            register = self.emit("add", register, shift, position=node.position)
        return register

    def _locate(self, key: tuple[int, int, int], table: str, axis: str, position: int) -> int:
        """Return the register of a cell; three follow one another: cell, place in it, width."""
        axis_id, argument, policy = key
        known = self._known.get(("cell", *key))
        if known is None:
            register = self.emit("locate", argument, position=position, extra=axis_id * 4 + policy, width=3)
            row = self._row(register)
            row.policy, row.counter, row.axis = policy, len(self.locates), axis_id
            self.locates.append([])
            known = self._known["cell", *key] = register
        counter = self._row(known).counter
        if (table, axis) not in self.locates[counter]:
            self.locates[counter].append((table, axis))
        return known

    def _row(self, register: int) -> Instruction:
        """Return the instruction that writes a register."""
        return next(row for row in reversed(self.code) if row.result == register)

    # -- laying out -------------------------------------------------------------------------------------------

    def _finish(self, needed: list[int], first: list[int], guards: Sequence[Guard]) -> Tape:
        # whatever loads, rates of states and limits need runs at every evaluation; the rest only when recorded
        roots = [*needed, *(r for s in self.states for r in (s.rate, s.low, s.high) if r >= 0)]
        asked = [(self.names[g.condition], self._register(1.0), self._results(g) - set(first)) for g in guards]
        roots += [condition for condition, _, _ in asked]
        useful, wind = reachable(self.code, roots), reachable(self.code, first)
        stage = [self._stage(row.result, useful, wind) for row in self.code]
        # registers read by name must keep their values: they are neither fused away nor skipped
        cells = [r for c in self.cells for r in (c.next, c.start) if r >= 0]
        fixed = {*self.names.values(), *roots, *cells}
        # what only a recording reads does not move anything: it is told of, and stops nothing
        moving = {row.result for row, s in zip(self.code, stage, strict=True) if s != Stage.RECORDED}
        watch = watched(self.code, fixed, moving, lambda r: self.values[r] if self.is_constant(r) else None)
        members = guarded(self.code, stage, [results for _, _, results in asked], fixed)
        # tables are grouped only within one stage and one guard: otherwise a group would run when not all are needed
        apart = [len(Stage) * (members.get(row.result, -1) + 1) + s for row, s in zip(self.code, stage, strict=True)]
        groups = group_tables(self.code, apart, [self.tables[n] for n in self._table_ids])
        order, skips = arrange(self.code, stage, [(c, f) for c, f, _ in asked], members, fixed, groups.joined)
        rows, sources, counts = [], [], [0] * len(Stage)
        for i in order:
            for row in ([skips[i]] if i in skips else []) + [self.code[i]]:
                rows.append(row.encoded())
                sources.append(self.sources[i])
                counts[stage[i]] += 1
        ends = [int(e) for e in np.cumsum(counts)]
        sizes = np.array([len(a) for a in self._axes], dtype=np.int64)
        return Tape(
            code=np.array(rows, dtype=np.int32).reshape(-1, COLUMNS),
            stages=(ends[0], ends[1], ends[2], ends[3], ends[4]),
            registers=self._initial_registers(),
            names=dict(self.names),
            states=self.states,
            cells=self.cells,
            sources=sources,
            breaks=np.array([v for axis in self._axes for v in axis], dtype=float),
            axis_start=np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64) if len(sizes) else sizes,
            axis_size=sizes,
            values=np.concatenate(groups.values) if groups.values else np.zeros(0),
            table_start=groups.starts,
            table_into=groups.into,
            shapes=list(self._shapes),
            locates=self.locates,
            watched=watch,
        )

    def _initial_registers(self) -> NDArray[np.float64]:
        values = np.array(self.values)
        for cell in self.cells:
            values[cell.register] = cell.initial
        return values

    def _stage(self, register: int, useful: set[int], wind: set[int]) -> Stage:
        """Return when a result is computed: registers of ``wind`` first, those that are not ``useful`` last."""
        if register in wind:
            return Stage.WIND
        if register not in useful:
            return Stage.RECORDED
        return (Stage.STATES, Stage.ANGLE_RATES, Stage.ACCELERATIONS)[self.levels[register]]

    def _results(self, guard: Guard) -> set[int]:
        """Return the registers that a guard skips: its formulas, and the rates and limits of its states."""
        slots = [r for s in self.states if s.name in guard.names for r in (s.rate, s.low, s.high) if r >= 0]
        return {*(self.names[n] for n in guard.names), *slots}
