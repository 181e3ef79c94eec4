"""One trim among many: where more is free than held, the one with the least of a signal, or the least deflections."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, TrimError, nearest, require
from dravik.trimming.outcomes import report
from dravik.trimming.residuals import AircraftField, aircraft_search
from dravik.trimming.result import TrimPoint
from dravik.trimming.search import TOLERANCE, Search
from dravik.trimming.statement import Equation, Statement

__all__ = ["trim_minimum"]

Floats = NDArray[np.float64]
MOST = 200  # steps of the optimiser
POLISH = 12  # steps onto the equations, after it


def trim_minimum(craft: Aircraft, statement: Statement, least: str | Sequence[str]) -> TrimPoint:
    """Return the trim with the least of a signal; of several signals, the least sum of their squares.

    The optimum is local, found from the statement's start by sequential quadratic programming (SciPy's SLSQP), limits
    included, and put onto the equations afterwards.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    statement : Statement
        One that leaves more free than it holds: ``dv.steady(...)`` with something freed.
    least : str or sequence of str
        The signal, such as ``"fuel_flow"``, or several.

    Returns
    -------
    TrimPoint
        The point.

    Raises
    ------
    DravikError
        For signals that are not there, and where nothing is left to choose.
    TrimError
        Where the equations cannot be held.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> level = dv.steady(craft, airspeed="62 m/s", altitude="300 m").freeing(craft, "airspeed")
    >>> round(dv.trim_minimum(craft, level, "fuel_flow")["airspeed"])
    53
    """
    require(craft, Aircraft, "what is trimmed")
    require(statement, Statement, "what is trimmed to", "steady(craft, ...).freeing(craft, ...)")
    names = [least] if isinstance(least, str) else arguments.names(least, "least")
    for name in names:
        if name not in craft.signals:
            raise DravikError(f"there is no signal {name!r} to make least", hint=nearest(name, craft.signals))
    held = len(statement.equations)
    if not names or held >= len(statement.free):
        raise DravikError(
            f"{held} equations for {len(statement.free)} unknowns leave nothing to choose", where=statement.title,
            hint="free something more: statement.freeing(craft, ...)",
        )  # fmt: skip
    # the signals stand behind the equations, so that one field gives constraints and cost, and the slopes of both
    both = replace(statement, equations=(*statement.equations, *(Equation(n) for n in names)), is_checked=True)
    search, field = aircraft_search(craft, both)
    v = _onto(search, field, _optimum(search, field, held, len(names)), held)
    own, own_field = aircraft_search(craft, replace(statement, is_checked=True))
    inside = bool(np.all(v >= own.low - 1e-9) and np.all(v <= own.high + 1e-9))
    point = report(craft, statement, own, own_field, v, inside and own.holds(v))
    if not point.reached:
        worst = max(point.residuals, key=lambda n: abs(point.residuals[n]))
        raise TrimError(
            f"there is no trim at {statement.title}: {worst} = {point.residuals[worst]:.3g} remains", result=point,
            where=craft.name, hint="another start, or less that is held",
        )  # fmt: skip
    return point


def _optimum(search: Search, field: AircraftField, held: int, count: int) -> Floats:
    """Return the unknowns of the least cost under the first equations, as near as the optimiser comes."""
    from scipy import optimize

    minimize: Any = optimize.minimize  # its stubs know no array of our type

    def cost(v: Floats) -> float:
        values = field.residual(v)[held:]
        return float(values[0]) if count == 1 else float(values @ values)

    def slope(v: Floats) -> Floats:
        rows = field.slopes(v)[held:]
        found: Floats = rows[0] if count == 1 else 2.0 * field.residual(v)[held:] @ rows
        return found

    start = search.settled(search.start)
    # of order one, so that the optimiser's tolerance means the same for watts and for radians
    size = max(abs(cost(start)), 1e-3)
    limits: Any = [(low if np.isfinite(low) else None, high if np.isfinite(high) else None)
              for low, high in zip(search.low, search.high, strict=True)]  # fmt: skip
    equal: Any = {"type": "eq", "fun": lambda v: field.residual(v)[:held], "jac": lambda v: field.slopes(v)[:held]}
    with np.errstate(all="ignore"):
        found = minimize(
            lambda v: cost(v) / size, start, jac=lambda v: slope(v) / size, bounds=limits, constraints=[equal],
            method="SLSQP", options={"maxiter": MOST, "ftol": 1e-14},
        )  # fmt: skip
    return np.asarray(found.x, dtype=float)


def _onto(search: Search, field: AircraftField, v: Floats, held: int) -> Floats:
    """Return the nearest unknowns at which the first equations hold: the shortest steps, within the limits."""
    for _ in range(POLISH):
        left = field.residual(v)[:held]
        if not float(np.max(np.abs(left))) > 0.01 * TOLERANCE:
            break
        free = (v > search.low + 1e-12) & (v < search.high - 1e-12)
        step = np.zeros(len(v))
        step[free] = np.linalg.lstsq(field.slopes(v)[:held][:, free], left, rcond=None)[0]
        v = np.clip(v - step, search.low, search.high)
    return v
