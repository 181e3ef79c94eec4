"""What limits level flight and manoeuvres: speeds over altitude, load factors and turns over speed."""

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError
from dravik.kernel.program import GRAVITY
from dravik.linear.derivatives import derivatives
from dravik.performance.bench import in_m_s
from dravik.trimming import Condition, ConditionSeries, FeasibleLimit, TrimPoint, find_limit, trim
from dravik.trimming.airspeeds import altitude_of
from dravik.trimming.condition import Manoeuvre
from dravik.trimming.solve import condition_of
from dravik.units import in_si

__all__ = ["EnvelopeRow", "ManoeuvreRow", "flight_envelope", "manoeuvre_limits"]

Told = Callable[[float], None]
SLOWEST, FASTEST = 1.0, 700.0  # m/s: where the search for a level speed ends
NOT_SLOWER, NOT_FASTER = f"nothing down to {SLOWEST:g} m/s", f"nothing up to {FASTEST:g} m/s"
STEP = 1.04  # ratio of the speeds to step through
LEAST_BANK = 1e-3  # rad: where a search over turns begins
LOAD_STEP, MOST_LOAD = 0.2, 15.0  # of load factors to step through
NO_LOAD = f"nothing up to {MOST_LOAD:g} g"
GUST = 15.24  # m/s: derived gust of 50 ft/s, CS-23.333(c) at the design cruise speed


class EnvelopeRow(NamedTuple):
    """Level flight at an altitude (m): the slowest and the fastest speed (m/s) and what limits each; nan without.

    Where nothing limits it, the cause says up to where it was looked for.
    """

    altitude: float
    slowest: float
    slow_cause: str
    fastest: float
    fast_cause: str


class ManoeuvreRow(NamedTuple):
    """Load factors at an airspeed (m/s), each with what limits it; nan where level flight is not held.

    ``sustained`` in a level turn, with its ``rate`` (rad/s) and ``radius`` (m); ``pull`` and ``push`` briefly,
    with the thrust of level flight; ``gust_up`` and ``gust_down`` of a derived gust (K. G. Pratt, W. G. Walker, NACA
    Report 1206, 1954).
    """

    airspeed: float
    sustained: float
    sustained_cause: str
    rate: float
    radius: float
    pull: float
    pull_cause: str
    push: float
    push_cause: str
    gust_up: float
    gust_down: float


def flight_envelope(
    craft: Aircraft, *, altitudes: Sequence[str | float], inputs: dict[str, Any] | None = None, told: Told | None = None
) -> list[EnvelopeRow]:
    """Return the slowest and fastest level flight at each altitude, and what limits them, by trims.

    From a speed that is held, speeds are tried to both sides and the edge is solved for. ``inputs`` by name, with
    their unit or SI.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitudes : sequence of str or float
        Geometric heights, with their unit or in m.
    inputs : mapping of str to any, optional
        Values of inputs by name, with their unit or in SI.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    list of EnvelopeRow

    Raises
    ------
    DravikError
        For wrong names and units.

    Examples
    --------
    >>> import dravik as dv
    >>> row = flight_envelope(dv.sample("tarn"), altitudes=["300 m"])[0]
    >>> round(row.slowest, 1), row.slow_cause
    (43.8, 'pitch_stick at its upper stop')
    """
    heights = [altitude_of(craft, a) for a in altitudes]
    found: list[EnvelopeRow] = []
    guess = math.nan
    for k, height in enumerate(heights):
        base = condition_of(craft, {"airspeed": 50.0, "altitude": height, "inputs": inputs or {}})
        family = ConditionSeries(craft, lambda v, base=base: replace(base, airspeed=v))  # type: ignore[misc]
        begin = family.somewhere([v for v in (guess, *usual_speeds(craft)) if math.isfinite(v)])
        if math.isnan(begin):
            found.append(EnvelopeRow(height, math.nan, "no level flight", math.nan, "no level flight"))
        else:
            slow, fast = (
                slowest_from(family, begin),
                find_limit(family, begin, rising(begin, STEP, FASTEST), "airspeed"),
            )
            found.append(EnvelopeRow(height, *_value(slow, NOT_SLOWER), *_value(fast, NOT_FASTER)))
            guess = begin
        if told is not None:
            told((k + 1) / len(heights))
    return found


def manoeuvre_limits(
    craft: Aircraft, *, airspeeds: Sequence[str | float], altitude: str | float, inputs: dict[str, Any] | None = None,
    gust: str | float = GUST, told: Told | None = None,
) -> list[ManoeuvreRow]:  # fmt: skip
    """Return the load factors that can be flown at each airspeed, and those of gusts: a V-n diagram.

    Aerodynamic and power limits, by trims; structural ones are no part of an aircraft file. ``gust`` is the derived
    gust velocity (m/s).

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeeds : sequence of str or float
        True airspeeds, with their unit or in m/s.
    altitude : str or float
        Geometric height, with its unit or in m.
    inputs : mapping of str to any, optional
        Values of inputs by name, with their unit or in SI.
    gust : str or float, default 15.24
        Derived gust velocity, with its unit or in m/s.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    list of ManoeuvreRow

    Raises
    ------
    DravikError
        For wrong names and units.

    Examples
    --------
    >>> import dravik as dv
    >>> row = manoeuvre_limits(dv.sample("tarn"), airspeeds=["62 m/s"], altitude="300 m")[0]
    >>> 1.5 < row.sustained < 2.2 and row.push < 1.0 < row.pull
    True
    """
    height, derived = altitude_of(craft, altitude), in_si(gust, "speed", where="gust")
    speeds = in_m_s(airspeeds)
    found = []
    for k, speed in enumerate(speeds):
        asked: dict[str, Any] = {"airspeed": speed, "altitude": height, "inputs": inputs or {}}
        level = trim(craft, strict=False, **asked)
        found.append(_manoeuvres(craft, level, asked, derived) if level.reached else _not_level(speed))
        if told is not None:
            told((k + 1) / len(speeds))
    return found


def _not_level(speed: float) -> ManoeuvreRow:
    nan, why = math.nan, "no level flight"
    return ManoeuvreRow(speed, nan, why, nan, nan, nan, why, nan, why, nan, nan)


def _manoeuvres(craft: Aircraft, level: TrimPoint, asked: dict[str, Any], gust: float) -> ManoeuvreRow:
    speed = level["airspeed"]
    turn = condition_of(craft, {**asked, "turn": "1 deg"})  # type: ignore[typeddict-item]
    pull = condition_of(craft, {**asked, "pull": "1.1"})  # type: ignore[typeddict-item]
    banks = (math.acos(1.0 / n) for n in np.arange(1.0 + LOAD_STEP, MOST_LOAD, LOAD_STEP))
    sustained = find_limit(_manoeuvring(craft, turn), LEAST_BANK, banks, "turn")
    begin = 1.0  # level flight: lift over weight, whatever the angle of attack
    up = find_limit(_manoeuvring(craft, pull), begin, _rising_by(begin, LOAD_STEP), "pull")
    down = find_limit(_manoeuvring(craft, pull), begin, _rising_by(begin, -LOAD_STEP), "pull")
    load = rate = radius = math.nan
    cause = NO_LOAD
    if sustained is not None:
        point, cause = sustained.point, sustained.cause
        rate = (point["q"] * math.sin(point["phi"]) + point["r"] * math.cos(point["phi"])) / math.cos(point["theta"])
        radius = speed / rate
        load = math.hypot(1.0, speed * rate / float(craft.program.numbers[GRAVITY]))
        if up is not None and up.value < load:
            # what a turn sustains at full thrust, part of which lifts, is flown at that instant too
            up = up._replace(value=load, cause=cause)
    more = _gust_load(craft, level, gust)
    return ManoeuvreRow(
        speed, load, cause, rate, radius, *_value(up, NO_LOAD), *_value(down, NO_LOAD), 1.0 + more, 1.0 - more
    )


def _manoeuvring(craft: Aircraft, base: Condition) -> ConditionSeries:
    """Return a manoeuvre by its figure: the bank of a turn, the load factor of a pull."""
    manoeuvre = base.manoeuvre
    assert manoeuvre is not None
    return ConditionSeries(craft, lambda v: replace(base, manoeuvre=Manoeuvre(manoeuvre.kind, manoeuvre.by, v)))


def _gust_load(craft: Aircraft, level: TrimPoint, gust: float) -> float:
    """Return what a derived gust adds to the load factor: K rho V a U/(2 W/S), K = 0.88 m/(5.3 + m)."""
    reference = craft.definition.reference
    if craft.definition.aero is None or level["airspeed"] <= 1.0:
        return math.nan
    slope, weight = derivatives(craft, level)["CL_alpha"], level["mass"] * STANDARD_GRAVITY
    ratio = 2.0 * weight / (reference.area * level["density"] * reference.chord * slope * STANDARD_GRAVITY)
    alleviation = 0.88 * ratio / (5.3 + ratio)
    return alleviation * level["density"] * level["airspeed"] * slope * gust * reference.area / (2.0 * weight)


def _value(edge: FeasibleLimit | None, nothing: str) -> tuple[float, str]:
    """Return where something ends and why; nan, and up to where it was looked for, where nothing ends it."""
    return (math.nan, nothing) if edge is None else (edge.value, edge.cause)


def slowest_from(family: ConditionSeries, begin: float) -> FeasibleLimit | None:
    """Return the edge below a speed that is held, stepping down; None where none ends it."""
    return find_limit(family, begin, rising(begin, 1.0 / STEP, SLOWEST), "airspeed")


def rising(begin: float, ratio: float, end: float) -> Iterable[float]:
    """Yield speeds from one to another by equal ratios."""
    value = begin * ratio
    while (value < end) == (ratio > 1.0):
        yield value
        value *= ratio


def _rising_by(begin: float, step: float) -> Iterable[float]:
    value = begin + step
    while abs(value) < MOST_LOAD:
        yield value
        value += step


def usual_speeds(craft: Aircraft) -> list[float]:
    """Return speeds at which level flight is looked for: those of the envelope first."""
    envelope = craft.definition.envelope
    own = [] if envelope is None else np.linspace(*envelope.airspeed, 6)[[2, 3, 4, 1, 5, 0]].tolist()
    if not own and not craft.definition.engines:
        raise DravikError(f"{craft.name} has no engine for level flight", expected="engines")
    return [float(v) for v in [*own, *(300.0 / 1.2**k for k in range(28))]]
