"""Values that people give to inputs and parameters, checked against unit and range, in SI."""

import math
from collections.abc import Mapping
from typing import Protocol

from dravik.definition import arguments
from dravik.definition.effectors import Parameter
from dravik.definition.signals import InputSpec
from dravik.errors import DravikError, nearest
from dravik.units import from_si, in_si, kind_of_unit, quantity

__all__ = ["HasInputs", "inputs_in_si", "parameter_in_si"]

ROOM = 1e-9  # tolerance of range checks, for numbers converted to another unit and back


class HasInputs(Protocol):
    """What has inputs by name, as an aircraft has."""

    @property
    def inputs(self) -> dict[str, InputSpec]:
        """Every input, in the kernel's order."""

    def input_index(self, name: str) -> int:
        """Return the place of an input; raises DravikError, naming the nearest."""


def inputs_in_si(
    craft: HasInputs, values: Mapping[str, str | float], bare_angles: bool, place: str
) -> dict[str, float]:  # fmt: skip
    """Return inputs by their full name in SI, as ``Aircraft.inputs_in_si`` says."""
    specs, found = list(craft.inputs.values()), {}
    for name, value in arguments.mapping(values, "inputs").items():
        spec = specs[craft.input_index(name)]
        convert = in_si if bare_angles else quantity
        if isinstance(value, str) and spec.words:
            number = _worded(spec, value, f"{place}{name}")
        else:
            number = convert(value, kind_of_unit(spec.unit), where=f"{place}{name}")
        if not spec.low - ROOM <= number <= spec.high + ROOM:
            unit, factor, _ = from_si(spec.unit)
            reach = f"{spec.low * factor:.6g} to {spec.high * factor:.6g} {unit}".rstrip()
            raise DravikError(f"{value!r} is outside its range", where=f"{place}{name}", expected=reach)
        found[spec.name] = number
    return found


def _worded(spec: InputSpec, value: str, place: str) -> float:
    """Return the number of a mode; raises DravikError, naming the nearest, for one that is not there."""
    if value not in spec.words:
        raise DravikError(
            f"there is no mode {value!r}", where=place, expected=", ".join(spec.words), hint=nearest(value, spec.words)
        )
    return spec.words[value]


def parameter_in_si(parameters: Mapping[str, Parameter], name: str, value: str | float) -> float:
    """Return a parameter's value in SI, from text with its unit or a number in SI.

    Raises DravikError for a name that is not there, another unit, and a value outside its range.
    """
    if name not in parameters:
        raise DravikError(
            f"there is no parameter {name!r}", expected=", ".join(parameters) or "parameters in the file",
            hint=nearest(name, parameters),
        )  # fmt: skip
    spec = parameters[name]
    number = in_si(value, kind_of_unit(spec.unit), where=f"parameter {name}")
    if not math.isfinite(number):
        raise DravikError(f"the parameter {name} cannot be {value!r}", expected="a finite number")
    if spec.range is not None and not spec.range[0] <= number <= spec.range[1]:
        unit, factor, _ = from_si(spec.unit)
        reach = f"{spec.range[0] * factor:.6g} to {spec.range[1] * factor:.6g} {unit}".rstrip()
        raise DravikError(f"{value!r} is outside its range", where=f"parameter {name}", expected=reach)
    return number
