"""The command limits: what ends level flight and manoeuvres, and where the neutral and manoeuvre points are."""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Figure, emit, input_settings, progress_bar, say, show_rows
from dravik.cli.shared.conditions import AircraftOptions, Day, in_air
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.errors import DravikError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from dravik.aircraft import Aircraft
    from dravik.performance import ControlSpeed, ManoeuvreRow

__all__ = ["limits"]


ALL_BANKS = "0, 5 deg"  # unless others are asked for


@dataclass(frozen=True)
class RangeOptions(OptionGroup):
    """At which altitudes and airspeeds limits are looked for."""

    altitude: Annotated[str, typer.Option(help="altitude of the manoeuvres")] = "0 m"
    altitudes: Annotated[str, typer.Option(help="altitudes of level flight: 'from:to:how many unit', or values")] = ""
    airspeeds: Annotated[str, typer.Option(help="airspeeds of manoeuvres, the same way")] = ""
    gust: Annotated[str, typer.Option(help="derived gust velocity of the V-n diagram")] = "15.24 m/s"


@dataclass(frozen=True)
class EngineOutOptions(OptionGroup):
    """Engines that have failed."""

    failed: Annotated[str, typer.Option(help="engines that have failed: least control speeds; commas between")] = ""
    banks: Annotated[str, typer.Option(help="banks towards the engines that run, for --failed")] = ALL_BANKS

    def gone(self) -> list[str]:
        """Return their names."""
        return [n.strip() for n in self.failed.split(",") if n.strip()]

    def speeds(self, craft: "Aircraft", altitude: str, inputs: dict[str, Any]) -> "list[ControlSpeed]":
        """Return the least control speeds without them; none where all run."""
        from dravik.performance import minimum_control_speeds
        from dravik.trimming.sweeps import spread

        if not self.gone():
            if self.banks != ALL_BANKS:
                raise DravikError("--banks needs --failed", expected="--failed ENGINE")
            return []
        leaned = spread(self.banks, "banks")
        return minimum_control_speeds(craft, failed=self.gone(), altitude=altitude, banks=leaned, inputs=inputs)


@grouped
def limits(
    aircraft: AircraftFile,
    fitted: AircraftOptions,
    over: RangeOptions,
    failed: EngineOutOptions,
    day: Day = "",
    corridor: Annotated[
        bool, typer.Option("--corridor", help="instead: the attitudes at which level flight holds, lift and push apart")
    ] = False,
    attitudes: Annotated[str, typer.Option(help="attitudes of --corridor: 'from:to:how many deg', or values")] = "",
    force: Annotated[str, typer.Option(help="signal of the pilot's pull, N: points stick free, force per g")] = "",
    figure: Figure = "",
    as_json: AsJson = False,
) -> None:
    """Find what limits flight: speeds over altitude, load factors and turns over speed, neutral and manoeuvre point."""
    from dravik.performance import flight_envelope, manoeuvre_limits, static_stability
    from dravik.trimming.sweeps import spread

    craft, altitude = in_air(fitted.craft(aircraft), day=day), over.altitude
    inputs = dict(input_settings(craft, fitted.set_))
    if attitudes and not corridor:
        raise DravikError("--attitudes needs --corridor", expected="--corridor --attitudes '-10:20:16 deg'")
    own = craft.definition.envelope
    if corridor:
        reach = own.airspeed if own else (0.0, 60.0)
        speeds = spread(over.airspeeds or f"{reach[0]}:{reach[1]}:13 m/s", "airspeeds")
        _corridor(
            craft, (speeds, spread(attitudes, "attitudes") if attitudes else ()), altitude, inputs, figure, as_json
        )
        return
    usual = f"{own.altitude[0]}:{own.altitude[1]}:10 m" if own else "0:3000:7 m"
    heights = spread(over.altitudes or usual, "altitudes")
    with progress_bar(quiet=as_json, what="trimming") as told:
        level = flight_envelope(craft, altitudes=heights, inputs=inputs, told=told)
        here = flight_envelope(craft, altitudes=[altitude], inputs=inputs)[0]
        low, high = (v if math.isfinite(v) else d for v, d in ((here.slowest, 1.0), (here.fastest, 3.0 * 20.0)))
        speeds = spread(over.airspeeds or f"{1.001 * low!r}:{0.999 * high!r}:16 m/s", "airspeeds")
        turns = manoeuvre_limits(craft, airspeeds=speeds, altitude=altitude, inputs=inputs, gust=over.gust, told=told)
    middle = 0.5 * (low + min(high, 2.0 * low))
    try:
        points = static_stability(craft, airspeed=middle, altitude=altitude, inputs=inputs, force=force).rows()
        why = ""
    except DravikError as error:
        points, why = [], str(error)
    out = failed.speeds(craft, altitude, inputs)
    if figure:
        from dravik.report import figure_limits, save_figure

        title = f"{craft.name} ({craft.loading_name}): limits; manoeuvres at {altitude}"
        save_figure(figure_limits(title, level, turns), figure)
    if as_json:
        static = {name: value for name, value, _ in points} or None
        both = {"level_flight": [r._asdict() for r in level], "manoeuvres": [r._asdict() for r in turns]}
        told_why = {"static_stability": static, "no_static_stability": why or None}
        emit({"aircraft": craft.name, **both, **told_why, "engine_out": [r._asdict() for r in out]})
        return
    show_rows(
        f"{craft.name} ({craft.loading_name}): level flight",
        ["altitude [m]", "slowest [m/s]", "limited by", "fastest [m/s]", "limited by"], [tuple(r) for r in level],
    )  # fmt: skip
    show_rows(
        f"load factors at {altitude}",
        ["airspeed [m/s]", "sustained", "limited by", "turn rate [deg/s]", "radius [m]", "pull", "limited by", "push",
         "gust"],
        [_manoeuvre_cells(r) for r in turns[:: max(1, len(turns) // 8)]],
    )  # fmt: skip
    if points:
        show_rows(f"static stability, {middle:.4g} m/s at {altitude}", ["what", "value", "unit"], points)
    else:
        say(f"no neutral point: {why}", "yellow")
    if out:
        _show_engine_out(failed.gone(), altitude, out)
    if figure:
        say(f"written: {figure}")


def _corridor(
    craft: "Aircraft", axes: "tuple[Sequence[Any], Sequence[Any]]", altitude: str, inputs: dict[str, Any], figure: str,
    as_json: bool,
) -> None:  # fmt: skip
    """Print the attitudes at which level flight holds over speed, with the throttles at their ends."""
    from dravik.performance import corridor as corridor_of

    speeds, attitudes = axes
    with progress_bar(quiet=as_json, what="trimming") as told:
        found = corridor_of(
            craft, airspeeds=speeds, attitudes=attitudes, altitude=altitude, inputs=inputs, told=told
        )  # fmt: skip
    if figure:
        from dravik.report import figure_corridor, save_figure

        save_figure(figure_corridor(found), figure)
    if as_json:
        emit({"aircraft": craft.name, "edges": [vars(edge) for edge in found.edges], "points": found.rows()})
        return
    held = found.rows()
    rows = []
    for edge in found.edges:
        own = [r for r in held if r["airspeed"] == edge.airspeed]
        ranges = [_range([round(r[n], 9) + 0.0 for r in own]) for n in found.throttles]
        lowest, highest = (float(np.degrees(v)) for v in (edge.lowest, edge.highest))
        rows.append((edge.airspeed, lowest, edge.low_cause, highest, edge.high_cause, *ranges))
    show_rows(
        f"{craft.name} ({craft.loading_name}): attitudes of level flight at {altitude}",
        ["airspeed [m/s]", "lowest [deg]", "limited by", "highest [deg]", "limited by", *found.throttles], rows,
    )  # fmt: skip
    outside = sum(r["outside"] for r in held)
    if outside:
        say(f"{outside} of the {len(held)} points lie outside tables", "yellow")
    if figure:
        say(f"written: {figure}")


def _range(values: list[float]) -> str:
    """Return the least and the greatest of values in words."""
    return f"{min(values):.3g} to {max(values):.3g}" if values else "-"


def _manoeuvre_cells(row: "ManoeuvreRow") -> tuple[object, ...]:
    """Return what the table shows of a row."""
    turn = (row.sustained, row.sustained_cause, float(np.degrees(row.rate)), row.radius)
    return (row.airspeed, *turn, row.pull, row.pull_cause, row.push, row.gust_up)


def _show_engine_out(gone: list[str], altitude: str, rows: "list[ControlSpeed]") -> None:
    """Print the least control speeds."""
    show_rows(
        f"straight flight without engine {', '.join(gone)}, the others at full power, at {altitude}",
        ["bank [deg]", "least airspeed [m/s]", "limited by", "sideslip [deg]", "climb [m/s]"],
        [
            (float(np.degrees(r.bank)), r.speed, r.cause, float(np.degrees(r.sideslip)), r.climb_rate)
            for r in rows
        ],
    )  # fmt: skip
