"""Addresses of the interpreter and of ``evaluate``, put into a program so that the rest of the kernel finds them."""

from functools import cache

from dravik.compiled import address_of
from dravik.kernel.calling import EVALUATE_KINDS, RUN_TAPE_KINDS
from dravik.kernel.interpreter import run_tape
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVALUATE, INTERPRETER, Program

__all__ = ["linked"]


@cache
def _addresses() -> tuple[int, int]:
    return address_of(run_tape, RUN_TAPE_KINDS), address_of(evaluate, EVALUATE_KINDS)


def linked(program: Program) -> Program:
    """Return a program that can be run in this process; the kernel is compiled, or loaded, with the first of them."""
    layout = program.layout.copy()
    layout[INTERPRETER], layout[EVALUATE] = _addresses()
    return program._replace(layout=layout)
