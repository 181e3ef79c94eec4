"""Figures of where a flight went: plan view with the profile below it, and the track in space with the attitude."""

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

import matplotlib
import numpy as np
from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.report.figures import marked_events, new_figure
from dravik.report.space.overlays import draw_band, draw_route
from dravik.report.space.wireframe import attitude_matrix, body_drawn, draw_wire, level_room, to_view
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from mpl_toolkits.mplot3d import Axes3D
    from numpy.typing import NDArray

    from dravik.recording import Recording
    from dravik.report.space.wireframe import Craft

    Floats = NDArray[np.float64]

__all__ = ["figure_overhead", "figure_track"]

NEEDED = ("north", "east", "altitude")
GROUND = "#8a7a5c"


def _check(run: "Recording", names: Sequence[str]) -> None:
    missing = [n for n in names if n not in run.names]
    if missing or len(run.time) < 2:
        raise DravikError(
            f"the recording has no {', '.join(missing) or 'rows'}", hint="record it, or all signals, when flying"
        )


def _at(run: "Recording", time: float, name: str) -> float:
    return float(np.interp(time, run.time, run[name]))


def figure_overhead(run: "Recording", *, title: str = "") -> Figure:
    """Return the track seen from above, and below it the altitude over the distance flown, events numbered in both.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        Where position was not recorded.
    """
    _check(run, NEEDED)
    figure = new_figure(title or "Plan view and profile")
    with matplotlib.rc_context(STYLE):
        above, below = figure.subplots(2, 1, height_ratios=[1.7, 1.0])
        north, east = run["north"], run["east"]
        across = max(float(np.ptp(north)), float(np.ptp(east)), 1.0)
        unit, k = ("km", 1e-3) if across > 3000.0 else ("m", 1.0)
        above.plot(east * k, north * k, color=ACTUAL, lw=1.6, label="flown")
        if isinstance(run.metadata.get("route"), Mapping):
            draw_route(above, run.metadata["route"], k)
            above.legend(loc="lower left", frameon=False, fontsize=8.5)
        if isinstance(run.metadata.get("band"), Mapping):
            above.set_title(draw_band(above, run, k), fontsize=9, color=SOFT, loc="left")
        _headings(above, run, k)
        above.set_aspect("equal", adjustable="datalim")
        above.set_xlabel(f"east [{unit}]")
        above.set_ylabel(f"north [{unit}]")
        above.margins(0.06)
        along = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(north), np.diff(east)))])
        below.plot(along * k, run["altitude"], color=ACTUAL, lw=1.6, label="altitude")
        if "ground_height" in run.names:
            floor = min(float(run["ground_height"].min()), float(run["altitude"].min()))
            room = 0.08 * max(float(run["altitude"].max()) - floor, 10.0)
            below.fill_between(along * k, floor - room, run["ground_height"], color=GROUND, alpha=0.35, lw=0)
            below.plot(along * k, run["ground_height"], color=GROUND, lw=1.0, label="ground")
            below.set_ylim(floor - room, None)
        if "cross_track" in run.names:
            aside = below.twinx()
            aside.plot(along * k, run["cross_track"], color=THIRD, lw=1.0)
            aside.set_ylabel("to the right of the route [m]", color=THIRD)
            aside.grid(visible=False)
        below.set_xlabel(f"distance flown [{unit}]")
        below.set_ylabel("height above sea [m]")
        below.margins(x=0.01)
        _numbers(above, below, run, along * k, k)
    return figure


def _headings(axes: "Axes", run: "Recording", k: float) -> None:
    """Draw arrowheads the way the nose points, at even intervals of time."""
    if "psi" not in run.names:
        return
    times = np.linspace(run.time[0], run.time[-1], 14)[1:-1]
    for t in times:
        psi = float(np.interp(t, run.time, np.unwrap(run["psi"])))
        axes.plot(
            _at(run, t, "east") * k, _at(run, t, "north") * k, marker=(3, 0, -math.degrees(psi)), ms=8, color=INK, ls=""
        )


def _numbers(above: "Axes", below: "Axes", run: "Recording", along: "Floats", k: float) -> None:
    """Number the events in both panels and name them beside."""
    lines, last = [], (math.inf, math.inf)
    for i, event in enumerate(marked_events(run), start=1):
        colour = COMMANDED if event.text.startswith(("fault", "crash")) else THIRD
        spots = (
            (above, _at(run, event.time, "east") * k, _at(run, event.time, "north") * k),
            (below, float(np.interp(event.time, run.time, along)), _at(run, event.time, "altitude")),
        )
        near = math.dist(last, spots[0][1:]) < 0.012 * (float(np.ptp(run["east"])) + float(np.ptp(run["north"]))) * k
        last = spots[0][1:]
        for axes, x, y in spots:
            axes.plot(x, y, marker="o", ms=4.5, color=colour, ls="")
            if near:
                continue  # its number would cover the last one; the list beside the figure has it
            # neighbouring numbers are put above and below the track alternately
            axes.annotate(
                str(i), (x, y), xytext=(0, 7 if i % 2 else -16), textcoords="offset points", color=colour, fontsize=8.5,
                ha="center",
            )  # fmt: skip
        lines.append(f"{i:2d}  {event.time:6.1f} s  {event.text.removeprefix('phase: ')}")
    if lines:
        above.annotate(
            "\n".join(lines), (1.01, 1.0), xycoords="axes fraction", fontsize=8.5, color=INK, va="top",
            family="DejaVu Sans Mono", annotation_clip=False,
        )  # fmt: skip


def figure_track(run: "Recording", *, title: str = "", aircraft: int = 14) -> Figure:
    """Return the track in space with the attitude drawn at even intervals, and its shadow on the ground.

    The aircraft is drawn far larger than it is.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    title : str, default ""
        What stands above the figure.
    aircraft : int, default 14
        How many times the attitude is drawn.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        Where position or attitude was not recorded.
    """
    _check(run, (*NEEDED, "phi", "theta", "psi"))
    figure = new_figure(title or "Track in space")
    with matplotlib.rc_context(STYLE):
        figure.set_layout_engine("none")
        axes = cast("Axes3D", figure.add_axes((0.0, 0.0, 1.0, 0.97), projection="3d"))
        level_room(axes)
        place = np.column_stack([run["north"], run["east"], -run["altitude"]])
        floor = run["ground_height"] if "ground_height" in run.names else np.full(len(place), run["altitude"].min())
        spans = np.maximum(np.ptp(place, axis=0), 1.0)
        # north and east have the same scale, and a minimum width for a straight track; the vertical of a flat flight is
        # stretched so that it fills a quarter of the figure
        flat = max(spans[0], spans[1], 0.45 * spans[2])
        room = np.array([*np.maximum(spans[:2], 0.3 * flat if spans[2] < flat else flat), spans[2]])
        stretch = max(1.0, 0.28 * flat / spans[2])
        shape = room * np.array([1.0, 1.0, stretch]) / max(flat, spans[2])
        axes.plot(*to_view(place), color=ACTUAL, lw=1.5)
        shadow = np.column_stack([place[:, 0], place[:, 1], -floor])
        axes.plot(*to_view(shadow), color=GROUND, lw=1.0)
        land = _land(run)
        if land is None:
            _cut_ground(axes, shadow, float(min(floor.min(), run["altitude"].min())) - 0.02 * spans[2])
        else:
            _draw_land(axes, *land)
        picks = np.unique(np.linspace(0, len(place) - 1, aircraft).astype(int))
        size = 0.04 * flat * np.array([1.0, 1.0, 1.0 / stretch])
        craft = body_drawn(run)
        for i in picks:
            matrix = attitude_matrix(float(run["phi"][i]), float(run["theta"][i]), float(run["psi"][i]))
            draw_wire(axes, craft, matrix, place[i], size, angles=_angles(run, craft, i))
            pole = np.stack([place[i], shadow[i]])
            axes.plot(*to_view(pole), color=SOFT, lw=0.6)
        for event in marked_events(run):
            spot = np.array([[_at(run, event.time, n) for n in NEEDED]]) * np.array([1.0, 1.0, -1.0])
            bad = event.text.startswith(("fault", "crash"))
            axes.plot(*to_view(spot), marker="o", ms=4.5, color=COMMANDED if bad else THIRD, ls="")
        middle = 0.5 * (place.max(axis=0) + place.min(axis=0))
        for k, limits in ((0, axes.set_ylim), (1, axes.set_xlim)):
            limits(middle[k] - 0.55 * room[k], middle[k] + 0.55 * room[k])
        axes.set_box_aspect((shape[1], shape[0], shape[2]), zoom=1.45 if spans[2] < flat else 0.95)
        for artist in axes.get_children():
            artist.set_clip_on(False)
        axes.set_xlabel("east [m]", labelpad=10)
        axes.set_ylabel("north [m]", labelpad=10)
        axes.set_zlabel("altitude [m]", labelpad=8)
        axes.view_init(elev=24, azim=-62)
        axes.tick_params(colors=INK, labelsize=8)
        words = f"heights are drawn {stretch:.1f} times as large" if stretch > 1.05 else "true to scale"
        figure.text(
            0.012,
            0.94,
            f"{words}; the aircraft is drawn far larger than it is; dots: phases and faults",
            color=SOFT,
            fontsize=9,
        )
    return figure


def _angles(run: "Recording", craft: "Craft", row: int) -> dict[str, float]:
    """Return the deflections of the controls in a row, rad, of those that were recorded."""
    names = {str(part.get("signal", "")) for part in craft}
    return {n: float(run[n][row]) for n in names if n in run.names}


def _land(run: "Recording") -> "tuple[Floats, Floats, Floats] | None":
    """Return north, east (m) and heights (m, rows along north) of the ground that the recording keeps, if it does."""
    kept: Any = run.metadata.get("terrain")
    try:
        north, east, height = (np.asarray(kept[k], dtype=np.float64) for k in ("north_m", "east_m", "height_m"))
    except (TypeError, KeyError, ValueError):
        return None
    fits = north.ndim == east.ndim == 1 and height.shape == (len(north), len(east)) and min(height.shape) > 1
    return (north, east, height) if fits and np.all(np.isfinite(height)) else None


def _draw_land(axes: "Axes3D", north: "Floats", east: "Floats", height: "Floats") -> None:
    """Draw the ground as a surface, its slopes lit from the north-west as on a map."""
    from matplotlib.colors import LightSource, to_rgb

    light = LightSource(azdeg=315, altdeg=45).hillshade(height, vert_exag=3.0, dx=float(np.ptp(east)) / len(east))
    tone = np.array(to_rgb(GROUND))
    colours = np.concatenate(
        [tone * 0.7 + (1.0 - 0.7 * tone) * 0.85 * light[..., None], np.full((*light.shape, 1), 0.55)], axis=-1
    )
    e, n = np.meshgrid(east, north)
    axes.computed_zorder = False  # depth sorting would draw the terrain over the track
    axes.plot_surface(e, n, height, rstride=1, cstride=1, facecolors=colours, linewidth=0, shade=False, zorder=-1)


def _cut_ground(axes: "Axes3D", shadow: "Floats", bottom: float) -> None:
    """Draw the ground cut along the track: hills stand as what they are, not as a line in the air."""
    from mpl_toolkits.mplot3d.art3d import Poly3DCollection

    few = shadow[:: max(1, len(shadow) // 300)]
    low = few.copy()
    low[:, 2] = -bottom
    faces = [np.column_stack(to_view(np.stack([few[i], few[i + 1], low[i + 1], low[i]]))) for i in range(len(few) - 1)]
    axes.add_collection3d(Poly3DCollection(faces, facecolor=GROUND, edgecolor="none", alpha=0.25))


def colours(count: int) -> list[Any]:
    """Return colours that tell runs apart."""
    fixed = [ACTUAL, COMMANDED, THIRD, INK, "#3d8b5f", "#b3477f"]
    return [fixed[i % len(fixed)] for i in range(count)]
