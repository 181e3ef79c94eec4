"""A device of compiled code within the steps of a flight, such as a filter: called at its address, without Python.

``own`` of the workspace is what it works in. Its address stands among the counters, 0 without one. It reads registers
and leaves values, which are put into the inputs of each step until its next call.
"""

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.kernel.calls import call_device, call_evaluate
from dravik.kernel.program import (
    EVERYTHING,
    OWN_COUNT,
    OWN_DEVICE,
    OWN_EVERY,
    OWN_INTO,
    OWN_VALUES,
    Program,
    Workspace,
)

__all__ = ["run_own_device", "set_own_values"]

Floats = NDArray[np.float64]


@inlined
def set_own_values(own: Floats, u: Floats) -> None:
    """Put the values that a device has left into inputs."""
    into, values = int(own[OWN_INTO]), int(own[OWN_VALUES])
    for i in range(int(own[OWN_COUNT])):
        place = int(own[into + i])
        if place >= 0:
            u[place] = own[values + i]


@compiled
def run_own_device(program: Program, work: Workspace, t: float, x: Floats, u: Floats, step: int) -> None:
    """Call the device if it is due at this step, whose signals stand in the registers, and evaluate what follows."""
    own = work.own
    if step % int(own[OWN_EVERY]) == 0:
        call_device(work.counters[OWN_DEVICE], own, work.registers, t)  # type: ignore[call-arg]
        set_own_values(own, u)
        call_evaluate(program, work, t, x, u, work.slopes[0], False, EVERYTHING)
    else:
        set_own_values(own, u)
