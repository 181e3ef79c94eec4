"""Values that stopped being finite: which, and in which formula they arose."""

from typing import TYPE_CHECKING

import numpy as np

from dravik.errors import DravikError
from dravik.formula import Tape
from dravik.formula.layout import Source
from dravik.kernel import Workspace

if TYPE_CHECKING:
    from dravik.aircraft.craft import Aircraft

__all__ = ["not_finite", "refuse_not_finite"]


def refuse_not_finite(craft: "Aircraft", w: Workspace) -> None:
    """Raise DravikError where the last evaluation left a formula without a finite value, in a branch that counts."""
    found = _where_it_arose(craft.tape, w)
    if found is not None:
        raise DravikError(_told(found), where=craft.name, hint="a condition or a limit before the operation")


def not_finite(craft: "Aircraft", w: Workspace) -> str:
    """Return in words which value stopped being finite, and in which formula it arose."""
    tape = craft.tape
    roots = [*(s.rate for s in tape.states), *tape.names.values()]
    registers = w.registers[: len(tape.registers)]
    by_register = {r: n for n, r in tape.names.items()}
    rates = {s.rate: f"the rate of {s.name}" for s in tape.states}
    found = ""
    for register in roots:
        if register < 0 or np.isfinite(registers[register]):
            continue
        name = by_register.get(register) or rates.get(register, "a value")
        source = tape.trace(register, registers)
        text = f"{name} is {registers[register]}"
        if source is not None and source.text:
            return f"{text}: it arises in {source.name}\n{_pointed(source)}"
        # prefer a formula's name over the kernel's own signals computed from it
        found = found or text
    arisen = _where_it_arose(tape, w)
    if arisen is not None:
        return _told(arisen)
    return found or "the motion has left all bounds"


def _where_it_arose(tape: Tape, w: Workspace) -> tuple[Source, float] | None:
    """Return the place of an operation that counts and has no finite result, and that result; None without one."""
    registers = w.registers
    if np.isfinite(registers).all():
        return None
    suspects = [r for r in tape.watched.always if not np.isfinite(registers[r])]
    for register, conditions in tape.watched.while_taken:
        if not np.isfinite(registers[register]) and all((registers[c] != 0.0) == side for c, side in conditions):
            suspects.append(register)
    if not suspects:
        return None
    source = tape.trace(suspects[0], registers[: len(tape.registers)])
    return (source or Source("a formula", "", 0)), float(registers[suspects[0]])


def _told(found: tuple[Source, float]) -> str:
    source, value = found
    return f"{source.name} has a part that is {value}" + (f"\n{_pointed(source)}" if source.text else "")


def _pointed(source: Source) -> str:
    """Return a formula's text and a mark below the character."""
    start = max(0, source.position - 40)
    snippet = source.text[start : start + 80]
    return f"  {snippet}\n  {' ' * (source.position - start)}^"
