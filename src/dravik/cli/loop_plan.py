"""Loops from one file, for the command loop: designed, shown, flown, and written as a law."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from dravik.cli.common import emit, get_craft, kernel_notice, own_file, progress_bar, say, settings, show_rows
from dravik.files import exists, is_folder, write_text

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.flight.loop_truth import LoopTruth
    from dravik.loops import LoopPlan, LoopStudy

__all__ = ["run_plan", "run_schedule", "the_plan"]


def the_plan(aircraft: str, plan: str) -> "LoopPlan | None":
    """Return the loops that are meant: a file named in the place of the aircraft, or ``--plan``; None without."""
    from dravik.loops import read_loops

    if plan:
        return read_loops(own_file(plan, aircraft, "loops"))
    path = Path(aircraft)
    if path.suffix != ".toml" or not exists(path) or is_folder(path) or "[[loop]]" not in path.read_text("utf-8"):
        return None
    return read_loops(path)


def run_plan(
    plan: "LoopPlan", aircraft: str, changes: Sequence[str] | None, files: "dict[str, str]", fly: str, *, as_json: bool
) -> None:  # fmt: skip
    """Study a plan's loops, print, draw and write what is asked for; leaves with 1 where a requirement is not met.

    ``files`` are those of ``figure``, ``flown`` (its figure) and ``out`` (the law), empty where not wanted.
    """
    from dravik.loops import law_of, study_loops

    plan, craft = _meant(plan, aircraft, changes)
    with kernel_notice("linear"):
        found = study_loops(craft, plan)
    truth = None
    if fly:
        from dravik.flight.loop_truth import fly_loop

        truth = fly_loop(found, [_value(size.strip()) for size in fly.split(",")])
    _draw(found, truth, files)
    law = law_of(found) if files.get("out") or as_json else ""
    if files.get("out"):
        write_text(Path(files["out"]), law)
    if as_json:
        emit(
            {
                "name": plan.name, "condition": found.point.title, "met": found.met, "loops": found.rows(),
                "requirements": [{"loop": f.entry.name, **c._asdict()} for f in found.loops for c in f.checks],
                "law": law, "flown": truth.rows() if truth is not None else [],
            }
        )  # fmt: skip
    else:
        _show(found, truth)
        for file in (f for f in files.values() if f):
            say(f"written: {file}")
    if not found.met:
        raise typer.Exit(1)


def _meant(plan: "LoopPlan", aircraft: str, changes: Sequence[str] | None) -> "tuple[LoopPlan, Aircraft]":
    """Return the plan with the values that were changed, and its aircraft with parameters set."""
    own = {n: v for n, v in settings(changes).items() if "." in n}
    rest = [pair for pair in changes or () if "." not in pair.partition("=")[0]]
    plan = plan.changed({n: _value(str(v)) for n, v in own.items()}) if own else plan
    return plan, get_craft(aircraft or plan.aircraft, plan.loading, list(plan.laws) or None, rest or None)


def run_schedule(
    plan: "LoopPlan", aircraft: str, changes: Sequence[str] | None, axes: Sequence[str], out: str, *, as_json: bool
) -> None:  # fmt: skip
    """Design a plan's loops over axes, print gains and margins at the conditions and between, write law and tables."""
    from dravik.loops import schedule_gains

    plan, craft = _meant(plan, aircraft, changes)
    over = {n: str(v) for n, v in settings(axes, "--schedule").items()}
    with kernel_notice("linear"), progress_bar(quiet=as_json, what="designing") as told:
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
                [*(r[n] for n in places), r["loop"], r["P"], r["I"], r["D"], r["gain_up_dB"], r["phase_margin_deg"],
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


def _value(text: str) -> str | float:
    try:
        return float(text)
    except ValueError:
        return text


def _draw(found: "LoopStudy", truth: "LoopTruth | None", files: "dict[str, str]") -> None:
    if files.get("figure"):
        from dravik.report import figure_study, save_figure

        save_figure(figure_study(found), files["figure"])
    if files.get("flown") and truth is not None:
        from dravik.report import figure_flown_steps, save_figure

        save_figure(figure_flown_steps(truth, f"{found.plan.name}: flown"), files["flown"])


def _show(found: "LoopStudy", truth: "LoopTruth | None") -> None:
    rows: list[dict[str, Any]] = found.rows()
    show_rows(
        f"{found.plan.name or 'loops'}: {found.craft.name}, {found.point.title}",
        ["loop", "P", "I", "D", "crosses at", "gain margin", "phase margin", "delay", "disc", "bandwidth"],
        [
            [r["loop"], r["P"], r["I"], r["D"], r["crossover_rad_s"], r["gain_up_dB"], r["phase_margin_deg"],
             r["delay_margin_s"], r["disc"], r["bandwidth_rad_s"]] for r in rows
        ],
    )  # fmt: skip
    show_rows(
        "steps of the commands",
        ["loop", "type", "left for ever", "rise [s]", "overshoot", "settling [s]", "moves at most", "as fast as [1/s]"],
        [
            [r["loop"], r["type"], r["steady_error"], r["rise_s"], r["overshoot"], r["settling_s"], r["moved_most"],
             r["moved_fastest_1_s"]] for r in rows
        ],
    )  # fmt: skip
    checks = [(f.entry.name, c.name, c.value, c.limit, c.unit, "met" if c.met else "not met")
              for f in found.loops for c in f.checks]  # fmt: skip
    if checks:
        show_rows("requirements", ["loop", "what", "is", "asked for", "", ""], checks)
    for f in found.loops:
        if not f.margins.is_stable:
            say(f"the loop {f.entry.name} is not stable", "red")
        if not f.margins.agree:
            say(f"{f.entry.name}: Nyquist's count and the closed loop's roots disagree", "red")
    if any(f.entry.delay for f in found.loops):
        say(
            "delays are exact in margins, and a Padé fraction of third order in steps and in loops closed earlier",
            "dim",
        )
    if truth is not None:
        show_rows(
            f"steps of {truth.command}, flown by the whole aircraft",
            ["size (SI)", "parts after [s]", "largest difference", "why"],
            [[r["size"], r["parts_after_s"], r["largest_difference"], r["why"]] for r in truth.rows()],
        )
