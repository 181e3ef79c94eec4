"""The state that the kernel integrates, from what people give: place, velocity, Euler angles, rates, other states."""

from collections.abc import Mapping, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.definition.signals import Signal
from dravik.errors import DravikError, nearest
from dravik.formula import Tape
from dravik.frames import quaternion_from_euler
from dravik.units import in_si, kind_of_unit

__all__ = ["integrated_state"]

Floats = NDArray[np.float64]
Triple = tuple[str | float, str | float, str | float]
MOTION = (("position", "length"), ("velocity", "speed"), ("attitude", "angle"), ("rates", "angular rate"))


class HasStates(Protocol):
    """What an aircraft has of states and signals."""

    @property
    def name(self) -> str:
        """The aircraft's name."""

    @property
    def tape(self) -> Tape:
        """The tape."""

    @property
    def signals(self) -> dict[str, Signal]:
        """Every signal."""

    @property
    def function_states(self) -> list[str]:
        """States of actuators, engines and functions."""


def integrated_state(craft: HasStates, motion: Sequence[Triple], functions: Mapping[str, str | float]) -> Floats:
    """Return the state as ``Aircraft.state`` says; ``motion`` are position, velocity, Euler angles, body rates."""
    given = {}
    for name, value in functions.items():
        if name not in (known := craft.function_states):
            raise DravikError(
                f"{craft.name} has no state {name!r}", expected=", ".join(known[:12]) or "none",
                hint=nearest(name, known),
            )  # fmt: skip
        given[name] = in_si(value, kind_of_unit(craft.signals[name].unit), where=f"state {name}")
    initial = [given.get(s.name, s.initial) for s in craft.tape.states]
    place, speeds, angles, turns = (
        [in_si(v, kind, where=name) for v in values] for (name, kind), values in zip(MOTION, motion, strict=True)
    )
    return np.array([*place, *speeds, *quaternion_from_euler(*angles), *turns, *initial], dtype=float)
