"""Trim: the states and inputs that hold a condition; engines at rest, an aircraft on the ground, any plant."""

import math
from collections.abc import Mapping
from typing import TypedDict, Unpack

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, TrimError, nearest, require
from dravik.kernel.chart import N_CHART, state_from_chart
from dravik.kernel.program import N_RIGID
from dravik.plants import Plant
from dravik.trimming.condition import Condition, Quantity
from dravik.trimming.fields import AircraftField, PlantField, aircraft_search
from dravik.trimming.posing import pose, settling, standing
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.search import TOLERANCE, Search, explain, weight
from dravik.trimming.settling import SETTLED
from dravik.trimming.statement import Equation, Free, Statement
from dravik.units import in_si

__all__ = ["on_ground", "settle", "straight", "trim", "trim_plant"]

Floats = NDArray[np.float64]
MOST_TILT = 0.5  # rad: largest pitch or bank of an aircraft that counts as standing
ON_GROUND = 1e-6  # largest residual of an aircraft that stands, m/s^2 and rad/s^2
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


class Straight(TypedDict, total=False):
    """What ``trim`` takes for straight flight or hover, by keyword: text with units, or numbers in SI.

    ``airspeed`` (zero is hover) and ``altitude`` must be given. ``flight_path`` is level unless given; None or
    ``"free"`` leaves it to inputs that are given instead. ``sideslip`` is zero unless ``bank`` is given, which frees
    it. ``inputs`` are set by name; ``guess`` is where the search starts, by name; ``heading``, ``north``, ``east`` the
    place.
    """

    airspeed: Quantity
    altitude: Quantity
    flight_path: Quantity | None
    heading: Quantity
    sideslip: Quantity | None
    bank: Quantity | None
    inputs: Mapping[str, Quantity] | None
    north: Quantity
    east: Quantity
    guess: Mapping[str, Quantity] | None


def straight(craft: Aircraft, **condition: Unpack[Straight]) -> Statement:
    """Return the statement of straight flight or hover, to be changed before it is trimmed: see ``Straight``.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> level = dv.straight(craft, airspeed="62 m/s", altitude="300 m")
    >>> turned = level.without("flight_path").holding(craft, {"climb_rate": "2 m/s"})
    >>> round(dv.trim(craft, turned)["climb_rate"], 9)
    2.0
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    known = Straight.__annotations__
    for name in condition:
        if name not in known:
            raise DravikError(f"a trim takes no {name!r}", expected=", ".join(known), hint=nearest(name, known))
    for name in ("airspeed", "altitude"):
        if name not in condition:
            raise DravikError(f"a trim without {name}", expected=f"{name}=, a quantity")
    asked = dict(condition)
    asked["inputs"] = craft.inputs_in_si(condition.get("inputs") or {})
    return pose(craft, Condition.of(**asked))  # type: ignore[arg-type]


def trim(
    craft: Aircraft, statement: Statement | None = None, *, strict: bool = True, **condition: Unpack[Straight]
) -> TrimPoint:
    """Return the point that holds a condition: straight, unaccelerated flight, hover, or any statement.

    ``condition`` is ``airspeed``, ``altitude``, ``flight_path`` and so on, as ``Straight`` says; hover is an airspeed
    of zero: the aircraft moves with the air. Free to move are alpha, theta, the bank (or, with ``bank`` given, the
    sideslip), the inputs marked ``trim``, actuators and engines; an input that is given is taken out of the search.
    Integrals of control laws stay at their initial value; those that would not stand still are reported as
    ``drifting``. A ``statement`` says all of that itself.

    Raises DravikError for wrong quantities or names, inputs outside their range, and statements whose equations do not
    determine what is free. When the condition cannot be held: TrimError saying what is left over and what is at its
    stop, or, with ``strict=False``, a point whose ``reached`` is False.

    >>> import dravik as dv
    >>> point = dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> point.reached
    True
    """
    require(craft, Aircraft, "what is trimmed", "trim_plant for other plants")
    if statement is None:
        statement = straight(craft, **condition)
    elif condition:
        raise DravikError(f"a statement beside {next(iter(condition))}", expected="one of them")
    require(statement, Statement, "what is trimmed to", "straight(craft, ...), or Statement.of(craft, ...)")
    if len(statement.inputs) != len(craft.inputs) or len(statement.state) != N_CHART + len(craft.function_states):
        raise DravikError("the statement is of another aircraft", hint="make it from the aircraft that is trimmed")
    search, field = aircraft_search(craft, statement)
    search.check()
    v, reached = search.solve()
    point = _report(craft, statement, search, field, v, reached)
    if strict and not point.reached:
        raise TrimError(_failure(point, search), result=point, where=craft.name, hint=_advice(point))
    return point


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
            f"engines or actuators do not settle: {size:.3g} a second is left over", where=craft.name,
            hint="another lever or airspeed",
        )  # fmt: skip
    for f, value in zip(statement.free, v, strict=True):
        found[N_RIGID + craft.function_states.index(f.name)] = value * f.scale
    return found


def on_ground(
    craft: Aircraft, *, heading: Quantity = 0.0, north: Quantity = 0.0, east: Quantity = 0.0,
    inputs: Mapping[str, Quantity] | None = None,
) -> TrimPoint:  # fmt: skip
    """Return the aircraft at rest on its gear, pressed in as far as the weight does, engines settled.

    ``inputs`` by name, with their unit or SI. Raises DravikError for an aircraft without gear or ground, and for gear
    it does not stand on.

    >>> import dravik as dv
    >>> tarn = dv.sample("tarn").with_environment(ground="480 m")
    >>> round(dv.on_ground(tarn)["airspeed"], 9)
    0.0
    """
    if not craft.definition.gear:
        raise DravikError(f"{craft.name} has no gear", expected="[gear.NAME] with its legs")
    if not craft.configuration.legs:
        raise DravikError("there is no ground to stand on", hint="ground = 0 in [environment], or its height")
    place = in_si(north, "length", where="north"), in_si(east, "length", where="east")
    course = in_si(heading, "angle", where="heading")
    statement = standing(craft, place, course, craft.with_inputs(inputs or {}))
    search, field = aircraft_search(craft, statement)
    # thrust depends on the engines' states, so they are settled at these levers first
    v, _ = search.solve_from(search.settled(search.start, longest=1.0, most=60))
    point = _report(craft, statement, search, field, v, search.holds(v))
    left = max(abs(r) for r in point.residuals.values())
    if not (max(abs(point["phi"]), abs(point["theta"])) < MOST_TILT and left < ON_GROUND):
        raise DravikError(f"{craft.name} does not stand on its gear", hint="three legs around the centre of gravity")
    return point


def _report(
    craft: Aircraft, statement: Statement, search: Search, field: AircraftField, v: Floats, reached: bool
) -> TrimPoint:
    left = field.residual(v, steady=False)
    e, work = field.equilibrium, field.work
    u = e.inputs.copy()
    x = np.empty(len(e.state) + 1)
    state_from_chart(craft.program, work, 0.0, e.state, u, e.chart, x)
    signals = craft.values(x, u, workspace=work)
    at_stop = _at_stop(craft, search, field, v)
    drifting = {
        slot.name: float(work.registers[slot.rate])
        for slot in craft.tape.states
        if slot.is_integral and abs(work.registers[slot.rate]) > TOLERANCE
    }
    residuals = dict(zip(search.names, left.tolist(), strict=True))
    return TrimPoint(
        craft, statement, x, u, signals, residuals, at_stop, drifting, reached, field.evaluations,
        [f.name for f in statement.free],
    )  # fmt: skip


def _at_stop(craft: Aircraft, search: Search, field: AircraftField, v: Floats) -> list[str]:
    """Name the inputs at a limit, and the effectors at one that such an input commands."""
    span = search.high - search.low
    room = np.where(np.isfinite(span), 1e-6 * span, 0.0)
    below, above = v <= search.low + room, v >= search.high - room
    at = np.flatnonzero(below | above)
    if not at.size:
        return []
    free, names = search.statement.free, search.names
    movers = [i for i, f in enumerate(free) if f.name in craft.inputs]
    found = []
    for i in at:
        name = free[i].name
        row = f"{name}_rate_of_change"
        moved = int(i) in movers or (
            row in names and bool(np.any(np.abs(field.equilibrium.slopes[names.index(row), movers]) > 1e-9))
        )
        if moved:
            found.append(f"{name} at its {'lower' if below[i] else 'upper'} stop")
    return found


def _failure(point: TrimPoint, search: Search) -> str:
    broken = [(n, v) for n, v in point.residuals.items() if not abs(v) < TOLERANCE]
    left = sorted(((abs(v) * weight(n), n, v) for n, v in broken), reverse=True)
    parts = []
    # residuals much smaller than the largest are consequences of it: leave them out of the message
    for _, name, value in [entry for entry in left if entry[0] >= 0.1 * left[0][0]][:3]:
        state = name.removesuffix("_dot")
        meaning = f" ({_MEANING[state]})" if state in _MEANING else ""
        parts.append(f"{name} = {value:.3g}{meaning}")
    text = f"no trim at {point.title}: left over: {', '.join(parts) or 'nothing, but a limit is broken'}"
    if point.at_stop:
        text += "; " + ", ".join(point.at_stop)
    equations, free = len(search.statement.equations), len(search.statement.free)
    if equations != free:
        text += f"; {equations} equations for {free} unknowns"
    return text


def _advice(point: TrimPoint) -> str:
    alpha = math.degrees(point.signals["alpha"])
    if "throttle" in " ".join(point.at_stop) or "power" in " ".join(point.at_stop):
        upper = any("upper" in s for s in point.at_stop)
        return f"a {'lower' if upper else 'higher'} flight path, or another airspeed (alpha is {alpha:.1f} deg there)"
    if point.at_stop:
        return f"another flap setting, loading or airspeed (alpha is {alpha:.1f} deg there)"
    return f"another airspeed or altitude (alpha is {alpha:.1f} deg there)"


def trim_plant(
    plant: Plant, *, state: Mapping[str, float] | None = None, inputs: Mapping[str, float] | None = None,
    free: list[str], steady: list[str] | None = None, hold: Mapping[str, float] | None = None, strict: bool = True,
) -> PlantTrim:  # fmt: skip
    """Return an equilibrium of any plant.

    ``state`` and ``inputs`` give starting values by name (others are zero); ``free`` names the states and inputs
    that may move, within the plant's bounds; ``steady`` the states whose rates must be zero (all unless named);
    ``hold`` the outputs that must have a value. Raises DravikError for unknown names, and TrimError, naming the largest
    residual, when there is no equilibrium (``strict``).

    >>> import dravik as dv
    >>> swing = dv.plant(lambda t, x, u: [x[1], u[0] - 9.8 * x[0]], states=["angle", "rate"], inputs=["push"])
    >>> held = dv.trim_plant(swing, free=["angle", "push"], hold={"angle": 0.1})
    >>> round(float(held.inputs[0]), 9)
    0.98
    """
    states, input_names, outputs = plant.state_names, plant.input_names, plant.output_names
    for name in [*(state or {}), *(inputs or {}), *free, *(steady or [])]:
        if name not in states and name not in input_names:
            raise DravikError(f"the plant has no state or input {name!r}", expected=", ".join([*states, *input_names]))
    for name in hold or {}:
        if name not in outputs:
            raise DravikError(f"the plant has no output {name!r}", expected=", ".join(outputs))
    x = np.array([(state or {}).get(n, 0.0) for n in states], dtype=float)
    u = np.array([(inputs or {}).get(n, 0.0) for n in input_names], dtype=float)

    def moving(name: str) -> Free:
        start = x[states.index(name)] if name in states else u[input_names.index(name)]
        low, high = plant.bounds.get(name, (-math.inf, math.inf))
        return Free(name, float(start), plant.scales.get(name, 1.0), low, high)

    equations = [
        Equation(n, is_rate=True, weight=1.0 / plant.scales.get(n, 1.0))
        for n in (steady if steady is not None else states)
    ]
    equations += [Equation(n, value, weight=1.0 / plant.scales.get(n, 1.0)) for n, value in (hold or {}).items()]
    statement = Statement("equilibrium", "", x, u, tuple(moving(n) for n in free), tuple(equations), is_checked=True)
    field = PlantField(plant, statement)
    search = Search(statement, field, [], [], [])
    v, reached = search.solve()
    left = field.residual(v)
    residuals = {(e.of if e.is_rate else e.name): float(r) for e, r in zip(equations, left, strict=True)}
    result = PlantTrim(plant, field.x, field.u, residuals, reached)
    if strict and not reached:
        worst = max(residuals, key=lambda n: abs(residuals[n]))
        what = "the rate of " if worst in states else ""
        why = explain(statement, field.slopes(v))
        raise TrimError(
            f"no equilibrium: {what}{worst} is left at {residuals[worst]:.3g}{'; ' + why if why else ''}", result=result
        )
    return result
