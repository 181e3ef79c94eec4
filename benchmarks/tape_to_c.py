"""A tape written as straight-line C, compiled where a compiler is found: the limit that machine code is held to."""

import ctypes
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from pathlib import Path

import dravik as dv
from dravik.formula import opcodes as op
from dravik.formula.layout import SHAPE_HEADER, Tape
from dravik.kernel.program import (
    AXIS_SIZE,
    AXIS_START,
    COUNTING,
    FLAGS,
    FLYING,
    OUTSIDE_TABLE,
    TABLE_START,
    TAPE_CODE,
    Program,
)

ARGUMENTS = "d *restrict r, const d *restrict n, i64 *restrict c, d *restrict w, i64 steady"
FLAGS_OF_THE_COMPILER = ("-O3", "-march=native", "-ffp-contract=off", "-fno-math-errno", "-shared", "-fPIC")
HEAD = """#include <math.h>
typedef double d; typedef long long i64;
static inline d least(d x, d y) { return (x <= y || x != x) ? x : y; }
static inline d most(d x, d y) { return (x >= y || x != x) ? x : y; }
static inline d between(d x, d a, d b) { d up = a > x ? a : x; return b < up ? b : up; }
static inline d sgn(d x) { return x != x ? x : x > 0 ? 1.0 : x < 0 ? -1.0 : 0.0; }
static inline d held(d x, d y, d a, d b) { return ((y > b && x > 0) || (y < a && x < 0)) ? 0.0 : x; }
"""
SIMPLE = {
    op.ADD: "{0} + {1}", op.SUB: "{0} - {1}", op.MUL: "{0} * {1}", op.DIV: "{0} / {1}", op.NEG: "-{0}",
    op.MULTIPLY_ADD: "{0} * {1} + {2}", op.MULTIPLY_SUBTRACT: "{0} * {1} - {2}", op.SUBTRACT_PRODUCT: "{2} - {0} * {1}",
    op.LT: "{0} < {1}", op.LE: "{0} <= {1}", op.GT: "{0} > {1}", op.GE: "{0} >= {1}", op.EQ: "{0} == {1}",
    op.NE: "{0} != {1}", op.AND: "({0} != 0) && ({1} != 0)", op.OR: "({0} != 0) || ({1} != 0)", op.NOT: "{0} == 0",
    op.MIN: "least({0}, {1})", op.MAX: "most({0}, {1})", op.IF: "{0} != 0 ? {1} : {2}",
    op.LIMIT: "least(most({0}, {1}), {2})", op.ABS: "fabs({0})", op.SIGN: "sgn({0})", op.SQRT: "sqrt({0})",
    op.FLOOR: "floor({0})", op.MOD: "{0} - {1} * floor({0} / {1})", op.HYPOT: "hypot({0}, {1})",
    op.WRAP: "{0} - 6.283185307179586 * floor(({0} + 3.141592653589793) / 6.283185307179586)",
    op.DEADZONE: "sgn({0}) * (0.0 > fabs({0}) - {1} ? 0.0 : fabs({0}) - {1})", op.POW: "pow({0}, {1})",
    op.RATE_LIMIT: "steady ? {0} : between({0}, -{1}, {1})", op.POSITION_LIMIT: "steady ? {0} : between({0}, {1}, {2})",
    op.HOLD_AT_LIMIT: "steady ? {0} : held({0}, {1}, {2}, {3})", op.REMEMBERED: f"c[{FLYING}] ? {{0}} : {{1}}",
    op.ATAN2: "atan2({0}, {1})",
    **{code: name + "({0})" for code, name in (
        (op.SIN, "sin"), (op.COS, "cos"), (op.TAN, "tan"), (op.ASIN, "asin"), (op.ACOS, "acos"), (op.ATAN, "atan"),
        (op.EXP, "exp"), (op.LOG, "log"), (op.LOG10, "log10"), (op.SINH, "sinh"), (op.COSH, "cosh"), (op.TANH, "tanh"),
    )},
}  # fmt: skip


class Writer:
    """Writes a tape's stages as C; every result goes to its register, and the compiler keeps what it needs."""

    def __init__(self, program: Program, tape: Tape) -> None:
        self.program, self.tape, self.lines = program, tape, list[str]()
        self.code = program.code

    def text(self) -> str:
        """Return the whole file."""
        ends = [0, *self.tape.stages]
        for k in range(5):
            self.lines.append(f"void stage_{k}({ARGUMENTS}) {{")
            i = ends[k]
            while i < ends[k + 1]:
                row = self.code[i]
                i = self.guard(i) if row[0] == op.SKIP else self.row(i)
            self.lines.append("}")
        return HEAD + "\n".join(self.lines)

    def guard(self, i: int) -> int:
        """Write a stretch that may be skipped; return the row behind it."""
        row, last = self.code[i], i + 1 + int(self.code[i][3])
        self.lines.append(f"if (r[{row[2]}] != 0) {{ r[{row[1]}] = 1;")
        k = i + 1
        while k < last:
            k = self.row(k)
        self.lines.append(f"}} else if (r[{row[1]}] != 0) {{ r[{row[1]}] = 0;")
        for k in range(i + 1, last):
            own = self.code[k]
            into = self.tape.table_into[int(own[6])] if own[0] == op.TABLE else [int(own[1])]
            self.lines += [f"r[{q}] = 0;" for q in into]
        self.lines.append("}")
        return last

    def row(self, i: int) -> int:
        """Write one row; return the next."""
        row = self.code[i]
        kind = int(row[0])
        if kind == op.LOCATE:
            self.locate(row)
        elif kind == op.WEIGHTS:
            self.weights(row)
        elif kind == op.TABLE:
            self.tables(row)
        else:
            x = [f"r[{q}]" for q in row[2 : 2 + op.ARITY[kind]]]
            self.lines.append(f"r[{row[1]}] = {SIMPLE[kind].format(*x)};")
        return i + 1

    def locate(self, row: Sequence[int]) -> None:
        """Write the search of an axis, unrolled."""
        layout, dst, policy, counter = self.program.layout, int(row[1]), int(row[3]), int(row[4])
        start = int(layout[layout[AXIS_START] + int(row[6])])
        size = int(layout[layout[AXIS_SIZE] + int(row[6])])
        say = self.lines.append
        say(f"{{ d x = r[{row[2]}]; i64 l = 0;")
        cells = size - 1
        while cells > 1:
            half = cells >> 1
            say(f"l += x < n[{start + half} + l] ? 0 : {half};")
            cells -= half
        say(f"d a = n[{start} + l], h = n[{start + 1} + l] - a, f = (x - a) / h;")
        if policy != 1:
            say("f = f < 0 ? 0 : f > 1 ? 1 : f;")
        say(f"r[{dst}] = l; r[{dst + 1}] = f; r[{dst + 2}] = h;")
        error = f"if (!c[{OUTSIDE_TABLE}]) {{ c[{OUTSIDE_TABLE}] = {counter + 1}; w[{3 * counter + 2}] = x; }}"
        say(f"if (x < n[{start}] || x > n[{start + size - 1}]) {{ {error if policy == 2 else ''}")
        say(f"if (c[{COUNTING}] == 1) {{ c[{FLAGS + counter}]++; if (x < w[{3 * counter}]) w[{3 * counter}] = x;")
        say(f"if (x > w[{3 * counter + 1}]) w[{3 * counter + 1}] = x; }} }} }}")

    def weights(self, row: Sequence[int]) -> None:
        """Write the weights of a cell's numbers."""
        shape, dst = self.tape.shapes[int(row[6])], int(row[1])
        say, count = self.lines.append, 1
        say(f"{{ i64 o = 0; d v[{len(shape) - SHAPE_HEADER}]; v[0] = 1;")
        for k in range(shape[0]):
            cell = int(row[2 + k])
            say(f"o += (i64)r[{cell}] * {shape[2 + k]}; {{ d f = r[{cell + 1}], h = r[{cell + 2}];")
            if (shape[1] >> k) & 1:
                say("d g = 1 - f, a = (1 + 2*f)*g*g, as = f*g*g, b = f*f*(3 - 2*f), bs = -f*f*g;")
                say("if (f < 0) { a = 1; as = f; b = 0; bs = 0; }")
                say("else if (f > 1) { a = 0; as = 0; b = 1; bs = f - 1; }")
                say("as *= h; bs *= h;")
                for j in range(count):
                    say(f"{{ d q = v[{j}]; v[{j}] = q*a; v[{j + count}] = q*as;")
                    say(f"v[{j + 2 * count}] = q*b; v[{j + 3 * count}] = q*bs; }}")
                count *= 4
            else:
                for j in range(count):
                    say(f"v[{j + count}] = v[{j}]*f; v[{j}] -= v[{j + count}];")
                count *= 2
            say("}")
        say(f"r[{dst}] = o;" + "".join(f" r[{dst + 1 + j}] = v[{j}];" for j in range(count)) + " }")

    def tables(self, row: Sequence[int]) -> None:
        """Write the look-up of a group, corner after corner over all its tables."""
        at, count, tables, group = int(row[2]), int(row[4]), int(row[5]), int(row[6])
        offsets = self.tape.shapes[int(row[3])][SHAPE_HEADER:]
        start = int(self.program.layout[self.program.layout[TABLE_START] + group])
        say = self.lines.append
        say(f"{{ const d *t = n + {start} + (i64)r[{at}] * {tables}; d s[{tables}] = {{0}};")
        for k in range(count):
            say(f"for (int j = 0; j < {tables}; j++) s[j] += r[{at + 1 + k}] * t[{offsets[k] * tables} + j];")
        say("".join(f"r[{q}] = s[{j}]; " for j, q in enumerate(self.tape.table_into[group])) + "}")


def in_c(craft: dv.Aircraft, folder: Path) -> Program | None:
    """Return the program of an aircraft whose tape is compiled C; None where there is no compiler."""
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    source, library = folder / f"{craft.name}.c", folder / f"{craft.name}.so"
    source.write_text(Writer(craft.program, craft.tape).text(), encoding="utf-8")
    subprocess.run([compiler, *FLAGS_OF_THE_COMPILER, str(source), "-o", str(library), "-lm"], check=True)
    loaded = ctypes.CDLL(str(library))
    layout = craft.program.layout.copy()
    ends = [0, *craft.tape.stages]
    for k in range(5):
        if ends[k + 1] > ends[k]:
            layout[TAPE_CODE + k] = ctypes.cast(getattr(loaded, f"stage_{k}"), ctypes.c_void_p).value or 0
    return craft.program._replace(layout=layout)


def folder_for_c() -> tempfile.TemporaryDirectory[str]:
    """Return a folder for the source and the library."""
    return tempfile.TemporaryDirectory()
