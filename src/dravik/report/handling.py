"""Handling qualities, drawn: charts of criteria with their boundaries, and levels over an envelope."""

import itertools
import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.ticker import FuncFormatter

from dravik.errors import DravikError
from dravik.handling.limits import along, boundaries
from dravik.report.curves import label_of, words_of
from dravik.report.figures import new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.handling import Assessment, HandlingMap

__all__ = ["figure_handling", "figure_handling_map"]

#: Levels from light to dark, so that they can be told apart in black and white, and by their numbers.
SHADES = {1: "#dbe9ee", 2: "#8fb8c7", 3: "#4c7f95", 4: "#1d3c4b", 0: "#f1dfb7"}
MOST_NUMBERS = 500  # points of a map that get a number each
MOST_PANELS = 9
MOST_NAMED = 6  # limiting criteria in the key


def figure_handling(found: "Assessment") -> "Figure":
    """Return the charts of an assessment: margins of all criteria, and for each response that was asked for its own.

    Parameters
    ----------
    found : Assessment
        The assessment.

    Returns
    -------
    Figure
    """
    panels: list[Callable[[Axes], None]] = []
    details = found.details
    if any("n/alpha" in c.name for c in found.criteria):
        panels.append(lambda axes: _short_period(axes, found))
    for name, draw in (
        ("bandwidth", _bandwidth), ("tracking", _tracking), ("pitch", _fit), ("step", _step), ("c_star", _c_star),
        ("rolled", _rolled),
    ):  # fmt: skip
        if name in details:
            panels.append(lambda axes, draw=draw: draw(axes, found))  # type: ignore[misc]
    level = "no level can be given" if found.level is None else f"level {found.level if found.level < 4 else 'below 3'}"
    figure = new_figure(f"{found.title}: class {found.aircraft_class}, category {found.category}, {level}")
    across = min(len(panels), 2 if len(panels) <= 4 else 3)
    rows = max(1, math.ceil(len(panels) / max(across, 1)))
    with matplotlib.rc_context(STYLE):
        grid = figure.add_gridspec(rows, 1 + across, width_ratios=[1.25 if across < 3 else 1.0] + across * [1.0])
        places = [grid[:, 0], *(grid[k // across, 1 + k % across] for k in range(len(panels)))]
        for place, panel in zip(places, [lambda axes: _margins(axes, found), *panels], strict=True):
            axes = figure.add_subplot(place)
            panel(axes)
            axes.tick_params(labelcolor=INK, labelsize=8)
            axes.xaxis.label.set_fontsize(8)
            axes.yaxis.label.set_fontsize(8)
    return figure


def _title(axes: "Axes", text: str) -> None:
    axes.set_title(text, fontsize=9, color=INK, loc="left")


def _here(axes: "Axes", x: float, y: float) -> None:
    """Mark the aircraft's own point."""
    axes.plot([x], [y], marker="o", ms=8, color=COMMANDED)
    axes.annotate("here", (x, y), xytext=(7, 4), textcoords="offset points", fontsize=9, color=COMMANDED)


def _margins(axes: "Axes", found: "Assessment") -> None:
    """Draw each criterion's level as a bar as long as its margin, within a range that can be read."""
    judged = [c for c in found.criteria if c.level is not None]
    names = [c.name.replace("frequency^2 / (n/alpha)", "w^2/(n/alpha)") for c in judged]
    values = [
        min(max(c.margin, -1.0), 1.0) if c.margin is not None and math.isfinite(c.margin) else 0.0 for c in judged
    ]
    places = np.arange(len(judged))[::-1]
    colours = [SHADES[c.level or 0] for c in judged]
    axes.barh(places, values, color=colours, edgecolor=INK, linewidth=0.6)
    for place, c, value in zip(places, judged, values, strict=True):
        axes.annotate(
            f"{c.level}", (value, place), xytext=(4 if value >= 0 else -4, 0), textcoords="offset points", fontsize=8,
            color=INK, va="center", ha="left" if value >= 0 else "right",
        )  # fmt: skip
    axes.set_yticks(places, names, fontsize=8)
    axes.axvline(0.0, color=INK, lw=1.0)
    axes.set_xlim(-1.15, 1.15)
    axes.set_xlabel("margin to level 1 as a share of its limit\n(cut at 1); the number is the level", fontsize=8)
    axes.grid(axis="y", visible=False)
    _title(axes, "margins")


def _short_period(axes: "Axes", found: "Assessment") -> None:
    """Draw the frequency over n/alpha with the lines of its limits."""
    line = next(c for c in found.criteria if "n/alpha" in c.name)
    n_alpha = float(line.note.split("n/alpha")[1].split()[0].rstrip(","))
    frequency = math.sqrt(max(line.value, 1e-9) * max(n_alpha, 1e-9))
    reach = np.array([1.0, 100.0])
    for limits, word in ((line.lows, "at least"), (line.highs, "at most")):
        for level, limit in enumerate(limits, start=1):
            if limit is not None and (level == 1 or limit != limits[level - 2]):
                axes.plot(reach, np.sqrt(limit * reach), color=INK, lw=1.0, ls="-" if level == 1 else (0, (4, 2)))
                # those of level 1 at the left end, others at the right: they lie close to each other
                at = 1.15 if level == 1 else 22.0
                axes.annotate(
                    f"level {level}: {word} {limit:g}", (at, math.sqrt(limit * at)), color=SOFT, rotation=14,
                    xytext=(0, 4 if level == 1 else -12), textcoords="offset points", fontsize=7,
                )  # fmt: skip
    _here(axes, n_alpha, frequency)
    axes.set(xscale="log", yscale="log", xlim=(1, 100), ylim=(0.1, 100))
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axes.set_xlabel("n/alpha [1/rad]")
    axes.set_ylabel("frequency [rad/s]")
    _title(axes, f"short period, {line.source}")


def _bandwidth(axes: "Axes", found: "Assessment") -> None:
    data, at = boundaries("responses")["bandwidth"], found.details["bandwidth"]
    delays = np.linspace(0.0, max(0.3, 1.2 * at.phase_delay), 60)
    curves = np.array([[v if v is not None else math.nan for v in along(data[found.category], d)[:2]] for d in delays])
    for k, style in ((0, "-"), (1, (0, (4, 2)))):
        axes.plot(curves[:, k], delays, color=INK, lw=1.0, ls=style)
        axes.annotate(
            f"level {k + 1} to the right", (curves[20, k], delays[20]), xytext=(4, 0), textcoords="offset points",
            fontsize=7, color=SOFT, rotation=90, va="center",
        )  # fmt: skip
    _here(axes, at.value, at.phase_delay)
    axes.set_xlim(0.0, max(1.2 * float(np.nanmax(curves[:40])), 1.3 * at.value))
    axes.set_ylim(0.0, delays[-1])
    axes.set_xlabel("bandwidth [rad/s]")
    axes.set_ylabel("phase delay [s]")
    _title(axes, f"pitch, {data['paragraph']}")


def _tracking(axes: "Axes", found: "Assessment") -> None:
    data, pilot = boundaries("responses")["tracking"], found.details["tracking"]
    for k, (low, high) in enumerate(data["compensation"]):
        top = float(data["resonance_max"][k])
        axes.plot([low, low, high, high], [-3.0, top, top, -3.0], color=INK, lw=1.0, ls="-" if k == 0 else "--")
        axes.annotate(f"level {k + 1}", (low, top), xytext=(3, -10), textcoords="offset points", fontsize=8, color=SOFT)
    _here(axes, pilot.compensation, pilot.resonance)
    axes.set_xlim(-90.0, 90.0)
    axes.set_ylim(-3.0, max(14.0, pilot.resonance + 2.0))
    axes.set_xlabel("pilot lead at that frequency [deg]")
    axes.set_ylabel("closed-loop resonance [dB]")
    _title(axes, f"tracking at {pilot.bandwidth:g} rad/s")


def _fit(axes: "Axes", found: "Assessment") -> None:
    """Draw the response's gain over its equivalent system, and the difference in phase."""
    fit = found.details["pitch"]
    w = fit.omega
    fitted = fit.response(w)
    axes.plot(w, 20.0 * np.log10(np.abs(fit.values)), color=ACTUAL, lw=2.4, alpha=0.55, label="pitch rate, gain [dB]")
    axes.plot(w, 20.0 * np.log10(np.abs(fitted)), color=COMMANDED, lw=1.2, ls=(0, (4, 2)), label="equivalent system")
    phase = np.degrees(np.unwrap(np.angle(fit.values)))
    other = np.degrees(np.unwrap(np.angle(fitted)))
    right = axes.twinx()
    right.grid(visible=False)
    right.plot(w, phase, color=ACTUAL, lw=1.4, alpha=0.55, ls=":")
    right.plot(w, other + 360.0 * round((phase[0] - other[0]) / 360.0), color=COMMANDED, lw=1.0, ls=":")
    right.set_ylabel("phase (dotted) [deg]", color=SOFT, fontsize=8)
    right.tick_params(labelsize=8)
    axes.set_xscale("log")
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axes.set_xlabel("frequency [rad/s]")
    axes.legend(frameon=False, fontsize=8, loc="lower left")
    _title(axes, f"equivalent delay {1000 * fit.delay:.0f} ms, cost {fit.cost:.2g}")


def _step(axes: "Axes", found: "Assessment") -> None:
    step = found.details["step"]
    steady = float(step.values[-1])
    shown = step.time <= 10.0
    axes.plot(step.time[shown], step.values[shown] / steady, color=ACTUAL, lw=1.8)
    axes.axhline(1.0, color=SOFT, lw=0.8, ls=":")
    axes.set_xlabel("time after a step of the stick [s]")
    axes.set_ylabel("pitch rate over the steady one")
    line = next((c for c in found.criteria if c.name == "pitch, dropback"), None)
    _title(axes, f"pitch rate: dropback {line.value:.2g} s" if line is not None else "pitch rate")


def _c_star(axes: "Axes", found: "Assessment") -> None:
    data, (time, values) = boundaries("responses")["c_star"], found.details["c_star"]
    upper, lower = (np.array(data[k]).T for k in ("upper", "lower"))
    t = np.linspace(0.0, upper[0][-1], 200)
    axes.fill_between(t, np.interp(t, *lower), np.interp(t, *upper), color=SHADES[1], lw=0.0)
    for edge in (upper, lower):
        axes.plot(*edge, color=INK, lw=1.0)
    shown = time <= t[-1]
    axes.plot(time[shown], values[shown], color=ACTUAL, lw=1.8)
    axes.annotate("level 1 inside\n(read coarsely)", (1.4, 0.25), fontsize=8, color=SOFT)
    axes.set_xlabel("time after a step of the stick [s]")
    axes.set_ylabel("C* over its steady value")
    _title(axes, "C* after a step")


def _rolled(axes: "Axes", found: "Assessment") -> None:
    run = found.details["rolled"]
    line = next(c for c in found.criteria if c.name.startswith("time to"))
    bank = float(line.name.split()[2])
    phi = np.abs(np.degrees(np.unwrap(run["phi"]) - run["phi"][0]))
    end = int(np.searchsorted(phi, 1.6 * bank)) if phi.max() > 1.6 * bank else len(phi)
    axes.plot(run.time[:end], phi[:end], color=ACTUAL, lw=1.8)
    axes.axhline(bank, color=SOFT, lw=0.8)
    for level, limit in enumerate(line.highs, start=1):
        if limit is not None:
            axes.plot([limit, limit], [0.0, bank], color=INK, lw=1.0, ls="-" if level == 1 else "--")
            axes.annotate(
                f"level {level}",
                (limit, 1.0),
                xytext=(2, 2),
                textcoords="offset points",
                fontsize=8,
                color=SOFT,
                rotation=90,
            )
    axes.set_xlabel("time after full roll control [s]")
    axes.set_ylabel("change of bank [deg]")
    _title(axes, f"{line.value:.3g} s to {bank:g} deg of bank")


def figure_handling_map(found: "HandlingMap") -> "Figure":
    """Return the levels over the last two axes of a sweep, numbered, with what limits each region.

    A panel for each combination of the other axes.

    Parameters
    ----------
    found : HandlingMap
        The levels over a sweep.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For a sweep of fewer than two axes, or of too many panels.
    """
    sweep = found.sweep
    if len(sweep.axes) < 2:
        raise DravikError("the levels run over one axis", expected="a sweep over two, such as altitude and airspeed")
    *others, up, across = sweep.axes
    shape = (-1, len(sweep.axes[up]), len(sweep.axes[across]))
    levels = found.levels.reshape(shape)
    names = np.array(found.limiting(), dtype=object).reshape(shape)
    places = list(itertools.product(*(sweep.axes[n] for n in others)))
    if len(places) > MOST_PANELS:
        raise DravikError(f"{len(places)} maps do not fit into one figure", expected=f"at most {MOST_PANELS}")
    key = [n for n, _ in _counted(names)][:MOST_NAMED]
    figure = new_figure(f"{sweep.name}: handling qualities, class {found.aircraft_class}, category {found.category}")
    columns = min(len(places), 2 if len(places) <= 4 else 3)
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(math.ceil(len(places) / columns), columns, squeeze=False, sharex=True, sharey=True)
        for axes, place, own, limited in zip(grid.ravel(), places, levels, names, strict=False):
            _levels(axes, (_edges(sweep, across), _edges(sweep, up)), own, limited, key)
            if others:
                _title(axes, words_of(sweep, place))
            axes.tick_params(labelcolor=INK)
        for axes in grid.ravel()[len(places) :]:
            axes.set_axis_off()
        for axes in grid[-1]:
            axes.set_xlabel(label_of(sweep, across))
        for axes in grid[:, 0]:
            axes.set_ylabel(label_of(sweep, up))
        _key(figure, key)
    return figure


def _levels(axes: "Axes", edges: "tuple[Any, Any]", levels: "Any", names: "Any", key: list[str]) -> None:
    """Draw one map of levels."""
    x, y = edges
    for i, j in np.ndindex(levels.shape):
        _cell(axes, (x[j : j + 2], y[i : i + 2]), float(levels[i, j]), str(names[i, j]), key, levels.size)
    axes.set_xlim(x[0], x[-1])
    axes.set_ylim(y[0], y[-1])
    axes.grid(visible=False)


def _cell(
    axes: "Axes", corner: "tuple[Any, Any]", level: float, name: str, key: list[str], count: int
) -> None:  # fmt: skip
    from matplotlib.patches import Rectangle

    x, y = corner
    if math.isnan(level):
        return
    axes.add_patch(
        Rectangle((x[0], y[0]), x[1] - x[0], y[1] - y[0], facecolor=SHADES[int(level)], edgecolor="white", lw=0.4)
    )
    if count <= MOST_NUMBERS:
        text = "?" if level == 0 else f"{level:.0f}"
        text += chr(ord("a") + key.index(name)) if name in key else ""
        axes.annotate(
            text, (0.5 * (x[0] + x[1]), 0.5 * (y[0] + y[1])), ha="center", va="center", fontsize=7,
            color="white" if level >= 3 else INK,
        )  # fmt: skip


def _key(figure: "Figure", key: list[str]) -> None:
    from matplotlib.patches import Patch

    words = {1: "level 1", 2: "level 2", 3: "level 3", 4: "below level 3", 0: "no level can be given (?)"}
    handles = [Patch(facecolor=SHADES[k], edgecolor=SOFT, label=words[k]) for k in (1, 2, 3, 4, 0)]
    handles += [Patch(alpha=0.0, label=f"{chr(ord('a') + k)}: {name}") for k, name in enumerate(key)]
    figure.legend(handles=handles, loc="outside right upper", frameon=False, fontsize=9)


def _counted(names: "Any") -> list[tuple[str, int]]:
    """Return the names that are not empty with their numbers, the most frequent first."""
    found: dict[str, int] = {}
    for name in names.ravel():
        if name:
            found[name] = found.get(name, 0) + 1
    return sorted(found.items(), key=lambda item: -item[1])


def _edges(sweep: "Any", name: str) -> "np.ndarray[Any, Any]":
    """Return the edges of cells around an axis' values, in the unit shown; text by its place."""
    factor = from_si(sweep.units.get(name, ""))[1]
    values = np.array([v * factor if isinstance(v, float) else float(i) for i, v in enumerate(sweep.axes[name])])
    if len(values) == 1:
        return np.array([values[0] - 0.5, values[0] + 0.5])
    middle = 0.5 * (values[1:] + values[:-1])
    return np.concatenate([[2.0 * values[0] - middle[0]], middle, [2.0 * values[-1] - middle[-1]]])
