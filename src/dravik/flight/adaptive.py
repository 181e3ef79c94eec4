"""A flight by a method that watches its own error, for checking how exact fixed steps are."""

import itertools
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import FlightError
from dravik.flight.schedule import Schedule
from dravik.kernel import Workspace
from dravik.kernel.program import EVERYTHING, MOTION
from dravik.motion.equations import evaluate

__all__ = ["fly_adaptively"]

Floats = NDArray[np.float64]


def fly_adaptively(
    craft: Aircraft, work: Workspace, x: Floats, schedule: Schedule, times: Floats, picks: Sequence[int]
) -> Floats:
    """Return the picked registers at the times (s), shape (times, picks), with DOP853.

    Source: E. Hairer, S. Norsett, G. Wanner, Solving Ordinary Differential Equations I, Springer 1993. Raises
    FlightError when the method stops.
    """
    from scipy.integrate import solve_ivp

    begin, end = float(times[0]), float(times[-1])
    inner = {c for _, h in schedule.histories for c in h.corners if begin < c < end}
    states = np.empty((len(times), len(x)))
    states[0] = x
    for low, high in itertools.pairwise([begin, *sorted(inner), end]):
        wanted = (times > low) & (times <= high)
        found = solve_ivp(
            _rates_between(craft, work, schedule, low, high), (low, high), x, method="DOP853", rtol=1e-11, atol=1e-12,
            t_eval=np.append(times[wanted], high) if high not in times[wanted] else times[wanted],
        )  # fmt: skip
        if not found.success or not np.all(np.isfinite(found.y)):
            raise FlightError(f"the adaptive method stopped: {found.message}", time=low, where=craft.name)
        states[wanted] = found.y.T[: int(np.sum(wanted))]
        x = found.y[:, -1]
    dx = np.empty(len(x))
    rows = np.empty((len(times), len(picks)))
    for i, t in enumerate(times):
        evaluate(craft.program, work, float(t), states[i], schedule.at(float(t), begin, end), dx, False, EVERYTHING)
        rows[i] = work.registers[picks]
    return rows


def _rates_between(
    craft: Aircraft, work: Workspace, schedule: Schedule, low: float, high: float
) -> Callable[[float, Floats], Floats]:
    def rates(t: float, x: Floats) -> Floats:
        dx = np.empty(len(x))
        u = schedule.at(t, low, high)
        evaluate(craft.program, work, t, np.ascontiguousarray(x), u, dx, False, MOTION)
        return dx

    return rates
