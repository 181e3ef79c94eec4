"""The command loop: an aircraft with its laws broken at a signal, and the margins of what comes back."""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Figure, emit, say, show_rows, written
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.cli.shared.sweeps import Sweeps
from dravik.errors import DravikError
from dravik.units import in_si

if TYPE_CHECKING:
    from collections.abc import Mapping

    from dravik.aircraft import Aircraft
    from dravik.cli.loop_plan import DesignRequest, SweptMargins
    from dravik.loops import Margins
    from dravik.trimming import TrimPoint

__all__ = ["loop"]


@dataclass(frozen=True)
class CutOptions(OptionGroup):
    """A loop that is broken at a signal, or roots over a parameter."""

    at: Annotated[
        str,
        typer.Option(
            "--at",
            metavar="SIGNAL",
            help="where the loop is broken: elevator_command, or a sum such as 'elevon_left_command + "
            "elevon_right_command'; with --sweep several, separated by commas (all that laws close unless given)",
        ),
    ] = ""
    delay: Annotated[str, typer.Option(help="more delay in the loop, such as '50 ms'")] = "0 s"
    least_gain: Annotated[float, typer.Option(help="gain margin asked for, dB")] = 6.0
    least_phase: Annotated[float, typer.Option(help="phase margin asked for, deg")] = 45.0
    locus: Annotated[
        str, typer.Option(metavar="NAME=VALUES", help="roots over a parameter of the laws: 'yaw_damper_gain=0:2:60'")
    ] = ""
    damping: Annotated[float, typer.Option(help="with --locus: a line of damping to be crossed")] = 0.0
    sweep: Sweeps = None

    def swept(self) -> "SweptMargins":
        """Return what is asked of margins over conditions."""
        from dravik.cli.loop_plan import SweptMargins

        return SweptMargins(self.sweep or (), self.at, self.delay, self.least_gain, self.least_phase)

    def refuse(self) -> None:
        """Raise DravikError for what loops from a file say themselves."""
        late = self.delay != "0 s" and self.delay
        given = {"--at": self.at, "--locus": self.locus, "--damping": self.damping, "--delay": late}
        _refuse(given, "with loops from a file", "without --plan, or the keys of the file")


@dataclass(frozen=True)
class DesignOptions(OptionGroup):
    """Loops from a file, and what is done with them."""

    plan: Annotated[str, typer.Option(metavar="FILE", help="loops to close, or the name of the aircraft's own")] = ""
    fly: Annotated[str, typer.Option(help="with a plan: steps to fly, such as '1 deg,5 deg'")] = ""
    flown: Annotated[str, written("with a plan: figure of the flown steps")] = ""
    beside: Annotated[
        list[str] | None,
        typer.Option(metavar="LOOP.KEY=VALUE", help="with a plan: another value, drawn over the first; repeated"),
    ] = None
    schedule: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=VALUES", help="with a plan: gains over 'airspeed=50:90:5 m/s'; repeated"),
    ] = None
    out: Annotated[str, written("with a plan: write its law here", "--out")] = ""

    def refuse(self) -> None:
        """Raise DravikError for options that need loops from a file."""
        only = {"--fly": self.fly, "--flown": self.flown, "--beside": self.beside, "--schedule": self.schedule}
        _refuse({**only, "--out": self.out}, "without loops from a file", "--plan FILE")

    def refuse_beside_sweep(self, figure: str) -> None:
        """Raise DravikError for options that a sweep of margins leaves without a meaning."""
        given = {"--fly": self.fly, "--flown": self.flown, "--beside": self.beside, "--schedule": self.schedule}
        _refuse({**given, "--out": self.out, "--figure": figure}, "with --sweep", "--json for programs")

    def run(self, asked: "DesignRequest", figure: str, *, as_json: bool) -> None:
        """Close the loops at one condition, or over those of a schedule; print and write what comes of it."""
        from dravik.cli.loop_plan import run_plan, run_schedule

        if self.schedule:
            unused = {"--fly": self.fly, "--flown": self.flown, "--beside": self.beside, "--figure": figure}
            _refuse(unused, "with --schedule", "--out")
            run_schedule(asked, self.schedule, self.out, as_json=as_json)
        else:
            files = {"figure": figure, "flown": self.flown, "out": self.out}
            run_plan(asked, files, self.fly, self.beside or (), as_json=as_json)


@grouped
def loop(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    broken: CutOptions,
    planned: DesignOptions,
    figure: Figure = "",
    as_json: AsJson = False,
) -> None:
    """Break a loop at a signal, or close the loops of a file: margins, steps, requirements, the law, flown steps.

    With --sweep the margins of every loop over conditions, with the worst one named.

    Exit code 1: a requirement is not met; margins are below --least-gain and --least-phase; or the loop is not stable.
    """
    from dravik.cli.loop_plan import DesignRequest, show_locus, the_plan

    own = the_plan(aircraft, planned.plan)
    if own is not None:
        broken.refuse()
        if broken.sweep:
            from dravik.cli.loop_plan import sweep_plan

            planned.refuse_beside_sweep(figure)
            design = DesignRequest(own, aircraft if planned.plan else "", chosen)
            if not sweep_plan(design, broken.swept(), as_json=as_json):
                raise typer.Exit(1)
            return
        planned.run(DesignRequest(own, aircraft if planned.plan else "", chosen), figure, as_json=as_json)
        return
    planned.refuse()
    craft = chosen.craft(aircraft)
    if broken.sweep:
        from dravik.cli.loop_plan import sweep_cuts

        _refuse({"--locus": broken.locus, "--figure": figure}, "with --sweep", "--json for programs")
        if not sweep_cuts(craft, chosen, broken.swept(), as_json=as_json):
            raise typer.Exit(1)
        return
    point = chosen.point(craft)
    if broken.locus:
        _refuse({"--at": broken.at, "--delay": broken.delay != "0 s"}, "with --locus", "margins, without --locus")
        show_locus(craft, point, broken.locus, broken.damping, figure, as_json=as_json)
        return
    _refuse({"--damping": broken.damping}, "without --locus", "--locus NAME=VALUES")
    _break(craft, point, broken, figure, as_json=as_json)


def _refuse(options: "Mapping[str, object]", where: str, expected: str) -> None:
    """Raise DravikError for options that were given and would do nothing."""
    given = [name for name, value in options.items() if value]
    if given:
        raise DravikError(f"{' and '.join(given)} cannot be given {where}", expected=expected)


def _break(craft: "Aircraft", point: "TrimPoint", broken: CutOptions, figure: str, *, as_json: bool) -> None:
    """Break a loop at a signal, print and draw its margins; leaves with 1 where there are less than the least."""
    from dravik.loops import cut_loop, margins

    late, gain, phase = in_si(broken.delay, "time", where="delay"), broken.least_gain, broken.least_phase
    open_loop = cut_loop(craft, point, broken.at or "elevator_command")
    found = margins(open_loop, delay=late)
    holds = found.closes and found.gain_decibels >= gain and math.degrees(found.phase) >= phase
    title = f"{craft.name}, {point.title}: loop at {open_loop.outputs[0]}"
    if figure:
        from dravik.report import figure_loop, save_figure

        drawn = figure_loop(open_loop, found, delay=late, title=title, least_gain=gain, least_phase=phase)
        save_figure(drawn, figure)
    if as_json:
        emit(
            {
                "aircraft": craft.name, "at": open_loop.outputs[0], "holds": holds, **_record(found),
                "crossings": found.rows(),
            }
        )  # fmt: skip
    else:
        _show(title, found)
        asked = f"{gain:g} dB and {phase:g} deg asked for"
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
        "stable": found.is_stable, "closes": found.closes, **least, "gain_up": found.gain_up,
        "gain_down": found.gain_down,
        "delay_margin_s": found.delay, **disc, "disc_phase_deg": math.degrees(found.disc_phase),
        "sensitivity_peak": found.sensitivity[0], "complementary_peak": found.complementary[0],
        "bandwidth_rad_s": found.bandwidth, "unstable_roots": found.unstable_roots,
        "unstable_count": found.unstable_count, "growing": [str(g) for g in found.growing],
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
    beside = found.closes and not found.is_stable
    say(
        f"the closed loop is {'' if found.closes else 'not '}stable"
        + (", but for what it does not touch:" if beside else "")
    )
    for growing in found.growing:
        say(str(growing), "yellow" if beside else "red")
    if not found.agree:
        text = (
            f"Nyquist's count says {found.unstable_count} unstable roots, the closed loop's own {found.unstable_roots}"
        )
        say(text, "red")
