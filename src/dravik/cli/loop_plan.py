"""Loops from one file, for the command loop: designed, shown, flown, and written as a law."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import typer

from dravik.cli.shared.common import emit, get_craft, input_settings, own_file, own_folder, progress_bar, say, show_rows
from dravik.cli.shared.sweeps import sweep_of
from dravik.definition.condition_keys import overlaid
from dravik.definition.settings import read_settings, sort_settings
from dravik.errors import DravikError
from dravik.host.files import exists, is_folder, write_text
from dravik.units import from_si, in_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.cli.shared.conditions import CraftAndCondition
    from dravik.loops import LoopPlan, LoopStudy, MarginSweep
    from dravik.trimming import TrimPoint
    from dravik.validation.flown_loops import FlownLoop

__all__ = [
    "DesignRequest",
    "SweptMargins",
    "run_plan",
    "run_schedule",
    "show_locus",
    "sweep_cuts",
    "sweep_plan",
    "the_plan",
]


def the_plan(aircraft: str, plan: str) -> "LoopPlan | None":
    """Return the loops that are meant: a file named in the place of the aircraft, or ``--plan``; None without."""
    from dravik.loops import read_loops

    if plan:
        found = own_file(plan, aircraft, "loops")
        if not exists(found):
            others = sorted(p.stem for p in own_folder(aircraft, "loops").glob("*.toml"))
            raise DravikError(f"there is no plan {plan!r}", expected=", ".join(others) or "a file of loops")
        return read_loops(found)
    path = Path(aircraft)
    if path.suffix != ".toml" or not exists(path) or is_folder(path) or "[[loop]]" not in path.read_text("utf-8"):
        return None
    return read_loops(path)


def run_plan(
    asked: "DesignRequest", files: "dict[str, str]", fly: str, beside: Sequence[str] = (), *, as_json: bool
) -> None:  # fmt: skip
    """Study a plan's loops, print, draw and write what is asked for; leaves with 1 where a requirement is not met.

    ``files`` are those of ``figure``, ``flown`` (its figure) and ``out`` (the law), empty where not wanted.
    """
    from dravik.loops import law_of, study_loops

    plan, craft = asked.meant()
    found = study_loops(craft, plan)
    others = {}
    for pair in beside:
        name, value = next(iter(read_settings([pair], "--beside").items()))
        others[pair] = study_loops(craft, plan.changed({name: _value(str(value))}))
    truth = None
    if fly:
        from dravik.validation.flown_loops import fly_loop

        truth = fly_loop(found, [_value(size.strip()) for size in fly.split(",")], **_at_samples(plan))
    _draw(found, others, truth, files)
    law = law_of(found) if files.get("out") or as_json else ""
    if files.get("out"):
        write_text(Path(files["out"]), law)
    if as_json:
        emit(
            {
                "name": plan.name, "condition": found.point.title, "met": found.met, "loops": found.rows(),
                "requirements": [{"loop": f.entry.name, **c._asdict()} for f in found.loops for c in f.checks],
                "beside": {label: other.rows() for label, other in others.items()},
                "law": law, "flown": truth.rows() if truth is not None else [],
            }
        )  # fmt: skip
    else:
        _show(found, truth)
        for label, other in others.items():
            row = other.rows()[-1]
            say(_beside(label, row))
        for file in (f for f in files.values() if f):
            say(f"written: {file}")
    if not found.met:
        raise typer.Exit(1)


def _at_samples(plan: "LoopPlan") -> "dict[str, Any]":
    """Return at which rate, and how late, a plan's loops are flown: continuous unless all of them have one rate."""
    rates = {entry.rate for entry in plan.loop}
    if len(rates) != 1 or None in rates or any(entry.wanted for entry in plan.loop):
        return {}
    return {"rate": rates.pop(), "delay": max(entry.delay or 0.0 for entry in plan.loop)}


class DesignRequest(NamedTuple):
    """A plan with what the command line says besides: aircraft, condition, values set, loading and laws."""

    plan: "LoopPlan"
    aircraft: str
    chosen: "CraftAndCondition"

    def meant(self) -> "tuple[LoopPlan, Aircraft]":
        """Return the plan with the values that were changed, and its aircraft with parameters set.

        Options of the condition take the place of the plan's own, a loading too; laws are engaged besides the plan's.
        """
        chosen = self.chosen
        own = sort_settings(read_settings(chosen.set_), ()).loop_keys
        rest = [pair for pair in chosen.set_ or () if not set(own) & set(read_settings([pair]))]
        plan = self.plan.changed({n: _value(str(v)) for n, v in own.items()}) if own else self.plan
        asked = chosen.condition.asked
        condition: dict[str, Any] = {**overlaid(plan.condition, asked), **asked}
        if chosen.condition.guess:
            condition["guess"] = read_settings(chosen.condition.guess, "--guess")
        laws = [*plan.laws, *(chosen.law or ())]
        craft = get_craft(
            self.aircraft or plan.aircraft, chosen.loading or plan.loading, laws or None, rest or None, chosen.sensing
        )
        inputs = input_settings(craft, rest)
        if inputs:
            condition["inputs"] = {**condition.get("inputs", {}), **inputs}
        return plan.model_copy(update={"condition": condition}), chosen.condition.in_air(craft)


def run_schedule(
    asked: DesignRequest, axes: Sequence[str], out: str, *, as_json: bool
) -> None:  # fmt: skip
    """Design a plan's loops over axes, print gains and margins at the conditions and between, write law and tables."""
    from dravik.loops import schedule_gains

    plan, craft = asked.meant()
    over = {n: str(v) for n, v in read_settings(axes, "--schedule").items()}
    with progress_bar(quiet=as_json, what="designing") as told:
        found = schedule_gains(craft, plan, over, told=told)
    written = []
    if out:
        target = Path(out)
        for name, text in found.files(target.stem).items():
            written.append(write_text(target.parent / name, text))
    rows = found.rows()
    if as_json:
        emit({"name": plan.name, "met": found.met, "unmet": found.unmet(), "least": found.least(), "rows": rows})
    else:
        places = list(found.axes)
        show_rows(
            f"{plan.name or 'loops'}: gains over {' and '.join(places)} (SI), and in the middle between",
            [*places, "loop", "P", "I", "D", "gain margin [dB]", "phase margin [deg]", "disc", ""],
            [
                [*(r[n] for n in places), r["loop"], r["P"], r["I"], r["D"], r["gain_margin_dB"], r["phase_margin_deg"],
                 r["disc"], "between" if r["between"] else ""]
                for r in rows
            ],
        )  # fmt: skip
        for name, least in found.least().items():
            say(f"{name}: at least {least['gain_dB']:.3g} dB, {least['phase_deg']:.3g} deg, disc {least['disc']:.3g}")
        for text in found.unmet() or ["every requirement is met"]:
            say(text, "" if found.met else "red")
        for file in written:
            say(f"written: {file}")
    if not found.met:
        raise typer.Exit(1)


def show_locus(
    craft: "Aircraft", point: "TrimPoint", asked: str, damping: float, figure: str, *, as_json: bool
) -> None:  # fmt: skip
    """Follow the roots over a parameter, and print where they cross the axis and a line of damping."""
    from dravik.loops import locus_over_parameter

    ((name, given),) = read_settings([asked], "--locus").items()
    values = _range(str(given), name)
    found = locus_over_parameter(craft, point, name, values)
    lines = [("axis", c) for c in found.crossings()] + ([(f"damping {damping:g}", c) for c in found.crossings(damping)]
                                                        if damping else [])  # fmt: skip
    if figure:
        from dravik.report import figure_locus, save_figure

        now = float(craft.parameters[name])
        title = f"{craft.name}, {point.title}: roots over {name}"
        save_figure(figure_locus(found, [now], damping=damping, title=title), figure)
    if as_json:
        rows = [{"line": line, name: c.gain, "real_1_s": c.root.real, "imag_1_s": c.root.imag, "worse": c.worse}
                for line, c in lines]  # fmt: skip
        emit({"aircraft": craft.name, "parameter": name, "values": list(values), "crossings": rows})
        return
    show_rows(
        f"{craft.name}, {point.title}: roots over {name} from {values[0]:g} to {values[-1]:g}",
        ["crosses", name, "real [1/s]", "imag [1/s]", "with more gain"],
        [[line, c.gain, c.root.real, c.root.imag, "worse" if c.worse else "better"] for line, c in lines],
    )
    if not lines:
        say("no root crosses the axis" + (f" or the line of damping {damping:g}" if damping else ""))
    if figure:
        say(f"written: {figure}")


def _range(text: str, name: str) -> list[float]:
    """Return the values of FROM:TO:COUNT, plain numbers in SI."""
    try:
        low, high, count = text.split(":")
        found = np.linspace(float(low), float(high), int(count))
    except ValueError:
        raise DravikError(
            f"--locus {name}={text} cannot be drawn", expected="FROM:TO:COUNT in SI, such as 0:2:60"
        ) from None
    if not 2 <= len(found) <= 2000 or not found[-1] > found[0]:
        raise DravikError(f"--locus {name}={text} cannot be drawn", expected="rising, 2 to 2000 values")
    return [float(v) for v in found]


def _value(text: str) -> str | float:
    try:
        return float(text)
    except ValueError:
        return text


def _draw(
    found: "LoopStudy", others: "dict[str, LoopStudy]", truth: "FlownLoop | None", files: "dict[str, str]"
) -> None:
    if files.get("figure"):
        from dravik.report import figure_study, save_figure

        save_figure(figure_study(found, others), files["figure"])
    if files.get("flown") and truth is not None:
        from dravik.report import figure_flown_steps, save_figure

        save_figure(figure_flown_steps(truth, f"{found.plan.name}: flown"), files["flown"])


def _beside(label: str, row: "dict[str, Any]") -> str:
    """Return the last loop of another study in a line."""
    return (
        f"{label}: {row['loop']} crosses at {row['crossover_rad_s']:.3g} rad/s with {row['phase_margin_deg']:.3g} deg, "
        f"rise {row['rise_s']:.3g} s, overshoot {row['overshoot']:.3g}, bandwidth {row['bandwidth_rad_s']:.3g} rad/s"
    )


def _show(found: "LoopStudy", truth: "FlownLoop | None") -> None:
    rows: list[dict[str, Any]] = found.rows()
    show_rows(
        f"{found.plan.name or 'loops'}: {found.craft.name}, {found.point.title}",
        ["loop", "P", "I", "D", "crossover [rad/s]", "gain margin [dB]", "phase margin [deg]", "delay margin [s]",
         "disc", "bandwidth [rad/s]"],
        [
            [r["loop"], r["P"], r["I"], r["D"], r["crossover_rad_s"], r["gain_margin_dB"], r["phase_margin_deg"],
             r["delay_margin_s"], r["disc"], r["bandwidth_rad_s"]] for r in rows
        ],
    )  # fmt: skip
    show_rows(
        "unit steps: of the command, and (disturbed) at what the loop moves",
        ["loop", "type", "steady-state error", "rise [s]", "overshoot", "settling [s]", "effector peak",
         "effector rate [1/s]", "disturbed, peak", "disturbed, end"],
        [
            [r["loop"], r["type"], r["steady_error"], r["rise_s"], r["overshoot"], r["settling_s"], r["moved_most"],
             r["moved_fastest_1_s"], r["disturbed_most"], r["disturbed_at_end"]] for r in rows
        ],
    )  # fmt: skip
    checks = [(f.entry.name, c.name, c.value, c.limit, c.unit, "met" if c.met else "not met")
              for f in found.loops for c in f.checks]  # fmt: skip
    if checks:
        show_rows("requirements", ["loop", "what", "value", "asked for", "unit", ""], checks)
    for f in found.loops:
        if not f.margins.is_stable:
            say(f.unstable_text(), "yellow" if f.margins.closes else "red")
        if not f.margins.agree:
            say(f"{f.entry.name}: Nyquist's count and the closed loop's roots disagree", "red")
    if any(f.entry.delay for f in found.loops):
        say(
            "delays are exact in margins, and a Padé fraction of third order in steps and in loops closed earlier",
            "dim",
        )
    if truth is not None:
        show_rows(
            f"steps of {truth.command}, flown by the whole aircraft"
            + (" at samples" if _at_samples(found.plan) else ""),
            ["size (SI)", "parts after [s]", "largest difference", "why"],
            [[r["size"], r["parts_after_s"], r["largest_difference"], r["why"]] for r in truth.rows()],
        )


class SweptMargins(NamedTuple):
    """Margins over conditions as they are asked for: axes, where loops are broken, more delay, the least margins."""

    axes: Sequence[str]
    at: str
    delay: str
    gain: float
    phase: float


def sweep_plan(asked: DesignRequest, broken: SweptMargins, *, as_json: bool) -> bool:
    """Print the margins of a plan's loops over conditions, gains kept; return whether all are what is asked for."""
    from dravik.loops import plan_over

    plan, craft = asked.meant()
    over = {n: str(v) for n, v in read_settings(broken.axes, "--sweep").items()}
    with progress_bar(quiet=as_json, what="conditions"):
        found = plan_over(craft, plan, over)
    return _show_margins(found, broken, as_json=as_json)


def sweep_cuts(craft: "Aircraft", chosen: "CraftAndCondition", broken: SweptMargins, *, as_json: bool) -> bool:
    """Print the margins of loops broken at signals over conditions; return whether all are what is asked for."""
    from dravik.loops import margins_over

    names = [n.strip() for n in broken.at.split(",") if n.strip()]
    trims = sweep_of(craft, chosen.condition, chosen.set_, broken.axes, quiet=as_json)
    found = margins_over(craft, trims, names, delay=in_si(broken.delay, "time", where="delay"))
    return _show_margins(found, broken, as_json=as_json)


def _show_margins(found: "MarginSweep", broken: SweptMargins, *, as_json: bool) -> bool:
    rows, worst = found.rows(), found.worst()
    gain, phase = broken.gain, broken.phase
    short = [r for r in rows if not (r["closes"] and r["gain_margin_dB"] >= gain and r["phase_margin_deg"] >= phase)]
    gaps = sum(one is None for one in found.found)
    if as_json:
        emit(
            {"name": found.name, "axes": found.axes, "holds": not short, "not_held": gaps, "worst": worst, "rows": rows}
        )
        return not short
    shown = {name: from_si(found.units.get(name, "")) for name in found.axes}
    axes = [name + (f" [{unit}]" if unit else "") for name, (unit, _, _) in shown.items()]
    keys = ("gain_margin_dB", "phase_margin_deg", "delay_margin_s", "disc")
    show_rows(
        f"{found.name}: margins over {', '.join(found.axes)}",
        ["loop", *axes, "gain margin [dB]", "phase margin [deg]", "delay margin [s]", "disc", ""],
        [
            (r["loop"], *(r[n] * shown[n][1] if isinstance(r[n], float) else r[n] for n in found.axes),
             *(r[key] for key in keys), "" if r["closes"] else "not stable")
            for r in rows
        ],
    )  # fmt: skip
    for name, row in worst.items():
        figures = f"{row['gain_margin_dB']:.3g} dB, {row['phase_margin_deg']:.3g} deg, disc {row['disc']:.3g}"
        say(f"{name}: worst at {row['place']}: " + (figures if row["closes"] else "not stable"))
    if gaps:
        say(f"{gaps} of the {len(found.found)} conditions are not held", "yellow")
    asked = f"{gain:g} dB and {phase:g} deg asked for at each condition that is held"
    say(f"{asked}: {'not met' if short else 'met'}", "red" if short else "")
    return not short
