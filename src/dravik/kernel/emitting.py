"""From an instruction of the tape to the instructions of LLVM that mean the same, operation by operation."""

import math
from collections.abc import Callable, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from llvmlite import ir

from dravik.formula import opcodes as op
from dravik.formula.layout import SHAPE_HEADER
from dravik.kernel.program import (
    AXIS_SIZE,
    AXIS_START,
    COUNTING,
    FLAGS,
    FLYING,
    OUTSIDE_TABLE,
    TABLE_START,
)

if TYPE_CHECKING:
    from collections.abc import Iterator

    from dravik.kernel.code_analysis import TapeAnalysis

__all__ = ["DOUBLE", "INT", "Emitter"]

DOUBLE, INT, SMALL = ir.DoubleType(), ir.IntType(64), ir.IntType(32)
EXTEND, ERROR_POLICY = 1, 2
#: Instructions that are a function of the C library, which the interpreter calls too.
LIBRARY = {
    op.SIN: "sin", op.COS: "cos", op.TAN: "tan", op.ASIN: "asin", op.ACOS: "acos", op.ATAN: "atan", op.ATAN2: "atan2",
    op.EXP: "exp", op.LOG: "log", op.LOG10: "log10", op.SINH: "sinh", op.COSH: "cosh", op.TANH: "tanh",
    op.HYPOT: "hypot", op.POW: "pow",
}  # fmt: skip
INTRINSIC = {op.SQRT: "llvm.sqrt.f64", op.ABS: "llvm.fabs.f64", op.FLOOR: "llvm.floor.f64"}
COMPARED = {op.LT: "<", op.LE: "<=", op.GT: ">", op.GE: ">=", op.EQ: "=="}


def number(value: float) -> ir.Constant:
    """Return a constant."""
    return ir.Constant(DOUBLE, float(value))


def whole(value: int) -> ir.Constant:
    """Return a constant whole number."""
    return ir.Constant(INT, int(value))


class Emitter:
    """Writes the rows of one stage into a function; values of registers are kept at hand until a branch ends."""

    def __init__(self, function: ir.Function, analysis: "TapeAnalysis") -> None:
        self.analysis, self.module = analysis, function.module
        self.registers, self.numbers, self.counters, self.worst, steady = function.args
        self.builder = ir.IRBuilder(function.append_basic_block())
        # decided once per call: limits that a trim looks through are chosen, not branched round
        self.steady = self.builder.icmp_signed("!=", steady, whole(0))
        self.known: dict[int, Any] = {}
        self.cells: dict[int, Any] = {}  # the whole number of a cell or an offset, beside its register

    # -- registers ----------------------------------------------------------------------------------------------------

    def place(self, register: int) -> Any:
        """Return the address of a register."""
        return self.builder.gep(self.registers, [whole(register)])

    def value(self, register: int, *, stored: bool = False) -> Any:
        """Return the value of a register; ``stored``: read from memory where it is a constant, never folded."""
        register = int(register)
        if register not in self.known:
            # what never changes is written into the code as a number, and LLVM folds what follows from it
            changing = register in self.analysis.changing
            if not changing and not stored:
                return number(self.analysis.tape.registers[register])
            # read once in each branch: LLVM would find most of these itself, but not across calls of the C library
            self.known[register] = self.builder.load(self.place(register))
        return self.known[register]

    def set(self, register: int, value: Any) -> None:
        """Give a register its value; it is stored only where something else reads it there."""
        self.known[int(register)] = value
        if int(register) in self.analysis.kept:
            self.builder.store(value, self.place(register))

    @contextmanager
    def apart(self) -> "Iterator[None]":
        """Forget, at the end, the values that came to be in a branch."""
        # a value computed in one branch does not exist on the way past it
        before = dict(self.known), dict(self.cells)
        yield
        self.known, self.cells = before

    def guarded(self, row: Sequence[int], stretch: range) -> None:
        """Write a stretch that runs where a condition holds, and is set to nought once where it does not."""
        b, flag = self.builder, self.place(row[1])
        runs = b.fcmp_unordered("!=", self.value(row[2]), number(0.0))
        with b.if_else(runs) as (then, otherwise):
            with then, self.apart():
                b.store(number(1.0), flag)
                for k in stretch:
                    self.row(self.analysis.program.code[k])
            with otherwise:
                # zero them once, when the guard closes: doing so at every evaluation would cost what the guard saves
                open_before = b.fcmp_unordered("!=", b.load(flag), number(0.0))
                with b.if_then(open_before):
                    b.store(number(0.0), flag)
                    for k in stretch:
                        # every register of the stretch is zeroed, also those that only the stretch reads: a recording
                        # may ask for them
                        own = self.analysis.program.code[k]
                        into = self.analysis.tape.table_into[int(own[6])] if own[0] == op.TABLE else [int(own[1])]
                        for register in into:
                            b.store(number(0.0), self.place(register))

    # -- rows ---------------------------------------------------------------------------------------------------------

    def row(self, row: Sequence[int]) -> None:
        """Write one instruction."""
        code = int(row[0])
        if code == op.LOCATE:
            self._locate(row)
        elif code == op.WEIGHTS:
            self._weights(row)
        elif code == op.TABLE:
            self._tables(row)
        else:
            # a constant exponent would let LLVM turn the power into products, whose last bits are others
            stored = code == op.POW  # the C library's power, whatever its exponent
            x = [self.value(r, stored=stored) for r in row[2 : 2 + op.ARITY[code]]]
            self.set(row[1], self._plain(code, x))

    def _plain(self, code: int, x: list[Any]) -> Any:
        b = self.builder
        if code in LIBRARY:
            return self._call(LIBRARY[code], x)
        if code in INTRINSIC:
            return self._call(INTRINSIC[code], x)
        if code in COMPARED:
            return self._truth(b.fcmp_ordered(COMPARED[code], x[0], x[1]))
        return self._made(code)(b, *x)

    def _made(self, code: int) -> Callable[..., Any]:
        """Return what writes an instruction that is neither a comparison nor a function of the library."""
        made: dict[int, Callable[..., Any]] = {
            op.ADD: lambda b, x, y: b.fadd(x, y),
            op.SUB: lambda b, x, y: b.fsub(x, y),
            op.MUL: lambda b, x, y: b.fmul(x, y),
            op.DIV: lambda b, x, y: b.fdiv(x, y),
            op.NEG: lambda b, x: b.fneg(x),
            op.MULTIPLY_ADD: lambda b, x, y, z: b.fadd(b.fmul(x, y), z),
            op.MULTIPLY_SUBTRACT: lambda b, x, y, z: b.fsub(b.fmul(x, y), z),
            op.SUBTRACT_PRODUCT: lambda b, x, y, z: b.fsub(z, b.fmul(x, y)),
            op.NE: lambda b, x, y: self._truth(b.fcmp_unordered("!=", x, y)),
            op.AND: lambda b, x, y: self._truth(b.and_(self._is(x), self._is(y))),
            op.OR: lambda b, x, y: self._truth(b.or_(self._is(x), self._is(y))),
            op.NOT: lambda b, x: self._truth(b.fcmp_ordered("==", x, number(0.0))),
            op.MIN: lambda b, x, y: self._least(x, y),
            op.MAX: lambda b, x, y: self._most(x, y),
            op.IF: lambda b, x, y, z: b.select(self._is(x), y, z),
            op.LIMIT: lambda b, x, y, z: self._least(self._most(x, y), z),
            op.SIGN: lambda b, x: self._sign(x),
            op.MOD: lambda b, x, y: b.fsub(x, b.fmul(y, self._floor(b.fdiv(x, y)))),
            op.WRAP: lambda b, x: self._wrap(x),
            op.DEADZONE: lambda b, x, y: self._deadzone(x, y),
            op.RATE_LIMIT: lambda b, x, y: self._unless_steady(x, self._between(x, b.fneg(y), y)),
            op.POSITION_LIMIT: lambda b, x, y, z: self._unless_steady(x, self._between(x, y, z)),
            op.HOLD_AT_LIMIT: lambda b, x, y, low, high: self._unless_steady(x, self._held(x, y, low, high)),
            op.REMEMBERED: lambda b, x, y: b.select(
                b.icmp_signed("!=", b.load(b.gep(self.counters, [whole(FLYING)])), whole(0)), x, y
            ),
        }
        return made[code]

    def _is(self, x: Any) -> Any:
        return self.builder.fcmp_unordered("!=", x, number(0.0))

    def _truth(self, bit: Any) -> Any:
        return self.builder.uitofp(bit, DOUBLE)

    def _call(self, name: str, x: list[Any]) -> Any:
        known = self.module.globals.get(name)
        function = known or ir.Function(self.module, ir.FunctionType(DOUBLE, [DOUBLE] * len(x)), name)
        return self.builder.call(function, x)

    def _floor(self, x: Any) -> Any:
        return self._call("llvm.floor.f64", [x])

    def _least(self, x: Any, y: Any) -> Any:
        """The smaller, the first of equal ones (a zero has a sign); what is no number goes on."""
        b = self.builder
        # as NumPy's minimum in the interpreter: the machine's own instruction treats zero and NaN differently
        return b.select(b.or_(b.fcmp_ordered("<=", x, y), b.fcmp_unordered("uno", x, x)), x, y)

    def _most(self, x: Any, y: Any) -> Any:
        b = self.builder
        return b.select(b.or_(b.fcmp_ordered(">=", x, y), b.fcmp_unordered("uno", x, x)), x, y)

    def _between(self, x: Any, low: Any, high: Any) -> Any:
        b = self.builder
        # as Python's min(max()) in the interpreter, where a NaN stays what it is
        above = b.select(b.fcmp_ordered(">", low, x), low, x)
        return b.select(b.fcmp_ordered("<", high, above), high, above)

    def _unless_steady(self, x: Any, limited: Any) -> Any:
        return self.builder.select(self.steady, x, limited)

    def _held(self, x: Any, y: Any, low: Any, high: Any) -> Any:
        b = self.builder
        # beyond the limit, not at it, as in the interpreter: the step itself puts the state back on the limit
        up = b.and_(b.fcmp_ordered(">", y, high), b.fcmp_ordered(">", x, number(0.0)))
        down = b.and_(b.fcmp_ordered("<", y, low), b.fcmp_ordered("<", x, number(0.0)))
        return b.select(b.or_(up, down), number(0.0), x)

    def _sign(self, x: Any) -> Any:
        b = self.builder
        sign = b.select(b.fcmp_ordered("<", x, number(0.0)), number(-1.0), number(0.0))
        sign = b.select(b.fcmp_ordered(">", x, number(0.0)), number(1.0), sign)
        return b.select(b.fcmp_unordered("uno", x, x), x, sign)

    def _wrap(self, x: Any) -> Any:
        b, turn = self.builder, number(2.0 * math.pi)
        return b.fsub(x, b.fmul(turn, self._floor(b.fdiv(b.fadd(x, number(math.pi)), turn))))

    def _deadzone(self, x: Any, width: Any) -> Any:
        b = self.builder
        over = b.fsub(self._call("llvm.fabs.f64", [x]), width)
        return b.fmul(self._sign(x), b.select(b.fcmp_ordered(">", number(0.0), over), number(0.0), over))

    # -- tables -------------------------------------------------------------------------------------------------------

    def _number_at(self, index: Any) -> Any:
        return self.builder.load(self.builder.gep(self.numbers, [index]))

    def _locate(self, row: Sequence[int]) -> None:
        """Write the search of an axis: as many comparisons as its size asks for, no loop."""
        b, layout = self.builder, self.analysis.program.layout
        axis, policy, counter, into = int(row[6]), int(row[3]), int(row[4]), int(row[1])
        start, size = int(layout[layout[AXIS_START] + axis]), int(layout[layout[AXIS_SIZE] + axis])
        x, low, cells = self.value(row[2]), whole(0), size - 1
        # halves of a size known now: comparisons without a branch that could be guessed wrong
        while cells > 1:
            # the same halves as the interpreter takes: a NaN then ends in the same cell
            half = cells >> 1
            middle = self._number_at(b.add(low, whole(start + half)))
            # as in the interpreter, what is no number is not below anything
            low = b.select(b.fcmp_ordered("<", x, middle), low, b.add(low, whole(half)))
            cells -= half
        left = self._number_at(b.add(low, whole(start)))
        width = b.fsub(self._number_at(b.add(low, whole(start + 1))), left)
        share = b.fdiv(b.fsub(x, left), width)
        # the share, not the argument, is held: the cell at the edge is the same one either way
        if policy != EXTEND:
            held = b.select(b.fcmp_ordered(">", share, number(1.0)), number(1.0), share)
            share = b.select(b.fcmp_ordered("<", share, number(0.0)), number(0.0), held)
        # kept as a whole number too: turning it into a float and back would cost more than the look-up
        self.cells[into] = low
        if into in self.analysis.kept:
            self.set(into, b.sitofp(low, DOUBLE))
        self.set(into + 1, share)
        self.set(into + 2, width)
        first, last = self._number_at(whole(start)), self._number_at(whole(start + size - 1))
        outside = b.or_(b.fcmp_ordered("<", x, first), b.fcmp_ordered(">", x, last))
        # rare: the code for it is put out of the way of the straight path
        with b.if_then(outside, likely=False):
            self._visit(x, policy, counter)

    def _visit(self, x: Any, policy: int, counter: int) -> None:
        """Write what is done outside an axis: the first error is remembered, visits are counted where that is asked."""
        b = self.builder
        worst = [b.gep(self.worst, [whole(3 * counter + k)]) for k in range(3)]
        if policy == ERROR_POLICY:
            # only the first error counts: what follows from it would name another table
            error = b.gep(self.counters, [whole(OUTSIDE_TABLE)])
            with b.if_then(b.icmp_signed("==", b.load(error), whole(0))):
                b.store(whole(counter + 1), error)
                b.store(x, worst[2])
        counting = b.load(b.gep(self.counters, [whole(COUNTING)]))
        with b.if_then(b.icmp_signed("==", counting, whole(1))):
            count = b.gep(self.counters, [whole(FLAGS + counter)])
            b.store(b.add(b.load(count), whole(1)), count)
            lowest, highest = b.load(worst[0]), b.load(worst[1])
            b.store(b.select(b.fcmp_ordered("<", x, lowest), x, lowest), worst[0])
            b.store(b.select(b.fcmp_ordered(">", x, highest), x, highest), worst[1])

    def _weights(self, row: Sequence[int]) -> None:
        """Write the weights of a cell's numbers: each axis spreads those so far, as ``tables.lookup.spread`` does."""
        b, into = self.builder, int(row[1])
        shape = self.analysis.tape.shapes[int(row[6])]
        weights, offset = [number(1.0)], whole(0)
        for k in range(shape[0]):
            cell = int(row[2 + k])
            low = self.cells.get(cell)
            low = low if low is not None else b.fptosi(self.value(cell), INT)
            offset = b.add(offset, b.mul(low, whole(shape[2 + k])))
            share, width = self.value(cell + 1), self.value(cell + 2)
            # bit k: whether the table is smooth along axis k, and so has four numbers a node where linear ones have two
            if (shape[1] >> k) & 1:
                own = self._hermite(share, width)
                weights = [b.fmul(w, factor) for factor in own for w in weights]
            else:
                right = [b.fmul(w, share) for w in weights]
                weights = [b.fsub(w, r) for w, r in zip(weights, right, strict=True)] + right
        self.cells[into] = offset
        if into in self.analysis.kept:
            self.set(into, b.sitofp(offset, DOUBLE))
        for j, weight in enumerate(weights, start=1):
            self.set(into + j, weight)

    def _hermite(self, f: Any, width: Any) -> list[Any]:
        b, one, nought = self.builder, number(1.0), number(0.0)
        # cubic Hermite polynomials with g = 1 - f, in the order of products that tables.lookup.hermite has
        g, twice = b.fsub(one, f), b.fmul(number(2.0), f)
        left = b.fmul(b.fmul(b.fadd(one, twice), g), g)
        left_slope = b.fmul(b.fmul(f, g), g)
        right = b.fmul(b.fmul(f, f), b.fsub(number(3.0), twice))
        right_slope = b.fmul(b.fmul(b.fneg(f), f), g)
        below, above = b.fcmp_ordered("<", f, nought), b.fcmp_ordered(">", f, one)

        def chosen(inside: Any, under: Any, over: Any) -> Any:
            return b.select(below, under, b.select(above, over, inside))

        # outside the axis the curve goes on straight, with the slope at its end
        left, right = chosen(left, one, nought), chosen(right, nought, one)
        left_slope = b.fmul(chosen(left_slope, f, nought), width)
        right_slope = b.fmul(chosen(right_slope, nought, b.fsub(f, one)), width)
        return [left, left_slope, right, right_slope]

    def _tables(self, row: Sequence[int]) -> None:
        """Write the look-up of a group: a vector over its tables, weighed corner after corner."""
        b, layout, tape = self.builder, self.analysis.program.layout, self.analysis.tape
        at, count, tables, group = int(row[2]), int(row[4]), int(row[5]), int(row[6])
        offsets = tape.shapes[int(row[3])][SHAPE_HEADER:]
        low = self.cells.get(at)
        low = low if low is not None else b.fptosi(self.value(at), INT)
        start = int(layout[layout[TABLE_START] + group])
        base = b.gep(self.numbers, [b.add(b.mul(low, whole(tables)), whole(start))])
        into = tape.table_into[group]
        # wide vectors first, an odd table by itself, as the interpreter's halves end
        done = 0
        for lanes in self._lanes(tables):
            if lanes == 1:
                # as in the interpreter: two sums, of even and odd corners
                sums = [number(0.0), number(0.0)]
                for k in range(count):
                    x = b.load(b.gep(base, [whole(offsets[k] * tables + done)]))
                    sums[k % 2] = b.fadd(sums[k % 2], b.fmul(self.value(at + 1 + k), x))
                self.set(into[done], b.fadd(*sums))
            else:
                total = self._weighed(base, [o * tables + done for o in offsets[:count]], at, lanes)
                for t in range(lanes):
                    self.set(into[done + t], b.extract_element(total, ir.Constant(SMALL, t)))
            done += lanes

    @staticmethod
    def _lanes(tables: int) -> list[int]:
        """Return how many tables are looked up at once: all but an odd one."""
        even = tables - tables % 2
        return [*([even] if even else []), *([1] if tables % 2 else [])]

    def _weighed(self, base: Any, places: Sequence[int], at: int, lanes: int) -> Any:
        b, vector = self.builder, ir.VectorType(DOUBLE, lanes)
        # one lane a table: each sum runs in the order of the interpreter's, so the bits agree
        total = ir.Constant(vector, [0.0] * lanes)
        spread = ir.Constant(ir.VectorType(SMALL, lanes), [0] * lanes)
        nothing = ir.Constant(vector, ir.Undefined)
        for k, place in enumerate(places):
            x = b.load(b.bitcast(b.gep(base, [whole(place)]), vector.as_pointer()), align=8)
            weight = b.insert_element(nothing, self.value(at + 1 + k), ir.Constant(SMALL, 0))
            total = b.fadd(total, b.fmul(b.shuffle_vector(weight, nothing, spread), x))
        return total
