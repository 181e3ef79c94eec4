"""Commands about tables and what they are made from."""

import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.shared.common import AsJson, emit, err, finite, say, show_rows, written
from dravik.errors import DravikError
from dravik.host.files import exists, is_folder
from dravik.units import quantity

if TYPE_CHECKING:
    from dravik.aero import CentreRange, Coefficients, FinnedBody, Geometry

__all__ = ["tables"]

tables = typer.Typer(
    no_args_is_help=True, rich_markup_mode=None,
    help="Make aerodynamic tables from a drawing or a wind tunnel, look at them, and hold them against each other.",
)  # fmt: skip
Drawing = Annotated[str, typer.Argument(metavar="GEOMETRY", help="geometry.toml, or a sample such as tarn")]
Set = Annotated[str, typer.Argument(metavar="TABLES", help="folder of tables, aircraft file, or a sample such as tarn")]
Out = Annotated[str, typer.Option("--out", metavar="DIR", help="folder to write the tables into")]
CURVES = ("alpha [deg]", "CL", "CD", "CL/CD", "Cm", "CL_alpha", "Cm_alpha", "neutral [m]")
FLAT = 2.0  # 1/rad: below this lift slope the flow counts as stalled
COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")


def _drawing_path(name: str) -> Path:
    """Return a drawing's file: as given, in a folder, or a sample's."""
    from dravik.aircraft import sample_names, sample_path

    path = Path(name)
    if not exists(path) and name in sample_names():
        path = sample_path(name)
    return path / "geometry.toml" if is_folder(path) else path


def _set_path(name: str) -> Path:
    """Return the file of a set of tables: as given, in a folder (an aircraft's before a bare set's), or a sample's."""
    from dravik.aircraft import sample_names, sample_path

    path = Path(name)
    if not exists(path) and name in sample_names():
        path = sample_path(name)
    if is_folder(path) and exists(path / "aircraft.toml"):
        return path / "aircraft.toml"
    return path / "aero.toml" if is_folder(path) else path


def _draw_finned(
    drawing: "Geometry", body: "FinnedBody", flow: tuple[str, float, float], figure: str, as_json: bool
) -> None:
    """Draw a finned body and print its parts: ``flow`` is alpha as asked and in rad, and the Mach number."""
    from dravik.aero import components, pressure_centre

    alpha, angle, mach = flow
    parts, (slope, place) = components(body, mach), pressure_centre(body, mach, angle)
    if figure:
        from dravik.report import figure_three_views, save_figure

        save_figure(figure_three_views(drawing), figure)
    if as_json:
        rows = [{"part": c.name, "slope_per_rad": c.slope, "x_m": c.x} for c in parts]
        emit(
            {
                "geometry": drawing.name,
                "alpha_rad": angle,
                "mach": mach,
                "parts": rows,
                "slope_per_rad": slope,
                "x_m": place,
            }
        )
        return
    cells: list[tuple[object, ...]] = [(c.name, c.slope, c.x if abs(c.slope) > 1e-9 else "-") for c in parts]
    show_rows(
        f"{drawing.name}: normal force at Mach {mach:g}",
        ["part", "slope [1/rad]", "station x [m]"], [*cells, (f"whole, alpha {alpha}", slope, place)],
    )  # fmt: skip
    say(f"on the calibre's circle, {body.diameter:g} m across; the whole includes the body's cross flow at that alpha")
    if figure:
        say(f"written: {figure}")


@tables.command()
def draw(
    geometry: Drawing,
    alpha: Annotated[str, typer.Option(help="angle of attack of the lattice")] = "4 deg",
    mach: Annotated[float, typer.Option(callback=finite, help="Mach number; of a lattice up to 0.7")] = 0.0,
    figure: Annotated[str, written("three views, as a figure", "--figure")] = "",
    loading: Annotated[str, written("span loading, as a figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Draw three views, and compute what the drawing's shapes do at an angle of attack.

    Of lifting surfaces that is the lattice's coefficients and derivatives; of a finned body, the slope and place of
    each part's normal force.
    """
    from dravik.aero import FlowState, Lattice, build_mesh, read_geometry

    path = _drawing_path(geometry)
    drawing = read_geometry(path)
    angle = quantity(alpha, "angle", where="--alpha")
    if drawing.finned_body is not None:
        if loading:
            raise DravikError(
                f"{drawing.name} is a finned body, which has no loading along a span",
                where="--loading",
                hint="surfaces have span loading",
            )
        _draw_finned(drawing, drawing.finned_body, (alpha, angle, mach), figure, as_json)
        return
    lattice = Lattice(build_mesh(drawing, path.parent), drawing, mach=mach)
    flow = lattice.forces(FlowState(alpha=angle))
    rows = lattice.derivatives(FlowState(alpha=angle))
    if figure or loading:
        from dravik.report import figure_loading, figure_three_views, save_figure

        if figure:
            save_figure(figure_three_views(drawing), figure)
        if loading:
            save_figure(figure_loading(lattice, flow, title=f"{drawing.name}: span loading at alpha {alpha}"), loading)
    names = COEFFICIENTS
    if as_json:
        values = {n: getattr(flow, n) for n in (*names, "lift_trefftz", "drag_trefftz")}
        emit(
            {"geometry": drawing.name, "panels": lattice.mesh.count, "alpha_rad": angle, **values, "derivatives": rows}
        )
        return
    # zero by symmetry but for rounding
    cells = [("value", *(round(float(getattr(flow, n)), 9) + 0.0 for n in names))]
    cells += [(f"by {by}", *(round(float(values[n]), 9) + 0.0 for n in names)) for by, values in rows.items()]
    title = f"{drawing.name}: {lattice.mesh.count} panels, alpha {alpha}, Mach {mach:g}"
    show_rows(title, ["", *names], cells)
    say(f"induced drag from the wake: {flow.drag_trefftz:.5f}; no body, friction or stall: tables build adds them")
    for place in filter(None, (figure, loading)):
        say(f"written: {place}")


@tables.command()
def build(geometry: Drawing, folder: Out, as_json: AsJson = False) -> None:
    """Build a complete set of tables with formulas from a drawing, in a folder that an aircraft file includes."""
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    from dravik.aero import build_tables, read_coefficients, read_geometry

    path = _drawing_path(geometry)
    drawing = read_geometry(path)
    columns = (TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn())
    with (
        Progress(*columns, console=err, transient=True, disable=as_json or not err.is_terminal) as bar,
    ):
        task = bar.add_task(f"{drawing.name}: states of flow", total=None)
        found = build_tables(drawing, path.parent, advance=lambda n, of: bar.update(task, completed=n, total=of))
    written = found.write(folder)
    if as_json:
        emit({"folder": folder, "files": [p.name for p in written], **found.provenance})
        return
    rows = [
        (f"{n}.csv", ", ".join(a.name for a in t[0].axes), int(t[0].values.size), ", ".join(c.name for c in t))
        for n, t in found.files.items()
    ]
    show_rows(f"{drawing.name}: tables in {folder}", ["file", "over", "rows", "columns"], rows)
    say(", ".join(f"{k.replace('_', ' ')} {v}" for k, v in found.provenance.items() if k not in ("drawing", "method")))
    _show_derivatives(read_coefficients(Path(folder)), (0.0, 0.0698, 0.1396))
    say(f'take it into an aircraft file with: include = ["{Path(folder).name}/aero.toml"]')


def _show_derivatives(found: "Coefficients", alphas: Sequence[float], flow: Mapping[str, float] | None = None) -> None:
    """Print the derivatives by angles, rates and controls at some angles of attack."""
    from dravik.aero import signals_of

    motions, controls = signals_of(found)
    for alpha in alphas:
        rows = []
        for by in (*motions, *controls):
            slopes = found.slopes(by, step=0.005, alpha=alpha, **(flow or {}))
            # zero by symmetry but for rounding
            rows.append((f"by {by}", *(round(float(slopes[c]), 4) + 0.0 for c in COEFFICIENTS)))
        show_rows(f"derivatives at alpha {math.degrees(alpha):.3g} deg [1/rad]", ["", *COEFFICIENTS], rows)
    for name in controls:
        side = found.one_sided(name)
        if side is not None:
            low, high = (math.degrees(v) for v in side)
            say(f"{name} is covered on one side only, {low:.3g} to {high:.3g} deg: its derivatives are taken there")


@tables.command()
def show(
    source: Set,
    alpha: Annotated[list[str] | None, typer.Option(help="angle of attack of the derivatives; may be repeated")] = None,
    mach: Annotated[str, typer.Option(help="Mach number at which all is shown")] = "",
    altitude: Annotated[str, typer.Option(help="altitude at which all is shown, in the standard atmosphere")] = "",
    centre: Annotated[
        list[str] | None, typer.Option("--cg", help="station x of a centre of gravity; may be repeated")
    ] = None,
    margin: Annotated[
        float, typer.Option(callback=finite, help="static margin in chords that the aft limit keeps")
    ] = 0.05,
    figure: Annotated[str, written("curves in families, as a figure", "--figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Show what a set of tables says: curves, slopes, neutral point, static margin, range of the centre of gravity."""
    from dravik.aero import centre_range, read_coefficients, signals_in_air, signals_of

    path = _set_path(source)
    found = read_coefficients(path)
    angles = [quantity(a, "angle", where="--alpha") for a in alpha or ("0 deg", "4 deg", "8 deg")]
    centres = _centres(path, centre)
    flow = signals_in_air(found, mach=mach, altitude=altitude)
    limits = centre_range(found, margin=margin, flow=flow)
    rows = _curves(found, list(centres.values()), limits.stall, flow)
    if figure:
        from dravik.report import figure_families, save_figure

        save_figure(figure_families(found, held=flow), figure)
    columns = [*CURVES, *(f"margin {n}" for n in centres)]
    if as_json:
        motions, controls = signals_of(found)
        slopes = {
            math.degrees(a): {
                by: {c: float(v) for c, v in found.slopes(by, step=0.005, alpha=a, **flow).items()}
                for by in (*motions, *controls)
            }
            for a in angles
        }
        emit({
            "tables": str(path), "flow": flow, "curves": [dict(zip(columns, r, strict=True)) for r in rows],
            "derivatives": slopes,
            "forward_limit_m": limits.forward, "aft_limit_m": limits.aft, "stall_alpha_rad": limits.stall,
        })  # fmt: skip
        return
    show_rows(
        f"{found.name}: {len(found.tables)} tables, settings at zero{_flow_text(flow)}",
        columns,
        [tuple("" if math.isnan(v) else round(v, 4) + 0.0 for v in r) for r in rows],
    )
    _show_derivatives(found, angles, flow)
    _show_limits(found, limits, centres, margin)
    if figure:
        say(f"written: {figure}")


def _flow_text(flow: Mapping[str, float]) -> str:
    """Return at which Mach number and altitude a set is shown."""
    said = [f"Mach {flow['mach']:g}"] if "mach" in flow else []
    return ", " + ", ".join([*said, *([f"{flow['altitude']:g} m"] if "altitude" in flow else [])]) if flow else ""


def _curves(
    found: "Coefficients", centres: Sequence[float], stall: float, flow: dict[str, float]
) -> list[tuple[float, ...]]:
    """Return the rows of CURVES over incidence, and the static margins for centres of gravity."""
    from dravik.aero import static_margin

    low, high = found.ranges.get("alpha", (-math.pi, math.pi))
    rows: list[tuple[float, ...]] = []
    for a in (math.radians(degrees) for degrees in range(-8, 25, 4)):
        if not low - 1e-9 <= a <= high + 1e-9:
            continue
        at, by = found.at(alpha=a, **flow), found.slopes("alpha", alpha=a, **flow)
        lift, drag = float(at["CL"]), float(at["CD"])
        known = [
            float(found.neutral_point(alpha=a, **flow)),
            *(static_margin(found, x, alpha=a, **flow) for x in centres),
        ]
        # no neutral point near the stall: dCm/dCL is meaningless where the lift slope vanishes
        if not (a < stall and float(by["CL"]) > FLAT):
            known = [math.nan] * len(known)
        slopes = float(by["CL"]), float(by["Cm"])
        rows.append((math.degrees(a), lift, drag, lift / drag, float(at["Cm"]), *slopes, *known))
    return rows


def _centres(path: Path, given: Sequence[str] | None) -> dict[str, float]:
    """Return centres of gravity by name: as asked for, or those of an aircraft's loadings."""
    if given:
        return {text: quantity(text, "length", where="--cg") for text in given}
    if path.name != "aircraft.toml":
        return {}
    from dravik.aircraft import load

    return {n: entry.cg[0] for n, entry in load(path).definition.loadings.items()}


def _show_limits(found: "Coefficients", limits: "CentreRange", centres: dict[str, float], margin: float) -> None:
    """Print how far the centre of gravity may move, and where the loadings stand in it."""
    stall, worst = math.degrees(limits.stall), math.degrees(limits.critical)
    rows = [
        ("forward", limits.forward, f"full up elevator holds the highest lift, at {stall:.3g} deg"),
        ("aft", limits.aft, f"static margin {100 * margin:g} % at alpha {worst:.3g} deg, where it is least"),
        *((n, x, "inside" if not (x < limits.forward or x > limits.aft) else "OUTSIDE") for n, x in centres.items()),
    ]  # fmt: skip
    shown = [(n, round(x, 3), round(100 * (x - found.moment_point[0]) / found.chord, 2), text) for n, x, text in rows]
    show_rows("centre of gravity, controls fixed", ["", "station x [m]", "% chord from moment point", ""], shown)


@tables.command("compare")
def compare_sets(
    first: Set, second: Set,
    alpha: Annotated[str, typer.Option(help="angle of attack of the derivatives")] = "2 deg",
    figure: Annotated[str, written("both sets as a figure", "--figure")] = "",
    as_json: AsJson = False,
) -> None:  # fmt: skip
    """Lay two sets over each other: derivatives side by side, curves and their differences."""
    from dravik.aero import compare, read_coefficients

    sets = [read_coefficients(_set_path(n)) for n in (first, second)]
    found = compare(*sets, alpha=quantity(alpha, "angle", where="--alpha"))
    if figure:
        from dravik.report import figure_comparison, save_figure

        save_figure(figure_comparison(found), figure)
    off = found.differences()
    if as_json:
        emit({
            "first": found.names[0], "second": found.names[1], "alpha_rad": list(found.range),
            "derivatives": [{"name": c, "by": by, "first": a, "second": b} for c, by, a, b in found.derivatives],
            "differences": {n: {"largest": m, "rms": r} for n, (m, r) in off.items()},
        })  # fmt: skip
        return
    low, high = (math.degrees(v) for v in found.range)
    names = found.names if found.names[0] != found.names[1] else ("first", "second")
    rows = [
        (
            f"{c} by {by}",
            round(a, 4),
            round(b, 4),
            round(b - a, 4),
            f"{100 * (b / a - 1):+.1f} %" if abs(a) > 0.01 else "",
        )
        for c, by, a, b in found.derivatives
    ]
    show_rows(f"derivatives at alpha {alpha} [1/rad]", ["", *names, "difference", ""], rows)
    show_rows(
        f"curves from alpha {low:.3g} to {high:.3g} deg, at common settings", ["", "largest difference", "rms"],
        [(n, round(m, 4), round(r, 4)) for n, (m, r) in off.items()],
    )  # fmt: skip
    if figure:
        say(f"written: {figure}")


@tables.command("reduce")
def reduce_runs(
    campaign: Annotated[str, typer.Argument(metavar="CAMPAIGN", help="campaign.toml, or a sample such as tarn")],
    folder: Out,
    as_json: AsJson = False,
) -> None:
    """Reduce a wind-tunnel campaign: tables with intervals, derivatives, neutral point, points in doubt."""
    from dravik.aero import reduce_campaign
    from dravik.aircraft import sample_names, sample_path

    path = Path(campaign)
    if not exists(path) and campaign in sample_names():
        path = sample_path(campaign) / "tunnel"
    found = reduce_campaign(path / "campaign.toml" if is_folder(path) else path)
    found.tables.write(folder)
    if as_json:
        emit({
            "folder": folder, **found.tables.provenance, "neutral_point_m": found.neutral_point,
            "aft_limit_m": found.aft_limit,
            "doubts": [vars(d) for d in found.doubts],
        })  # fmt: skip
        return
    say(f"{found.campaign.name}: {len(found.points)} points kept, {len(found.doubts)} left out, tables in {folder}")
    for d in found.doubts:
        say(
            f"left out: {d.place}: {d.coefficient} is {d.value:.4g}, neighbours say {d.expected:.4g}: "
            f"{d.deviations:.0f} deviations"
        )
    rows = [
        (f"{d.name} by {d.by}", round(d.value, 4), f"± {d.interval:.4f}", d.points)
        for d in found.derivatives
        if abs(d.value) > d.interval
    ]
    show_rows(
        "derivatives in the linear range [1/rad], with 95 % intervals; those that are not zero",
        ["", "value", "", "points"],
        rows,
    )
    ref = found.campaign.reference
    places = [
        (n, round(x, 4), f"± {w:.4f}", round(100 * (x - ref.moment_point[0]) / ref.chord, 2))
        for n, (x, w) in (("neutral point", found.neutral_point), ("aft limit", found.aft_limit))
    ]
    show_rows("controls fixed, from Cm over CL", ["", "station x [m]", "", "% chord from moment point"], places)
    spread = ", ".join(f"{n} {v:.2g}" for n, v in found.scatter.items())
    say(f"scatter of one point, from {found.degrees} repeats: {spread}")
