"""The commands: what each reads, what it prints."""

from dataclasses import dataclass
from typing import Annotated

import typer

from dravik.aircraft.table_limits import told as told_outside
from dravik.cli.blades import blades
from dravik.cli.book import book
from dravik.cli.flying import craft_or_scenario, fly
from dravik.cli.handling import handling
from dravik.cli.limits import limits
from dravik.cli.linearising import linearise
from dravik.cli.live import live
from dravik.cli.loop import loop
from dravik.cli.mass import mass
from dravik.cli.on_board.mode_logic import logic
from dravik.cli.on_board.sensors import sensors
from dravik.cli.pictures import axes, export, plot
from dravik.cli.response import response
from dravik.cli.runway import fuel, runway
from dravik.cli.score import score
from dravik.cli.shared.common import (
    AircraftFile,
    AsJson,
    Figure,
    Laws,
    Loading,
    emit,
    get_craft,
    say,
    show_rows,
    written,
)
from dravik.cli.shared.conditions import CraftAndCondition, get_point
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.cli.shared.sweeps import Sweeps, run_all, run_sweep
from dravik.cli.tables import tables
from dravik.cli.task import task
from dravik.cli.thrust import thrust
from dravik.errors import DravikError
from dravik.host.files import allowing
from dravik.report.shown_units import in_units
from dravik.version import __version__

__all__ = ["app"]

app = typer.Typer(
    add_completion=False, no_args_is_help=True, rich_markup_mode=None, pretty_exceptions_enable=False,
    help="Flight simulation for engineers: check, trim, linearise, judge and fly an aircraft that is given as data.",
)  # fmt: skip


def _version(value: bool) -> None:
    if value:
        print(f"dravik {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    context: typer.Context,
    root: Annotated[
        list[str] | None,
        typer.Option(
            "--root", metavar="FOLDER", help="definitions may name files in it, besides their own folder; repeatable"
        ),
    ] = None,
    units: Annotated[
        str, typer.Option("--units", help="units of tables and figures: SI, or aviation (kt, ft, ft/min)")
    ] = "SI",
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="print the version")
    ] = False,
) -> None:
    context.with_resource(allowing(*(root or ())))
    context.with_resource(in_units(units))


@app.command()
def demo(
    folder: Annotated[str, typer.Option("--out", metavar="FOLDER", help="where to write")] = "demo",
    quick: Annotated[bool, typer.Option("--quick", help="shorter flights, smaller figures")] = False,
    as_json: AsJson = False,
) -> None:
    """Take the Tarn through the whole work: check, trim, prove, linearise, judge, close a loop, fly, report.

    Exit code 1: a step's answer is no.
    """
    from dravik.cli.demo import run_demo

    if not run_demo(folder, quick=quick, as_json=as_json):
        raise typer.Exit(1)


@app.command()
def new(
    folder: Annotated[str, typer.Argument(help="new folder")],
    sample: Annotated[str, typer.Option(help="sample to start from")] = "tarn",
    as_json: AsJson = False,
) -> None:
    """Make a folder with an aircraft file and its tables to start from."""
    from dravik.aircraft import copy_sample

    path = copy_sample(sample, folder)
    if as_json:
        emit({"aircraft": str(path), "sample": sample})
    else:
        say(f"{path} is there, with its tables and laws. Next: dravik check {folder}")


@app.command()
def check(aircraft: AircraftFile, loading: Loading = "", law: Laws = None, as_json: AsJson = False) -> None:
    """Audit an aircraft, or that of a scenario: inertia, signs, tables, units, plausibility, modes of its laws.

    Exit code 1: errors were found.
    """
    from dravik.checks import audit

    craft = craft_or_scenario(aircraft, loading, law)
    findings = audit(craft)
    errors = sum(f.severity == "error" for f in findings)
    if as_json:
        emit({"aircraft": craft.name, "errors": errors, "findings": [vars(f) for f in findings]})
    else:
        if findings:
            show_rows(
                f"{craft.name}: findings", ["severity", "where", "what", "what to do"],
                [(f.severity, f.place, f.what, f.do) for f in findings],
            )  # fmt: skip
        counts = ", ".join(f"{sum(f.severity == s for f in findings)} {s}s" for s in ("error", "warning", "note"))
        say(f"{craft.name} ({craft.loading_name}): {counts}")
    if errors:
        raise typer.Exit(1)


tables.command()(blades)
app.add_typer(tables, name="tables")
app.command()(mass)
app.command()(thrust)
app.command()(sensors)
app.command()(limits)
app.command()(runway)
app.command()(fuel)


@app.command()
def signals(
    aircraft: AircraftFile,
    loading: Loading = "",
    law: Laws = None,
    kind: Annotated[str, typer.Option(help="only this kind: motion, input, effector, command, aero, engine, ...")] = "",
    as_json: AsJson = False,
) -> None:
    """List every signal with its unit and meaning; each can be recorded, plotted, or made an output."""
    craft = get_craft(aircraft, loading, law)
    kinds = sorted({s.kind for s in craft.signals.values()})
    if kind and kind not in kinds:
        raise DravikError(f"there are no signals of kind {kind!r}", expected="one of " + ", ".join(kinds))
    found = [s for s in craft.signals.values() if not kind or s.kind == kind]
    if as_json:
        emit({"aircraft": craft.name, "signals": [s._asdict() for s in found]})
    else:
        show_rows(
            f"{craft.name}: signals",
            ["signal", "unit", "kind", "meaning"],
            [(s.name, s.unit, s.kind, s.meaning) for s in found],
        )


@dataclass(frozen=True)
class SweepOptions(OptionGroup):
    """Trims over axes, or every solution of one, and what is written of them."""

    all_: Annotated[bool, typer.Option("--all", help="every solution found, such as both sides of the power curve")] = (
        False
    )
    sweep: Sweeps = None
    signals: Annotated[str, typer.Option(help="signals of a sweep or of --all, separated by commas")] = ""
    out: Annotated[str, written("write the sweep: .csv or .parquet", "--out")] = ""
    figure: Figure = ""

    def check(self, *, prove: bool) -> None:
        """Raise DravikError for options that exclude each other, and for those that would do nothing."""
        if sum((prove, self.all_, bool(self.sweep))) > 1:
            raise DravikError("--prove, --all and --sweep exclude each other", expected="one of them")
        files = ("--signals", self.signals and not self.all_), ("--out", self.out), ("--figure", self.figure)
        for option, value in () if self.sweep else files:
            if value:
                raise DravikError(f"{option} needs --sweep", expected="--sweep NAME=VALUES")


@app.command()
@grouped
def trim(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    swept: SweepOptions,
    prove: Annotated[bool, typer.Option("--prove", help="fly it hands off for a minute")] = False,
    as_json: AsJson = False,
) -> None:
    """Find the states and controls that hold a condition, or say what stands in the way and what can be held.

    With --sweep for every combination of the values of some axes: curves, or a map over two of them.

    Exit code 1: the trim was not reached, or its proof does not hold.
    """
    swept.check(prove=prove)
    condition, set_, signals = chosen.condition, chosen.set_, swept.signals
    craft = chosen.craft(aircraft)
    if swept.sweep or swept.all_:
        is_held = (
            run_sweep(craft, condition, set_, swept.sweep, signals, swept.out, swept.figure, as_json)
            if swept.sweep
            else run_all(craft, condition, set_, signals, as_json)
        )
        if not is_held:
            raise typer.Exit(1)
        return
    point = get_point(craft, condition, set_)
    proof = None
    if prove:
        from dravik.validation import prove_trim

        proof = prove_trim(point)
    if as_json:
        emit(
            {
                "aircraft": craft.name, "loading": craft.loading_name, "reached": point.reached,
                "signals": point.signals, "residuals": point.residuals, "at_stop": point.at_stop,
                "drifting": point.drifting, "hands_off_60_s": proof.rows() if proof else None,
                "hands_off": proof.title if proof else None, "hands_off_holds": proof.holds if proof else None,
                "doubles_s": proof.doubles if proof else None,
                "table_exceedances": [o.row() for o in point.outside], "spare": point.spare,
                "airspeed_from": point.airspeed_from or None,
            }
        )  # fmt: skip
    else:
        show_rows(
            f"{craft.name} ({craft.loading_name}) trimmed: {point.title}",
            ["signal", "value", "unit", "meaning"],
            point.rows(),
        )
        if point.airspeed_from:
            say(f"airspeed: {point.airspeed_from}")
        say(f"largest residual {point.worst_residual:.1e} (m/s^2, rad/s^2) after {point.evaluations} evaluations")
        for text in point.at_stop:
            say(f"{text}", "yellow")
        for text in (*point.spare, *told_outside(point.outside)):
            say(text, "yellow")
        for name, rate in point.drifting.items():
            say(f"{name} does not stand still: {rate:.3g} a second", "yellow")
        if proof:
            rows = [list(r.values()) for r in proof.rows()]
            show_rows(proof.title, ["signal", "drift", "allowed", "unit"], rows)
            say(f"the trim {proof.verdict}", "" if proof.holds else "red")
    if proof and not proof.holds:
        raise typer.Exit(1)


app.command()(linearise)
app.command()(response)


app.command()(handling)
app.command()(task)
app.command()(loop)
app.command()(score)
app.command()(logic)
app.command()(fly)
app.command()(live)
app.command()(plot)
app.command()(export)
app.command()(axes)
app.command()(book)
