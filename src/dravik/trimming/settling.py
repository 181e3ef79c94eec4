"""Engines and actuators where they stand still while the aircraft itself is held: what a test bench sees."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.contact import contact_states
from dravik.errors import DravikError
from dravik.kernel.chart import BODY_CHART, N_CHART
from dravik.kernel.equilibrium import newton, residual, residual_slopes
from dravik.kernel.program import SIGNALS
from dravik.trimming.posing import state_scale, walls

__all__ = ["follow_to_rest", "settle"]

Floats = NDArray[np.float64]
Rates = Callable[[Floats], Floats]
FIRST_STEP = 0.01  # s, of the way along the states' own motion
LONGEST_WAY = 300  # steps of it
SETTLED = 1e-7  # largest rate left over, of scaled states, 1/s


def follow_to_rest(rates: Rates, slopes: Rates, v: Floats, low: Floats, high: Floats) -> tuple[Floats, float]:
    """Return where states ``v`` come to rest when they follow their own motion, and the largest rate left over.

    Implicit Euler steps that grow as the rates fall (pseudo-transient continuation: C. T. Kelley, D. E. Keyes, SIAM J.
    Numer. Anal. 35 (1998), 508). Unlike Newton's method from afar it goes where the engine itself would run: uphill
    in rate where that is the way. ``rates`` (n,) and ``slopes`` (n, n) are functions of the states; ``low`` and
    ``high`` limit them.
    """
    step, left = FIRST_STEP, rates(v)
    for _ in range(LONGEST_WAY):
        size = float(np.max(np.abs(left), initial=0.0))
        if not size > 1e-12:
            break
        system = np.eye(len(v)) / step - slopes(v)
        try:
            moved = np.clip(v + np.linalg.solve(system, left), low, high)
        except np.linalg.LinAlgError:
            step *= 0.5
            continue
        after = rates(moved)
        new = float(np.max(np.abs(after), initial=0.0))
        if not new < 4.0 * size:
            step *= 0.25
            if step < 1e-9:
                break
            continue
        if new >= size and np.allclose(moved, v, rtol=1e-14, atol=1e-15):
            break
        step *= min(max(size / max(new, 1e-300), 1.2), 4.0)
        v, left = moved, after
    return v, float(np.max(np.abs(left), initial=0.0))


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
    start, w, scratch, out, matrix = (
        v.copy(),
        craft.workspace(),
        np.empty((3, len(z) + 2)),
        np.empty(n),
        np.empty((n, n)),
    )
    size, _ = newton(
        craft.program, w, z, u, BODY_CHART, unknowns, scales, equations, targets, v, out, matrix, scratch,
        np.empty((2, n)), np.empty((n, n)), np.empty((2, n)), sides, SIGNALS, 1.0, 1e-12, 60,
    )  # fmt: skip
    if not size < SETTLED:
        asked = (craft.program, w, z, u, BODY_CHART, unknowns, scales, equations, targets)

        def rates(at: Floats) -> Floats:
            residual(*asked, at, out, scratch, True, SIGNALS)
            return out.copy()

        def slopes(at: Floats) -> Floats:
            residual_slopes(*asked, np.array(at), matrix, scratch, np.empty((2, n)), True, SIGNALS)
            return matrix.copy()

        v, size = follow_to_rest(rates, slopes, start, sides[0], sides[1])
    if not size < SETTLED:
        raise DravikError(
            f"engines or actuators do not settle: {size:.3g} a second is left over", where=craft.name,
            hint="another lever or airspeed",
        )  # fmt: skip
    for (i, _), value, scale in zip(slots, v, scales, strict=True):
        found[13 + i] = value * scale
    return found
