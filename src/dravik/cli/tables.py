"""Commands about tables and what they are made from."""

import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.common import AsJson, emit, err, kernel_notice, out, show_rows
from dravik.units import quantity

if TYPE_CHECKING:
    from dravik.aero import Coefficients

__all__ = ["tables"]

tables = typer.Typer(
    no_args_is_help=True, rich_markup_mode=None,
    help="Make aerodynamic tables from a drawing or a wind tunnel, look at them, and hold them against each other.",
)  # fmt: skip
Drawing = Annotated[str, typer.Argument(metavar="GEOMETRY", help="geometry.toml, or a sample such as tarn")]
Set = Annotated[str, typer.Argument(metavar="TABLES", help="folder of tables, aircraft file, or a sample such as tarn")]
Out = Annotated[str, typer.Option("--out", metavar="DIR", help="folder to write the tables into")]
COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")


def _drawing_path(name: str) -> Path:
    """Return a drawing's file: as given, in a folder, or a sample's."""
    from dravik.aircraft import sample_names, sample_path

    path = Path(name)
    if not path.exists() and name in sample_names():
        path = sample_path(name)
    return path / "geometry.toml" if path.is_dir() else path


def _set_path(name: str) -> Path:
    """Return the file of a set of tables: as given, in a folder (an aircraft's before a bare set's), or a sample's."""
    from dravik.aircraft import sample_names, sample_path

    path = Path(name)
    if not path.exists() and name in sample_names():
        path = sample_path(name)
    if path.is_dir() and (path / "aircraft.toml").exists():
        return path / "aircraft.toml"
    return path / "aero.toml" if path.is_dir() else path


@tables.command()
def draw(
    geometry: Drawing,
    alpha: Annotated[str, typer.Option(help="angle of attack of the lattice")] = "4 deg",
    mach: Annotated[float, typer.Option(help="Mach number of the lattice, up to 0.7")] = 0.0,
    figure: Annotated[str, typer.Option("--figure", metavar="FILE", help="three views, as a figure")] = "",
    loading: Annotated[str, typer.Option(metavar="FILE", help="span loading, as a figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Draw the lifting surfaces, and compute their lattice coefficients and derivatives at an angle of attack."""
    from dravik.aero import FlowState, Lattice, build_mesh, read_geometry

    path = _drawing_path(geometry)
    drawing = read_geometry(path)
    angle = quantity(alpha, "angle", where="--alpha")
    with kernel_notice():
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
    # what is left of zero by symmetry is rounding
    cells = [("value", *(round(float(getattr(flow, n)), 9) + 0.0 for n in names))]
    cells += [(f"by {by}", *(round(float(values[n]), 9) + 0.0 for n in names)) for by, values in rows.items()]
    title = f"{drawing.name}: {lattice.mesh.count} panels, alpha {alpha}, Mach {mach:g}"
    show_rows(title, ["", *names], cells)
    out.print(
        f"induced drag from the wake: {flow.drag_trefftz:.5f}; the lattice has no body, no friction and no stall: tables build adds them"
    )
    for written in filter(None, (figure, loading)):
        out.print(f"written: {written}")


@tables.command()
def build(geometry: Drawing, folder: Out, as_json: AsJson = False) -> None:
    """Build a complete set of tables with their formulas from a drawing, into a folder that an aircraft file includes."""
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    from dravik.aero import build_tables, read_coefficients, read_geometry

    path = _drawing_path(geometry)
    drawing = read_geometry(path)
    columns = (TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn())
    with kernel_notice(), Progress(*columns, console=err, transient=True, disable=as_json or not err.is_terminal) as bar:
        task = bar.add_task(f"{drawing.name}: states of flow", total=None)
        found = build_tables(drawing, path.parent, advance=lambda n, of: bar.update(task, completed=n, total=of))
    written = found.write(folder)
    if as_json:
        emit({"folder": folder, "files": [p.name for p in written], **found.provenance})
        return
    rows = [(f"{n}.csv", ", ".join(a.name for a in t[0].axes), int(t[0].values.size), ", ".join(c.name for c in t)) for n, t in found.files.items()]
    show_rows(f"{drawing.name}: tables in {folder}", ["file", "over", "rows", "columns"], rows)
    out.print(", ".join(f"{k.replace('_', ' ')} {v}" for k, v in found.provenance.items() if k not in ("drawing", "method")))
    _show_derivatives(read_coefficients(Path(folder)), (0.0, 0.0698, 0.1396))
    out.print(f'take it into an aircraft file with: include = ["{Path(folder).name}/aero.toml"]')


def _show_derivatives(found: "Coefficients", alphas: Sequence[float]) -> None:
    """Print the derivatives by angles, rates and controls at some angles of attack."""
    from dravik.aero import signals_of

    motions, controls = signals_of(found)
    for alpha in alphas:
        rows = []
        for by in (*motions, *controls):
            slopes = found.slopes(by, step=0.005, alpha=alpha)
            # what is left of zero by symmetry is rounding
            rows.append((f"by {by}", *(round(float(slopes[c]), 4) + 0.0 for c in COEFFICIENTS)))
        show_rows(f"derivatives at alpha {math.degrees(alpha):.3g} deg [1/rad]", ["", *COEFFICIENTS], rows)
