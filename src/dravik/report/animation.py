"""A short animation of a flight: the aircraft's attitude, its track from above, and a few values, frame by frame."""

import math
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import matplotlib
import numpy as np

from dravik.errors import DravikError
from dravik.files import write_text
from dravik.report.figures import ACTUAL, COMMANDED, GRID, INK, SOFT, STYLE, new_figure
from dravik.report.tracks import GROUND
from dravik.report.wire import attitude_matrix, draw_wire, level_room, to_view
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from mpl_toolkits.mplot3d import Axes3D

    from dravik.flight import Recording

__all__ = ["frame_of", "write_animation"]

SHOWN = ("airspeed", "altitude", "climb_rate", "theta", "phi", "psi", "alpha", "nz")
NEEDED = ("north", "east", "altitude", "phi", "theta", "psi")


def write_animation(
    run: "Recording", path: str | Path, *, seconds: float = 8.0, rate: float = 10.0, title: str = "",
    progress: Callable[[float], None] | None = None,
) -> Path:  # fmt: skip
    """Write the whole run as ``seconds`` of animation at ``rate`` pictures a second: a GIF, or one HTML page.

    Raises DravikError for another kind of file, signals that were not recorded, or a file that cannot be written.
    """
    target = Path(path)
    if target.suffix not in (".gif", ".html"):
        raise DravikError(f"an animation as {target.name!r}", expected="a name that ends in .gif or .html")
    missing = [n for n in NEEDED if n not in run.names]
    if missing or len(run.time) < 2:
        raise DravikError(f"the recording has no {', '.join(missing) or 'rows'}", hint="record all signals")

    count = max(2, round(seconds * rate))
    times = np.linspace(run.time[0], run.time[-1], count)
    figure = new_figure(title)
    figure.set_size_inches(9.6, 5.4)
    draw = _painter(figure, run)

    def step(i: int) -> None:
        draw(float(times[i]))
        if progress is not None:
            progress((i + 1) / count)

    try:
        (_write_gif if target.suffix == ".gif" else _write_page)(figure, step, count, rate, target)
    except OSError as error:
        raise DravikError(f"the animation cannot be written ({error.strerror})", where=str(target)) from None
    return target


def _write_gif(figure: "Figure", step: Callable[[int], None], count: int, rate: float, target: Path) -> None:
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from PIL import Image

    figure.set_dpi(80)
    canvas = FigureCanvasAgg(figure)
    frames = []
    with matplotlib.rc_context(STYLE):
        for i in range(count):
            step(i)
            canvas.draw()  # type: ignore[no-untyped-call]
            pixels = np.asarray(canvas.buffer_rgba())  # type: ignore[no-untyped-call]
            picture = Image.fromarray(pixels).convert("RGB")
            frames.append(picture.quantize(64))
    frames[0].save(target, save_all=True, append_images=frames[1:], duration=round(1000.0 / rate), loop=0)


def _write_page(figure: "Figure", step: Callable[[int], None], count: int, rate: float, target: Path) -> None:
    from matplotlib.animation import FuncAnimation

    def paint(i: int) -> list[Any]:
        step(i)
        return []

    with matplotlib.rc_context(STYLE):
        moving = FuncAnimation(figure, cast(Any, paint), frames=count, blit=False, init_func=lambda: [])
        text = moving.to_jshtml(fps=round(rate), embed_frames=True, default_mode="loop")
    head = "<!doctype html><html lang='en'><meta charset='utf-8'><title>A flight</title><body>"
    write_text(target, f"{head}{text}</body></html>", what="animation")


def frame_of(run: "Recording", time: float, *, title: str = "") -> "Figure":
    """Return one picture of the animation."""
    figure = new_figure(title)
    figure.set_size_inches(9.6, 5.4)
    with matplotlib.rc_context(STYLE):
        _painter(figure, run)(time)
    return figure


def _painter(figure: "Figure", run: "Recording") -> Callable[[float], None]:
    """Return a function that draws the picture of a time into the figure."""
    with matplotlib.rc_context(STYLE):
        grid = figure.add_gridspec(2, 2, width_ratios=[1.15, 1.0])
        room = cast("Axes3D", figure.add_subplot(grid[:, 0], projection="3d"))
        plan, profile = figure.add_subplot(grid[0, 1]), figure.add_subplot(grid[1, 1])
    turning = {n: np.unwrap(run[n]) for n in ("phi", "psi")}

    def value(name: str, t: float) -> float:
        return float(np.interp(t, run.time, turning.get(name, run[name])))

    def draw(t: float) -> None:
        with matplotlib.rc_context(STYLE):
            _attitude(room, value("phi", t), value("theta", t), value("psi", t))
            _text(room, run, t, value)
            _track(plan, run, t, value)
            _profile(profile, run, t, value)

    draw(float(run.time[0]))
    figure.draw_without_rendering()
    # where things stand is found once: for each picture anew it costs more than the drawing
    figure.set_layout_engine("none")
    return draw


def _attitude(room: "Axes3D", phi: float, theta: float, psi: float) -> None:
    """Draw the aircraft as someone behind it sees it, over a level grid that turns below it."""
    room.clear()
    level_room(room)
    for s in np.linspace(-1.0, 1.0, 9):
        for line in (np.array([[s, -1, 0.75], [s, 1, 0.75]]), np.array([[-1, s, 0.75], [1, s, 0.75]])):
            turned = line.astype(float)
            c, k = math.cos(psi), math.sin(psi)
            # a grid of true north and east, seen from behind the aircraft
            turned[:, :2] = line[:, :2] @ np.array([[c, -k], [k, c]])
            room.plot(*to_view(turned), color=GRID if abs(s) > 0.01 else SOFT, lw=0.9)
    draw_wire(room, attitude_matrix(phi, theta, 0.0), np.zeros(3), 0.85, INK, ACTUAL)
    room.set(xlim=(-1, 1), ylim=(-1, 1), zlim=(-0.9, 0.9), xticks=[], yticks=[], zticks=[])
    room.set_box_aspect((1, 1, 0.8), zoom=1.3)
    room.view_init(elev=16, azim=-78)
    room.set_axis_off()


def _text(room: "Axes3D", run: "Recording", t: float, value: Callable[[str, float], float]) -> None:
    lines = [f"{'time':<10}{t:9.1f} s"]
    for name in (n for n in SHOWN if n in run.names):
        unit, k, _ = from_si(run.units.get(name, ""))
        shown = value(name, t) * k
        lines.append(f"{name:<10}{shown % 360.0 if name == 'psi' else shown:9.1f} {unit}")
    mono = {"family": "DejaVu Sans Mono", "fontsize": 8.5, "va": "top"}
    room.text2D(0.0, 0.98, "\n".join(lines), transform=room.transAxes, **mono)
    now = [e for e in run.events if e.time <= t and e.text.startswith(("phase:", "fault:", "crash"))]
    if now:
        bad = now[-1].text.startswith(("fault", "crash"))
        room.text2D(
            0.0, 0.03, now[-1].text, transform=room.transAxes, color=COMMANDED if bad else ACTUAL, fontsize=10
        )  # fmt: skip


def _track(plan: "Axes", run: "Recording", t: float, value: Callable[[str, float], float]) -> None:
    plan.clear()
    plan.plot(run["east"], run["north"], color=GRID, lw=2.0)
    flown = run.time <= t
    plan.plot(run["east"][flown], run["north"][flown], color=ACTUAL, lw=1.6)
    turn = -math.degrees(value("psi", t))
    plan.plot(value("east", t), value("north", t), marker=(3, 0, turn), ms=10, color=INK, ls="")
    plan.set_aspect("equal", adjustable="datalim")
    plan.set_xlabel("east [m]")
    plan.set_ylabel("north [m]")


def _profile(axes: "Axes", run: "Recording", t: float, value: Callable[[str, float], float]) -> None:
    axes.clear()
    axes.plot(run.time, run["altitude"], color=GRID, lw=2.0)
    if "ground_height" in run.names:
        axes.plot(run.time, run["ground_height"], color=GROUND, lw=1.0)
    flown = run.time <= t
    axes.plot(run.time[flown], run["altitude"][flown], color=ACTUAL, lw=1.6)
    axes.plot(t, value("altitude", t), marker="o", ms=6, color=INK, ls="")
    axes.set_xlabel("time [s]")
    axes.set_ylabel("altitude [m]")
    axes.margins(x=0.01)
