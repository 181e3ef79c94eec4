"""A tank that loses at once what it holds: the state of what remains."""

from collections.abc import Mapping, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.description.schema import AircraftDefinition
from dravik.errors import DravikError
from dravik.kernel.program import N_RIGID
from dravik.mass import after_drop
from dravik.units import in_si

__all__ = ["with_tank"]

Floats = NDArray[np.float64]


class HasTanks(Protocol):
    """What has tanks that flow, as an aircraft has."""

    @property
    def definition(self) -> AircraftDefinition:
        """The definition, with its tanks."""

    @property
    def loading_name(self) -> str:
        """Name of the loading in use."""

    @property
    def function_states(self) -> Sequence[str]:
        """Names of the states beyond the rigid body's."""

    def default_inputs(self) -> Floats:
        """Return every input at its default."""

    def values(self, x: Floats, u: Floats) -> Mapping[str, float]:
        """Return signals by name."""


def with_tank(craft: HasTanks, x: Floats, tank: str, mass: str | float) -> Floats:
    """Return a state with another mass (kg) in a tank, as ``Aircraft.with_tank`` says."""
    states = {f"tank_{n}_integral": n for n in craft.definition.tanks}
    flowing = [states[s] for s in craft.function_states if s in states]
    if tank not in flowing:
        raise DravikError(
            f"no tank {tank!r} flows in {craft.loading_name}", expected=", ".join(flowing) or "a tank with flow"
        )
    capacity, mass = craft.definition.tanks[tank].capacity, in_si(mass, "mass", where=tank)
    if not 0.0 <= mass <= capacity:
        raise DravikError(f"the tank {tank!r} cannot have {mass:g} kg", expected=f"0 to {capacity:.6g} kg")
    found = x.copy()
    found[N_RIGID + list(craft.function_states).index(f"tank_{tank}_integral")] = mass
    # the centre of gravity by the same formulas as in flight, with the old mass and with the new
    before, after = (craft.values(s, craft.default_inputs()) for s in (x, found))
    return after_drop(found, np.array([after[f"centre_{a}"] - before[f"centre_{a}"] for a in "xyz"]))
