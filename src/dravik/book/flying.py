"""Chapters of a book about steady flight: engines and performance, limits, trims."""

import itertools
import math
from functools import partial

from dravik.book.asked import Subject
from dravik.errors import DravikError
from dravik.performance import (
    MotorFacts,
    ceiling,
    engine_points,
    manoeuvre_limits,
    motor_facts,
    performance,
    static_stability,
)
from dravik.report import (
    Block,
    Sheet,
    figure_limits,
    figure_performance,
    figure_sweep,
    figure_thrust_curves,
)
from dravik.units import from_si

__all__ = ["engines", "limits", "trims"]

THROTTLES = (0.5, 1.0)
CLIMB = 0.5  # m/s: left at a ceiling
MOST_ROWS = 60  # of a table


def engines(subject: Subject) -> Block:
    """Return what the engines give, and level flight and climb with it; of solid motors their thrust over time."""
    craft = subject.craft
    if not craft.definition.engines:
        raise DravikError("it has no engines")
    motors = motor_facts(craft)
    if motors:
        return _motors(subject, motors)
    speeds, height = subject.speeds, subject.altitude
    bench = engine_points(craft, airspeeds=[0.0, *speeds], altitude=height, throttles=list(THROTTLES))
    found = performance(craft, airspeeds=speeds, altitude=height)
    climbs = [p.climb_rate for p in found.points if math.isfinite(p.climb_rate)]
    top = ceiling(craft, airspeeds=speeds[:: max(1, len(speeds) // 5)], climb=CLIMB) if climbs else None
    words = [
        f"{what} at {best.airspeed:.4g} m/s, {getattr(best, name) * factor:.4g} {unit}"
        for what, name, factor, unit in (
            ("climbs best", "climb_rate", 1.0, "m/s"), ("flies longest", "endurance", 1.0 / 3600.0, "h"),
            ("flies farthest", "range", 1e-3, "km"),
        )
        if (best := found.best(name)) is not None and getattr(best, name) > 0.0
    ]  # fmt: skip
    texts = [f"Reason at {p.airspeed:.4g} m/s, throttle {p.throttle:g}: {p.reason}." for p in bench if p.reason][:4]
    if top is not None and math.isfinite(top.altitude):
        texts.append(
            f"Ceiling with {CLIMB:g} m/s of climb left: {top.altitude:.0f} m at {top.airspeed:.4g} m/s: {top.why}."
        )
    scale, unit = (1e-3, "kW") if max((abs(p.power_required) for p in found.points), default=0.0) > 5e3 else (1.0, "W")
    flow = "electric power [W]" if found.flow_unit == "W" else "fuel [kg/h]"
    rows = [
        (
            p.airspeed, math.degrees(p.alpha), p.throttle, p.thrust_required, scale * p.power_required,
            scale * p.power_available, p.climb_rate, p.flow * (1.0 if found.flow_unit == "W" else 3600.0),
        )
        for p in found.points
    ]  # fmt: skip
    heads = (
        "airspeed [m/s]", "alpha [deg]", "throttle", "thrust [N]", f"power [{unit}]", f"available [{unit}]",
        "climb [m/s]", flow,
    )  # fmt: skip
    return Block(
        "Engines", f"at {height:g} m it " + ", ".join(words) if words else f"at {height:g} m no level flight is held",
        max(climbs) > 0.0 if climbs else None, texts,
        [Sheet(heads, rows, f"Level flight at {height:g} m, and what full throttle adds; a dash: not held")],
        figures={"Engines and performance": partial(figure_performance, craft, bench, found)},
    )  # fmt: skip


def _motors(subject: Subject, motors: list[MotorFacts]) -> Block:
    """Return what solid motors give."""
    rows = [
        (m.name, m.impulse, m.burning, m.mean_thrust, m.greatest_thrust, m.propellant, m.specific_impulse)
        for m in motors
    ]  # fmt: skip
    heads = (
        "motor", "impulse [N s]", "burns [s]", "mean [N]", "most [N]", "propellant [kg]", "specific impulse [s]",
    )  # fmt: skip
    return Block(
        "Engines", f"{sum(m.impulse for m in motors):.4g} N s of impulse", None, [], [Sheet(heads, rows)],
        figures={"Thrust over time": partial(figure_thrust_curves, subject.craft)},
    )  # fmt: skip


def limits(subject: Subject) -> Block:
    """Return what limits level flight over altitude, manoeuvres over speed, and the neutral and manoeuvre points."""
    craft, height = subject.craft, subject.altitude
    if not any(math.isfinite(row.slowest) for row in subject.level):
        why = "; ".join(dict.fromkeys(row.slow_cause for row in subject.level))
        raise DravikError(f"no least speed is found at any altitude: {why}")
    level, speeds = subject.level, subject.speeds
    turns = manoeuvre_limits(craft, airspeeds=speeds, altitude=height)
    texts, points = [], []
    middle = 0.5 * (speeds[0] + speeds[-1])
    try:
        points = static_stability(craft, airspeed=middle, altitude=height).rows()
    except DravikError as error:
        texts.append(f"No neutral point: {error}.")
    here = level[-1]
    verdict = (
        f"at {height:g} m from {here.slowest:.4g} m/s ({here.slow_cause}) to {here.fastest:.4g} m/s ({here.fast_cause})"
    )
    heads = (
        "airspeed [m/s]",
        "sustained",
        "limited by",
        "turn rate [deg/s]",
        "radius [m]",
        "pull",
        "limited by",
        "push",
    )
    rows = [
        (
            r.airspeed, r.sustained, r.sustained_cause, math.degrees(r.rate), r.radius, r.pull, r.pull_cause, r.push,
        )
        for r in turns
    ]  # fmt: skip
    margin = next((v for n, v, _ in points if n == "static margin"), math.nan)
    return Block(
        "Limits", verdict, None if math.isnan(margin) else margin > 0.0, texts,
        [
            Sheet(
                ("altitude [m]", "slowest [m/s]", "limited by", "fastest [m/s]", "limited by"),
                [tuple(r) for r in level[:-1]], "Level flight",
            ),
            Sheet(heads, rows, f"Load factors at {height:g} m"),
            Sheet(("what", "value", "unit"), points, f"Static stability at {middle:.4g} m/s"),
        ],
        figures={"Limits": partial(figure_limits, f"{craft.name}: limits at {height:g} m", level[:-1], turns)},
    )  # fmt: skip


def trims(subject: Subject) -> Block:
    """Return the trims of every loading over speed."""
    try:
        found = subject.over_speed
    except DravikError as error:
        if not subject.is_flown_level:
            raise
        return Block("Trims", str(error), good=False)
    first = next((p for p in found.points if p is not None), None)
    if first is None:
        what = f"nothing is held at {subject.altitude:g} m; dravik trim says what stands in the way"
        return Block("Trims", what, good=False if subject.is_flown_level else None)
    moved = [n for n in first.unknowns if n in first.craft.inputs][:4]
    names = [n for n in ("alpha", *moved, "CL", "thrust", "shaft_power") if n in first.craft.signals]
    shown = {n: from_si(first.craft.signals[n].unit) for n in names}
    rows = [
        (*place, *(round(point.signals[n] * shown[n][1], 9) + 0.0 if point is not None else math.nan for n in names))
        for place, point in zip(itertools.product(*found.axes.values()), found.points, strict=True)
    ]
    heads = ("loading", "airspeed [m/s]", *(f"{n} [{shown[n][0]}]" if shown[n][0] else n for n in names))
    stops = sorted({text.split(",")[0] for p in found.points if p is not None for text in p.at_stop})
    texts = [f"At a stop somewhere: {', '.join(stops)}."] if stops else []
    if found.table_exceedances:
        texts.append(f"{found.table_exceedances} of the points lie outside tables.")
    held, count = found.held, len(found.points)
    return Block(
        "Trims", f"{held} of {count} conditions at {subject.altitude:g} m are held", held == count, texts,
        [Sheet(heads, rows[:MOST_ROWS], "Level flight; a dash: not held")],
        figures={"Trims over speed": partial(figure_sweep, found)},
    )  # fmt: skip
