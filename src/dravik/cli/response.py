"""The command response: a linear model in time and frequency, phasors of its modes, and modes as motion."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
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
from dravik.host.files import exists
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.linear import LinearModel
    from dravik.systems import LinearSystem

__all__ = ["response"]

SAVED = (".json", ".npz", ".csv")  # endings of saved systems
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
    plot: Annotated[str, typer.Option(help="of a saved system: bode, nichols, nyquist, roots or step")] = "bode",
    duration: Annotated[str, typer.Option(help="with --figure: length of the steps, such as '20 s'")] = "",
    phasors: Annotated[str, written("write the phasors of the modes as a figure")] = "",
    as_json: AsJson = False,
) -> None:
    """Show how a linear model responds: gain and phase, steps, the phasors of its modes, a mode in motion.

    In the place of an aircraft it takes a saved system (.json, .npz, .csv): --plot draws one channel of it, and of the
    one given with --beside.

    Exit code 1: the trim was not reached.
    """
    from dravik.linear import linearise, load_system

    moved.check()
    if Path(aircraft).suffix in SAVED and exists(Path(aircraft)):
        given = {**dict.fromkeys((*chosen.condition.given(), *chosen.fitted()), True), "--mode": moved.mode,
                 "--phasors": phasors, "--duration": duration}  # fmt: skip
        refused = [option for option, value in given.items() if value]
        if refused:
            raise DravikError(f"{refused[0]} means nothing for a saved system", expected="--channel, --plot, --beside")
        _saved(aircraft, beside, channel or (), plot, figure, as_json=as_json)
        return
    if plot != "bode":
        raise DravikError("--plot needs a saved system", expected="a file .json, .npz or .csv in the place of AIRCRAFT")
    craft = chosen.craft(aircraft)
    point = chosen.point(craft)
    pairs = [channel_of(craft, text, "--channel") for text in channel or ()]
    for output, _ in pairs:
        craft.signal(output)
    if not pairs and (figure or beside):
        raise DravikError("there is no channel to draw", expected="--channel OUTPUT/INPUT, such as theta/elevator")
    if duration and not figure:
        raise DravikError("--duration needs --figure", expected="--figure FILE, in which the steps are drawn")
    outputs = list(dict.fromkeys(output for output, _ in pairs))
    whole = linearise(craft, point)
    answering = linearise(craft, point, outputs=outputs) if outputs else whole
    systems: dict[str, LinearSystem] = {"here": answering}
    if beside:
        systems[beside] = load_system(beside)
    _draw(systems, pairs, whole, (figure, phasors), duration)
    if moved.motion:
        _move(whole, moved.mode, moved.motion, quiet=as_json)
    rows = [_row(system, pair, label) for pair in pairs for label, system in systems.items()]
    if as_json:
        emit({"aircraft": craft.name, "condition": point.title, "channels": rows, "modes": whole.modes().rows()})
        return
    if rows:
        _show(craft.name, answering, rows, several=len(systems) > 1)
    for file in (figure, phasors, moved.motion):
        if file:
            say(f"written: {file}")
    if not rows and not phasors and not moved.motion:
        say("nothing asked for: --channel, --phasors or --mode with --motion", "yellow")


def _saved(
    file: str, beside: str, channels: Sequence[str], plot: str, figure: str, *, as_json: bool
) -> None:  # fmt: skip
    """Print and draw a channel of a saved system, and of another beside it."""
    from dravik.linear import load_system

    systems: dict[str, LinearSystem] = {name: load_system(name) for name in (file, beside) if name}
    first = next(iter(systems.values()))
    chosen: list[tuple[str, str]] = []
    for text in channels:
        output, slash, name = (part.strip() for part in text.partition("/"))
        if not slash or not name:
            raise DravikError(f"--channel {text!r} cannot be read", expected="OUTPUT/INPUT, such as theta/elevator")
        chosen.append((output, name))
    chosen = chosen or [(first.outputs[0], first.inputs[0])]
    if figure:
        from dravik.report import figure_systems, save_figure

        if len(chosen) > 1:
            raise DravikError("several channels cannot be drawn at once", expected="one --channel OUTPUT/INPUT")
        output, name = chosen[0]
        save_figure(figure_systems(systems, plot=plot, channel=chosen[0], title=f"{output} / {name}"), figure)
    rows = [_row(system, pair, label) for pair in chosen for label, system in systems.items()]
    if as_json:
        emit({"systems": list(systems), "channels": rows})
        return
    _show("saved system", first, rows, several=len(systems) > 1)
    if figure:
        say(f"written: {figure}")


def _draw(
    systems: "dict[str, LinearSystem]", pairs: list[tuple[str, str]], model: "LinearModel", files: tuple[str, str],
    duration: str,
) -> None:  # fmt: skip
    from dravik.report import figure_phasors, figure_responses, save_figure

    figure, phasors = files
    if figure:
        drawn = figure_responses(systems, pairs, title=f"Responses of {model.title}", duration=duration or None)
        save_figure(drawn, figure)
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


def _show(name_: str, model: "LinearSystem", rows: list[dict[str, object]], *, several: bool) -> None:
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
    show_rows(f"{name_}: responses", heads, cells)
