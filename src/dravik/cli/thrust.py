"""The command about engines: what they give, and what the aircraft does with it in steady flight."""

import math
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from dravik.cli.shared.common import (
    AircraftFile,
    AsJson,
    Loading,
    Settings,
    emit,
    err,
    get_craft,
    quantities,
    say,
    show_rows,
    written,
)
from dravik.cli.shared.conditions import Day, in_air
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError
from dravik.units import in_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.performance import Ceiling, EnginePoint, Performance

__all__ = ["thrust"]

POINTS = 8
PER_RPM = 60.0 / (2.0 * math.pi)


def thrust(
    aircraft: AircraftFile,
    altitude: Annotated[str, typer.Option(help="altitude, such as '300 m'")] = "0 m",
    airspeeds: Annotated[
        str, typer.Option(help="'from, to, count', such as '45 m/s, 95 m/s, 6' (the envelope's unless given)")
    ] = "",
    throttles: Annotated[str, typer.Option(help="throttles, as shares of their range, separated by commas")] = "0.5, 1",
    climb: Annotated[str, typer.Option(help="climb rate that counts for the ceiling")] = "0.5 m/s",
    set_: Settings = None,
    loading: Loading = "",
    day: Day = "",
    figure: Annotated[str, written("write a figure: .png, .svg or .pdf", "--figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Show what the engines give over speed and throttle, and power required, climb, ceiling, endurance and range."""
    from dravik.performance import engine_points, motor_facts
    from dravik.trimming.airspeeds import altitude_of

    craft = in_air(get_craft(aircraft, loading, set_=set_), day=day)
    height = altitude_of(craft, altitude)
    motors = motor_facts(craft)
    if motors:
        _show_motors(craft, figure, as_json=as_json)
        return
    speeds = _speeds(craft, airspeeds)
    inputs = quantities(craft, set_)
    bench = engine_points(
        craft, airspeeds=np.linspace(0.0, speeds[-1], POINTS + 1).tolist(), throttles=_throttles(throttles),
        altitude=height, inputs=inputs,
    )  # fmt: skip
    found, top = _performance(craft, speeds, height, in_si(climb, "speed", where="climb"), inputs, quiet=as_json)
    if figure:
        from dravik.report import figure_performance, save_figure

        save_figure(figure_performance(craft, bench, found), figure)
    if as_json:
        emit({
            "aircraft": craft.name, "loading": craft.loading_name, "altitude_m": height,
            "engines": [p.row() for p in bench], "level": found.rows(), "flow_unit": found.flow_unit,
            "store": found.store, "ceiling_m": top.altitude, "ceiling_airspeed_m_s": top.airspeed,
            "ceiling_ended_by": top.ended_by,
            "fastest_m_s": found.fastest,
        })  # fmt: skip
        return
    _show_bench(craft, bench)
    _show_performance(craft, found, top, climb)
    if figure:
        say(f"written: {figure}")


def _throttles(text: str) -> list[float]:
    try:
        found = [float(part) for part in text.split(",")]
    except ValueError:
        found = []
    if not found or not all(0.0 <= v <= 1.0 for v in found):
        raise DravikError(f"--throttles {text!r} cannot be read", expected="shares from 0 to 1, such as '0.5, 1'")
    return found


def _speeds(craft: "Aircraft", text: str) -> list[float]:
    if text:
        parts = [p.strip() for p in text.split(",")]
        if len(parts) != 3 or not parts[2].isdigit() or not 2 <= int(parts[2]) <= 200:
            raise DravikError(
                f"--airspeeds {text!r} cannot be read", expected="'from, to, count', such as '45 m/s, 95 m/s, 6'"
            )
        low, high = (in_si(p, "speed", where="airspeeds") for p in parts[:2])
        return [float(v) for v in np.linspace(low, high, int(parts[2]))]
    envelope = craft.definition.envelope
    if envelope is None:
        raise DravikError(f"{craft.name} has no [envelope]", hint="--airspeeds '45 m/s, 95 m/s, 6'")
    return [float(v) for v in np.linspace(*envelope.airspeed, POINTS)]


def _performance(
    craft: "Aircraft", speeds: list[float], height: float, climb: float, inputs: dict[str, float], *, quiet: bool
) -> "tuple[Performance, Ceiling]":
    from rich.progress import Progress

    from dravik.performance import Ceiling, ceiling, performance

    with Progress(console=err, transient=True, disable=quiet or not err.is_terminal) as bar:
        task = bar.add_task(f"{craft.name}: trims", total=1.0)
        found = performance(
            craft, airspeeds=speeds, altitude=height, inputs=inputs, told=lambda s: bar.update(task, completed=s)
        )
        if any(math.isfinite(p.climb_rate) for p in found.points):
            return found, ceiling(craft, airspeeds=speeds[:: max(1, len(speeds) // 5)], climb=climb, inputs=inputs)
    return found, Ceiling(math.nan, math.nan)


def _watts(values: "list[float]") -> tuple[float, str]:
    """Return by what to multiply powers for people, and the unit: kW from some kW upwards."""
    most = max((abs(v) for v in values if math.isfinite(v)), default=0.0)
    return (1e-3, "kW") if most >= 5e3 else (1.0, "W")


def _show_columns(title: str, columns: "dict[str, list[float]]") -> None:
    """Print columns of numbers, those without any left out."""
    there = {n: c for n, c in columns.items() if any(math.isfinite(v) for v in c)}
    rows = [["-" if math.isnan(v) else float(f"{v:.5g}") for v in row] for row in zip(*there.values(), strict=True)]
    show_rows(title, list(there), rows)


def _show_bench(craft: "Aircraft", bench: "list[EnginePoint]") -> None:
    scale, unit = _watts([p.shaft_power for p in bench] + [p.electric_power for p in bench])
    shafts = {
        f"{n} [rpm]": [_rpm(p.speeds[n]) for p in bench] for n in (bench[0].speeds if len(bench[0].speeds) <= 2 else ())
    }
    if len(bench[0].speeds) > 2:
        shafts["shafts [rpm]"] = [_rpm(max(p.speeds.values())) for p in bench]
    _show_columns(
        f"{craft.name}: engines at {bench[0].altitude:g} m, axis in the flow (efficiency at rest: figure of merit)",
        {
            "throttle": [p.throttle for p in bench], "airspeed [m/s]": [p.airspeed for p in bench],
            **_thrust_columns(bench), f"shaft power [{unit}]": [scale * p.shaft_power for p in bench],
            f"electric [{unit}]": [scale * p.electric_power for p in bench],
            "fuel [kg/h]": [3600.0 * p.fuel_flow for p in bench],
            "efficiency": [round(p.efficiency, 3) for p in bench], **shafts,
        },
    )  # fmt: skip

    for p in bench:
        if p.reason:
            say(f"throttle {p.throttle:g}, {p.airspeed:.4g} m/s: {p.reason}")


def _thrust_columns(bench: "list[EnginePoint]") -> dict[str, list[float]]:
    """Return the thrust of all engines, or of those that point the same way where they point several."""
    directions = list(dict.fromkeys(direction for p in bench for direction in p.thrusts))
    if not directions:
        return {"thrust [N]": [p.thrust for p in bench]}
    return {f"thrust {direction} [N]": [p.thrusts.get(direction, math.nan) for p in bench] for direction in directions}


def _rpm(speed: float) -> float:
    return round(speed * PER_RPM) + 0.0 if math.isfinite(speed) else math.nan


def _show_performance(craft: "Aircraft", found: "Performance", top: "Ceiling", climb: str) -> None:
    electric, points = found.flow_unit == "W", found.points
    scale, unit = _watts([p.power_available for p in points] + [p.power_required for p in points])
    flow = [scale * p.flow if electric else 3600.0 * p.flow for p in points]
    _show_columns(
        f"{craft.name} ({found.loading}): level flight at {found.altitude:g} m, and what full throttle adds",
        {
            "airspeed [m/s]": [p.airspeed for p in points],
            "alpha [deg]": [round(math.degrees(p.alpha), 2) + 0.0 for p in points],
            "throttle": [round(p.throttle, 3) for p in points], "thrust [N]": [p.thrust_required for p in points],
            f"power [{unit}]": [scale * p.power_required for p in points],
            f"available [{unit}]": [scale * p.power_available for p in points],
            "climb [m/s]": [round(p.climb_rate, 2) for p in points],
            f"electric [{unit}]" if electric else "fuel [kg/h]": flow,
            "endurance [h]": [round(p.endurance / 3600.0, 2) for p in points],
            "range [km]": [round(p.range / 1e3, 1) for p in points],
        },
    )  # fmt: skip
    words: list[tuple[str, str, float, str]] = [
        ("best climb", "climb_rate", 1.0, "m/s"), ("longest endurance", "endurance", 1 / 3600.0, "h"),
        ("longest range", "range", 1e-3, "km"),
    ]  # fmt: skip
    for what, quantity, scale, unit in words:
        best = found.best(quantity)
        if best is not None and getattr(best, quantity) > 0.0:
            say(f"{what}: {getattr(best, quantity) * scale:.4g} {unit} at {best.airspeed:.4g} m/s")
    if math.isfinite(found.fastest):
        say(f"fastest in level flight: {found.fastest:.4g} m/s")
    if math.isfinite(top.altitude):
        say(f"ceiling (climb {climb}): {top.altitude:.0f} m at {top.airspeed:.4g} m/s: {top.why}")
    store = f"{found.store / 3.6e3:.4g} Wh" if electric else f"{found.store:.4g} kg of fuel"
    if found.store > 0.0:
        say(f"endurance and range with {store}, at this weight and power to the last")
    else:
        say("no endurance and no range: the loading holds no fuel, and there is no battery")


def _show_motors(craft: "Aircraft", figure: str, *, as_json: bool) -> None:
    from dravik.performance import motor_facts

    facts = motor_facts(craft)
    if figure:
        from dravik.report import figure_thrust_curves, save_figure

        save_figure(figure_thrust_curves(craft), figure)
    if as_json:
        motors: list[dict[str, Any]] = [vars(f) | {"specific_impulse": f.specific_impulse} for f in facts]
        emit({"aircraft": craft.name, "motors": motors})
        return
    columns = ["motor", "impulse [N s]", "burns [s]", "mean [N]", "most [N]", "propellant [kg]", "exhaust [m/s]",
               "specific impulse [s]", "thrust over weight"]  # fmt: skip
    rows = [
        (f.name, round(f.impulse, 1), f.burning, round(f.mean_thrust, 1), f.greatest_thrust, round(f.propellant, 4),
         round(f.exhaust_speed, 1), round(f.specific_impulse, 1),
         round(f.mean_thrust / (craft.loading.mass * STANDARD_GRAVITY), 2))
        for f in facts
    ]  # fmt: skip
    show_rows(f"{craft.name} ({craft.loading_name}): solid motors at sea level", columns, rows)
    if figure:
        say(f"written: {figure}")
