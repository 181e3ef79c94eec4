"""The command about masses: parts, loadings, and how far the centre of gravity may move."""

import math
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Loading, emit, finite, get_craft, say, show_rows, written

if TYPE_CHECKING:
    from dravik.aero import Coefficients
    from dravik.aircraft import Aircraft

__all__ = ["mass"]

ALPHA = 0.0349


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
    from dravik.aero import margin_unit, read_coefficients
    from dravik.aircraft import drain_paths, parts_of
    from dravik.mass import combine, share_table

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
    aero = read_coefficients(craft.path) if craft.definition.aero is not None and craft.path is not None else None
    unit = margin_unit(aero)[0] if aero is not None else ""
    limits = _limits(craft, aero, margin)
    loadings = [_loading_row(craft, aero, name, limits) for name in craft.definition.loadings]
    if figure:
        from dravik.report import figure_masses, save_figure

        paths = {n: drain_paths(craft.definition, entry) for n, entry in craft.definition.loadings.items()}
        save_figure(figure_masses(craft.name, craft.definition, paths, limits), figure)
    if as_json:
        keys = ("part", "mass", "share_percent", "x", "y", "z", "Ixx", "Iyy", "Izz")
        names = ("loading", "mass", "x", "y", "z", "Ixx", "Iyy", "Izz", "Ixz", "static_margin", "inside")
        emit({
            "loading": craft.loading_name, "parts": [dict(zip(keys, r, strict=True)) for r in rows],
            "loadings": [dict(zip(names, r, strict=True)) for r in loadings],
            "forward_limit_m": limits[0], "aft_limit_m": limits[1], "static_margin_unit": unit,
            "static_margin_alpha_deg": math.degrees(ALPHA),
        })  # fmt: skip
        return
    if rows:
        columns = ["", "mass [kg]", "share [%]", "x [m]", "y [m]", "z [m]", "to Ixx", "to Iyy", "to Izz"]
        shown = [(r[0], *(round(v, 3) + 0.0 for v in r[1:6]), *(round(v, 6) + 0.0 for v in r[6:])) for r in rows]
        show_rows(
            f"{craft.name}, {craft.loading_name}: parts [station axes; kg m^2 about the whole's centre]", columns, shown
        )
    columns = ["loading", "mass [kg]", "x [m]", "y [m]", "z [m]", "Ixx", "Iyy", "Izz", "Ixz", "margin", "centre"]
    shown = [
        (r[0], *(round(v, 3) + 0.0 for v in r[1:5]), *(round(v, 6) + 0.0 for v in r[5:9]), round(r[9], 2), r[10])
        for r in loadings
    ]
    show_rows("loadings", columns, shown)
    if aero is not None:
        say(f"margin: static, controls fixed, in {unit}, at alpha {math.degrees(ALPHA):.3g} deg")
    forward = "not known (no tables of an elevator)" if math.isnan(limits[0]) else f"{limits[0]:.3f}"
    say(f"limits of the centre of gravity: {forward} to {limits[1]:.3f} m ({limits[2]})")
    if figure:
        say(f"written: {figure}")


def _limits(craft: "Aircraft", aero: "Coefficients | None", margin: float) -> tuple[float, float, str]:
    """Return the limits of the centre of gravity and where they come from."""
    if craft.definition.centre_limits is not None:
        return *craft.definition.centre_limits, "as the file says"
    if aero is None:
        return float("nan"), float("nan"), "no aerodynamics to tell them"
    from dravik.aero import centre_range

    found = centre_range(aero, margin=margin)
    return found.forward, found.aft, f"full up elevator holds the stall; static margin {100 * margin:g} %"


def _loading_row(
    craft: "Aircraft", aero: "Coefficients | None", name: str, limits: tuple[float, float, str]
) -> tuple[str, float, float, float, float, float, float, float, float, float, str]:
    from dravik.aero import margin_unit, static_margin

    entry = craft.definition.loadings[name]
    margin = float("nan") if aero is None else margin_unit(aero)[1] * static_margin(aero, entry.cg[0], alpha=ALPHA)
    inside = "inside" if not (entry.cg[0] < limits[0] or entry.cg[0] > limits[1]) else "OUTSIDE"
    return name, entry.mass, *entry.cg, entry.Ixx, entry.Iyy, entry.Izz, entry.Ixz, margin, inside
