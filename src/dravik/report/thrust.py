"""Engines drawn: maps of propellers, thrust over speed, power available against required, thrust curves."""

import math
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np

from dravik.report.figures import new_figure, one_panel
from dravik.report.style import ACTUAL, COMMANDED, INK, PALETTE, SOFT, STYLE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.aircraft import Aircraft
    from dravik.performance import EnginePoint, Performance
    from dravik.tables import Axis

__all__ = ["figure_performance", "figure_thrust_curves"]

DASHES: tuple[Any, ...] = ("-", ":", "-.", (0, (1, 3)))  # of the directions in which engines push


def figure_performance(craft: "Aircraft", bench: "list[EnginePoint]", found: "Performance") -> "Figure":
    """Return the propeller's map (where there is one), thrust, power, and climb with endurance over speed.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    bench : list of EnginePoint
        What the engines give.
    found : Performance
        Performance over airspeeds.

    Returns
    -------
    Figure
    """
    figure = new_figure(f"{craft.name} ({found.loading}) at {found.altitude:g} m: engines and performance")
    with matplotlib.rc_context(STYLE):
        (left, right), (below, last) = figure.subplots(2, 2)
        if craft.definition.propellers:
            _map(left, craft)
        else:
            _flow(left, bench)
        _thrusts(right, bench, found)
        _power(below, found)
        _climb(last, found)
        for axes in (left, right, below, last):
            axes.tick_params(labelcolor=INK)
            axes.margins(x=0.02)
    return figure


def _map(axes: "Axes", craft: "Aircraft") -> None:
    """Draw thrust and power coefficients and efficiency over the advance ratio, at a few settings of the other axis."""
    name = next(iter(craft.definition.propellers))
    ct, cp = craft.tables[f"CT_{name}"], craft.tables[f"CP_{name}"]
    ratio = ct.axes[0].values
    fine = np.linspace(max(ratio[0], -0.1), _reach(ratio, ct.values), 200)
    others = ct.axes[1:]
    members = [tuple(float(a.values[0]) for a in others)]
    if others:
        values = others[0].values
        members = [
            (float(v), *(float(a.values[0]) for a in others[1:])) for v in values[:: max(1, (len(values) - 1) // 2)][:3]
        ]
    for k, member in enumerate(members):
        colour = PALETTE[k]
        rest = [np.full_like(fine, v) for v in member]
        thrust, power = ct(fine, *rest), cp(fine, *rest)
        efficiency = np.where(
            (thrust > 0) & (power > 0) & (fine > 0), fine * thrust / np.where(power > 0, power, 1), np.nan
        )
        label = ", ".join(_setting(a, v) for a, v in zip(others, member, strict=True)) or name
        axes.plot(fine, thrust, color=colour, lw=1.6, label=label)
        axes.plot(fine, power, color=colour, lw=1.3, ls=(0, (5, 2)))
        if k == 0:
            axes.plot(fine, 0.1 * efficiency, color=SOFT, lw=1.3, ls=":")
    axes.axhline(0.0, color=SOFT, lw=0.7)
    axes.set_xlabel("advance ratio V/nD")
    axes.set_ylabel("CT (line), CP (dashed), efficiency/10 (dotted)")
    axes.set_title(f"propeller {name}", fontsize=10, color=INK, loc="left")
    axes.legend(frameon=False, fontsize=8)


def _setting(axis: "Axis", value: float) -> str:
    """Return the setting of a map's axis in words, an angle in degrees."""
    words = axis.name.replace("_", " ")
    return f"{words} {math.degrees(value):.3g}°" if axis.unit == "rad" else f"{words} {value:.3g}"


def _reach(ratio: "np.ndarray", values: "np.ndarray") -> float:
    """Return the advance ratio up to which the map is worth drawing: where the thrust has turned, and a little more."""
    first = values.reshape(len(ratio), -1)[:, 0]
    gone = np.flatnonzero((first < 0.0) & (ratio > 0.0))
    return float(min(ratio[-1], 1.25 * ratio[gone[0]])) if gone.size else float(ratio[-1])


def _nothing(axes: "Axes", why: str) -> None:
    """Say in the place of a panel why there is nothing to draw."""
    axes.set_axis_off()
    axes.text(0.0, 1.0, why, va="top", color=SOFT, transform=axes.transAxes)


def _flow(axes: "Axes", bench: "list[EnginePoint]") -> None:
    """Draw the fuel flow over speed at each throttle."""
    if not any(math.isfinite(p.fuel_flow) for p in bench):
        _nothing(axes, "the engines burn no fuel that the file tells of")
        return
    for k, throttle in enumerate(dict.fromkeys(p.throttle for p in bench)):
        points = [p for p in bench if p.throttle == throttle]
        axes.plot(
            [p.airspeed for p in points], [3600.0 * p.fuel_flow for p in points], color=PALETTE[k], lw=1.6,
            label=f"throttle {throttle:g}",
        )  # fmt: skip
    axes.set_xlabel("airspeed [m/s]")
    axes.set_ylabel("fuel flow [kg/h]")
    axes.set_ylim(bottom=0.0)
    axes.legend(frameon=False, fontsize=8)


def _thrusts(axes: "Axes", bench: "list[EnginePoint]", found: "Performance") -> None:
    directions = list(dict.fromkeys(direction for p in bench for direction in p.thrusts))
    for k, throttle in enumerate(dict.fromkeys(p.throttle for p in bench)):
        points = [p for p in bench if p.throttle == throttle]
        # what lifts and what pushes are two things: each direction has a line of its own
        for direction, dash in zip(directions if len(directions) > 1 else ("",), DASHES, strict=False):
            axes.plot(
                [p.airspeed for p in points],
                [p.thrusts.get(direction, math.nan) if direction else p.thrust for p in points],
                color=PALETTE[k], lw=1.6, ls=dash, marker="o", ms=3,
                label=f"throttle {throttle:g}" + (f", {direction}" if direction else ""),
            )  # fmt: skip
    axes.plot(*_required(found, "thrust"), color=INK, lw=1.6, ls=(0, (5, 2)), label="along the flow in level flight")
    axes.axhline(0.0, color=SOFT, lw=0.7)
    axes.set_xlabel("airspeed [m/s]")
    axes.set_ylabel("thrust of all engines [N]")
    axes.margins(y=0.2)
    axes.legend(frameon=False, fontsize=8)


def _required(found: "Performance", what: str) -> tuple[list[float], list[float]]:
    """Return airspeeds and what level flight requires, up to where it meets what there is: no point lies just there."""
    speeds = [p.airspeed for p in found.points]
    values = [float(getattr(p, f"{what}_required")) for p in found.points]
    if math.isfinite(found.fastest):
        below = [(v, r) for v, r in zip(speeds, values, strict=True) if v < found.fastest]
        most = [float(getattr(p, f"{what}_available")) for p in found.points]
        speeds = [*(v for v, _ in below), found.fastest]
        values = [*(r for _, r in below), float(np.interp(found.fastest, [p.airspeed for p in found.points], most))]
    return speeds, values


def _power(axes: "Axes", found: "Performance") -> None:
    speed = [p.airspeed for p in found.points]
    powers = [p.power_available for p in found.points] + [p.power_required for p in found.points]
    unit, scale = ("kW", 1e-3) if max((p for p in powers if math.isfinite(p)), default=0.0) >= 5e3 else ("W", 1.0)
    if not any(math.isfinite(p) for p in powers):
        _nothing(axes, "no power along the flow: nothing holds level flight on push alone")
        return
    most = [scale * p.power_available for p in found.points]
    axes.plot(speed, most, color=ACTUAL, lw=1.6, label="available, full throttle", marker="o", ms=3)
    required = _required(found, "power")
    axes.plot(required[0], [scale * v for v in required[1]], color=INK, lw=1.6, ls=(0, (5, 2)), label="required")
    if math.isfinite(found.fastest):
        axes.axvline(found.fastest, color=SOFT, lw=1.0, ls=":")
        words, place = f"fastest {found.fastest:.3g} m/s", (found.fastest, 0.03)
        axes.annotate(words, place, xycoords=("data", "axes fraction"), xytext=(-3, 0), textcoords="offset points",
                      ha="right", fontsize=8, color=SOFT)  # fmt: skip
    axes.set_ylim(bottom=0.0)
    axes.set_xlabel("airspeed [m/s]")
    axes.set_ylabel(f"power [{unit}]")
    axes.legend(frameon=False, fontsize=8)


def _climb(axes: "Axes", found: "Performance") -> None:
    speed = [p.airspeed for p in found.points]
    climbs = any(math.isfinite(p.climb_rate) for p in found.points)
    if climbs:
        axes.plot(
            speed,
            [p.climb_rate for p in found.points],
            color=ACTUAL,
            lw=1.6,
            marker="o",
            ms=3,
            label="climb at full throttle",
        )
        axes.set_ylabel("climb rate [m/s]")
        axes.set_ylim(bottom=min(0.0, *(p.climb_rate for p in found.points if math.isfinite(p.climb_rate))))
    hours = [p.endurance / 3600.0 for p in found.points]
    axes.set_xlabel("airspeed [m/s]")
    if not any(math.isfinite(h) for h in hours):
        if climbs:
            axes.legend(frameon=False, fontsize=8, loc="lower center")
        else:
            _nothing(axes, "no climb at full throttle, and no endurance")
        return
    beside = axes.twinx() if climbs else axes
    beside.plot(speed, hours, color=COMMANDED, lw=1.4, ls=(0, (5, 2)), label="endurance")
    beside.set_ylabel("endurance [h]")
    beside.grid(visible=False)
    beside.set_ylim(bottom=0.0)
    handles = axes.get_legend_handles_labels()
    more = beside.get_legend_handles_labels() if climbs else ([], [])
    axes.legend(handles[0] + more[0], handles[1] + more[1], frameon=False, fontsize=8, loc="lower center")


def figure_thrust_curves(craft: "Aircraft", *, ax: "Axes | None" = None) -> "Figure":
    """Return the thrust curves of the solid motors, and what is left of the propellant.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    ax : Axes, optional
        Axes to draw on, as part of a figure of your own. A new figure unless given.

    Returns
    -------
    Figure
    """
    with matplotlib.rc_context(STYLE):
        figure, axes = one_panel(f"{craft.name}: thrust at sea level and propellant left", ax)
        beside = axes.twinx()
        names = [n for n in craft.definition.engines if f"thrust_curve_{n}" in craft.tables]
        for k, name in enumerate(names):
            curve = craft.tables[f"thrust_curve_{name}"]
            time = np.linspace(0.0, curve.axes[0].values[-1], 400)
            thrust = curve(time)
            gone = np.concatenate([[0.0], np.cumsum(0.5 * (thrust[1:] + thrust[:-1]) * np.diff(time))])
            axes.plot(time, thrust, color=PALETTE[k], lw=1.8, label=f"{name}: thrust")
            beside.plot(
                time, 100.0 * (1.0 - gone / gone[-1]), color=PALETTE[k], lw=1.3, ls=(0, (5, 2)), label=f"{name}: grain"
            )
        axes.set_xlabel("time since ignition [s]")
        axes.set_ylabel("thrust [N]")
        axes.set_ylim(bottom=0.0)
        beside.set_ylabel("propellant left [%] (dashed)")
        beside.set_ylim(0.0, 105.0)
        beside.grid(visible=False)
        axes.legend(frameon=False, loc="lower left")
    return figure
