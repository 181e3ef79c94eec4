"""The command linearise: a model with its modes, derivatives and transfer functions; roots over a sweep; proof."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import numpy as np
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
from dravik.cli.shared.conditions import ConditionOptions, CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.cli.shared.sweeps import Sweeps, sweep_of
from dravik.errors import DravikError
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.linear import Derivatives, LinearModel, Modes, ModeSweep, RootSensitivity
    from dravik.systems import Transfer
    from dravik.trimming import TrimPoint
    from dravik.validation import LinearProof, ModelProof

__all__ = ["linearise", "show_modes"]

MOST_SENSITIVE = 6  # derivatives and parameters of a mode in the printed table
LEAST_WEIGHT = 1e-3  # of a root's size, by which a tenth more of one moves it


@dataclass(frozen=True)
class ModelOptions(OptionGroup):
    """What a linear model is made of and written to."""

    coordinates: Annotated[
        str, typer.Option(help="air (airspeed, alpha, beta), body (u, v, w), which is taken in hover, or stability")
    ] = ""
    outputs: Annotated[str, typer.Option(help="signals to make outputs, separated by commas")] = ""
    out: Annotated[str, written("write the model: .json, .npz or .csv", "--out")] = ""

    def model(self, craft: "Aircraft", point: "TrimPoint") -> "LinearModel":
        """Return the model; writes it too where that is wanted."""
        from dravik.linear import linearise, save_system

        names = [n.strip() for n in self.outputs.split(",") if n.strip()]
        made = linearise(craft, point, coordinates=self.coordinates, outputs=names)
        if self.out:
            save_system(made, self.out)
        return made


@dataclass(frozen=True)
class ProofOptions(OptionGroup):
    """How a model is held against the nonlinear aircraft."""

    prove: Annotated[
        str,
        typer.Option(
            "--prove", metavar="CONTROL", help="compare with the nonlinear response to a doublet; or all: every way"
        ),
    ] = ""
    proof_figure: Annotated[str, written("write the comparison as a figure")] = ""

    def proof(self, model: "LinearModel", point: "TrimPoint") -> "LinearProof | None":
        """Return the comparison with the response to a doublet, drawn where that is wanted; None unless asked for."""
        control = "" if self.prove == "all" else self.prove
        found = _proof(point, control or ("elevator" if self.proof_figure else ""))
        if found is not None and self.proof_figure:
            from dravik.report import figure_overlay, save_figure

            save_figure(figure_overlay(found, title=f"{model.title}: {found.title}"), self.proof_figure)
        return found


@dataclass(frozen=True)
class DetailOptions(OptionGroup):
    """What is told of a model besides its modes."""

    derivatives: Annotated[
        bool,
        typer.Option("--derivatives", help="print stability and control derivatives, and short forms of the modes"),
    ] = False
    transfer: Annotated[
        list[str] | None,
        typer.Option("--transfer", metavar="OUTPUT/INPUT", help="print a transfer function, such as theta/elevator"),
    ] = None
    sensitivities: Annotated[
        bool, typer.Option("--sensitivities", help="print which derivatives and parameters move each root the most")
    ] = False

    def record(self, craft: "Aircraft", point: "TrimPoint") -> dict[str, object]:
        """Return it for programs."""
        found: dict[str, object] = {"derivatives": _derivatives(craft, point).rows()} if self.derivatives else {}
        if self.sensitivities:
            found["sensitivities"] = [_sensitivity_record(s) for s in _sensitivities(craft, point)]
        return found

    def show(self, craft: "Aircraft", point: "TrimPoint", model: "LinearModel", channels: "list[Transfer]") -> None:
        """Print it."""
        if self.derivatives:
            _show_derivatives(craft, point, model)
        if self.sensitivities:
            _show_sensitivities(_sensitivities(craft, point))
        for channel in channels:
            say(channel.text())


@grouped
def linearise(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    wanted: ModelOptions,
    proved: ProofOptions,
    more: DetailOptions,
    sweep: Sweeps = None,
    figure: Figure = "",
    as_json: AsJson = False,
) -> None:
    """Make the linear model, name its modes, and hold it against the nonlinear aircraft.

    With --sweep the modes over conditions; over one axis of numbers --figure draws the roots along it.

    Exit code 1: the trim was not reached, or the proof does not hold.
    """
    craft = chosen.craft(aircraft)
    if sweep:
        _show_roots(craft, chosen.condition, chosen.set_, sweep, figure, as_json)
        return
    point = chosen.point(craft)
    model = wanted.model(craft, point)
    modes = model.modes()
    channels = [_channel(craft, model, pair) for pair in more.transfer or ()]
    whole = _whole_proof(craft, point, quiet=as_json) if proved.prove == "all" else None
    proof = proved.proof(model, point)
    if figure:
        from dravik.report import figure_poles, save_figure

        save_figure(figure_poles(modes, title=f"Roots of {model.title}"), figure)
    if as_json:
        _emit_model(model, modes, proof, whole, more.record(craft, point))
    else:
        _show_model(model, modes, proof)
        more.show(craft, point, model, channels)
        if wanted.out:
            say(f"written: {wanted.out}")
        if whole is not None:
            _show_whole_proof(whole, craft)
    if (proof and not proof.holds) or (whole is not None and not whole.holds):
        raise typer.Exit(1)


def _emit_model(
    model: "LinearModel", modes: "Modes", proof: "LinearProof | None", whole: "ModelProof | None",
    more: dict[str, object],
) -> None:  # fmt: skip
    """Print the model, its modes and its proofs as JSON, and what more was asked for."""
    if whole is not None:
        more |= {"proof": whole.rows(), "parting_sizes": whole.parting}
    errors = proof.errors if proof else None
    told = {"difference_from_nonlinear": errors, "holds": proof.holds if proof else None}
    emit({**model.as_dict(), "modes": modes.rows(), **told, **more})


def _whole_proof(craft: "Aircraft", point: "TrimPoint", *, quiet: bool) -> "ModelProof":
    from dravik.validation import prove_model

    with progress_bar(quiet=quiet, what="proving") as told:
        return prove_model(craft, point, told=told)


def _show_whole_proof(proof: "ModelProof", craft: "Aircraft") -> None:
    """Print every check, and at what size the responses part."""
    rows = [(c.name, c.error, c.allowed, "yes" if c.holds else "no", c.note) for c in proof.checks]
    show_rows("proof of the linear model", ["check", "error", "allowed", "holds", "how"], rows)
    for name, size in proof.parting.items():
        unit, factor, _ = from_si(list(craft.inputs.values())[craft.input_index(name)].unit)
        shown = "within its range they do not" if np.isinf(size) else f"{size * factor:.3g} {unit}".rstrip()
        say(f"doublet on {name} from which linear and nonlinear part by 5 %: {shown}")


def _channel(craft: "Aircraft", model: "LinearModel", pair: str) -> "Transfer":
    """Return the channel that a user names."""
    output, name = channel_of(craft, pair, "--transfer")
    return model.transfer(name, output)


def _derivatives(craft: "Aircraft", point: "TrimPoint") -> "Derivatives":
    from dravik.linear import derivatives

    return derivatives(craft, point)


def _sensitivities(craft: "Aircraft", point: "TrimPoint") -> "list[RootSensitivity]":
    from dravik.linear import root_sensitivities

    return root_sensitivities(craft, point)


def _sensitivity_record(s: "RootSensitivity") -> dict[str, object]:
    """Return what JSON says of a sensitivity."""
    parts = {"slope_real": s.slope.real, "slope_imag": s.slope.imag}
    changes = {"frequency_change": s.frequency_change, "damping_change": s.damping_change}
    return {"mode": s.mode, "of": s.of, "value": s.value, **parts, **changes}


def _show_sensitivities(found: "list[RootSensitivity]") -> None:
    """Print what moves each root the most."""
    cells: list[tuple[object, ...]] = []
    for mode in dict.fromkeys(s.mode for s in found):
        own = [s for s in found if s.mode == mode and s.weight >= LEAST_WEIGHT][:MOST_SENSITIVE]
        for k, s in enumerate(own):
            damping: object = s.damping_change if s.root.imag else ""
            cells.append((mode if k == 0 else "", s.of, s.value, 100.0 * s.frequency_change, damping))
    if not cells:
        say("no derivative or parameter moves a root of the rigid body by a tenth of a per cent")
        return
    heads = ["mode", "a tenth more of", "which is", "changes its frequency by [%]", "its damping ratio by"]
    show_rows("what moves the roots the most (the size, of a real root)", heads, cells)


def _show_derivatives(craft: "Aircraft", point: "TrimPoint", model: "LinearModel") -> None:
    """Print derivatives and short forms; what is zero of dimensional ones by controls is left out."""
    found = _derivatives(craft, point)
    for title, group in (("dimensional, stability axes", found.dimensional), ("coefficients", found.coefficients)):
        largest = max((abs(d.value) for d in group.values()), default=0.0)
        rows = [(d.name, d.value, d.unit, d.meaning) for d in group.values() if abs(d.value) > 1e-9 * largest]
        show_rows(
            f"{craft.name}, {point.title}: derivatives, {title}", ["derivative", "value", "unit", "meaning"], rows
        )
    forms = [
        (f.mode, ", ".join(f.kept), ", ".join(f.settled), _root(f.root), _root(f.whole), 100.0 * f.error)
        for f in model.short_forms()
    ]
    if forms:
        heads = ["mode", "kept", "settled", "root [1/s]", "whole model [1/s]", "error [%]"]
        show_rows("modes by their short forms", heads, forms)
    say(f"share of the other motion in longitudinal and lateral modes: at most {100.0 * model.coupling():.3g} %")


def _root(root: complex) -> str:
    return f"{root.real:.4g}" + (f" ± {abs(root.imag):.4g} i" if root.imag else "")


def _show_roots(
    craft: "Aircraft",
    condition: ConditionOptions,
    inputs: Sequence[str] | None,
    axes: Sequence[str],
    figure: str,
    as_json: bool,
) -> None:
    """Print and draw the roots over a sweep."""
    from dravik.linear import mode_sweep, root_sweep

    trims = sweep_of(craft, condition, inputs, axes, quiet=as_json)
    is_path = len(trims.axes) == 1 and all(isinstance(v, float) for values in trims.axes.values() for v in values)
    if figure and not is_path:
        raise DravikError("roots can be drawn over one axis of numbers alone", where="--figure", expected="one --sweep")
    found = root_sweep(trims) if is_path else None
    modes = mode_sweep(trims)
    if figure and found is not None:
        from dravik.report import figure_roots, save_figure

        save_figure(figure_roots(found), figure)
    if as_json:
        path = {} if found is None else {"axis": found.axis, "unit": found.unit, "rows": found.rows()}
        emit({"aircraft": craft.name, "axes": trims.axes, "units": trims.units, "modes": modes.rows(), **path})
        return
    heads, cells = _mode_cells(modes)
    show_rows(f"{craft.name}: modes over {', '.join(trims.axes)}", heads, cells)
    if trims.held < len(trims.points):
        say(f"{len(trims.points) - trims.held} of the {len(trims.points)} conditions are not held", "yellow")
    if figure:
        say(f"written: {figure}")


def _mode_cells(modes: "ModeSweep") -> tuple[list[str], list[tuple[object, ...]]]:
    """Return headings and rows of the modes over conditions."""
    shown = {name: from_si(modes.units.get(name, "")) for name in modes.axes}
    axes = [name + (f" [{unit}]" if unit else "") for name, (unit, _, _) in shown.items()]
    heads = ["mode", *axes, "root [1/s]", "frequency [rad/s]", "damping", "to half [s]", "to double [s]", "|phi/beta|"]
    cells: list[tuple[object, ...]] = []
    for row in modes.rows():
        place = [row[n] * shown[n][1] if isinstance(row[n], float) else row[n] for n in modes.axes]
        root = complex(row["real_1_s"], row["imag_1_s"])
        figures = ("frequency_rad_s", "damping", "time_to_half_s", "time_to_double_s", "phi_over_beta")
        cells.append((row["mode"], *place, _root(root), *(row[n] for n in figures)))
    return heads, cells


def _show_model(model: "LinearModel", modes: "Modes", proof: "LinearProof | None") -> None:
    """Print a model's modes, where it bends, and how far it is from the nonlinear response."""
    show_modes(model.title, modes.rows())
    for kink in model.kinks[:5]:
        say(
            f"the slope of {kink.row} by {kink.column} depends on the side it is taken from "
            "(a table or formula bends here)",
            "yellow",
        )
    if proof:
        rows = [(n, 100.0 * e) for n, e in proof.errors.items()]
        show_rows(f"linear against nonlinear, {proof.title}", ["signal", "difference [% of peak]"], rows)
        say(proof.verdict, "" if proof.holds else "red")


def _proof(point: "TrimPoint", control: str) -> "LinearProof | None":
    from dravik.validation import prove_linear

    if not control:
        return None
    lateral = control in ("aileron", "rudder", "roll_stick", "pedal")
    names = ("beta", "p", "r", "phi") if lateral else ("airspeed", "alpha", "q", "theta")
    return prove_linear(point, control=control, signals=names)


def show_modes(title: str, rows: "list[dict[str, object]]") -> None:
    """Print modes for people."""
    cells = []
    for r in rows:
        parts = r["participation"]
        shares = ", ".join(f"{k} {v:.2f}" for k, v in list(parts.items())[:3]) if isinstance(parts, dict) else ""
        grows = r["time_to_double_s"] is not None
        time = r["time_to_double_s"] if grows else r["time_to_half_s"]
        word = "" if time is None else ("double" if grows else "half")
        cells.append(
            [
                *(r[k] for k in ("mode", "real_1_s", "imag_1_s", "frequency_rad_s", "damping")),
                time,
                word,
                shares,
            ]
        )
    columns = ["mode", "real [1/s]", "imag [1/s]", "frequency [rad/s]", "damping", "time [s]", "to", "participation"]
    show_rows(f"{title}: modes", columns, cells)
