"""A tape as straight-line machine code: the same instructions in the same order as the interpreter, to the last bit.

Made by llvmlite, which Numba brings along. Each stage of the tape becomes a function of the registers of a workspace,
the program's numbers, counters and worst arguments; the kernel calls it at its address, which stands in ``layout``.
Sums are never rearranged and products never fused with them, so that the interpreter and the code agree bit by bit.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import llvmlite.binding as llvm
from llvmlite import ir

from dravik.formula import opcodes as op
from dravik.formula.arrange import Stage
from dravik.formula.layout import Tape
from dravik.kernel.emitting import DOUBLE, INT, Emitter
from dravik.kernel.program import HEADER, N_BASE, N_INPUTS, OWN_CODE, Program

__all__ = ["OwnCode", "own_code"]

SIGNATURE = ir.FunctionType(
    ir.VoidType(), [DOUBLE.as_pointer(), DOUBLE.as_pointer(), INT.as_pointer(), DOUBLE.as_pointer(), INT]
)


@dataclass(frozen=True)
class OwnCode:
    """Machine code of a tape: what keeps it in memory, and the address of each stage's function (0: nothing to run)."""

    engine: Any
    addresses: tuple[int, ...]

    def attached(self, program: Program) -> Program:
        """Return the program that calls this code."""
        layout = program.layout.copy()
        layout[OWN_CODE : OWN_CODE + len(self.addresses)] = self.addresses
        return program._replace(layout=layout)


def own_code(program: Program, tape: Tape) -> OwnCode:
    """Return the machine code of a tape as a program has laid it out; it takes some 0.3 s to make."""
    module = ir.Module("tape")
    ends = [0, *tape.stages]
    names = []
    plan = _Plan(program, tape)
    for stage in Stage:
        first, last = ends[stage], ends[stage + 1]
        if last > first:
            names.append(f"stage_{int(stage)}")
            _write_stage(module, names[-1], plan, range(first, last))
        else:
            names.append("")
    engine = _engine(str(module))
    return OwnCode(engine, tuple(engine.get_function_address(n) if n else 0 for n in names))


def _engine(text: str) -> Any:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    module = llvm.parse_assembly(text)
    module.verify()
    target = llvm.Target.from_default_triple()
    features = llvm.get_host_cpu_features().flatten()
    machine = target.create_target_machine(cpu=llvm.get_host_cpu_name(), features=features, opt=2, jit=True)
    passes = llvm.create_pass_builder(machine, llvm.create_pipeline_tuning_options(speed_level=2))
    passes.getModulePassManager().run(module, passes)
    engine = llvm.create_mcjit_compiler(module, machine)
    engine.finalize_object()
    return engine


class _Plan:
    """What is constant, and what must stand in the registers, of a tape."""

    def __init__(self, program: Program, tape: Tape) -> None:
        self.program, self.tape = program, tape
        code = program.code
        self.context: list[tuple[int, int]] = []  # of each row: its stage and the skipped stretch it is in
        self.writers: dict[int, int] = {}  # register: row
        region, left, stage = 0, 0, 0
        for i, row in enumerate(code):
            while i >= tape.stages[stage]:
                stage += 1
            inside = region if left > 0 else 0
            left -= 1
            self.context.append((stage, inside))
            if row[0] == op.SKIP:
                region, left = region + 1, int(row[3])
            for register in written(row, tape):
                self.writers[register] = i
        fixed = set(range(N_BASE + int(program.layout[N_INPUTS])))
        fixed |= {s.register for s in tape.states} | {c.register for c in tape.cells} | set(tape.names.values())
        self.changing = fixed | set(self.writers)
        # the kernel reads registers that the sections of the layout name; other numbers there do no harm
        self.kept = {int(v) for v in program.layout[HEADER:]} | set(tape.names.values())
        for i, row in enumerate(code):
            for register in read(row, tape, program):
                writer = self.writers.get(register)
                if writer is not None and self.context[writer] != self.context[i]:
                    self.kept.add(register)


def written(row: Sequence[int], tape: Tape) -> list[int]:
    """Return the registers that a row writes."""
    code, first = int(row[0]), int(row[1])
    if code == op.LOCATE:
        return [first, first + 1, first + 2]
    if code == op.WEIGHTS:
        return list(range(first, first + 1 + len(tape.shapes[int(row[6])]) - 6))
    if code == op.TABLE:
        return list(tape.table_into[int(row[6])])
    return [first]


def read(row: Sequence[int], tape: Tape, program: Program) -> list[int]:
    """Return the registers that a row reads."""
    code = int(row[0])
    if code == op.WEIGHTS:
        axes = tape.shapes[int(row[6])][0]
        return [int(row[2 + k]) + j for k in range(axes) for j in range(3)]
    if code == op.TABLE:
        return [int(row[2]) + j for j in range(1 + int(row[4]))]
    return [int(r) for r in row[2 : 2 + op.ARITY[code]]]


def _write_stage(module: ir.Module, name: str, plan: _Plan, rows: range) -> None:
    """Write the function of a stage: its rows one after the other, skipped stretches as branches."""
    function = ir.Function(module, SIGNATURE, name)
    for k in range(4):
        function.args[k].add_attribute("noalias")
    emit = Emitter(function, plan)
    i = rows.start
    while i < rows.stop:
        row = plan.program.code[i]
        if row[0] == op.SKIP:
            stretch = range(i + 1, i + 1 + int(row[3]))
            emit.guarded(row, stretch)
            i = stretch.stop
        else:
            emit.row(row)
            i += 1
    emit.builder.ret_void()
