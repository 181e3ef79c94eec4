"""Checks of loadings against their limits, of shafts against their rating, and of the reference against a drawing."""

import math
from collections.abc import Iterator

from dravik.aero import Surface, read_geometry
from dravik.aircraft.craft import Aircraft
from dravik.checks.finding import Finding
from dravik.errors import DravikError
from dravik.mass.limits import limits_at
from dravik.propulsion import Piston, PropellerEngine

__all__ = ["check_drawing", "check_limits", "check_shafts"]

RPM = 30.0 / math.pi
SPEEDS = (0.2, 1.3)  # of the rated speed
POWER = 1.3  # of the rated power


def check_limits(craft: Aircraft) -> Iterator[Finding]:
    """Find loadings whose centre of gravity is outside the limits that the file states."""
    rows = craft.definition.centre_limits
    if rows is None:
        return
    for name, loading in craft.definition.loadings.items():
        x = loading.cg[0]
        limits = limits_at(rows, loading.mass)
        if not limits[0] <= x <= limits[1]:
            side = f"{limits[0] - x:.3g} m ahead of" if x < limits[0] else f"{x - limits[1]:.3g} m behind"
            yield Finding(
                "error", craft.where("loadings", name), f"the centre of gravity, x = {x:.4g} m, is {side} its limits",
                f"limits are {limits[0]:.4g} to {limits[1]:.4g} m: move masses, or correct centre_limits",
            )  # fmt: skip


def check_shafts(craft: Aircraft) -> Iterator[Finding]:
    """Find governors that hold a speed far from the rated one, and pistons that would give far more than they can."""
    d = craft.definition
    for name, engine in d.engines.items():
        if not isinstance(engine, PropellerEngine):
            continue
        rated, place = d.propellers[engine.propeller].rated_speed, craft.where("engines", name)
        drive, speed = d.drives[engine.drive], rated
        if engine.governor is not None:
            place = craft.where("engines", name, "governor", "speed")
            speed = craft.values(craft.state(velocity=(1.0, 0.0, 0.0)), craft.default_inputs())[
                f"governed_speed_{name}"
            ]
            if not SPEEDS[0] < speed / rated < SPEEDS[1]:
                yield Finding(
                    "error", place,
                    f"{name}'s governor holds {speed:.4g} rad/s, {speed * RPM:.5g} rpm; "
                    f"its propeller is rated for {rated * RPM:.5g} rpm",
                    'check the unit: "2400 rpm", or { formula = "...", unit = "rpm" }',
                )  # fmt: skip
        if isinstance(drive, Piston):
            given = drive.rated_power / drive.rated_speed * speed
            if given > POWER * drive.rated_power:
                yield Finding(
                    "error", place,
                    f"{name} turns at {speed * RPM:.5g} rpm, where it would give {given / 1e3:.4g} kW; "
                    f"it is rated {drive.rated_power / 1e3:.4g} kW at {drive.rated_speed * RPM:.5g} rpm",
                    "check rated_speed of drive and propeller, and the governor's speed, with their units",
                )  # fmt: skip


def check_drawing(craft: Aircraft) -> Iterator[Finding]:
    """Find a reference area and span that are not those of the drawing beside the aircraft's file."""
    path = craft.path.parent / "geometry.toml" if craft.path is not None else None
    if path is None or not path.is_file():
        return
    try:
        drawing = read_geometry(path)
    except DravikError as error:
        yield Finding(
            "warning", str(path), f"the drawing cannot be read ({error.what})", "dravik tables draw says more"
        )
        return
    if not drawing.surfaces:
        return
    name, surface = max(drawing.surfaces.items(), key=lambda item: _area(item[1]))
    reference = craft.definition.reference
    span = 2.0 * max(s.leading_edge[1] for s in surface.sections)
    for what, mine, drawn in (("area", reference.area, _area(surface)), ("span", reference.span, span)):
        if surface.mirrored and drawn > 0.0 and not 0.7 < mine / drawn < 1.4:
            unit = "m^2" if what == "area" else "m"
            yield Finding(
                "warning", craft.where("reference", what),
                f"the reference {what} is {mine:.4g} {unit}, the drawn {name} has {drawn:.4g} {unit}",
                "check both, and their units; build the tables anew after a change",
            )  # fmt: skip


def _area(surface: Surface) -> float:
    """Return a drawn surface's area seen square to it, both sides of a mirrored one, m^2."""
    area = 0.0
    for a, b in zip(surface.sections, surface.sections[1:], strict=False):
        across = math.hypot(b.leading_edge[1] - a.leading_edge[1], b.leading_edge[2] - a.leading_edge[2])
        area += 0.5 * (a.chord + b.chord) * across
    return 2.0 * area if surface.mirrored else area
