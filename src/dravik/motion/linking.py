"""Addresses of the interpreter and of ``evaluate``, put into a program so that the rest of the kernel finds them.

They belong to one process: a program that is pickled or copied leaves them behind, and is linked anew where it arrives.
"""

import copyreg
from functools import cache
from typing import Any

from dravik.compiled import address_of
from dravik.kernel.calls import EVALUATE_KINDS, RUN_TAPE_KINDS
from dravik.kernel.interpreter import run_tape
from dravik.kernel.program import EVALUATE, INTERPRETER, TAPE_CODE, Program
from dravik.motion.equations import evaluate

__all__ = ["linked"]


@cache
def _addresses() -> tuple[int, int]:
    return address_of(run_tape, RUN_TAPE_KINDS), address_of(evaluate, EVALUATE_KINDS)


def linked(program: Program) -> Program:
    """Return a program that can be run in this process; the kernel is compiled, or loaded, with the first of them.

    Parameters
    ----------
    program : Program
        The compiled aircraft.

    Returns
    -------
    Program
    """
    layout = program.layout.copy()
    layout[INTERPRETER], layout[EVALUATE] = _addresses()
    return program._replace(layout=layout)


def _sent(program: Program) -> tuple[Any, ...]:
    """Return how a program is made anew: without addresses, then linked if it was."""
    layout = program.layout.copy()
    is_linked = bool(layout[EVALUATE])
    layout[TAPE_CODE : EVALUATE + 1] = 0
    return _received, (program.code, layout, program.numbers, is_linked)


def _received(code: Any, layout: Any, numbers: Any, is_linked: bool) -> Program:
    program = Program(code, layout, numbers)
    return linked(program) if is_linked else program


copyreg.pickle(Program, _sent)
