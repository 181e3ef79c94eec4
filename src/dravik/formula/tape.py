"""From formulas to one flat tape: names resolved, order found, shared parts computed once.

Every value lives in a register. Instructions are sorted into five stages, by what they need: ``arrange.Stage``.
"""

from collections.abc import Iterable, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter
from typing import NoReturn

import numpy as np

from dravik.errors import DravikError, FormulaError, nearest
from dravik.formula import dynamics, memory
from dravik.formula.arrange import Guard, degree_of
from dravik.formula.functions import CONSTANTS, FUNCTIONS
from dravik.formula.instruction import Instruction
from dravik.formula.laying_out import lay_out
from dravik.formula.layout import Cell, Source, StateSlot, Tape
from dravik.formula.opcodes import OPS
from dravik.formula.parse import Node, parse
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
        # of each register: what must be known before it is (0: states, 1: angle rates, 2: accelerations)
        self.levels: list[int] = []
        # of each register: its degree in alpha_dot and beta_dot, in which the forces may be linear at most
        self.degrees: list[int] = []
        self.ranks: list[int] = []  # 0: read from no sample; 1: from samples of such; and so on
        self.names: dict[str, int] = {}
        self.nodes: dict[str, tuple[Node, str, str]] = {}
        self.states: list[StateSlot] = []
        self.cells: list[Cell] = []
        self.code: list[Instruction] = []
        self.sources: list[Source] = []
        # what has been computed already, so that nothing is written twice; the key is the operation and its arguments
        self._known: dict[tuple[object, ...], int] = {}
        # rates and next values that are compiled at the end, when every name has its register
        self._pending: list[tuple[Source, StateSlot, Node]] = []
        self._remembering: list[tuple[Source, list[Cell], Node]] = []
        self._source = Source("", "", 0)
        self._where = ""
        self.axes: dict[tuple[float, ...], int] = {}
        self.table_ids: dict[str, int] = {}
        self.shapes: dict[tuple[int, ...], int] = {}
        self.locates: list[list[tuple[str, str]]] = []
        # the kernel writes these registers itself, at fixed places: they must come first and in this order
        for name, level in base.items():
            self.names[name] = self.new_register(0.0, level, 1 if level == 1 else 0)
        for name in inputs:
            self._refuse_taken(name, "")
            self.names[name] = self.new_register(0.0)
        # a parameter's register is read like a constant's, but never folded, because its value may be set later
        for name, value in (parameters or {}).items():
            self._refuse_taken(name, f"parameters.{name}")
            self.names[name] = self.new_register(value)
        self._adjusted = dict(adjusted or {})

    # -- registers and instructions ---------------------------------------------------------------

    def new_register(self, value: float = 0.0, level: int = 0, degree: int = 0) -> int:
        """Return a new register: its first value, and level and degree of what is known of it."""
        self.values.append(value)
        self.levels.append(level)
        self.degrees.append(degree)
        self.ranks.append(0)
        return len(self.values) - 1

    def constant(self, value: float) -> int:
        """Return the register of a constant."""
        key = ("constant", value)
        if key not in self._known:
            self._known[key] = self.new_register(value)
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
        # refused here, where the place in the formula is known: in flight it would be an infinity with no address
        if op in ("div", "mod") and self.is_constant(args[1]) and self.values[args[1]] == 0.0:
            self.fail("this divides by zero", position)
        # constant folding, with the NumPy function that means the same as the kernel's instruction
        if OPS[op].apply is not None and all(self.is_constant(a) for a in args):
            return self._fold(op, args, position)
        # a result is known no earlier than its latest argument
        level = max([self.levels[a] for a in args]) if args else 0
        degree = degree_of(op, [self.degrees[a] for a in args])
        register = self.new_register(0.0, level, degree)
        # a search or a set of weights gives several numbers: they follow one another, and readers know the first
        for _ in range(width - 1):
            self.new_register(0.0, level, degree)
        self.ranks[register] = max([self.ranks[a] for a in args]) if args else 0
        self.code.append(Instruction(OPS[op].code, register, list(args)))
        self.sources.append(self._source._replace(position=position))
        self._known[key] = register
        return register

    def _fold(self, op: str, args: tuple[int, ...], position: int) -> int:
        numbers = [self.values[a] for a in args]
        # an overflow is told below with its place in the formula, not as a warning of NumPy
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
        # one name must not mean two things, because a formula says nothing about the kind of what it names
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
            # graphlib tells the loop against the direction of the need; readers follow it from the one that asks
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
        # only now: a formula that is a lag as a whole has the name already, and its state keeps the same one
        for slot in self.states:
            self.names.setdefault(slot.name, slot.register)
        for cell in self.cells:
            self.names.setdefault(cell.name, cell.register)
        return lay_out(self, [self.names[n] for n in needed], [self.names[n] for n in first], guards)

    def new_state(self, suffix: str, node: Node, *, partner: StateSlot | None = None) -> StateSlot:
        """Add a state for a function in the formula being compiled; its rate is compiled at the end.

        ``partner`` is the state whose rate this one is.
        """
        slot = StateSlot(self._own_name(suffix), self.new_register(), partner=partner, is_rate=partner is not None)
        if partner is not None:
            partner.partner = slot
        self.states.append(slot)
        self._pending.append((self._source, slot, node))
        return slot

    def new_cell(self, suffix: str, node: Node) -> Cell:
        """Add a cell of memory for a function in the formula being compiled; what it holds next is compiled at the end.

        The cells of one call follow one another.
        """
        cell = Cell(self._own_name(suffix), self.new_register())
        self.cells.append(cell)
        if self._remembering and self._remembering[-1][2] is node:
            self._remembering[-1][1].append(cell)
        else:
            self._remembering.append((self._source, [cell], node))
        return cell

    def _own_name(self, suffix: str) -> str:
        """Return a free name for a state or a cell of the formula being compiled."""
        # a state is named after its formula, because it stands in trims, in recordings and in linear models
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
        # signals before constants: none can have the name of another, so the order decides nothing but the time
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
            axis_id = self.axes.setdefault(axis.key, len(self.axes))
            key = (axis_id, self.compile(argument), OUTSIDE[table.outside])
            cells.append(self._locate(key, table.name or node.name, axis.name, node.position))
        table_id = self.table_ids.setdefault(node.name, len(self.table_ids))
        # tables on equal grids with equal arguments share the interpolation weights
        # offsets and strides are those of the grid, not of the table, so that one set of weights serves all on it
        form = (len(cells), table.mask, *(int(s) for s in table.strides), *[0] * (4 - len(cells)), *table.offsets)
        shape = self.shapes.setdefault(form, len(self.shapes))
        count = len(table.offsets)
        weights = self.emit("weights", *cells, position=node.position, extra=shape, width=1 + count)
        self._row(weights).shape = shape
        register = self.emit("table", weights, position=node.position, extra=table_id)
        row = self._row(register)
        row.shape, row.corners, row.table = shape, count, table_id
        # scale and shift act on the value, so a table changed by a parameter keeps its grid and its group
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
            # policies are 0 to 2: axis and policy together in one number, so that equal searches are found to be equal
            register = self.emit("locate", argument, position=position, extra=axis_id * 4 + policy, width=3)
            row = self._row(register)
            row.policy, row.counter, row.axis = policy, len(self.locates), axis_id
            self.locates.append([])
            known = self._known["cell", *key] = register
        # one search may serve many tables: a visit outside the axis is told with the names of all of them
        counter = self._row(known).counter
        if (table, axis) not in self.locates[counter]:
            self.locates[counter].append((table, axis))
        return known

    def _row(self, register: int) -> Instruction:
        """Return the instruction that writes a register."""
        # from the end: it is nearly always the last row that is asked for
        return next(row for row in reversed(self.code) if row.result == register)
