"""What the airframe's solution is made of: a batch of states, a surface with its lattice, and sums of loads."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aero.flow.lattice import FlowState

__all__ = ["Block", "Flow", "LoadSum", "run_of"]

Floats = NDArray[np.float64]


@dataclass
class Flow:
    """A batch of states as arrays: ``air`` at panels, strips and bodies is the free flow with rates and slipstreams."""

    states: Sequence[FlowState]
    free: Floats
    rates: Floats
    controls: dict[str, Floats]
    more_wash: Floats | None = None


@dataclass(frozen=True)
class Block:
    """A surface's panels and strips, its factorised lattice, and what the other surfaces' vortices do to it.

    ``at_bound`` (3 n, n) and ``wake`` are the velocities that its own vortices make at the middles of its bound
    vortices, and across its strips far behind, with the strips' spans; ``dent`` is the factor of bodies across it.
    ``response`` (n, all) is the circulation that another surface's calls forth here, ``wash`` (strips, all) its mean
    velocity across the strips of the same side; both are zero for the surface's own vortices.
    """

    panels: slice
    strips: slice
    factors: Any
    response: Floats
    wash: Floats
    at_bound: Floats
    wake: tuple[Floats, Floats]
    dent: float


class LoadSum:
    """Forces and moments about the origin, added up for each state."""

    def __init__(self, count: int) -> None:
        self.force, self.moment = np.zeros((count, 3)), np.zeros((count, 3))

    def add(self, places: Floats, forces: Floats) -> None:
        """Add forces (states, n, 3) at places (n, 3) or (states, n, 3)."""
        self.force += forces.sum(axis=1)
        self.moment += np.cross(places, forces).sum(axis=1)


def run_of(names: Sequence[str], wanted: str) -> slice:
    """Return where a name stands in a list that has equal names together."""
    first = list(names).index(wanted)
    return slice(first, first + list(names).count(wanted))
