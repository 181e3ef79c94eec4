"""The command loop: an aircraft with its laws broken at a signal, and the margins of what comes back."""

import math
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.common import (
    AircraftFile,
    AsJson,
    Figure,
    Laws,
    Loading,
    Settings,
    emit,
    get_craft,
    say,
    show_rows,
)
from dravik.cli.conditions import AskedFor, get_point, takes_condition
from dravik.errors import DravikError
from dravik.units import in_si

if TYPE_CHECKING:
    from collections.abc import Mapping

    from dravik.aircraft import Aircraft
    from dravik.loops import Margins
    from dravik.trimming import TrimPoint

__all__ = ["loop"]


@takes_condition
def loop(
    aircraft: AircraftFile,
    condition: AskedFor,
    at: Annotated[str, typer.Option("--at", metavar="SIGNAL", help="where the loop is broken: elevator_command")] = "",
    delay: Annotated[str, typer.Option(help="more delay in the loop, such as '50 ms'")] = "0 s",
    least_gain: Annotated[float, typer.Option(help="gain margin asked for, dB")] = 6.0,
    least_phase: Annotated[float, typer.Option(help="phase margin asked for, deg")] = 45.0,
    plan: Annotated[str, typer.Option(metavar="FILE", help="loops to close, or the name of the aircraft's own")] = "",
    fly: Annotated[str, typer.Option(help="with a plan: steps to fly, such as '1 deg,5 deg'")] = "",
    flown: Annotated[str, typer.Option(metavar="FILE", help="with a plan: figure of the flown steps")] = "",
    beside: Annotated[
        list[str] | None,
        typer.Option(metavar="LOOP.KEY=VALUE", help="with a plan: another value, laid over; repeated"),
    ] = None,
    schedule: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=VALUES", help="with a plan: gains over 'airspeed=50:90:5 m/s'; repeated"),
    ] = None,
    out: Annotated[str, typer.Option("--out", metavar="FILE", help="with a plan: write its law here")] = "",
    locus: Annotated[
        str, typer.Option(metavar="NAME=VALUES", help="roots over a parameter of the laws: 'yaw_damper_gain=0:2:60'")
    ] = "",
    damping: Annotated[float, typer.Option(help="with --locus: a line of damping to be crossed")] = 0.0,
    figure: Figure = "",
    set_: Settings = None,
    loading: Loading = "",
    law: Laws = None,
    as_json: AsJson = False,
) -> None:
    """Break a loop at a signal, or close the loops of a file: margins, steps, requirements, the law, flown steps."""
    from dravik.cli.loop_plan import Asked, run_plan, run_schedule, show_locus, the_plan

    only = {"--fly": fly, "--flown": flown, "--beside": beside, "--schedule": schedule, "--out": out}
    own = the_plan(aircraft, plan)
    if own is not None:
        at_a_break = {"--at": at, "--locus": locus, "--damping": damping, "--delay": delay != "0 s" and delay}
        _refuse(at_a_break, "with loops from a file", "without --plan, or the keys of the file")
        asked = Asked(own, aircraft if plan else "", condition, set_, loading, law)
        if schedule:
            _refuse(
                {"--fly": fly, "--flown": flown, "--beside": beside, "--figure": figure}, "with --schedule", "--out"
            )
            run_schedule(asked, schedule, out, as_json=as_json)
        else:
            files = {"figure": figure, "flown": flown, "out": out}
            run_plan(asked, files, fly, beside or (), as_json=as_json)
        return
    _refuse(only, "without loops from a file", "--plan FILE")
    craft = condition.in_wind(get_craft(aircraft, loading, law, set_))
    point = get_point(craft, condition, set_)
    if locus:
        show_locus(craft, point, locus, damping, figure, as_json=as_json)
        return
    least = {"least_gain": least_gain, "least_phase": least_phase}
    _break(craft, point, at or "elevator_command", in_si(delay, "time", where="delay"), least, figure, as_json=as_json)


def _refuse(options: "Mapping[str, object]", where: str, expected: str) -> None:
    """Raise DravikError for options that were given and would do nothing."""
    given = [name for name, value in options.items() if value]
    if given:
        raise DravikError(f"{' and '.join(given)} {where}", expected=expected)


def _break(
    craft: "Aircraft", point: "TrimPoint", at: str, late: float, least: dict[str, float], figure: str, *, as_json: bool
) -> None:  # fmt: skip
    """Break a loop at a signal, print and draw its margins; leaves with 1 where there are less than the least."""
    from dravik.loops import broken_loop, margins

    opened = broken_loop(craft, point, at)
    found = margins(opened, delay=late)
    holds = (
        found.is_stable
        and found.gain_decibels >= least["least_gain"]
        and math.degrees(found.phase) >= least["least_phase"]
    )
    title = f"{craft.name}, {point.title}: loop at {opened.outputs[0]}"
    if figure:
        from dravik.report import figure_loop, save_figure

        save_figure(figure_loop(opened, found, delay=late, title=title, **least), figure)
    if as_json:
        emit(
            {
                "aircraft": craft.name, "at": opened.outputs[0], "holds": holds, **_record(found),
                "crossings": found.rows(),
            }
        )  # fmt: skip
    else:
        _show(title, found)
        asked = f"{least['least_gain']:g} dB and {least['least_phase']:g} deg asked for"
        say(f"{asked}: {'met' if holds else 'not met'}", "" if holds else "red")
        if figure:
            say(f"written: {figure}")
    if not holds:
        raise typer.Exit(1)


def _record(found: "Margins") -> dict[str, object]:
    down, up = found.disc_gain
    least = {"gain_margin_dB": found.gain_decibels, "phase_margin_deg": math.degrees(found.phase)}
    disc = {"disc": found.disc, "disc_gain_down": down, "disc_gain_up": up}
    return {
        "stable": found.is_stable, **least, "gain_up": found.gain_up, "gain_down": found.gain_down,
        "delay_margin_s": found.delay, **disc, "disc_phase_deg": math.degrees(found.disc_phase),
        "sensitivity_peak": found.sensitivity[0], "complementary_peak": found.complementary[0],
        "bandwidth_rad_s": found.bandwidth, "unstable_roots": found.unstable_roots,
        "unstable_count": found.unstable_count,
    }  # fmt: skip


def _show(title: str, found: "Margins") -> None:
    rows = [tuple("" if v is None else v for v in r.values()) for r in found.rows()]
    if rows:
        heads = ["crossing", "rad/s", "gain margin [dB]", "phase margin [deg]", "delay margin [s]"]
        show_rows(title, heads, rows)
    else:
        say(f"{title}: the loop crosses neither the unit circle nor the negative real axis")
    down, up = found.disc_gain
    figures = [
        ("gain margin, the smallest", found.gain_decibels, "dB"),
        ("phase margin, the smallest", math.degrees(found.phase), "deg"),
        ("delay margin", found.delay, "s"), ("nearest to -1", found.modulus, ""), ("disc margin", found.disc, ""),
        ("gain that the disc allows, down", 20.0 * math.log10(max(down, 1e-9)), "dB"),
        ("gain that the disc allows, up", 20.0 * math.log10(up) if math.isfinite(up) else math.inf, "dB"),
        ("phase that the disc allows", math.degrees(found.disc_phase), "deg"),
        ("peak of the sensitivity", found.sensitivity[0], f"at {found.sensitivity[1]:.3g} rad/s"),
        ("peak of the complementary one", found.complementary[0], f"at {found.complementary[1]:.3g} rad/s"),
        ("bandwidth, closed (-3 dB)", found.bandwidth, "rad/s"),
    ]  # fmt: skip
    show_rows("the loop", ["what", "value", ""], figures)
    say(f"the closed loop is {'' if found.is_stable else 'not '}stable")
    if not found.agree:
        text = (
            f"Nyquist's count says {found.unstable_count} unstable roots, the closed loop's own {found.unstable_roots}"
        )
        say(text, "red")
