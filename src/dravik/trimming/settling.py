"""Engines and actuators where they stand still while the aircraft itself is held: what a test bench sees."""

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.contact import contact_states
from dravik.errors import DravikError
from dravik.kernel.chart import BODY_CHART, N_CHART
from dravik.kernel.equilibrium import newton
from dravik.kernel.program import SIGNALS
from dravik.trimming.posing import state_scale, walls

__all__ = ["settle"]

Floats = NDArray[np.float64]
SETTLED = 1e-7  # largest rate left over, of scaled states, 1/s


def settle(craft: Aircraft, state: Floats, inputs: Floats) -> Floats:
    """Return a state with shafts, spools and actuators where they stand still; position and motion stay as they are.

    Integrals, such as a battery's charge, stay too. Raises DravikError when something does not come to rest.
    """
    legs = contact_states(craft.definition.legs)  # where nothing moves they are still, however bent
    slots = [(i, s) for i, s in enumerate(craft.tape.states) if not s.is_integral and s.name not in legs]
    found = np.array(state, dtype=float)
    if not slots:
        return found
    n = len(slots)
    scales = np.array([state_scale(s) for _, s in slots])
    unknowns = np.array([(0, N_CHART + i) for i, _ in slots], dtype=np.int64)
    equations = np.array([(0, N_CHART + i, 0) for i, _ in slots], dtype=np.int64)
    targets = np.stack([np.zeros(n), 1.0 / scales], axis=1)
    sides = np.array([walls(craft, s) for _, s in slots]).T / scales
    z, u = craft.plant("body").from_state(found, inputs), np.array(inputs, dtype=float)
    v = np.array([z[N_CHART + i] for i, _ in slots]) / scales
    size, _ = newton(
        craft.program, craft.workspace(), z, u, BODY_CHART, unknowns, scales, equations, targets, v, np.empty(n),
        np.empty((n, n)), np.empty((3, len(z) + 2)), np.empty((2, n)), np.empty((n, n)), np.empty((2, n)), sides,
        SIGNALS, 1.0, 1e-12, 60,
    )  # fmt: skip
    if not size < SETTLED:
        raise DravikError(
            f"engines or actuators do not settle: {size:.3g} a second is left over", where=craft.name,
            hint="another lever or airspeed",
        )  # fmt: skip
    for (i, _), value, scale in zip(slots, v, scales, strict=True):
        found[13 + i] = value * scale
    return found
