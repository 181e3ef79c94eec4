"""Parameters set to other values: in the configuration, and in the registers of what is compiled already."""

from collections.abc import Mapping
from dataclasses import replace

from dravik.aircraft.compiling.compiled_aircraft import CompiledAircraft
from dravik.aircraft.description.configuration import Configuration
from dravik.definition import arguments
from dravik.definition.values import parameter_in_si

__all__ = ["with_values"]


def with_values(
    configuration: Configuration, built: CompiledAircraft | None, values: Mapping[str, str | float]
) -> tuple[Configuration, CompiledAircraft | None]:
    """Return a configuration with other values of parameters, and what was compiled with them in its registers."""
    found = {
        name: parameter_in_si(configuration.parameters, name, value)
        for name, value in arguments.mapping(values, "parameters").items()
    }
    changed = replace(configuration, values={**configuration.values, **found})
    if built is None:
        return changed, None
    # a parameter is a register that no instruction writes: another value needs no compiling
    registers = built.tape.registers.copy()
    for name, number in found.items():
        registers[built.tape.names[name]] = number
    return changed, replace(built, tape=replace(built.tape, registers=registers))
