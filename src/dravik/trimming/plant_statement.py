"""The statement of an equilibrium of any plant, from names and quantities."""

import math
from collections.abc import Mapping, Sequence

import numpy as np

from dravik.definition import arguments
from dravik.errors import DravikError, nearest
from dravik.plants import Plant
from dravik.trimming.condition import Quantity
from dravik.trimming.statement import RATE_OF, Equation, Free, Statement
from dravik.units import in_si, kind_of_unit

__all__ = ["plant_statement"]


def plant_statement(
    plant: Plant, state: Mapping[str, Quantity], inputs: Mapping[str, Quantity], free: Sequence[str | Free],
    steady: Sequence[str] | None, hold: Mapping[str, Quantity],
) -> Statement:  # fmt: skip
    """Return the statement of what ``trim_plant`` takes; raises DravikError for names that the plant does not have."""
    states, moved = plant.state_names, [*plant.state_names, *plant.input_names]
    named = [item.name if isinstance(item, Free) else item for item in free]
    for name in [*state, *inputs, *arguments.names(named, "free"), *(steady or [])]:
        if name not in moved:
            raise DravikError(
                f"the plant has no state or input {name!r}", expected=", ".join(moved), hint=nearest(name, moved)
            )
    x = np.array([_si(plant, n, state.get(n, 0.0)) for n in states], dtype=float)
    u = np.array([_si(plant, n, inputs.get(n, 0.0)) for n in plant.input_names], dtype=float)
    held = [_held(plant, key, value) for key, value in arguments.mapping(hold, "hold").items()]
    # a rate that is given a value is not to be zero as well
    given = {e.of for e in held if e.is_rate}
    still = [n for n in (states if steady is None else steady) if n not in given]
    equations = [Equation(n, is_rate=True, weight=1.0 / plant.scales.get(n, 1.0)) for n in still] + held
    start = dict(zip(moved, [*x, *u], strict=True))
    unknowns = tuple(
        item if isinstance(item, Free) else _moving(plant, item, float(start[item])) for item in free
    )  # fmt: skip
    return Statement("equilibrium", "", x, u, unknowns, tuple(equations), is_checked=True)


def _si(plant: Plant, name: str, value: Quantity) -> float:
    """Return a quantity of a plant in SI; text needs a unit that the plant names for it."""
    if not isinstance(value, str):
        return arguments.number(value, name)
    unit = plant.units.get(name, "")
    if not unit:
        raise DravikError(f"{name} = {value!r} has a unit, and the plant names none for it", expected="a number")
    return in_si(value, kind_of_unit(unit), where=name)


def _held(plant: Plant, key: str, value: Quantity) -> Equation:
    """Return the equation of one entry of ``hold``."""
    if key.startswith(RATE_OF):
        of = key.removeprefix(RATE_OF)
        if of not in plant.state_names:
            raise DravikError(f"there is no state {of!r}", where=key, hint=nearest(of, plant.state_names))
        return Equation(of, arguments.number(value, key), is_rate=True, weight=1.0 / plant.scales.get(of, 1.0))
    if key not in plant.output_names:
        raise DravikError(f"the plant has no output {key!r}", expected=", ".join(plant.output_names))
    weight = 1.0 / plant.scales.get(key, 1.0)
    if isinstance(value, str) and value in plant.output_names:
        return Equation(key, other=value, weight=weight)
    return Equation(key, _si(plant, key, value), weight=weight)


def _moving(plant: Plant, name: str, start: float) -> Free:
    low, high = plant.bounds.get(name, (-math.inf, math.inf))
    return Free(name, start, plant.scales.get(name, 1.0), low, high)
