"""A tape as straight-line machine code: the same instructions in the same order as the interpreter, to the last bit.

Made by llvmlite, which Numba brings along. Each stage of the tape becomes a function of the registers of a workspace,
the program's numbers, counters and worst arguments; the kernel calls it at its address, which stands in ``layout``.
Sums are never rearranged and products never fused with them, so that the interpreter and the code agree bit by bit.
"""

from dataclasses import dataclass
from hashlib import sha256

import llvmlite.binding as llvm
from llvmlite import ir

from dravik.compiled import MachineCode, host_machine, kept
from dravik.formula import opcodes as op
from dravik.formula.arrange import Stage
from dravik.formula.layout import Tape
from dravik.kernel.code_analysis import TapeAnalysis
from dravik.kernel.emitting import DOUBLE, INT, Emitter
from dravik.kernel.program import TAPE_CODE, Program

__all__ = ["TapeCode", "tape_code"]

# registers, numbers, counters, worst arguments, and whether the flight is steady: all that rows may touch
SIGNATURE = ir.FunctionType(
    ir.VoidType(), [DOUBLE.as_pointer(), DOUBLE.as_pointer(), INT.as_pointer(), DOUBLE.as_pointer(), INT]
)


@dataclass(frozen=True)
class TapeCode:
    """Machine code of a tape: what keeps it in memory, and the address of each stage's function (0: nothing to run)."""

    code: MachineCode
    addresses: tuple[int, ...]

    def attached(self, program: Program) -> Program:
        """Return the program that calls this code."""
        # a copy: the same program without its code stays usable, as the reference of the tests
        layout = program.layout.copy()
        layout[TAPE_CODE : TAPE_CODE + len(self.addresses)] = self.addresses
        return program._replace(layout=layout)


def tape_code(program: Program, tape: Tape) -> TapeCode:
    """Return the machine code of a tape as a program has laid it out.

    It takes some 0.3 s to make, a third of that where the same formulas have been made before: it is kept on disk.
    """
    module = ir.Module("tape")
    ends = [0, *tape.stages]
    names = []
    analysis = TapeAnalysis(program, tape)
    for stage in Stage:
        first, last = ends[stage], ends[stage + 1]
        if last > first:
            names.append(f"stage_{int(stage)}")
            _write_stage(module, names[-1], analysis, range(first, last))
        else:
            names.append("")
    text = str(module)
    # the text is the key: any change of a formula, a grid or of what is written here makes another one
    made = kept("tape", sha256(text.encode()).hexdigest()[:24], lambda: (_optimised(text), {}))
    return TapeCode(made, tuple(made.address(n) if n else 0 for n in names))


def _optimised(text: str) -> str:
    module = llvm.parse_assembly(text)
    module.verify()
    # level 2 without relaxed arithmetic: it removes loads and branches, and leaves every rounding where it is
    passes = llvm.create_pass_builder(host_machine(), llvm.create_pipeline_tuning_options(speed_level=2))
    passes.getModulePassManager().run(module, passes)
    return str(module)


def _write_stage(module: ir.Module, name: str, analysis: TapeAnalysis, rows: range) -> None:
    """Write the function of a stage: its rows one after the other, skipped stretches as branches."""
    function = ir.Function(module, SIGNATURE, name)
    for k in range(4):
        # the arrays are different memory: without this each store would force the numbers to be read again
        function.args[k].add_attribute("noalias")
    emit = Emitter(function, analysis)
    i = rows.start
    while i < rows.stop:
        row = analysis.program.code[i]
        if row[0] == op.SKIP:
            stretch = range(i + 1, i + 1 + int(row[3]))
            emit.guarded(row, stretch)
            i = stretch.stop
        else:
            emit.row(row)
            i += 1
    emit.builder.ret_void()
