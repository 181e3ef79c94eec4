"""Chapters of a book about how the aircraft behaves: modes, handling qualities, loops."""

import math
from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from typing import Any

from dravik.aircraft import Aircraft, load
from dravik.aircraft.air_of_point import in_air_of
from dravik.book.asked import Subject
from dravik.errors import DravikError
from dravik.handling import handling_map, handling_qualities
from dravik.linear import mode_sweep, root_sweep
from dravik.loops import margins_over, read_loops, study_loops
from dravik.report import Block, Sheet, figure_handling_map, figure_roots, figure_study
from dravik.report.pages.page import Maker
from dravik.trimming import TrimPoint, trim, trim_sweep

__all__ = ["handling", "loops", "modes"]

MOST_ROWS = 120  # of a table
SLOW = 60.0  # s: a growth that doubles more slowly is not held against an aircraft
GAIN, PHASE = 6.0, 45.0  # dB, deg: margins that are usually asked of a loop


def modes(subject: Subject) -> Block:
    """Return the modes over speed at the altitude, and over the envelope."""
    craft, height = subject.craft, subject.altitude
    here = trim_sweep(craft, {"airspeed": subject.speeds}, altitude=height)
    rows = mode_sweep(here).rows()
    if not rows:
        raise DravikError(f"nothing is held at {height:g} m, and so there are no modes")
    heads = (
        "mode", "airspeed [m/s]", "frequency [rad/s]", "damping", "to half [s]", "to double [s]", "|phi/beta|",
    )  # fmt: skip
    keys = ("frequency_rad_s", "damping", "time_to_half_s", "time_to_double_s", "phi_over_beta")
    cells = [(r["mode"], r["airspeed"], *(math.nan if r[k] is None else float(r[k]) for k in keys)) for r in rows]
    every = mode_sweep(subject.over_envelope).rows() if subject.is_flown_level else []
    grows = sorted({str(r["mode"]) for r in [*rows, *every] if r["real_1_s"] > 1e-9})
    fastest = [
        (name, min(t))
        for name in grows
        if (t := [r["time_to_double_s"] for r in [*rows, *every] if r["mode"] == name and r["time_to_double_s"]])
    ]
    verdict = "every mode decays at each condition that is held"
    if fastest:
        verdict = "somewhere " + ", ".join(f"the {n} doubles in {t:.3g} s" for n, t in fastest)
    return Block(
        "Modes", verdict, all(t > SLOW for _, t in fastest),
        [f"Growth that takes more than {SLOW:g} s to double is not held against it."],
        [Sheet(heads, cells[:MOST_ROWS], f"Modes at {height:g} m; a dash: it has none")],
        figures={"Roots over speed": partial(figure_roots, root_sweep(here))},
    )  # fmt: skip


def handling(subject: Subject) -> Block:
    """Return the levels over the envelope, and every criterion in its middle."""
    craft, asked = subject.craft, subject.asked
    sets = ["hover"] if craft.definition.mixers else ["modal"]
    judged: dict[str, Any] = {"aircraft_class": asked.aircraft_class, "category": asked.category, "sets": sets}
    point = _middle(subject)
    here = handling_qualities(point.craft, point, **judged)
    keys = ("requirement", "value", "unit", "level_1", "level", "margin")
    rows = [(f"{r['document']} {r['paragraph']}".strip(), *(r[k] for k in keys)) for r in here.rows()]
    level = "no level" if here.level is None else "worse than level 3" if here.level > 3 else f"level {here.level}"
    figures: dict[str, Maker] = {}
    texts = [str(text) for text in here.unjudged]
    verdict, worst = f"{level} at {point.title}", here.level
    if not craft.definition.mixers:
        found = handling_map(subject.over_envelope, **judged)
        levels = [a.level for a in found.found if a is not None]
        counts = ", ".join(f"{levels.count(k)} at level {k}" for k in (1, 2, 3) if levels.count(k))
        worse = sum(v is None or v > 3 for v in levels)
        verdict += f"; of {len(levels)} conditions {counts}" + (f", {worse} worse or without a level" if worse else "")
        worst = (
            None if not levels or any(v is None for v in levels) else max(*(v or 4 for v in levels), here.level or 4)
        )
        figures["Levels over the envelope"] = partial(figure_handling_map, found)
    heads = ("paragraph", "requirement", "value", "unit", "level 1 asks", "level", "margin")
    title = f"Class {asked.aircraft_class}, category {asked.category}: {point.title}"
    return Block("Handling qualities", verdict, worst == 1, texts, [Sheet(heads, rows, title)], figures=figures)


def _middle(subject: Subject) -> TrimPoint:
    """Return level flight in the middle of the speeds, or hover of what can hover."""
    if subject.craft.definition.mixers:
        return trim(subject.craft, airspeed=0.0, altitude=subject.altitude)
    return trim(subject.craft, airspeed=subject.speeds[len(subject.speeds) // 2], altitude=subject.altitude)


def loops(subject: Subject) -> Block:
    """Return the margins of the laws that are engaged, and of every plan of loops."""
    craft = subject.craft
    plans = subject.files(subject.asked.plans, "loops")
    if not plans and not craft.configuration.laws:
        raise DravikError("no laws are engaged, and its folder holds no plans of loops", hint="--law NAME, --plan FILE")
    sheets: list[Sheet] = []
    texts: list[str] = []
    figures: dict[str, Maker] = {}
    short: list[str] = []
    if craft.configuration.laws:
        sweep = trim_sweep(craft, {"airspeed": subject.speeds[::2]}, altitude=subject.altitude)
        try:
            worst = margins_over(craft, sweep).worst()
            sheets.append(_margins(f"Laws engaged, worst over speed at {subject.altitude:g} m", worst.values()))
            short += [name for name, row in worst.items() if not _holds(row)]
        except DravikError as error:
            texts.append(f"Laws engaged: {error}.")
    for file in plans:
        try:
            plan = read_loops(file)
            study = study_loops(_craft_of(subject, plan.loading, plan.laws), plan)
        except DravikError as error:
            texts.append(f"{file.name}: {error}.")
            short.append(file.stem)
            continue
        name = plan.name or file.stem
        rows = [one.row() | {"closes": one.margins.closes} for one in study.loops]
        sheets.append(_margins(f"{name}: {study.point.title}", rows))
        figures[name] = partial(figure_study, study)
        short += [f"{name}, {row['loop']}" for row in rows if not _holds(row)]
        short += [f"{name}, {one.entry.name}: {c.name} not met" for one in study.loops for c in one.checks if not c.met]
    count = sum(len(sheet.rows) for sheet in sheets)
    if not count and not short:
        return Block("Loops", "no loop is closed at a condition that is held", None, texts)
    verdict = f"{count} loops with {GAIN:g} dB and {PHASE:g} deg or more"
    if short:
        verdict = f"{count} loops; short of {GAIN:g} dB and {PHASE:g} deg, or of what is asked: {'; '.join(short[:6])}"
        verdict += "" if len(short) <= 6 else f" and {len(short) - 6} more"
    return Block("Loops", verdict, not short, texts, sheets, figures=figures)


def _craft_of(subject: Subject, loading: str, laws: Sequence[str]) -> Aircraft:
    """Return the aircraft as a plan wants it: a plan closes its loops around its own laws, not those engaged here."""
    craft, engaged = subject.craft, subject.craft.configuration.laws
    if not loading and not laws and not engaged:
        return craft
    if craft.path is None:
        raise DravikError("the plan names a loading or laws, and the aircraft has no file to load them from")
    plain = in_air_of(load(craft.path, loading=loading or craft.loading_name, laws=laws), craft)
    values = {n: v for n, v in craft.configuration.values.items() if n in plain.parameters}
    return plain.with_parameters(values) if values else plain


def _margins(title: str, rows: Iterable[Mapping[str, Any]]) -> Sheet:
    heads = ("loop", "condition", "gain margin [dB]", "phase margin [deg]", "delay margin [s]", "disc", "")
    keys = ("gain_margin_dB", "phase_margin_deg", "delay_margin_s", "disc")
    return Sheet(
        heads,
        [
            (r["loop"], r.get("place", ""), *(float(r[k]) for k in keys), "" if r["closes"] else "not stable")
            for r in rows
        ],
        title,
    )


def _holds(row: Mapping[str, Any]) -> bool:
    """Whether a loop is stable with the margins usually asked for; nan is none."""
    return bool(row["closes"] and row["gain_margin_dB"] >= GAIN and row["phase_margin_deg"] >= PHASE)
