"""From the unknowns that a search has found to a trimmed point, or to words that say why there is none."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.finite_values import refuse_not_finite
from dravik.aircraft.table_limits import count_visits, visits_of
from dravik.kernel.code_analysis import inputs_behind
from dravik.motion.minimal_coordinates import state_from_minimal
from dravik.trimming.residuals import AircraftField
from dravik.trimming.result import TrimPoint
from dravik.trimming.search import TOLERANCE, Search, weight
from dravik.trimming.statement import Statement

__all__ = ["advice", "at_stop", "failure", "report"]

Floats = NDArray[np.float64]
FELT = 1e-7  # of a rate by an input: less is rounding
CLOSE = 1e-6  # of a range: nearer than this to one of its ends is at it
_MEANING = {
    "airspeed": "force along the flight path",
    "alpha": "force across it, in the plane of symmetry",
    "beta": "side force",
    "p": "rolling moment",
    "q": "pitching moment",
    "r": "yawing moment",
    "u": "force along body x",
    "v": "force along body y",
    "w": "force along body z",
}


def report(
    craft: Aircraft, statement: Statement, search: Search, field: AircraftField, v: Floats, reached: bool
) -> TrimPoint:
    """Return the trimmed point of the scaled unknowns ``v``, with every signal there and what stands at a stop."""
    left = field.residual(v, steady=False)
    e, work = field.equilibrium, field.work
    u = e.inputs.copy()
    x = np.empty(len(e.state) + 1)
    state_from_minimal(craft.program, work, 0.0, e.state, u, int(e.coordinates[0]), x)
    count_visits(work)
    signals = craft.values(x, u, workspace=work)
    outside = visits_of(craft.tape, craft.tables, work)
    if reached:
        refuse_not_finite(craft, work)
    drifting = {
        slot.name: float(work.registers[slot.rate])
        for slot in craft.tape.states
        if slot.is_integral and abs(work.registers[slot.rate]) > TOLERANCE
    }
    spare = search.told(v) if reached else []
    stops = at_stop(craft, search, field, v)  # moves the field, so that it comes last
    residuals = dict(zip(search.names, left.tolist(), strict=True))
    return TrimPoint(
        craft, statement, x, u, signals, residuals, stops, drifting, reached, field.evaluations,
        [f.name for f in statement.free], outside, spare,
    )  # fmt: skip


def at_stop(craft: Aircraft, search: Search, field: AircraftField, v: Floats) -> list[str]:
    """Name the inputs at a limit, and the effectors at one that such an input commands."""
    limits = enumerate(zip(v.tolist(), search.low.tolist(), search.high.tolist(), strict=True))
    below = {i: value - low <= high - value for i, (value, low, high) in limits if _is_near(value, low, high)}
    if not below:
        return []
    free, names = search.statement.free, search.names
    movers = [i for i, f in enumerate(free) if f.name in craft.inputs]
    behind, slopes, found = _inputs_behind(craft), None, list[str]()
    for i, is_low in below.items():
        name = free[i].name
        row, moved = f"{name}_rate_of_change", i in movers
        if not moved and row in names and any(free[k].name in behind.get(name, ()) for k in movers):
            slopes = field.rough_slopes(v) if slopes is None else slopes
            moved = bool(np.any(np.abs(slopes[names.index(row), movers]) > FELT))
        if moved:
            found.append(f"{name} at its {'lower' if is_low else 'upper'} stop")
    return found


def _is_near(value: float, low: float, high: float) -> bool:
    """Whether a value is within CLOSE of a limit; of those without a limit on the other side, at it or beyond."""
    room = CLOSE * (high - low)
    return value <= low + room or value >= high - room if math.isfinite(room) else value <= low or value >= high


def _inputs_behind(craft: Aircraft) -> dict[str, frozenset[str]]:
    """Return the inputs that can move each state at once, worked out once for an aircraft."""
    found: dict[str, frozenset[str]] | None = craft.derived.get("inputs behind")
    if found is None:
        found = craft.derived["inputs behind"] = inputs_behind(craft.program, craft.tape, craft.input_names)
    return found


def failure(point: TrimPoint, search: Search) -> str:
    """Return in words which equations are not met, worst first, and what stands at a stop."""
    broken = [(n, v) for n, v in point.residuals.items() if not abs(v) < TOLERANCE]
    left = sorted(((abs(v) * weight(n), n, v) for n, v in broken), reverse=True)
    parts = []
    # residuals much smaller than the largest are consequences of it: leave them out of the message
    for _, name, value in [entry for entry in left if entry[0] >= 0.1 * left[0][0]][:3]:
        state = name.removesuffix("_dot")
        meaning = f" ({_MEANING[state]})" if state in _MEANING else ""
        parts.append(f"{name} = {value:.3g}{meaning}")
    text = f"no trim at {point.title}: residual: {', '.join(parts) or 'nothing, but a limit is broken'}"
    if point.at_stop:
        text += "; " + ", ".join(point.at_stop)
    equations, free = len(search.statement.equations), len(search.statement.free)
    if equations != free:
        text += f"; {equations} equations for {free} unknowns"
    return text


def advice(point: TrimPoint) -> str:
    """Return what to try in the place of a condition that cannot be held."""
    alpha = math.degrees(point.signals["alpha"])
    if "throttle" in " ".join(point.at_stop) or "power" in " ".join(point.at_stop):
        upper = any("upper" in s for s in point.at_stop)
        return f"a {'lower' if upper else 'higher'} flight path, or another airspeed (alpha is {alpha:.1f} deg there)"
    if point.at_stop:
        return f"another flap setting, loading or airspeed (alpha is {alpha:.1f} deg there)"
    return f"another airspeed or altitude (alpha is {alpha:.1f} deg there)"
