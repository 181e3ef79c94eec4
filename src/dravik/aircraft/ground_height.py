"""The height of the ground by an aircraft's environment, place by place."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.craft import Aircraft
from dravik.kernel.program import EVERYTHING
from dravik.motion.equations import evaluate

__all__ = ["ground_height_of"]

Floats = NDArray[np.float64]


def ground_height_of(craft: Aircraft, x: Floats, u: Floats) -> Callable[[float, float], float]:
    """Return a function that gives the height of the ground (m) at a place north and east of the origin (m).

    ``x`` and ``u`` are any state and inputs of the aircraft; only their place is replaced.
    """
    work, state, slopes = craft.workspace(), np.array(x, dtype=float), np.empty(len(x))
    height = craft.tape.names["ground_height"]

    def height_at(north: float, east: float) -> float:
        state[0], state[1] = north, east
        evaluate(craft.program, work, 0.0, state, u, slopes, False, EVERYTHING)
        return float(work.registers[height])

    return height_at
