"""The commands runway and fuel: how long a runway must be, and what a flight in legs takes."""

from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated, Any

import typer

from dravik.cli.shared.common import (
    AircraftFile,
    AsJson,
    Laws,
    Loading,
    emit,
    get_craft,
    input_settings,
    own_file,
    progress_bar,
    say,
    show_rows,
)
from dravik.cli.shared.conditions import AircraftOptions, Day, Wind, in_air
from dravik.cli.shared.groups import grouped
from dravik.definition.settings import read_settings

if TYPE_CHECKING:
    from dravik.performance import BalancedField, Landing, TakeOff

__all__ = ["fuel", "runway"]

Landed = Annotated[
    list[str] | None,
    typer.Option("--landed", metavar="NAME=VALUE", help="input of the landing in the place of --set, such as flaps"),
]
Braked = Annotated[
    list[str] | None,
    typer.Option("--braked", metavar="NAME=VALUE", help="input of the stop on the ground, such as brakes or reversers"),
]


@grouped
def runway(
    aircraft: AircraftFile,
    fitted: AircraftOptions,
    altitude: Annotated[str, typer.Option(help="altitude of the runway")] = "0 m",
    heading: Annotated[str, typer.Option(help="its direction, such as '270 deg'")] = "0 deg",
    wind: Wind = "",
    day: Day = "",
    landed: Landed = None,
    braked: Braked = None,
    slope: Annotated[str, typer.Option(help="slope of the runway, uphill positive, such as '1.5 %'")] = "0 %",
    failed: Annotated[str, typer.Option(help="engines that fail on the roll: the balanced field; commas between")] = "",
    as_json: AsJson = False,
) -> None:
    """Find take-off and landing distances over a screen of 15 m, from rolling trims and arcs.

    With --failed also the decision speed at which stopping and going on without that engine are equally long.
    """
    from dravik.performance import balanced_field, landing, take_off

    craft = in_air(fitted.craft(aircraft), wind, day)
    inputs = input_settings(craft, fitted.set_)
    where: dict[str, Any] = {"altitude": altitude, "heading": heading, "slope": slope}
    stops = read_settings(braked, "--braked") if braked else None
    gone = [n.strip() for n in failed.split(",") if n.strip()]
    up = take_off(craft, inputs=inputs, **where)
    down = landing(craft, inputs={**inputs, **read_settings(landed, "--landed")}, braked=stops, **where)
    out = balanced_field(craft, failed=gone, inputs=inputs, braked=stops, **where) if gone else None
    if as_json:
        both: dict[str, Any] = {
            "take_off": {**asdict(up), "total": up.total},
            "landing": {**asdict(down), "total": down.total},
        }
        both["balanced_field"] = None if out is None else {**asdict(out), "length": out.length}
        emit({"aircraft": craft.name, "loading": craft.loading_name, **both})
        return
    title = f"{craft.name} ({craft.loading_name}), runway at {altitude}"
    show_rows(f"{title}: take-off", ["what", "distance [m]", "how"], _take_off_cells(up))
    show_rows(f"{title}: landing", ["what", "distance [m]", "how"], _landing_cells(down))
    if out is not None:
        show_rows(f"{title}: {' and '.join(gone)} fails on the roll", ["what", "value", "how"], _field_cells(out))


def _take_off_cells(found: "TakeOff") -> list[tuple[str, float | str, str]]:
    ratio = found.lift_off / found.stall
    speeds = f"to {found.lift_off:.4g} m/s, {ratio:.3g} of the stall speed, in {found.roll_time:.3g} s"
    return [
        ("stall speed", "", _stall(found)),
        ("roll", found.roll, speeds),
        ("rotation", found.rotation, "at that speed"),
        ("to the screen", found.airborne, f"an arc, then a climb of {_degrees(found.climb)}"),
        ("total", found.total, ""),
    ]


def _landing_cells(found: "Landing") -> list[tuple[str, float | str, str]]:
    ratio = found.touchdown / found.stall
    speeds = f"from {found.touchdown:.4g} m/s, {ratio:.3g} of the stall speed, in {found.roll_time:.3g} s"
    return [
        ("stall speed", "", _stall(found)),
        ("from the screen", found.airborne, f"approach at {found.approach:.4g} m/s, and the flare"),
        ("free roll", found.delay, "until the brakes act"),
        ("braked roll", found.roll, speeds),
        ("total", found.total, ""),
    ]


def _field_cells(found: "BalancedField") -> list[tuple[str, str, str]]:
    word = "stopping and going on are equally long" if found.is_balanced else (
        "not balanced: at lift-off the stop is still the shorter" if found.accelerate_stop <= found.accelerate_go
        else "not balanced: going on is the shorter even from the slowest decision"
    )  # fmt: skip
    return [
        ("engine fails at", f"{found.engine_failure:.4g} m/s", ""),
        ("decision speed", f"{found.decision:.4g} m/s", word),
        ("lift-off", f"{found.lift_off:.4g} m/s", ""),
        ("accelerate-stop", f"{found.accelerate_stop:.4g} m", "to rest"),
        ("accelerate-go", f"{found.accelerate_go:.4g} m", f"over the screen, a climb of {_degrees(found.climb)}"),
        ("runway needed", f"{found.length:.4g} m", "the longer of both"),
    ]


def _stall(found: "TakeOff | Landing") -> str:
    return f"{found.stall:.4g} m/s, limited by: {found.stall_cause}"


def _degrees(angle: float) -> str:
    from math import degrees

    return f"{degrees(angle):.3g} deg"


def fuel(
    aircraft: AircraftFile,
    mission: Annotated[
        str, typer.Argument(metavar="LEGS", help="file of the legs, or the name of one of the aircraft's")
    ],
    loading: Loading = "",
    law: Laws = None,
    wind: Wind = "",
    day: Day = "",
    as_json: AsJson = False,
) -> None:
    """Find the fuel, time and distance of a flight in legs, from trims of the aircraft as it gets lighter."""
    from dravik.performance import fuel_for, read_fuel_mission

    craft = get_craft(aircraft, loading, law)
    legs = read_fuel_mission(own_file(mission, aircraft, "fuel"))
    with progress_bar(quiet=as_json, what="legs") as told:
        use = fuel_for(craft, legs, wind=wind, day=day, told=told)
    if as_json:
        emit(
            {
                "aircraft": craft.name,
                "unit": use.unit,
                "legs": [leg._asdict() for leg in use.legs],
                "all": use.total._asdict(),
            }
        )
        return
    is_fuel = use.unit == "kg"
    scale, unit = (1.0, "kg") if is_fuel else (1.0 / 3600.0, "Wh")
    show_rows(
        f"{craft.name} ({craft.loading_name}): {'fuel' if is_fuel else 'energy'} in legs",
        ["leg", "time [min]", "distance [km]", f"used [{unit}]", f"left [{unit}]", "mass [kg]", "altitude [m]"],
        [
            (u.name, u.time / 60.0, u.distance / 1000.0, u.used * scale, u.left * scale, u.mass, u.altitude)
            for u in (*use.legs, use.total)
        ],
    )  # fmt: skip
    most = craft.definition.mass_limits.landing
    if most is not None:
        is_heavy = use.total.mass > most
        words = "more than" if is_heavy else "within"
        say(f"landing mass {use.total.mass:.5g} kg, {words} the {most:.5g} kg allowed", "red" if is_heavy else "")
