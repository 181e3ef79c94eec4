"""Inputs of an aircraft and what they move: of its file, controls, engines, faults, modes, laws and overrides."""

import math
from collections.abc import Mapping

from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.laws import law_inputs
from dravik.aircraft.description.overrides import override_inputs
from dravik.aircraft.description.schema import AircraftDefinition
from dravik.definition.effectors import Effector
from dravik.definition.signals import InputSpec, Where
from dravik.errors import DravikError
from dravik.kernel.signals import WIND_INPUTS
from dravik.mode_logic.conditions import mode_inputs
from dravik.sensors import fed_inputs
from dravik.sensors.estimators import ESTIMATED
from dravik.units import KINDS

__all__ = ["effectors_of", "input_specs"]


def effectors_of(definition: AircraftDefinition) -> dict[str, Effector]:
    """Return the surfaces of an aircraft and the throttles of its engines; raises DravikError for names that clash."""
    found: dict[str, Effector] = dict(definition.controls)
    for name, engine in definition.engines.items():
        # engines have throttles as surfaces have actuators: one mechanism for lag, rate limit, stops and faults
        throttle = f"power_{name}"
        if throttle in found:
            raise DravikError(f"the control {throttle!r} has the name of an engine's throttle", hint="another name")
        found[throttle] = engine.throttle()
    for mixer in definition.mixers.values():
        for name in mixer.engines:
            effector = found.get(f"power_{name}")
            # a mixer stands between the pilot's commands and the rotors: it commands each throttle that nothing
            # else does
            if effector is not None and effector.command is None:
                found[f"power_{name}"] = effector.model_copy(update={"command": f"mix_{name}"})
    return found


def input_specs(configuration: Configuration, effectors: Mapping[str, Effector], where: Where) -> dict[str, InputSpec]:
    """Return every input by name, in the kernel's order; raises DravikError for a name that two of them have."""
    specs = [InputSpec(s.name, s.unit, meaning=s.meaning) for s in WIND_INPUTS]
    for name, entry in configuration.inputs.items():
        low, high = entry.range or (-math.inf, math.inf)
        unit = KINDS[entry.kind][0]
        spec = InputSpec(name, unit, low, high, entry.default, entry.trim, entry.follows, entry.description,
                         weight=entry.trim_weight)  # fmt: skip
        specs.append(spec)
    for name, effector in effectors.items():
        unit = KINDS[effector.kind][0]
        if effector.command is None:
            low, high = effector.range or (-math.inf, math.inf)
            # zero where the range allows it: a throttle from 0.2 to 1 starts at 0.2, not outside of its range
            start = min(max(0.0, low), high)
            text = f"command of {name}"
            specs.append(InputSpec(f"{name}_command", unit, low, high, start, effector.trim, "", text))
        else:
            # a control with a formula for its command has no input of its own; tests and proofs still need one that
            # moves it
            specs.append(InputSpec(f"{name}_increment", unit, meaning=f"added to the command of {name} by a test"))
    if configuration.aircraft.rail is not None:
        specs.append(InputSpec("rail_altitude", "m", meaning="altitude of the rail's lower end"))
    specs += [
        InputSpec(f"fail_{n}", "", 0.0, 1.0, meaning=f"1: engine {n} has failed")
        for n in configuration.aircraft.engines
    ]
    specs += configuration.script.inputs()
    specs += mode_inputs(configuration.mode_logic)
    specs += law_inputs(configuration.laws)
    specs += fed_inputs(configuration.sensors, configuration.sensing.fed)
    if configuration.sensing.estimator:
        specs += [InputSpec(f"estimated_{n}", unit, meaning=f"estimate of {n}") for n, unit in ESTIMATED.items()]
    specs += override_inputs(configuration.overrides)
    # across all sources: an input of a law may have the name of a fault's
    names = [s.name for s in specs]
    for name in names:
        if names.count(name) > 1:
            raise DravikError(f"the input {name!r} is defined twice", where=where("inputs", name))
    return {s.name: s for s in specs}
