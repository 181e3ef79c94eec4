"""Tables of a finned body: normal force, pitching moment, damping and axial force against Mach and incidence.

Axial force: friction by Prandtl and Schlichting, thinned by compressibility as (1 + 0.144 M^2)^-0.65; base and nose
wave drag by the fits of E. L. Fleeman, Tactical Missile Design, AIAA 2001, section 2.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aero.bodies.finned import CROSSFLOW, FinnedBody, Fins, components, fin_slope
from dravik.aero.drawing.geometry import Geometry
from dravik.aero.flow.friction import friction, section_form_factor
from dravik.aero.sets.tableset import Formula, TableSet, angles_at_point
from dravik.surroundings.atmosphere import air_at
from dravik.tables import Axis, Table

__all__ = ["finned_set"]

Floats = NDArray[np.float64]
INCIDENCES = np.radians([0.0, 2.0, 4.0, 6.0, 8.0, 10.0, 15.0, 20.0, 30.0, 45.0, 60.0, 75.0, 90.0, 120.0, 150.0, 180.0])
FIN_THICKNESS = 0.06


def finned_set(geometry: Geometry, provenance: dict[str, Any]) -> TableSet:
    """Return tables and formulas in body axes of a drawn finned body; coefficients on the calibre's circle."""
    body = geometry.finned_body
    assert body is not None
    ref, calibre = geometry.reference, body.diameter
    # components are on the calibre's circle: here they become those of the reference area
    scale, length = 0.25 * np.pi * calibre**2 / ref.area, ref.chord
    machs = np.array(geometry.table_grid.mach)
    x, diameter = body.profile()
    plan = float(np.trapezoid(diameter, x))
    middle = float(np.trapezoid(diameter * x, x)) / plan
    crossflow = CROSSFLOW * plan / ref.area
    force, moment = (np.zeros((len(machs), len(INCIDENCES))) for _ in range(2))
    damping, pushing, rolling = (np.zeros(len(machs)) for _ in range(3))
    for i, mach in enumerate(machs):
        parts = components(body, float(mach))
        slope = scale * sum(c.slope for c in parts)
        turn = scale * sum(c.slope * (ref.moment_point[0] - c.x) for c in parts) / length
        # at any incidence: potential lift fades with the cosine, the cross flow's grows with the sine
        cosine, sine = np.abs(np.cos(INCIDENCES)), np.sin(INCIDENCES)
        force[i] = slope * cosine + crossflow * sine
        moment[i] = turn * cosine + crossflow * sine * (ref.moment_point[0] - middle) / length
        # pitching, each component meets q (x - x_moment)/V of incidence: its lift times that arm again
        damping[i] = -2.0 * scale * sum(c.slope * ((c.x - ref.moment_point[0]) / length) ** 2 for c in parts)
        # and the normal force of it
        pushing[i] = 2.0 * scale * sum(c.slope * (c.x - ref.moment_point[0]) / length for c in parts)
        rolling[i] = sum(_roll_damping(f, float(mach)) for f in body.fins.values()) / (ref.area * ref.span**2)
    mach_axis, angle_axis = Axis("mach", machs), Axis("incidence", INCIDENCES, "rad")
    files = {
        "normal": [
            Table("CN_slope", (mach_axis, angle_axis), np.round(force, 6)),
            Table("Cm_slope", (mach_axis, angle_axis), np.round(moment, 6)),
        ],
        "axial": [
            Table("CA_zero", (mach_axis,), np.round([_axial(geometry, body, float(m)) for m in machs], 6)),
            Table("Cm_q", (mach_axis,), np.round(damping, 6)),
            Table("CN_q", (mach_axis,), np.round(pushing, 6)),
            Table("Cl_p", (mach_axis,), np.round(rolling, 6)),
        ],
    }
    # yaw rates are made non-dimensional by the span: in the yawing moment both lengths stand
    turned = "(reference_chord/reference_span)"
    formulas = {
        "incidence": Formula("acos(limit(cos(alpha)*cos(beta), -1, 1))", "angle between the axis and the flow", "rad"),
        **angles_at_point(ref),
        "across_down": Formula("sin(alpha_point)*cos(beta)", "share of the flow from below, at the moment point"),
        "across_right": Formula("sin(beta_point)", "share of the flow from the right, at the moment point"),
        "CX": Formula("-CA_zero(mach)*cos(incidence)"),
        "CY": Formula(f"-CN_slope(mach, incidence)*across_right + CN_q(mach)*r_hat*{turned}"),
        "CZ": Formula("-CN_slope(mach, incidence)*across_down - CN_q(mach)*q_hat"),
        "Cl": Formula("Cl_p(mach)*p_hat"),
        "Cm": Formula("Cm_slope(mach, incidence)*across_down + Cm_q(mach)*q_hat"),
        "Cn": Formula(f"-Cm_slope(mach, incidence)*across_right*{turned} + Cm_q(mach)*r_hat*{turned}**2"),
    }
    provenance = provenance | {
        "method": "components: slender body, fins with interference, friction, base and wave drag"
    }
    return TableSet(geometry.name, ref, files, formulas, provenance, axes="body", moment_axes="body")


def _roll_damping(fins: Fins, mach: float) -> float:
    """Return area times length squared times Cl_p of a set of fins, by strips."""
    y = np.linspace(0.0, fins.span, 201)
    chord = fins.root + (fins.tip - fins.root) * y / fins.span
    radius = 0.5 * fins.diameter
    # rolling, a strip meets p y/V: lift times arm goes with y^2
    second = float(np.trapezoid(chord * (radius + y) ** 2, y))
    return -2.0 * fins.count * fin_slope(fins, mach) * (1.0 + radius / (fins.span + radius)) * second


def _axial(geometry: Geometry, body: FinnedBody, mach: float) -> float:
    """Return the axial-force coefficient along the flow without thrust."""
    air = air_at(geometry.table_grid.altitude)
    speed = max(mach, 0.05) * float(air.speed_of_sound)
    per_metre = float(speed * air.density / air.viscosity)
    # compressibility thins the friction of a turbulent boundary layer
    thin = (1.0 + 0.144 * mach**2) ** -0.65
    x, diameter = body.profile()
    wetted = np.pi * float(np.trapezoid(diameter, x))
    total = float(friction(per_metre * body.length)) * thin * wetted
    for fins in body.fins.values():
        chord = 0.5 * (fins.root + fins.tip)
        rubbed = 2.0 * fins.count * fins.area * float(friction(per_metre * chord))
        total += rubbed * thin * float(section_form_factor(FIN_THICKNESS))
    # suction on the blunt base, which a burning motor fills
    base = 0.25 * np.pi * float(diameter[-1]) ** 2
    total += base * (0.12 + 0.13 * mach**2 if mach < 1.0 else 0.25 / mach)
    if mach > 1.0:
        # wave drag of the nose as of a cone with its half angle
        half_angle = float(np.arctan(0.5 * body.nose.diameter / body.nose.length))
        total += 0.25 * np.pi * body.nose.diameter**2 * (1.59 + 1.83 / mach**2) * half_angle**1.69
    return float(total / geometry.reference.area)
