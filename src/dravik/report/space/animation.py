"""A short animation of a flight: the aircraft's attitude, its track from above, and a few values, frame by frame."""

import base64
import io
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, cast

import matplotlib
import numpy as np

from dravik.errors import DravikError, readable
from dravik.host.files import replace_file, saved, write_text
from dravik.report.figures import new_figure
from dravik.report.pages.page import rendered
from dravik.report.space.tracks import GROUND
from dravik.report.space.wireframe import Craft, attitude_matrix, body_drawn, draw_wire, to_view
from dravik.report.style import ACTUAL, COMMANDED, GRID, INK, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.artist import Artist
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from mpl_toolkits.mplot3d import Axes3D
    from PIL.Image import Image

    from dravik.recording import Recording

__all__ = ["frame_of", "write_animation"]

SHOWN = ("airspeed", "altitude", "climb_rate", "theta", "phi", "psi", "alpha", "nz")
Value = Callable[[str, float], float]
Follow = Callable[[float, Value], "list[Artist]"]
NEEDED = ("north", "east", "altitude", "phi", "theta", "psi")


def write_animation(
    run: "Recording", path: str | Path, *, seconds: float = 8.0, rate: float = 8.0, title: str = "",
    progress: Callable[[float], None] | None = None,
) -> Path:  # fmt: skip
    """Write the whole run as ``seconds`` of animation at ``rate`` pictures a second: a GIF, or one HTML page.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    path : str or path
        A ``.gif`` or ``.html`` file.
    seconds : float, default 8.0
        Length of the animation, s.
    rate : float, default 8.0
        Pictures a second.
    title : str, default ""
        What stands above the figure.
    progress : callable, optional
        Called with pictures done and in all.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        For another kind of file, signals that were not recorded, or a file that cannot be written.
    """
    target = Path(path)
    if target.suffix not in (".gif", ".html"):
        raise DravikError(
            f"an animation cannot be written as {target.name!r}", expected="a name that ends in .gif or .html"
        )
    missing = [n for n in NEEDED if n not in run.names]
    if missing or len(run.time) < 2:
        raise DravikError(f"the recording has no {', '.join(missing) or 'rows'}", hint="record all signals")

    count = max(2, round(seconds * rate))
    times = np.linspace(run.time[0], run.time[-1], count)
    figure = new_figure(title)
    figure.set_size_inches(9.6, 5.4)
    draw = _painter(figure, run)

    def step(i: int) -> "list[Artist]":
        if progress is not None:
            progress((i + 1) / count)
        return draw(float(times[i]))

    write = _write_gif if target.suffix == ".gif" else _write_page
    write(_pictures(figure, step, count), times.tolist(), rate, readable(title), target)
    return target


def _pictures(figure: "Figure", step: "Callable[[int], list[Artist]]", count: int) -> "Iterator[Image]":
    """Return the drawn frames one after another."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from PIL import Image as Pictures

    figure.set_dpi(72)
    canvas = cast(Any, FigureCanvasAgg(figure))
    with matplotlib.rc_context(STYLE):
        still = None
        for i in range(count):
            moving = step(i)
            for artist in moving:
                artist.set_animated(True)
            if still is None:
                # the static background is drawn once and reused for every frame
                canvas.draw()
                still = canvas.copy_from_bbox(figure.bbox)
            canvas.restore_region(still)
            for artist in moving:
                if hasattr(artist, "do_3d_projection"):
                    artist.do_3d_projection()
                cast(Any, artist.axes).draw_artist(artist)
            yield Pictures.fromarray(np.asarray(canvas.buffer_rgba())).convert("RGB")


def _few_colours(picture: "Image") -> "Image":
    """Return a picture of lines in few colours, which takes little room and stays sharp."""
    from PIL import Image as Pictures

    return picture.quantize(32, Pictures.Quantize.FASTOCTREE, dither=Pictures.Dither.NONE)


def _write_gif(pictures: "Iterator[Image]", times: Sequence[float], rate: float, title: str, target: Path) -> None:
    frames = [_few_colours(picture) for picture in pictures]
    held = round(1000.0 / rate)

    def write(file: BinaryIO) -> None:
        frames[0].save(file, format="GIF", save_all=True, append_images=frames[1:], duration=held, loop=0)

    saved(lambda: replace_file(target, write), target, what="animation")


def _write_page(pictures: "Iterator[Image]", times: Sequence[float], rate: float, title: str, target: Path) -> None:
    """Write a page that holds the frames and shows them: play, pause, a step back or on, and any time by a slider."""
    frames = []
    for picture in pictures:
        held = io.BytesIO()
        _few_colours(picture).convert("RGB").save(held, format="WEBP", lossless=True, method=2)
        frames.append(base64.b64encode(held.getvalue()).decode())
    shown = [f"{t:.1f} s" for t in times]
    text = rendered("animation.html", title=title, frames=frames, times=shown, rate=rate)
    write_text(target, text, what="animation")


def frame_of(run: "Recording", time: float, *, title: str = "") -> "Figure":
    """Return one picture of the animation.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    time : float
        When, s.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure
    """
    figure = new_figure(title)
    figure.set_size_inches(9.6, 5.4)
    with matplotlib.rc_context(STYLE):
        _painter(figure, run)(time)
    return figure


def _painter(figure: "Figure", run: "Recording") -> "Callable[[float], list[Artist]]":
    """Return a function that draws the picture of a time into the figure, and returns what of it moves."""
    with matplotlib.rc_context(STYLE):
        grid = figure.add_gridspec(2, 2, width_ratios=[1.15, 1.0])
        room = cast("Axes3D", figure.add_subplot(grid[:, 0], projection="3d"))
        plan, profile = figure.add_subplot(grid[0, 1]), figure.add_subplot(grid[1, 1])
        room.set(xlim=(-1, 1), ylim=(-1, 1), zlim=(-0.9, 0.9), xticks=[], yticks=[], zticks=[])
        room.set_box_aspect((1, 1, 0.8), zoom=1.3)
        room.view_init(elev=16, azim=-78)
        room.set_axis_off()
        follow_track, follow_profile = _track(plan, run), _profile(profile, run)
    craft = body_drawn(run)
    moved = [n for n in {str(part.get("signal", "")) for part in craft} if n in run.names]
    turning = {n: np.unwrap(run[n]) for n in ("phi", "psi")}

    def value(name: str, t: float) -> float:
        return float(np.interp(t, run.time, turning.get(name, run[name])))

    def draw(t: float) -> "list[Artist]":
        for artist in [*room.collections, *room.texts]:
            artist.remove()
        with matplotlib.rc_context(STYLE):
            _attitude(room, craft, {n: value(n, t) for n in moved}, value("phi", t), value("theta", t), value("psi", t))
            _text(room, run, t, value)
            return [*room.collections, *room.texts, *follow_track(t, value), *follow_profile(t, value)]

    draw(float(run.time[0]))
    figure.draw_without_rendering()
    # the layout is computed once: computing it for every frame takes longer than drawing
    figure.set_layout_engine("none")
    return draw


def _attitude(
    room: "Axes3D", craft: Craft, angles: Mapping[str, float], phi: float, theta: float, psi: float
) -> None:  # fmt: skip
    """Draw the aircraft as someone behind it sees it, over a level grid that turns below it."""
    from mpl_toolkits.mplot3d.art3d import Line3DCollection

    c, k = math.cos(psi), math.sin(psi)
    lines, colours = [], []
    for s in np.linspace(-1.0, 1.0, 9):
        for line in (np.array([[s, -1, 0.75], [s, 1, 0.75]]), np.array([[-1, s, 0.75], [1, s, 0.75]])):
            # a grid of true north and east, seen from behind the aircraft
            turned = line.astype(float)
            turned[:, :2] = line[:, :2] @ np.array([[c, -k], [k, c]])
            lines.append(np.stack(to_view(turned), axis=1))
            colours.append(GRID if abs(s) > 0.01 else SOFT)
    room.add_collection3d(Line3DCollection(lines, colors=colours, linewidths=0.9))
    draw_wire(room, craft, attitude_matrix(phi, theta, 0.0), np.zeros(3), 0.95, angles=angles)


def _text(room: "Axes3D", run: "Recording", t: float, value: Value) -> None:
    lines = [f"{'time':<10}{t:9.1f} s"]
    for name in (n for n in SHOWN if n in run.names):
        unit, k, _ = from_si(run.units.get(name, ""))
        shown = value(name, t) * k
        lines.append(f"{name:<10}{shown % 360.0 if name == 'psi' else shown:9.1f} {unit}")
    mono = {"family": "DejaVu Sans Mono", "fontsize": 8.5, "va": "top"}
    room.text2D(0.0, 0.98, "\n".join(lines), transform=room.transAxes, **mono)
    now = [e for e in run.events if e.time <= t and e.text.startswith(("phase:", "fault:", "gust:", "crash"))]
    if now:
        bad = now[-1].text.startswith(("fault", "crash"))
        room.text2D(
            0.0, 0.03, now[-1].text, transform=room.transAxes, color=COMMANDED if bad else ACTUAL, fontsize=10
        )  # fmt: skip


def _thinned(run: "Recording") -> slice:
    """Return which rows are worth a point of a small picture."""
    return slice(None, None, max(1, len(run.time) // 600))


def _track(plan: "Axes", run: "Recording") -> Follow:
    few = _thinned(run)
    north, east = run["north"][few], run["east"][few]
    plan.plot(east, north, color=GRID, lw=2.0)
    (flown,) = plan.plot([], [], color=ACTUAL, lw=1.6)
    (nose,) = plan.plot([], [], ms=10, color=INK, ls="")
    plan.set_aspect("equal", adjustable="datalim")
    plan.set_xlabel("east [m]")
    plan.set_ylabel("north [m]")

    def follow(t: float, value: Value) -> "list[Artist]":
        so_far = run.time[few] <= t
        flown.set_data(east[so_far], north[so_far])
        nose.set_data([value("east", t)], [value("north", t)])
        nose.set_marker(cast(str, (3, 0, -math.degrees(value("psi", t)))))
        return [flown, nose]

    return follow


def _profile(axes: "Axes", run: "Recording") -> Follow:
    few = _thinned(run)
    time, altitude = run.time[few], run["altitude"][few]
    axes.plot(time, altitude, color=GRID, lw=2.0)
    # level flight shall look level, not like rounding errors
    middle, half = float(np.mean(axes.get_ylim())), max(0.5 * float(np.ptp(axes.get_ylim())), 1.0)
    axes.set_ylim(middle - half, middle + half)
    if "ground_height" in run.names:
        axes.plot(time, run["ground_height"][few], color=GROUND, lw=1.0)
    (flown,) = axes.plot([], [], color=ACTUAL, lw=1.6)
    (now,) = axes.plot([], [], marker="o", ms=6, color=INK, ls="")
    axes.set_xlabel("time [s]")
    axes.set_ylabel("altitude [m]")
    axes.margins(x=0.01)

    def follow(t: float, value: Value) -> "list[Artist]":
        so_far = time <= t
        flown.set_data(time[so_far], altitude[so_far])
        now.set_data([t], [value("altitude", t)])
        return [flown, now]

    return follow
