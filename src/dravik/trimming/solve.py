"""Trim: the states and inputs that hold a condition; engines at rest, any plant."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Unpack, cast

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.definition.condition_keys import AIR_KEYS
from dravik.errors import DravikError, TrimError, require
from dravik.kernel.program import N_RIGID
from dravik.motion.minimal_coordinates import N_CHART
from dravik.plants import Plant
from dravik.trimming.airspeeds import altitude_asked
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

__all__ = ["condition_of", "in_air", "settle", "steady", "trim", "trim_all", "trim_plant"]

Floats = NDArray[np.float64]


@arguments.spelled_out
def steady(craft: Aircraft, **condition: Unpack[ConditionKeys]) -> Statement:
    """Return the statement of a steady flight, to be changed before it is trimmed.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    **condition
        The condition, by the keywords of ``trim``.

    Returns
    -------
    Statement
        Its equations and unknowns; ``holding``, ``freeing`` and ``without`` return changed ones.

    Raises
    ------
    DravikError
        For wrong quantities or names, and inputs outside their range.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> level = dv.steady(craft, airspeed="62 m/s", altitude="300 m")
    >>> climbing = level.without("flight_path").holding(craft, {"climb_rate": "2 m/s"})
    >>> round(dv.trim(craft, climbing)["climb_rate"], 9)
    2.0
    """
    return pose(craft, condition_of(craft, condition))


def in_air(craft: Aircraft, asked: ConditionKeys) -> tuple[Aircraft, ConditionKeys]:
    """Return the aircraft in the wind and on the day that are asked for, and what else is asked for."""
    rest = cast("dict[str, Any]", {**asked})
    air = {name: rest.pop(name) for name in AIR_KEYS if name in rest}
    air = {name: value for name, value in air.items() if value is not None}
    return craft.with_environment(**air) if air else craft, cast("ConditionKeys", rest)


def condition_of(craft: Aircraft, asked: ConditionKeys) -> Condition:
    """Return what is asked for in SI, its speed as true airspeed; raises DravikError for what does not fit."""
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    check_names(asked)
    for name in AIR_KEYS:
        if asked.get(name) is not None:
            raise DravikError(
                f"the {name} is not part of a statement, but of the aircraft's air", where=name,
                hint=f"craft.with_environment({name}=...)",
            )  # fmt: skip
    inputs = craft.inputs_in_si(asked.get("inputs") or {})
    altitude = altitude_asked(craft, asked)
    freed = _freed(craft, asked, inputs)
    found = replace(Condition.of(asked, speed_of(craft, asked, altitude, inputs), altitude, inputs), free=freed)
    # in a pull nothing holds the speed: the thrust of level flight is what a pilot leaves set
    return _with_level_thrust(craft, found) if has_level_thrust(craft, found) else found


def _freed(craft: Aircraft, asked: ConditionKeys, inputs: Mapping[str, float]) -> tuple[str, ...]:
    """Return the inputs that a trim moves besides; raises DravikError for one that is set too, or that is not there."""
    given = asked.get("free") or ()
    names = [n.strip() for n in given.split(",")] if isinstance(given, str) else list(arguments.names(given, "free"))
    found = tuple(craft.input_names[craft.input_index(name)] for name in names)
    for name in found:
        if name in inputs:
            raise DravikError(f"{name} is set and free", where="free", expected="the one or the other")
    return found


def _with_level_thrust(craft: Aircraft, pull: Condition) -> Condition:
    """Return a pull with the throttles of the same flight without it; half open where that cannot be held."""
    # half open where level flight is not held, such as above the ceiling: a pull there is as good as any
    point = ConditionSeries(craft, lambda _: replace(pull, manoeuvre=None)).point(0.0)
    throttles = {
        name: 0.5 * (low + high) if point is None else float(point.inputs[craft.input_names.index(name)])
        for name, (low, high) in throttles_of(craft).items()
    }
    return replace(pull, inputs={**throttles, **pull.inputs})


@arguments.spelled_out
def trim(
    craft: Aircraft, statement: Statement | None = None, *, strict: bool = True, **condition: Unpack[ConditionKeys]
) -> TrimPoint:
    """Return the point that holds a condition: steady flight, a manoeuvre, hover, or any statement.

    Free to move are alpha, theta, the bank (or, with ``bank`` given, the sideslip), the inputs marked ``trim``,
    actuators and engines. Integrals of control laws stay at their initial value; those that would not stand still are
    named in the point's ``drifting``. Quantities are text with a unit, or numbers in SI (angles in rad).

    Parameters
    ----------
    craft : Aircraft
        The aircraft, in the loading and with the laws that it has.
    statement : Statement, optional
        Equations and unknowns, in the place of all keywords below; see ``steady`` and ``Statement.of``.
    strict : bool, default True
        Whether a condition that is not held is an error; otherwise a point whose ``reached`` is False is returned.
    airspeed : str or float
        True airspeed, m/s: ``"62 m/s"``; zero is hover: the aircraft moves with the air. Also words: ``"1.3 stall"``,
        ``"best glide"``, ``"least sink"``, and ``"free"`` with a throttle that is given.
    calibrated_airspeed, equivalent_airspeed : str or float
        Airspeed, m/s, in the place of the true one.
    mach : str or float
        Mach number, in the place of an airspeed.
    dynamic_pressure : str or float
        Half the density times the airspeed squared, Pa, in the place of an airspeed.
    free : str or sequence of str
        Inputs that the trim moves besides those marked ``trim``: the stick, where ``inputs`` set the stabiliser.
    altitude : str or float
        Geometric altitude above sea level, m; or a flight level such as ``"FL100"``.
    pressure_altitude : str or float
        Geopotential height at which the standard atmosphere has the same pressure, m, in the place of ``altitude``.
    flight_path : str, float or None
        Angle of climb through the air, rad. Level unless given; None or ``"free"`` leaves it to inputs that are given.
    climb_rate : str or float
        Rate of climb, m/s, in the place of ``flight_path``.
    heading : str or float
        Heading, rad, clockwise from north. Zero unless given.
    track : str or float
        Direction over the ground, rad: the heading is found. With a ``heading`` besides, the aircraft slips.
    sideslip : str, float or None
        Sideslip, rad, wind from the right positive. Zero unless given; ``"free"`` with a control that is given.
    bank : str, float or None
        Bank, rad, right wing down positive: then the sideslip is free.
    turn : str or float
        A bank (``"30 deg"``), a rate (``"3 deg/s"``), a radius (``"400 m"``) or a load factor (``"1.4"``), to the right
        unless negative or followed by ``left``; without side force unless a sideslip is given.
    pull : str or float
        A load factor or a pitch rate (rad/s) in the vertical plane, held at one instant only.
    roll : str or float
        A rate about the velocity, rad/s, held at one instant only.
    wind : str
        Steady wind, such as ``"5 m/s from 270 deg"``, in the place of the aircraft's.
    day : str
        Temperature against the standard day, such as ``"ISA+15"``, in the place of the aircraft's.
    inputs : mapping of str to str or float
        Inputs that are held, by name, with their unit or SI; they are taken out of the search.
    north, east : str or float
        The place, m from the origin. Zero unless given.
    guess : mapping of str to str or float
        Where the search starts, by name of an unknown.

    Returns
    -------
    TrimPoint
        State, inputs and every signal (SI) at the point, with residuals and what stands at a stop.

    Raises
    ------
    DravikError
        For wrong quantities or names, inputs outside their range, and a statement whose equations do not determine what
        is free.
    TrimError
        With ``strict``, where the condition cannot be held: with residuals, stops, and the nearest conditions that can.

    Examples
    --------
    >>> import dravik as dv
    >>> point = dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> point.reached
    True
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    asked = None
    craft, condition = in_air(craft, condition)
    if statement is None:
        asked = condition_of(craft, condition)
        statement = pose(craft, asked)
    elif condition:
        raise DravikError(f"a statement cannot be given beside {next(iter(condition))}", expected="one of them")
    require(statement, Statement, "what is trimmed to", "steady(craft, ...), or Statement.of(craft, ...)")
    if len(statement.inputs) != len(craft.inputs) or len(statement.state) != N_CHART + len(craft.function_states):
        raise DravikError("the statement is of another aircraft", hint="make it from the aircraft that is trimmed")
    search, field = aircraft_search(craft, statement)
    search.check()
    v, reached = search.solve()
    point = report(craft, statement, search, field, v, reached)
    if not reached and asked is not None:
        point = approached(craft, asked) or point
    if asked is not None and asked.airspeed_from:
        point = replace(point, airspeed_from=asked.airspeed_from)
    if strict and not point.reached:
        edges = [] if asked is None else nearest_feasible(craft, asked)
        hint = "; or ".join(map(str, edges)) or advice(point)
        raise TrimError(failure(point, search), result=point, where=craft.name, hint=hint, nearest=edges)
    return point


@arguments.spelled_out
def trim_all(craft: Aircraft, **condition: Unpack[ConditionKeys]) -> list[TrimPoint]:
    """Return every point found that holds a condition, by airspeed and angle of attack.

    Searched from many starts: angles of attack below and above the stall, throttle settings, and speeds where the
    airspeed is ``"free"`` (both sides of the power curve).

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    **condition
        The condition, by the keywords of ``trim``.

    Returns
    -------
    list of TrimPoint
        All different points found; empty where there is none.

    Raises
    ------
    DravikError
        For wrong quantities or names, and inputs outside their range.

    Examples
    --------
    >>> import dravik as dv
    >>> found = dv.trim_all(dv.sample("tarn"), airspeed="free", altitude="300 m", inputs={"throttle": 0.3})
    >>> len(found), found[0]["airspeed"] < found[1]["airspeed"]
    (2, True)
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    craft, condition = in_air(craft, condition)
    statement = steady(craft, **condition)
    search, field = aircraft_search(craft, statement)
    search.check()
    return sorted(
        (report(craft, statement, search, field, v, True) for v in search.all_solutions()),
        key=lambda p: (p["airspeed"], p["alpha"]),
    )


def settle(craft: Aircraft, state: Floats, inputs: Floats) -> Floats:
    """Return a state with shafts, spools and actuators at their equilibrium; position and motion are kept.

    What a test bench sees. Integrals, such as a battery's charge, stay too.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    state : array of float
        Integrated state, SI.
    inputs : array of float
        Inputs, SI.

    Returns
    -------
    array of float
        Integrated state, SI.

    Raises
    ------
    DravikError
        When something does not come to rest.
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

    Parameters
    ----------
    plant : Plant
        What is to be brought to rest.
    state, inputs : mapping of str to str or float, optional
        Starting values by name, SI or with the unit that the plant names; others are zero.
    free : sequence of str or Free
        States and inputs that may move, within the plant's bounds; ``Free`` has limits of its own.
    steady : sequence of str, optional
        States whose rates must be zero: all, unless named here or given a rate in ``hold``.
    hold : mapping, optional
        What equals what: an output and a value, an output and the name of another, ``"rate of STATE"`` and a value.
    strict : bool, default True
        Whether no equilibrium is an error; otherwise the best point found is returned.

    Returns
    -------
    PlantTrim
        State, inputs and outputs at the equilibrium, SI.

    Raises
    ------
    DravikError
        For unknown names.
    TrimError
        With ``strict``, where there is no equilibrium; names the largest residual.

    Examples
    --------
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
            f"there is no equilibrium: {what}{worst} remains at {residuals[worst]:.3g}{'; ' + why if why else ''}",
            result=result,
        )
    return result
