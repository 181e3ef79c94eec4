"""The command response: a linear model in time and frequency, phasors of its modes, and modes as motion."""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

from dravik.cli.shared.common import (
    AircraftFile,
    AsJson,
    Figure,
    channel_of,
    emit,
    progress_bar,
    say,
    show_rows,
    written,
)
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.errors import DravikError
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.linear import LinearModel
    from dravik.systems import LinearSystem

__all__ = ["response"]

Channels = Annotated[
    list[str] | None,
    typer.Option("--channel", metavar="OUTPUT/INPUT", help="what responds to what, such as theta/elevator; repeated"),
]
Motion = Annotated[str, written("write the mode of --mode as an animation, .gif or .html")]


@dataclass(frozen=True)
class MotionOptions(OptionGroup):
    """A mode that is set in motion."""

    mode: Annotated[str, typer.Option(help="a mode to set in motion, such as 'Dutch roll'")] = ""
    motion: Motion = ""

    def check(self) -> None:
        """Raise DravikError for one option without the other."""
        if bool(self.mode) != bool(self.motion):
            raise DravikError(
                "--mode needs --motion, and --motion needs --mode", expected="--mode 'Dutch roll' --motion roll.html"
            )


@grouped
def response(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    moved: MotionOptions,
    channel: Channels = None,
    beside: Annotated[str, typer.Option(metavar="FILE", help="a saved model to draw and list beside this one")] = "",
    figure: Figure = "",
    phasors: Annotated[str, written("write the phasors of the modes as a figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Show how a linear model responds: gain and phase, steps, the phasors of its modes, a mode in motion.

    Exit code 1: the trim was not reached.
    """
    from dravik.linear import linearise, load_system

    moved.check()
    craft = chosen.craft(aircraft)
    point = chosen.point(craft)
    pairs = [channel_of(craft, text, "--channel") for text in channel or ()]
    for output, _ in pairs:
        craft.signal(output)
    if not pairs and (figure or beside):
        raise DravikError("there is no channel to draw", expected="--channel OUTPUT/INPUT, such as theta/elevator")
    outputs = list(dict.fromkeys(output for output, _ in pairs))
    whole = linearise(craft, point)
    answering = linearise(craft, point, outputs=outputs) if outputs else whole
    systems: dict[str, LinearSystem] = {"here": answering}
    if beside:
        systems[beside] = load_system(beside)
    _draw(systems, pairs, whole, figure, phasors)
    if moved.motion:
        _move(whole, moved.mode, moved.motion, quiet=as_json)
    rows = [_row(system, pair, label) for pair in pairs for label, system in systems.items()]
    if as_json:
        emit({"aircraft": craft.name, "condition": point.title, "channels": rows, "modes": whole.modes().rows()})
        return
    if rows:
        _show(craft, answering, rows, several=len(systems) > 1)
    for file in (figure, phasors, moved.motion):
        if file:
            say(f"written: {file}")
    if not rows and not phasors and not moved.motion:
        say("nothing asked for: --channel, --phasors or --mode with --motion", "yellow")


def _draw(
    systems: "dict[str, LinearSystem]", pairs: list[tuple[str, str]], model: "LinearModel", figure: str, phasors: str
) -> None:
    from dravik.report import figure_phasors, figure_responses, save_figure

    if figure:
        save_figure(figure_responses(systems, pairs, title=f"Responses of {model.title}"), figure)
    if phasors:
        save_figure(figure_phasors(model), phasors)


def _move(model: "LinearModel", mode: str, file: str, *, quiet: bool) -> None:
    from dravik.report import write_animation
    from dravik.validation import mode_motion

    run = mode_motion(model, mode)
    with progress_bar(quiet=quiet, what="drawing") as told:
        write_animation(run, file, title=f"{mode} alone, {model.title}", progress=told)


def _row(system: "LinearSystem", pair: tuple[str, str], label: str) -> dict[str, object]:
    """Return the figures of one channel, SI."""
    from dravik.systems import frequency_response, time_response

    over, step = frequency_response(system, *pair), time_response(system, *pair).metrics()
    gain, at = over.peak()
    gains = {"static_gain": over.static, "bandwidth_rad_s": over.bandwidth(), "peak_gain": gain, "peak_rad_s": at}
    times = {"rise_s": step.rise, "overshoot": step.overshoot, "settling_s": step.settling}
    return {"output": pair[0], "input": pair[1], "model": label, **gains, **times}


def _show(craft: "Aircraft", model: "LinearSystem", rows: list[dict[str, object]], *, several: bool) -> None:
    cells = []
    for row in rows:
        values = {k: v for k, v in row.items() if isinstance(v, float)}
        unit, factor, _ = from_si(model.units.get(str(row["output"]), ""))
        by, own, _ = from_si(model.units.get(str(row["input"]), ""))
        unit, factor = (f"{unit or '1'}/{by}", factor / own) if by else (unit, factor)
        name = f"{row['output']} / {str(row['input']).removesuffix('_increment')}"
        name += f", {row['model']}" if several else ""
        static: object = values["static_gain"] * factor if math.isfinite(values["static_gain"]) else "none"
        cells.append(
            (
                name, unit, static, values["bandwidth_rad_s"], values["peak_gain"] * factor, values["peak_rad_s"],
                values["rise_s"], 100.0 * values["overshoot"], values["settling_s"],
            )
        )  # fmt: skip
    heads = ["channel", "unit", "at rest", "-3 dB rad/s", "peak", "at rad/s", "10-90 % s", "over %", "within 2 % s"]
    show_rows(f"{craft.name}: answers", heads, cells)
