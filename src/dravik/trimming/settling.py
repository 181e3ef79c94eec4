"""Engines and actuators followed along their own motion to their equilibrium."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["SETTLED", "follow_to_rest"]

Floats = NDArray[np.float64]
Rates = Callable[[Floats], Floats]
FIRST_STEP = 0.01  # s: first step of pseudo-time along the states' own motion
LONGEST_WAY = 300  # most steps of pseudo-time
SETTLED = 1e-7  # 1/s: largest rate of the scaled states that counts as settled


def follow_to_rest(rates: Rates, slopes: Rates, v: Floats, low: Floats, high: Floats) -> tuple[Floats, float]:
    """Return where states ``v`` come to rest when they follow their own motion, and the largest remaining rate.

    Implicit Euler steps that grow as the rates fall (pseudo-transient continuation: C. T. Kelley, D. E. Keyes, SIAM J.
    Numer. Anal. 35 (1998), 508). Unlike Newton's method they converge from far away, and to the equilibrium that the
    engine itself would reach. ``rates`` (n,) and ``slopes`` (n, n) are functions of the states; ``low`` and ``high``
    limit them.
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
