"""Errors of mode logic whose keys are well formed: targets and signals that are not there, values that do not fit."""

from collections.abc import Mapping

from dravik.definition.effectors import Parameter
from dravik.definition.signals import InputSpec, Signal, Where
from dravik.definition.values import inputs_in_si, parameter_in_si
from dravik.errors import DravikError, nearest
from dravik.mode_logic.modes import ModeLogic

__all__ = ["refuse_modes"]


def refuse_modes(
    mode_logic: Mapping[str, ModeLogic], inputs: Mapping[str, InputSpec], parameters: Mapping[str, Parameter],
    signals: Mapping[str, Signal], where: Where,
) -> None:  # fmt: skip
    """Refuse modes that set or take over what is not there, values that do not fit, and signals that nobody computes.

    What a scenario's phases set is checked where they are read.
    """
    known = _Known(inputs)
    for name, logic in mode_logic.items():
        for label, mode in logic.modes.items() if name != "phase" else ():
            place = where("mode_logic", name, "modes", label)
            for target, value in mode.set.items():
                try:
                    if target in parameters:
                        parameter_in_si(parameters, target, value)
                        continue
                    known.input_index(target)
                except DravikError as error:
                    raise error.at(f"{place}.set") from None
                inputs_in_si(known, {target: value}, True, f"{place}.set.")
            for target, signal in mode.take.items():
                if target not in inputs:
                    hint = nearest(target, inputs)
                    raise DravikError(f"there is no input {target!r}", where=f"{place}.take", hint=hint)
                if signal not in signals:
                    hint = nearest(signal, signals)
                    raise DravikError(f"there is no signal {signal!r}", where=f"{place}.take.{target}", hint=hint)


class _Known:
    """Inputs by name, while the aircraft is not compiled yet."""

    def __init__(self, inputs: Mapping[str, InputSpec]) -> None:
        self.inputs = dict(inputs)

    def input_index(self, name: str) -> int:
        """Return the place of an input; an effector's name stands for what is added to its command."""
        names = list(self.inputs)
        for candidate in (name, f"{name}_increment", f"{name}_command"):
            if candidate in names:
                return names.index(candidate)
        raise DravikError(f"there is no input {name!r}", hint=nearest(name, names))
