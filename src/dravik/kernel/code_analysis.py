"""What must be known of a whole tape before it is written as machine code: what changes, what must stand in memory."""

from collections.abc import Sequence

from dravik.formula import opcodes as op
from dravik.formula.layout import SHAPE_HEADER, Tape
from dravik.kernel.program import HEADER, N_BASE, N_INPUTS, Program
from dravik.kernel.signals import BASE_SIGNALS, WIND_INPUTS

__all__ = ["TapeAnalysis", "inputs_behind"]


class TapeAnalysis:
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
            # a value made in one stretch is not at hand in another, which may run without it
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
        # everything that a formula names may be recorded: it stands in memory whoever else reads it
        self.kept = {int(v) for v in program.layout[HEADER:]} | set(tape.names.values())
        for i, row in enumerate(code):
            for register in read(row, tape, program):
                writer = self.writers.get(register)
                if writer is not None and self.context[writer] != self.context[i]:
                    self.kept.add(register)


def inputs_behind(program: Program, tape: Tape, inputs: Sequence[str]) -> dict[str, frozenset[str]]:
    """Return the inputs on which the rate of each state depends through formulas within one evaluation."""
    every = frozenset(inputs)
    # accelerations, and what follows from them, depend on all that the loads depend on
    # the wind moves the air data, and these what reads them
    wind = every & {signal.name for signal in WIND_INPUTS}
    behind = {k: every if signal.level > 0 else wind for k, signal in enumerate(BASE_SIGNALS)}
    behind |= {tape.names[name]: frozenset([name]) for name in inputs}
    # what decides whether a stretch runs counts as an argument of all results in it
    guard, left = frozenset[str](), 0
    for row in program.code:
        found = frozenset[str]().union(*(behind.get(r, frozenset()) for r in read(row, tape, program)))
        if row[0] == op.SKIP:
            guard, left = found, int(row[3])
            continue
        # within a guarded stretch a result depends on what opens it as well
        found, left = found | guard if left > 0 else found, left - 1
        for register in written(row, tape):
            behind[register] = found
    return {slot.name: behind.get(slot.rate, frozenset()) for slot in tape.states}


def written(row: Sequence[int], tape: Tape) -> list[int]:
    """Return the registers that a row writes."""
    code, first = int(row[0]), int(row[1])
    if code == op.LOCATE:
        return [first, first + 1, first + 2]
    if code == op.WEIGHTS:
        return list(range(first, first + 1 + len(tape.shapes[int(row[6])]) - SHAPE_HEADER))
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
