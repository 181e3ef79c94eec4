"""What a flight does when a mode begins: inputs and parameters are set, the present values of signals taken over."""

from collections.abc import Callable, Mapping

from dravik.errors import DravikError
from dravik.mode_logic.modes import ModeLogic

__all__ = ["DEEPEST", "Parameters", "enter_mode", "mode_of"]

#: Parameters that are set, as they are given.
Parameters = tuple[tuple[str, str | float], ...]
DEEPEST = 20  # modes that mode logic sets in other mode logic, one from the other


def enter_mode(
    name: str, logic: ModeLogic, number: float, read: Callable[[str], float],
    change: Callable[[Mapping[str, str | float]], Parameters], *, depth: int = 0,
) -> Parameters:  # fmt: skip
    """Set what the mode of a number sets, and return the parameters among it.

    ``read`` gives the present value of a signal (SI); ``change`` sets inputs with what follows from them. ``depth``
    counts the mode logic whose modes set one another. Raises DravikError where that goes on without an end.
    """
    if depth > DEEPEST:
        raise DravikError(f"{name} and other mode logic set each other's modes without an end")
    label = mode_of(logic, number)
    mode = logic.modes[label]
    # all signals are read before anything is set: what one input changes must not be taken over by the next
    taken = {target: read(signal) for target, signal in mode.take.items()}
    try:
        return change({**mode.set, **taken})
    except DravikError as error:
        raise error if depth else error.at(f"{name} {label!r}") from None


def mode_of(logic: ModeLogic, number: float) -> str:
    """Return the name of the mode with a number, counted from one."""
    return list(logic.modes)[int(number) - 1]
