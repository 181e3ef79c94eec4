"""The command about sensors: what is on board, what each error comes to, what laws read, and a test at rest."""

import math
from typing import Annotated

import typer

from dravik.cli.shared.common import (
    AircraftFile,
    AsJson,
    EstimatorName,
    Laws,
    Reads,
    Sensors,
    emit,
    get_craft,
    say,
    show_rows,
)
from dravik.units import from_si, in_si

__all__ = ["sensors"]


def sensors(
    aircraft: AircraftFile,
    law: Laws = None,
    sensors_: Sensors = "",
    reads: Reads = "",
    estimator: EstimatorName = "",
    bench: Annotated[
        str,
        typer.Option(metavar="TIME", help="stand still for so long, and hold the Allan deviation against the terms"),
    ] = "",
    seed: Annotated[int, typer.Option(help="seed of the errors of the test", min=0)] = 0,
    as_json: AsJson = False,
) -> None:
    """List the sensors on board with what each error comes to, and what laws read; test them standing still."""
    from dravik.sensors import error_budget
    from dravik.validation.standing_still import bench_test

    craft = get_craft(aircraft, "", law, None, (sensors_, reads or "truth", estimator))
    units = {n: s.unit for n, s in craft.signals.items()}
    rows = error_budget(craft.configuration.sensors, units)
    tested = bench_test(craft, in_si(bench, "time", where="bench"), seed) if bench else []
    if as_json:
        emit(
            {
                "aircraft": craft.name, "set": craft.configuration.sensing.sensors,
                "sensors": [row._asdict() for row in rows], "read": dict(craft.sources),
                "bench": [row._asdict() for row in tested],
            }
        )  # fmt: skip
        return
    heads = [
        "sensor",
        "kind",
        "samples [Hz]",
        "late [s]",
        "noise",
        "constant",
        "floor",
        "rounding",
        "walk in 1 h",
        "unit",
    ]
    shown = []
    for row in rows:
        unit, k, _ = from_si(row.unit)
        values = (row.noise, row.constant, row.floor, row.rounding, row.walked)
        rate = f"{row.rate:g}" if row.rate is not None else "continuous"
        shown.append((row.name, row.kind.replace("_", " "), rate, row.late, *(v * k for v in values), unit))
    show_rows(f"{craft.name}: sensors {craft.configuration.sensing.sensors}", heads, shown)
    for source in dict.fromkeys(craft.sources.values()):
        say(f"laws read by {source}: " + ", ".join(n for n, s in craft.sources.items() if s == source))
    if tested:
        show_rows(
            f"standing still for {bench}: Allan deviation", ["output", "over [s]", "found", "stated", "found/stated"],
            [(n, t, found, stated, found / stated if stated else math.nan) for n, t, found, stated in tested],
        )  # fmt: skip
