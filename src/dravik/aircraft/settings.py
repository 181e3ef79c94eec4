"""Values that people give: of inputs in SI, and of parameters, which scale and shift tables too."""

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Protocol

from dravik.aircraft.compiling.built import Built, InputSpec, Where
from dravik.aircraft.description.configuration import Configuration
from dravik.definition import arguments
from dravik.definition.effectors import Parameter
from dravik.errors import DravikError, nearest
from dravik.formula import CONSTANTS, Node, direct_names, parse
from dravik.units import from_si, in_si, kind_of_unit, quantity

__all__ = ["inputs_in_si", "parameter_in_si", "table_adjustments", "with_values"]

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


def table_adjustments(configuration: Configuration, where: Where) -> dict[str, tuple[Node, Node]]:
    """Return the scale and the shift of tables that have them, as formulas of parameters.

    Raises DravikError for formulas that read anything else.
    """
    found = {}
    for name, entry in configuration.tables.items():
        if (entry.scale, entry.shift) == (1.0, 0.0):
            continue
        nodes = []
        for key in ("scale", "shift"):
            place = where("tables", name, key)
            node = parse(getattr(entry, key), where=place)
            for other in direct_names(node):
                if other not in configuration.parameters and other not in CONSTANTS:
                    hint = nearest(other, configuration.parameters)
                    raise DravikError(
                        f"{key} of a table reads {other!r}", where=place, expected="numbers and parameters", hint=hint
                    )
            nodes.append(node)
        found[name] = nodes[0], nodes[1]
    return found


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
        raise DravikError(f"parameter {name} = {value!r}", expected="a finite number")
    if spec.range is not None and not spec.range[0] <= number <= spec.range[1]:
        unit, factor, _ = from_si(spec.unit)
        reach = f"{spec.range[0] * factor:.6g} to {spec.range[1] * factor:.6g} {unit}".rstrip()
        raise DravikError(f"{value!r} is outside its range", where=f"parameter {name}", expected=reach)
    return number


def with_values(
    configuration: Configuration, built: Built | None, values: Mapping[str, str | float]
) -> tuple[Configuration, Built | None]:
    """Return a configuration with other values of parameters, and what was compiled with them in its registers."""
    found = {
        name: parameter_in_si(configuration.parameters, name, value)
        for name, value in arguments.mapping(values, "parameters").items()
    }
    changed = replace(configuration, values={**configuration.values, **found})
    if built is None:
        return changed, None
    registers = built.tape.registers.copy()
    for name, number in found.items():
        registers[built.tape.names[name]] = number
    return changed, replace(built, tape=replace(built.tape, registers=registers))
