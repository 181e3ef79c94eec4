"""The command that turns a drawing of blades into a map."""

from typing import Annotated

import typer

from dravik.cli.shared.common import AsJson, emit, say, show_rows, written

__all__ = ["blades"]


def blades(
    drawing: Annotated[str, typer.Argument(metavar="BLADES", help="blades.toml with a [map]")],
    file: Annotated[str, written("map to write, a CSV file", "--out")],
    as_json: AsJson = False,
) -> None:
    """Build the map of a propeller or rotor from its blades: thrust, power, and what flow across the disc does."""
    from dravik.propulsion import planned_map, read_blades, write_map

    drawn = read_blades(drawing)
    tables = planned_map(drawn)
    columns = ", ".join(t.name for t in tables)
    write_map(tables, file, note=f"{drawn.name}: {columns} by blade elements")
    axes = [(a.name, float(a.values[0]), float(a.values[-1]), len(a.values), a.unit) for a in tables[0].axes]
    if as_json:
        emit({"map": file, "columns": [t.name for t in tables], "axes": [a[0] for a in axes]})
        return
    show_rows(f"{drawn.name}: {columns}", ["over", "from", "to", "values", "unit"], axes)
    first = [t.values.reshape(t.values.shape[0], -1)[:, 0] for t in tables]
    ratio = tables[0].axes[0].values
    rows = [(float(j), *(round(float(c[i]), 5) + 0.0 for c in first)) for i, j in enumerate(ratio)]
    show_rows(
        "along the first axis, the others at their first value", ["advance ratio", *(t.name for t in tables)], rows
    )
    say(f"written: {file}")
