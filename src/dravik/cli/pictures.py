"""Pictures of recordings, tracks for other viewers, and the figure of axes, from the command line."""

import math
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.flying import USUAL, draw
from dravik.cli.shared.common import AsJson, emit, err, finite, say, written
from dravik.errors import DravikError

if TYPE_CHECKING:
    from dravik.recording import Recording

__all__ = ["axes", "export", "plot"]

VIEWS = ("signals", "overhead", "track", "book", "moving")


def plot(
    recordings: Annotated[list[str], typer.Argument(metavar="RECORDING...", help="written by dravik fly --out")],
    signals: Annotated[str, typer.Option(help="signals, separated by commas")] = "",
    view: Annotated[
        str,
        typer.Option(
            help="signals; overhead (with the profile); track (in space, with the attitude); book (all of it, "
            ".pdf or .html); moving (an animation, .gif or .html)"
        ),
    ] = "signals",
    save: Annotated[str, written("file to write, by its ending", "--out")] = "plot.png",
    seconds: Annotated[float, typer.Option(callback=finite, help="length of an animation", min=1.0, max=60.0)] = 8.0,
    as_json: AsJson = False,
) -> None:
    """Draw a recording: signals, commanded against actual, with events; its track; or several recordings compared."""
    from dravik.recording import read_recording

    if view not in VIEWS:
        raise DravikError(f"there is no view {view!r}", expected=", ".join(VIEWS))
    runs = [read_recording(path) for path in recordings]
    title = f"{runs[0].metadata.get('scenario') or runs[0].metadata.get('aircraft', '')}: {recordings[0]}"
    if len(runs) > 1:
        if view != "signals":
            raise DravikError(f"--view {view} cannot show {len(runs)} recordings", expected="one, or --view signals")
        names = _compare(runs, recordings, signals, save)
    elif view == "signals":
        names = draw(runs[0], signals, save, title, _limits(runs[0]))
    else:
        names = _draw_view(runs[0], view, save, title, seconds)
    if as_json:
        emit({"figure": save, "view": view, "signals": names})
    else:
        say(f"{save}: {', '.join(names) or view}")


def _limits(run: "Recording") -> dict[str, tuple[float, float]]:
    """Return the ranges of effectors, as the recording's side file has them."""
    found = run.metadata.get("limits", {})
    return {name: (float(low), float(high)) for name, (low, high) in found.items()}


def _compare(runs: "list[Recording]", paths: list[str], signals: str, save: str) -> list[str]:
    """Overlay recordings with their differences; return the signals shown."""
    from dravik.report import figure_runs, save_figure

    names = [n.strip() for n in signals.split(",") if n.strip()]
    names = names or [n for n in USUAL if all(n in run.names for run in runs)][:5]
    labels = [Path(p).stem for p in paths]
    save_figure(figure_runs(runs, names, labels, title=" and ".join(labels[:4])), save)
    return names


def _draw_view(run: "Recording", view: str, save: str, title: str, seconds: float) -> list[str]:
    from rich.progress import Progress

    from dravik.report import figure_overhead, figure_track, save_figure, write_animation, write_book

    if view == "book":
        write_book(run, save, title=title, limits=_limits(run))
    elif view == "moving":
        with Progress(console=err, transient=True, disable=not err.is_terminal) as bar:
            task = bar.add_task("drawing", total=1.0)
            write_animation(
                run, save, seconds=seconds, title=title, progress=lambda share: bar.update(task, completed=share)
            )
    else:
        save_figure((figure_overhead if view == "overhead" else figure_track)(run, title=title), save)
    return []


def export(
    recording: Annotated[str, typer.Argument(help="written by dravik fly --out")],
    save: Annotated[
        str,
        written(".gpx, .kml, .geojson, .csv, .parquet, .npz or .h5", "--out"),
    ],
    rate: Annotated[str, typer.Option(help="points a second, such as '1 Hz'")] = "1 Hz",
    begins: Annotated[str, typer.Option(metavar="TIME", help="when it begins, ISO 8601, UTC unless said")] = "",
    place: Annotated[
        str, typer.Option(metavar="'LATITUDE, LONGITUDE'", help="where north and east count from: '46.6 deg, 10.2 deg'")
    ] = "",
    as_json: AsJson = False,
) -> None:
    """Write a recording's track for maps and viewers, or its signals at a fixed rate."""
    from datetime import datetime

    from dravik.recording import read_recording, write_track

    run = read_recording(recording)
    if Path(save).suffix in (".csv", ".parquet", ".npz", ".h5"):
        run = run.resampled(rate)
        run.save(save)
        count = len(run.time)
    else:
        try:
            begin = datetime.fromisoformat(begins) if begins else None
        except ValueError:
            raise DravikError(f"--begins {begins!r} cannot be read", expected="such as 2031-08-14T14:05:00Z") from None
        parts = [p.strip() for p in place.split(",")]
        if place and len(parts) != 2:
            raise DravikError(
                f"--place {place!r} cannot be read", expected="latitude and longitude, such as '46.6 deg, 10.2 deg'"
            )
        write_track(run, save, rate=rate, begins=begin, place=(parts[0], parts[1]) if place else None)
        count = len(run.resampled(rate).time)
    if as_json:
        emit({"written": save, "points": count})
    else:
        say(f"{save}: {count} points at {rate}")


def axes(
    yaw: Annotated[str, typer.Option(help="such as '30 deg'")] = "30 deg",
    pitch: Annotated[str, typer.Option(help="such as '20 deg'")] = "20 deg",
    roll: Annotated[str, typer.Option(help="such as '40 deg'")] = "40 deg",
    alpha: Annotated[str, typer.Option(help="angle of attack")] = "10 deg",
    beta: Annotated[str, typer.Option(help="sideslip angle")] = "10 deg",
    save: Annotated[str, written("figure to write: .png, .svg or .pdf", "--out")] = "axes.png",
    as_json: AsJson = False,
) -> None:
    """Draw how local axes become body, stability and wind axes, step by step, and say where angles fail."""
    from dravik.frames import dcm_from_euler, euler_from_dcm
    from dravik.report import figure_axes, save_figure
    from dravik.units import in_si

    angles = {"roll": roll, "pitch": pitch, "yaw": yaw, "alpha": alpha, "beta": beta}
    phi, theta, psi, a, b = (in_si(text, "angle", where=f"--{name}") for name, text in angles.items())
    back = [float(v) for v in euler_from_dcm(dcm_from_euler(phi, theta, psi))]
    save_figure(figure_axes(phi, theta, psi, alpha=a, beta=b), save)
    if as_json:
        emit({"figure": save, "yaw_rad": psi, "pitch_rad": theta, "roll_rad": phi, "alpha_rad": a, "beta_rad": b,
              "reads_back_rad": dict(zip(("roll", "pitch", "yaw"), back, strict=True))})  # fmt: skip
    else:
        say(f"{save}: yaw {yaw}, pitch {pitch}, roll {roll}")
        read = [round(math.degrees(v), 9) + 0.0 for v in back]
        if any(abs(math.remainder(x - y, 2.0 * math.pi)) > 1e-6 for x, y in zip(back, (phi, theta, psi), strict=True)):
            say(f"this attitude reads back as yaw {read[2]:.4g} deg, pitch {read[1]:.4g} deg, roll {read[0]:.4g} deg")
