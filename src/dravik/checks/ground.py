"""Checks that need no flight: inertia, mass, geometry, tables and their units."""

import math
from collections.abc import Iterator

import numpy as np

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.description.schema import Loading
from dravik.checks.finding import Finding
from dravik.tables import Axis
from dravik.units import from_si

__all__ = ["check_geometry", "check_loadings", "check_tables"]

TURN = 2.0 * math.pi


def check_loadings(craft: Aircraft) -> Iterator[Finding]:
    """Find inertia that no body can have, and radii of gyration out of proportion."""
    span = craft.definition.reference.span
    for name, loading in craft.definition.loadings.items():
        place = craft.where("loadings", name)
        tensor = loading.tensor()
        moments = np.linalg.eigvalsh(tensor)
        if moments[0] <= 0.0:
            yield Finding(
                "error", place, f"a principal moment of inertia is {moments[0]:.4g} kg m^2: no body has that",
                "check the products of inertia against the moments, and their units",
            )  # fmt: skip
            continue
        if moments[2] > (moments[0] + moments[1]) * (1.0 + 1e-9):
            a, b, c = (f"{m:.4g}" for m in moments)
            yield Finding(
                "error", place,
                f"the largest principal moment, {c}, exceeds the sum of the others, {a} + {b}: no body has that",
                "check Ixx, Iyy, Izz: for a flat body Izz is nearly, and at most, Ixx + Iyy",
            )  # fmt: skip
        for axis, moment in _moments(craft, loading):
            share = math.sqrt(abs(moment) / loading.mass) / span
            if not 0.02 < share < 0.6:
                yield Finding(
                    "warning", craft.where("loadings", name, axis),
                    f"{axis} means a radius of gyration of {share * span:.3g} m, {share:.2g} of the span",
                    "expected 0.05 to 0.4 of the span: check units (slug ft^2 is 1.356 kg m^2) and mass",
                )  # fmt: skip


def _moments(craft: Aircraft, loading: Loading) -> list[tuple[str, float]]:
    """Return the moments of inertia that the span tells something about."""
    if not is_winged(craft):
        return []
    return [("Ixx", loading.Ixx), ("Iyy", loading.Iyy), ("Izz", loading.Izz)]


def is_winged(craft: Aircraft) -> bool:
    """Whether a wing's span is the measure of the aircraft: a rocket or a rotorcraft has forces in body axes."""
    aero = craft.definition.aero
    return aero is None or "CL" in aero.coefficients


def check_geometry(craft: Aircraft) -> Iterator[Finding]:
    """Find lengths, areas, masses and positions outside any plausible range."""
    definition = craft.definition
    ref = definition.reference
    place = craft.where("reference")
    aspect = ref.span**2 / ref.area
    winged = is_winged(craft)
    if not 0.3 < aspect < 60.0 and winged:
        yield Finding(
            "warning",
            place,
            f"span^2/area is {aspect:.3g}",
            "expected 1 to 40: check the units of area and span",
        )
    mean = ref.area / ref.span
    if not 0.3 < ref.chord / mean < 4.0 and (winged or definition.aero is None):
        text = f"the chord is {ref.chord:.3g} m, area/span is {mean:.3g} m"
        yield Finding("warning", craft.where("reference", "chord"), text, "check the units of chord, area and span")
    for name, loading in definition.loadings.items():
        if winged and not 0.3 < loading.mass / ref.area < 1500.0:
            yield Finding(
                "warning", craft.where("loadings", name, "mass"),
                f"mass over area is {loading.mass / ref.area:.3g} kg/m^2",
                "expected 1 to 1000: check the units of mass and area",
            )  # fmt: skip
        distance = float(np.linalg.norm(np.subtract(loading.cg, ref.moment_point)))
        if distance > max(2.0 * ref.chord, 0.2 * ref.span):
            yield Finding(
                "warning", craft.where("loadings", name, "cg"),
                f"the centre of gravity is {distance:.3g} m from the moment point, {distance / ref.chord:.2g} chords",
                "check that both are station axes (x aft, z up) from the same datum, and their units",
            )  # fmt: skip
        for engine, entry in definition.engines.items():
            away = float(np.linalg.norm(np.subtract(entry.position, loading.cg)))
            if winged and away > 1.5 * ref.span:
                yield Finding(
                    "warning", craft.where("engines", engine, "position"),
                    f"the engine is {away:.3g} m from the centre of gravity",
                    "check that the position is in station axes from the declared datum",
                )  # fmt: skip
    for name, (low, high) in craft.limits.items():
        unit = craft.signals[name].unit
        where = craft.where("controls", name, "range")
        if unit == "rad" and max(abs(low), abs(high)) > TURN:
            yield Finding(
                "error",
                where,
                f"{name} moves from {low:.4g} to {high:.4g} rad",
                'these look like degrees: write "-25 deg"',
            )
        if not low <= 0.0 <= high:
            yield Finding("note", where, f"the range of {name} does not contain zero", "check the signs of its limits")


def check_tables(craft: Aircraft) -> Iterator[Finding]:
    """Find tables that do not cover the envelope or a control's range, and angles in the wrong unit."""
    wanted = dict(craft.limits)
    envelope = craft.definition.envelope
    if envelope is None:
        yield Finding(
            "note",
            craft.where(),
            "there is no [envelope]: tables are not held against it, and signs are looked at in level flight at a lift "
            "coefficient of 0.5 and at 1.5 times that speed, at sea level",
            "state airspeed and altitude",
        )
    else:
        wanted |= {"airspeed": envelope.airspeed, "altitude": envelope.altitude}
    used = {table for users in craft.tape.locates for table, _ in users}
    for name, table in craft.tables.items():
        place = f"{craft.where('tables', name)}: {table.source}"
        if name not in used:
            yield Finding("note", place, f"no formula uses table {name}", "delete it, or call it")
        for axis in table.axes:
            yield from _check_axis_unit(axis, place)
            if axis.name in wanted:
                yield from _check_axis_covers(axis, wanted[axis.name], place, table.outside)


def _check_axis_unit(axis: Axis, place: str) -> Iterator[Finding]:
    if axis.unit != "rad":
        return
    size = float(np.max(np.abs(axis.values)))
    if size > TURN:
        yield Finding(
            "error", place, f"{axis.name} runs from {axis.values[0]:.4g} to {axis.values[-1]:.4g} rad",
            f"these look like degrees: head the column '{axis.name} [deg]'",
        )  # fmt: skip
    elif size < 0.02 and axis.name in ("alpha", "beta"):
        yield Finding(
            "warning", place, f"{axis.name} reaches only {math.degrees(size):.3g} deg",
            f"these look like radians given as degrees: head the column '{axis.name} [rad]'",
        )  # fmt: skip


def _check_axis_covers(axis: Axis, wanted: tuple[float, float], place: str, outside: str) -> Iterator[Finding]:
    low, high = wanted
    slack = 1e-6 * (high - low)
    if axis.values[0] > low + slack or axis.values[-1] < high - slack:
        unit, k, _ = from_si(axis.unit)
        have = f"{axis.values[0] * k:.4g} to {axis.values[-1] * k:.4g} {unit}".strip()
        need = f"{low * k:.4g} to {high * k:.4g} {unit}".strip()
        severity = "error" if outside == "error" else "warning"
        yield Finding(
            severity,
            place,
            f"the table covers {axis.name} from {have}, it is needed from {need}",
            "add the missing rows",
        )
