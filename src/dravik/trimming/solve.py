"""Trim: the states and inputs that hold a condition; engines at rest, any plant."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Unpack

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, TrimError, require
from dravik.kernel.program import N_RIGID
from dravik.motion.minimal_coordinates import N_CHART
from dravik.plants import Plant
from dravik.trimming.condition import Condition, ConditionKeys, Quantity, check_names
from dravik.trimming.continuation import ConditionSeries
from dravik.trimming.named_conditions import has_level_thrust, pose, settling, throttles_of
from dravik.trimming.nearest import approached, nearest_feasible
from dravik.trimming.outcomes import advice, failure, report
from dravik.trimming.plant_statement import plant_statement
from dravik.trimming.reference_speeds import speed_of
from dravik.trimming.residuals import PlantField, aircraft_search
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.search import Search, explain
from dravik.trimming.settling import SETTLED
from dravik.trimming.statement import Free, Statement
from dravik.units import in_si

__all__ = ["condition_of", "settle", "steady", "trim", "trim_all", "trim_plant"]

Floats = NDArray[np.float64]


def steady(craft: Aircraft, **condition: Unpack[ConditionKeys]) -> Statement:
    """Return the statement of a steady flight, to be changed before it is trimmed: see ``ConditionKeys``.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> level = dv.steady(craft, airspeed="62 m/s", altitude="300 m")
    >>> climbing = level.without("flight_path").holding(craft, {"climb_rate": "2 m/s"})
    >>> round(dv.trim(craft, climbing)["climb_rate"], 9)
    2.0
    """
    return pose(craft, condition_of(craft, condition))


def condition_of(craft: Aircraft, asked: ConditionKeys) -> Condition:
    """Return what is asked for in SI, its speed as true airspeed; raises DravikError for what does not fit."""
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    check_names(asked)
    if "altitude" not in asked:
        raise DravikError("a trim without an altitude", expected="a length such as '300 m'")
    inputs = craft.inputs_in_si(asked.get("inputs") or {})
    altitude = in_si(asked["altitude"], "length", where="altitude")
    found = Condition.of(asked, speed_of(craft, asked, altitude, inputs), inputs)
    return _with_level_thrust(craft, found) if has_level_thrust(craft, found) else found


def _with_level_thrust(craft: Aircraft, pull: Condition) -> Condition:
    """Return a pull with the throttles of the same flight without it; half open where that cannot be held."""
    point = ConditionSeries(craft, lambda _: replace(pull, manoeuvre=None)).point(0.0)
    throttles = {
        name: 0.5 * (low + high) if point is None else float(point.inputs[craft.input_names.index(name)])
        for name, (low, high) in throttles_of(craft).items()
    }
    return replace(pull, inputs={**throttles, **pull.inputs})


def trim(
    craft: Aircraft, statement: Statement | None = None, *, strict: bool = True, **condition: Unpack[ConditionKeys]
) -> TrimPoint:
    """Return the point that holds a condition: steady flight, a manoeuvre, hover, or any statement.

    ``condition`` is ``airspeed``, ``altitude``, ``flight_path``, ``turn`` and so on, as ``ConditionKeys`` says; hover
    is an airspeed of zero: the aircraft moves with the air. Free to move are alpha, theta, the bank (or, with ``bank``
    given, the sideslip), the inputs marked ``trim``, actuators and engines; an input that is given is taken out of the
    search. Integrals of control laws stay at their initial value; those that would not stand still are reported as
    ``drifting``. A ``statement`` says all of that itself.

    Raises DravikError for wrong quantities or names, inputs outside their range, and statements whose equations do not
    determine what is free. When the condition cannot be held: TrimError with the residuals and what is at its
    stop, or, with ``strict=False``, a point whose ``reached`` is False.

    >>> import dravik as dv
    >>> point = dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> point.reached
    True
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    asked = None
    if statement is None:
        asked = condition_of(craft, condition)
        statement = pose(craft, asked)
    elif condition:
        raise DravikError(f"a statement beside {next(iter(condition))}", expected="one of them")
    require(statement, Statement, "what is trimmed to", "steady(craft, ...), or Statement.of(craft, ...)")
    if len(statement.inputs) != len(craft.inputs) or len(statement.state) != N_CHART + len(craft.function_states):
        raise DravikError("the statement is of another aircraft", hint="make it from the aircraft that is trimmed")
    search, field = aircraft_search(craft, statement)
    search.check()
    v, reached = search.solve()
    point = report(craft, statement, search, field, v, reached)
    if not reached and asked is not None:
        point = approached(craft, asked) or point
    if strict and not point.reached:
        edges = [] if asked is None else nearest_feasible(craft, asked)
        hint = "; or ".join(map(str, edges)) or advice(point)
        raise TrimError(failure(point, search), result=point, where=craft.name, hint=hint, nearest=edges)
    return point


def trim_all(craft: Aircraft, **condition: Unpack[ConditionKeys]) -> list[TrimPoint]:
    """Return every point found that holds a condition, by airspeed and angle of attack: empty where there is none.

    Searched from many starts: angles of attack below and above the stall, throttle settings, and speeds where the
    airspeed is ``"free"`` (both sides of the power curve). Takes and raises what ``trim`` does.

    >>> import dravik as dv
    >>> found = dv.trim_all(dv.sample("tarn"), airspeed="free", altitude="300 m", inputs={"throttle": 0.3})
    >>> len(found), found[0]["airspeed"] < found[1]["airspeed"]
    (2, True)
    """
    statement = steady(craft, **condition)
    search, field = aircraft_search(craft, statement)
    search.check()
    return sorted(
        (report(craft, statement, search, field, v, True) for v in search.all_solutions()),
        key=lambda p: (p["airspeed"], p["alpha"]),
    )


def settle(craft: Aircraft, state: Floats, inputs: Floats) -> Floats:
    """Return a state with shafts, spools and actuators at their equilibrium; position and motion are kept.

    What a test bench sees. Integrals, such as a battery's charge, stay too. Raises DravikError when something does not
    come to rest.
    """
    statement = settling(craft, state, inputs)
    found = np.array(state, dtype=float)
    if not statement.free:
        return found
    search, field = aircraft_search(craft, statement)
    v = search.settled(search.start, longest=1.0, most=60)
    size = float(np.max(np.abs(field.residual(v))))
    if not size < SETTLED:
        raise DravikError(
            f"engines or actuators do not settle: {size:.3g} a second remains", where=craft.name,
            hint="another throttle or airspeed",
        )  # fmt: skip
    for f, value in zip(statement.free, v, strict=True):
        found[N_RIGID + craft.function_states.index(f.name)] = value * f.scale
    return found


def trim_plant(
    plant: Plant, *, state: Mapping[str, Quantity] | None = None, inputs: Mapping[str, Quantity] | None = None,
    free: Sequence[str | Free], steady: Sequence[str] | None = None, hold: Mapping[str, Quantity] | None = None,
    strict: bool = True,
) -> PlantTrim:  # fmt: skip
    """Return an equilibrium of any plant, said in the words of a ``Statement``.

    ``state`` and ``inputs`` give starting values by name (others are zero), in SI or with a unit that the plant names;
    ``free`` names the states and inputs that may move, within the plant's bounds, or gives ``Free`` with limits of its
    own; ``steady`` the states whose rates must be zero (all unless named, or ``hold`` gives their rate); ``hold`` what
    equals what: an output and a value, an output and the name of another, ``"rate of STATE"`` and a value. Raises
    DravikError for unknown names, and TrimError, naming the largest residual, when there is no equilibrium
    (``strict``).

    >>> import dravik as dv
    >>> swing = dv.plant(lambda t, x, u: [x[1], u[0] - 9.8 * x[0]], states=["angle", "rate"], inputs=["push"])
    >>> held = dv.trim_plant(swing, free=["angle", "push"], hold={"angle": 0.1})
    >>> round(float(held.inputs[0]), 9)
    0.98
    """
    statement = plant_statement(plant, state or {}, inputs or {}, free, steady, hold or {})
    equations = statement.equations
    field = PlantField(plant, statement)
    search = Search(statement, field, [], [], [])
    v, reached = search.solve()
    left = field.residual(v)
    residuals = {(e.of if e.is_rate else e.name): float(r) for e, r in zip(equations, left, strict=True)}
    result = PlantTrim(plant, field.x, field.u, residuals, reached)
    if strict and not reached:
        worst = max(residuals, key=lambda n: abs(residuals[n]))
        what = "the rate of " if worst in plant.state_names else ""
        why = explain(statement, field.slopes(v))
        raise TrimError(
            f"no equilibrium: {what}{worst} is left at {residuals[worst]:.3g}{'; ' + why if why else ''}", result=result
        )
    return result
