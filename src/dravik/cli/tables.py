"""Commands about tables and what they are made from."""

from pathlib import Path
from typing import Annotated

import typer

from dravik.cli.common import AsJson, emit, kernel_notice, out, show_rows
from dravik.units import quantity

__all__ = ["tables"]

tables = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Look at what aerodynamic tables are made from.")


@tables.callback()
def _group() -> None:
    """Keep the command's name even while it is the only one."""


@tables.command()
def draw(
    geometry: Annotated[str, typer.Argument(metavar="GEOMETRY", help="geometry.toml, or a sample such as tarn")],
    alpha: Annotated[str, typer.Option(help="angle of attack of the lattice")] = "4 deg",
    mach: Annotated[float, typer.Option(help="Mach number of the lattice, up to 0.7")] = 0.0,
    figure: Annotated[str, typer.Option("--figure", metavar="FILE", help="three views, as a figure")] = "",
    loading: Annotated[str, typer.Option(metavar="FILE", help="span loading, as a figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Draw the lifting surfaces, and compute their lattice coefficients and derivatives at an angle of attack."""
    from dravik.aero import FlowState, Lattice, build_mesh, read_geometry
    from dravik.aircraft import sample_names, sample_path

    path = Path(geometry)
    if not path.exists() and geometry in sample_names():
        path = sample_path(geometry)
    path = path / "geometry.toml" if path.is_dir() else path
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
    names = ("CL", "CD", "CY", "Cl", "Cm", "Cn")
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
        f"induced drag from the wake: {flow.drag_trefftz:.5f}; no body, no thickness, no friction, no stall in it"
    )
    for written in filter(None, (figure, loading)):
        out.print(f"written: {written}")
