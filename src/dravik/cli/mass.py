"""The command about masses: parts, loadings, and how far the centre of gravity may move."""

import math
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Loading, emit, finite, get_craft, say, show_rows, written

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.performance.weights import CentreLimits, LoadingLoop

__all__ = ["mass"]


def mass(
    aircraft: AircraftFile,
    loading: Loading = "",
    margin: Annotated[
        float, typer.Option(callback=finite, help="static margin in chords that the aft limit keeps")
    ] = 0.05,
    figure: Annotated[str, written("envelope and draining, as a figure", "--figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Show parts and loadings: masses, centres of gravity against their limits, inertia, static margins."""
    from dravik.aero import margin_unit
    from dravik.aircraft import drain_paths, parts_of
    from dravik.mass import combine, share_table
    from dravik.performance.weights import ALPHA, aerodynamics_of, centre_limits, loading_loop, loading_rows

    craft = get_craft(aircraft, loading)
    parts = parts_of(craft.definition, craft.loading)
    rows: list[tuple[Any, ...]] = [
        (name, kg, 100.0 * share, -centre[0], centre[1], -centre[2], *own)
        for name, kg, share, centre, own in (share_table(parts) if parts else ())
    ]
    if rows:
        whole = combine(list(parts.values()))
        x, y, z = whole.centre
        rows.append(("together", whole.mass, 100.0, -x, y, -z, *np.diag(whole.tensor)))
    rows = [(r[0], *(float(v) for v in r[1:])) for r in rows]
    aero = aerodynamics_of(craft)
    unit = margin_unit(aero)[0] if aero is not None else ""
    limits = centre_limits(craft, aero, margin)
    loop = loading_loop(craft)
    loadings = loading_rows(craft, aero, limits)
    if figure:
        from dravik.report import figure_masses, save_figure

        paths = {n: drain_paths(craft.definition, entry) for n, entry in craft.definition.loadings.items()}
        save_figure(figure_masses(craft.name, craft.definition, paths, limits, loop), figure)
    if as_json:
        keys = ("part", "mass", "share_percent", "x", "y", "z", "Ixx", "Iyy", "Izz")
        emit({
            "loading": craft.loading_name, "parts": [dict(zip(keys, r, strict=True)) for r in rows],
            "loadings": [r._asdict() for r in loadings],
            "centre_limits": [dict(zip(("mass", "forward_m", "aft_m"), r, strict=True)) for r in limits.rows],
            "seats": loop and {name: branch.tolist() for name, branch in loop._asdict().items()},
            "static_margin_unit": unit,
            "static_margin_alpha_deg": math.degrees(ALPHA),
        })  # fmt: skip
        return
    if rows:
        columns = ["", "mass [kg]", "share [%]", "x [m]", "y [m]", "z [m]", "to Ixx", "to Iyy", "to Izz"]
        shown = [(r[0], *(round(v, 3) + 0.0 for v in r[1:6]), *(round(v, 6) + 0.0 for v in r[6:])) for r in rows]
        show_rows(
            f"{craft.name}, {craft.loading_name}: parts [station axes; kg m^2 about the whole's centre]", columns, shown
        )
    columns = [
        "loading",
        "mass [kg]",
        "x [m]",
        "y [m]",
        "z [m]",
        "Ixx",
        "Iyy",
        "Izz",
        "Ixz",
        "margin",
        "centre",
        "zero fuel [kg]",
    ]
    shown = [
        (
            r[0],
            *(round(v, 3) + 0.0 for v in r[1:5]),
            *(round(v, 6) + 0.0 for v in r[5:9]),
            round(r[9], 2),
            r[10],
            round(r[11], 2),
        )
        for r in loadings
    ]
    show_rows("loadings", columns, shown)
    if aero is not None:
        say(f"margin: static, controls fixed, in {unit}, at alpha {math.degrees(ALPHA):.3g} deg")
    say(f"limits of the centre of gravity: {limits.words}")
    for row in loadings:
        if row.too_much:
            say(f"{row.loading}: {row.too_much}", "red")
    if loop is not None:
        _show_loop(craft, limits, loop)
    if figure:
        say(f"written: {figure}")


def _show_loop(craft: "Aircraft", limits: "CentreLimits", loop: "LoadingLoop") -> None:
    """Print how far the centre moves while the seats are taken, and where that leaves the limits."""
    low, high = loop.reach
    mass = float(loop.from_front[-1, 0])
    say(f"seats taken on top of {craft.loading_name}: to {mass:.5g} kg, centre from {low:.3f} to {high:.3f} m")
    if not limits.is_known:
        return  # nothing to be inside of
    out = [
        f"{way} at {m:.5g} kg ({x:.3f} m)"
        for way, branch in (("from the front", loop.from_front), ("from the back", loop.from_back))
        for m, x in branch if not limits.holds(x, m)
    ]  # fmt: skip
    say(f"outside the limits: {', '.join(out[:4])}" if out else "inside the limits all the way", "red" if out else "")
