"""Chapters of a book about the aircraft as it stands: definition, coefficients, masses."""

import math
from functools import partial

import numpy as np

from dravik.aero import margin_unit, read_geometry
from dravik.aircraft import drain_paths, parts_of
from dravik.aircraft.outline import DRAWING, outline_of
from dravik.book.asked import Subject
from dravik.checks import audit
from dravik.errors import DravikError
from dravik.host.files import exists
from dravik.mass import share_table
from dravik.performance.weights import ALPHA, centre_limits, loading_loop, loading_rows
from dravik.report import Block, Sheet, figure_families, figure_masses, figure_portrait, figure_three_views
from dravik.report.pages.page import Maker
from dravik.units import from_si

__all__ = ["coefficients", "definition", "masses"]

SMALL = 0.01  # rad: over which slopes are taken
AT = 0.05  # rad: angle of attack at which they are


def definition(subject: Subject) -> Block:
    """Return what the file says: description, reference lengths, parts by kind, findings of the audit, the drawing."""
    craft, data = subject.craft, subject.craft.definition
    findings = audit(craft)
    errors = sum(f.severity == "error" for f in findings)
    verdict = f"{errors} errors and {len(findings) - errors} other findings in the audit"
    size = data.reference
    measures = [
        ("wing area", size.area, "m²"), ("reference chord", size.chord, "m"), ("reference span", size.span, "m"),
        ("mass", craft.loading.mass, "kg"), ("wing loading", craft.loading.mass / size.area, "kg/m²"),
    ]  # fmt: skip
    if data.envelope is not None:
        reach = data.envelope
        measures += [("airspeeds from", reach.airspeed[0], "m/s"), ("airspeeds to", reach.airspeed[1], "m/s")]
        measures += [("altitudes from", reach.altitude[0], "m"), ("altitudes to", reach.altitude[1], "m")]
    kinds = (
        ("loadings", data.loadings), ("inputs", craft.configuration.inputs), ("effectors", data.controls),
        ("engines", data.engines), ("batteries", data.batteries), ("tanks", data.tanks), ("gear", data.gear),
        ("laws", {law.name: law for law in craft.configuration.laws}), ("parameters", craft.parameters),
        ("starts", data.starts),
    )  # fmt: skip
    named = [(kind, len(found), ", ".join(found)) for kind, found in kinds if found]
    effectors = [_effector(subject, name) for name in data.controls]
    own = f"{craft.path.parent}/" if craft.path is not None else ""
    found = [(f.severity, f.place.removeprefix(own), f.what, f.do) for f in findings]
    return Block(
        "Definition", verdict, errors == 0,
        [t for t in (data.description, f"Read from {craft.path.name}." if craft.path is not None else "") if t],
        [
            Sheet(("measure", "value", "unit"), measures),
            Sheet(("what", "number", "names"), named, "What it has"),
            Sheet(("effector", "from", "to", "unit", "rate", "actuator"), effectors, "Effectors"),
            Sheet(("severity", "where", "what", "what to do"), found, "Findings of the audit"),
        ],
        figures=_drawings(subject),
    )  # fmt: skip


def _effector(subject: Subject, name: str) -> tuple[object, ...]:
    """Return the range, rate and lag of an effector in the unit people read."""
    entry = subject.craft.definition.controls[name]
    unit, factor, _ = from_si(subject.craft.signals[name].unit)
    low, high = (v * factor for v in entry.range or (math.nan, math.nan))
    rate = f"{entry.rate * factor:.4g} {unit}/s".replace(" /", " 1/") if entry.rate is not None else "no limit"
    actuator = "at once" if entry.lag is None else f"lag {entry.lag:.4g} s"
    if entry.frequency is not None:
        actuator = f"{entry.frequency:.4g} rad/s, damping {entry.damping:g}"
    return name, low, high, unit, rate, actuator


def _drawings(subject: Subject) -> dict[str, Maker]:
    craft = subject.craft
    found: dict[str, Maker] = {}
    drawing = craft.path.parent / DRAWING if craft.path is not None else None
    if drawing is not None and exists(drawing):
        try:
            found["Three views"] = partial(figure_three_views, read_geometry(drawing))
        except DravikError:  # the audit says what is wrong with it
            return found
    title = f"{craft.name}: as pictures draw it"
    title += "" if found else f"; no {DRAWING} lies beside its file, so that only size and engines are known"
    found["The aircraft"] = partial(figure_portrait, title, outline_of(craft))
    return found


def coefficients(subject: Subject) -> Block:
    """Return the curves of the coefficients, their slopes, and the tables that the file names."""
    craft, aero = subject.craft, subject.aero
    if aero is None:
        raise DravikError("the file has no aerodynamic coefficients")
    tables = [
        (
            name, " x ".join(str(len(a.values)) for a in table.axes), from_si(table.unit)[0],
            "; ".join(_axis_words(a.name, a.values, a.unit) for a in table.axes), table.outside,
        )
        for name, table in sorted(craft.tables.items())
    ]  # fmt: skip
    found = [(f"{c} by {by}", float(value), "1/rad") for by in ("alpha", "beta") for c, value in _slopes(subject, by)]
    slope = {what: value for what, value, _ in found}
    good, verdict = None, f"{len(tables) or 'no'} tables"
    if "CL by alpha" in slope and "Cm by alpha" in slope:
        # about the centre of gravity that is flown: about the tables' moment point the slope says nothing of stability
        lift, behind = slope["CL by alpha"], float(aero.neutral_point(alpha=AT)) - float(craft.loading.cg[0])
        good = lift > 0.0 and behind > 0.0
        verdict += (
            f"; lift slope {lift:.3g} a rad, neutral point {behind:.3g} m behind the centre of gravity at {AT:g} rad"
        )
    return Block(
        "Coefficients", verdict, good, [],
        [
            Sheet(("slope", "value", "unit"), found, f"At an angle of attack of {math.degrees(AT):.3g} deg"),
            Sheet(("table", "points", "unit", "axes", "outside"), tables, "Tables"),
        ],
        figures={"Coefficients": partial(figure_families, aero, title=f"{craft.name}: coefficients")},
    )  # fmt: skip


def _slopes(subject: Subject, by: str) -> list[tuple[str, float]]:
    """Return the slopes over an angle that are not nothing; none where nothing depends on it."""
    try:
        found = subject.aero.slopes(by, step=SMALL, alpha=AT) if subject.aero is not None else {}
    except DravikError:
        return []
    return [(c, float(v)) for c, v in found.items() if abs(float(v)) > 1e-6]


def _axis_words(name: str, points: np.ndarray, unit: str) -> str:
    shown, factor, _ = from_si(unit)
    return f"{name} {points[0] * factor:.4g} to {points[-1] * factor:.4g} {shown}".strip()


def masses(subject: Subject) -> Block:
    """Return loadings against the limits of the centre of gravity, and the parts they are made of."""
    craft = subject.craft
    limits = centre_limits(craft, subject.aero, 0.05)
    rows = loading_rows(craft, subject.aero, limits)
    unit = margin_unit(subject.aero)[0] if subject.aero is not None else ""
    columns = (
        "loading",
        "mass [kg]",
        "x [m]",
        "y [m]",
        "z [m]",
        "Ixx",
        "Iyy",
        "Izz",
        "Ixz",
        f"margin [{unit}]",
        "centre",
    )
    parts = parts_of(craft.definition, craft.loading)
    shares = [
        (name, kg, 100.0 * share, *(round(float(v), 6) + 0.0 for v in (-centre[0], centre[1], -centre[2])))
        for name, kg, share, centre, _ in (share_table(parts) if parts else ())
    ]
    outside = [r.loading for r in rows if r.inside == "OUTSIDE"]
    heavy = [f"{r.loading}: {r.too_much}" for r in rows if r.too_much]
    known = limits.is_known
    count = "1 loading" if len(rows) == 1 else f"{len(rows)} loadings"
    verdict = f"{count}, {'all inside' if not outside else ', '.join(outside) + ' outside'} the limits"
    paths = {n: drain_paths(craft.definition, entry) for n, entry in craft.definition.loadings.items()}
    texts = [
        f"Limits of the centre of gravity: {limits.words}. Static margins are those of "
        f"fixed controls at {math.degrees(ALPHA):.3g} deg of angle of attack."
    ]
    cells = [
        (r[0], *(round(v, 6) + 0.0 for v in r[1:9]), "-" if math.isnan(r.static_margin) else r.static_margin, r.inside)
        for r in rows
    ]
    return Block(
        "Masses", "; ".join([verdict if known else count, *heavy]), not (outside or heavy) if known or heavy else None,
        texts if known else ["No limits of the centre of gravity: neither the file nor its coefficients tell them."],
        [
            Sheet(columns, cells),
            Sheet(
                ("part", "mass [kg]", "share [%]", "x [m]", "y [m]", "z [m]"), shares,
                f"Parts of the loading {craft.loading_name}",
            ),
        ],
        figures={"Masses": partial(figure_masses, craft.name, craft.definition, paths, limits, loading_loop(craft))},
    )  # fmt: skip
