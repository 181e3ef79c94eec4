"""The longest step with which the integrator follows an aircraft's motion, from the roots of its linear model."""

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.kernel.program import MOTION, OUTSIDE_TABLE
from dravik.motion.equations import evaluate

__all__ = ["longest_step"]

Floats = NDArray[np.float64]
STEP = float(np.cbrt(np.finfo(float).eps))
MOVED = 0.02  # m/s: velocity step at rest, where smaller ones stay below the threshold of zero airspeed
FAST = 1.0  # 1/s: only roots faster than this limit the step


def _grows(z: complex) -> bool:
    """Whether a step of the classical Runge-Kutta method makes a root times step grow (its stability polynomial)."""
    return abs(1.0 + z * (1.0 + z * (0.5 + z * (1.0 / 6.0 + z / 24.0)))) > 1.0


def longest_step(craft: Aircraft, x: Floats, u: Floats) -> tuple[str, float] | None:
    """Return the state that moves fastest at a state and inputs, and the longest step (s) that follows it stably.

    Only roots that decay count: what grows of itself grows at any step. None where nothing is fast, on a rail, and
    where the motion has no slopes (a table left). By differences of the integrated state itself: a linear model
    would compile more for who only flies.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    x : array of float
        Integrated state, SI.
    u : array of float
        Inputs, SI.

    Returns
    -------
    tuple (str, float) or None
        The state, and the step in s.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> state, seconds = longest_step(craft, point.state, point.inputs)
    >>> bool(0.03 < seconds < 0.1)
    True
    """
    if craft.definition.rail is not None and craft.values(x, u, ["on_rail"])["on_rail"] != 0.0:
        return None
    slopes = _slopes(craft, x, u)
    if slopes is None:
        return None
    values, vectors = np.linalg.eig(slopes)
    found: tuple[str, float] | None = None
    for k in np.argsort(-np.abs(values)):
        value, vector = complex(values[k]), vectors[:, k]
        if value.real > -1e-3 * abs(value) or abs(value) < FAST:
            continue
        if found is not None and not _grows(value * found[1]):
            continue  # most of the time the fastest root is the one that limits the step
        low, high = 0.0, 4.0 / abs(value)
        for _ in range(30):
            middle = 0.5 * (low + high)
            low, high = (low, middle) if _grows(value * middle) else (middle, high)
        if found is None or low < found[1]:
            found = craft.state_names[int(np.argmax(np.abs(vector)))], low
    return found


def _slopes(craft: Aircraft, x: Floats, u: Floats) -> Floats | None:
    """Return the slopes of the rates of the integrated state by that state; None where they are none."""
    program, work, at = craft.program, craft.workspace(), x.copy()
    slopes, above, below = np.empty((len(x), len(x))), np.empty(len(x)), np.empty(len(x))
    steps = STEP * np.maximum(np.abs(x), 1.0)
    steps[3:6] = np.maximum(steps[3:6], MOVED)
    for k, side in enumerate(steps.tolist()):
        if not np.isfinite(side):
            return None
        at[k] = x[k] + side
        evaluate(program, work, 0.0, at, u, above, False, MOTION)
        at[k] = x[k] - side
        evaluate(program, work, 0.0, at, u, below, False, MOTION)
        at[k] = x[k]
        with np.errstate(invalid="ignore", over="ignore"):  # what is no number is no slope, and told below
            slopes[:, k] = (above - below) / (2.0 * side)
    return slopes if not work.counters[OUTSIDE_TABLE] and np.all(np.isfinite(slopes)) else None
