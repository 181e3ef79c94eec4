"""Builders that the tests share: small bodies and aircraft from Python, without files."""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from dravik.aero import FlowState, Geometry, Lattice, TableSet, build_mesh
from dravik.aircraft import Aircraft, AircraftDefinition
from dravik.propulsion import Blades, disc_map
from dravik.surroundings.atmosphere import air_at

DEG = math.pi / 180.0
FOOT, SLUG, POUND = 0.3048, 14.593902937, 4.4482216152605


def definition(**sections: Any) -> dict[str, Any]:
    """Return a minimal definition: a body without air forces, datum at its centre of gravity."""
    loading = {"mass": 2.0, "cg": [0, 0, 0], "Ixx": 2.8, "Iyy": 2.0, "Izz": 1.2, **sections.pop("loading", {})}
    return {
        "format": 1,
        "name": "body",
        "default_loading": "only",
        "reference": {"area": 1.0, "chord": 1.0, "span": 1.0, "moment_point": [0, 0, 0]},
        "loadings": {"only": loading},
        **sections,
    }


def craft(**sections: Any) -> Aircraft:
    """Return an aircraft of ``definition`` and the sections given."""
    tables = sections.pop("with_tables", {})
    return Aircraft(AircraftDefinition.model_validate(definition(**sections)), tables)


def light_aircraft(**coefficients: str) -> Aircraft:
    """Return the general-aviation aircraft of R. C. Nelson, Flight Stability and Automatic Control, 2nd ed.,

    McGraw-Hill 1998, table B.1 (sea level, 176 ft/s, 2750 lb): stability axes, moments about the centre of gravity.
    The lift at zero elevator balances the weight in level flight at alpha = 0, where the stability axes lie.
    ``coefficients`` stand in place of the book's.
    """
    slug_ft2 = SLUG * FOOT**2
    speed, area, weight = 176 * FOOT, 184 * FOOT**2, 2750 * POUND
    pressure_area = 0.5 * 0.002378 * SLUG / FOOT**3 * speed**2 * area
    lift = weight / pressure_area
    drag = 0.05
    # the book's density belongs to its own atmosphere; the formula scales the air of 1976 onto it
    scale = 0.002378 * SLUG / FOOT**3 / 1.225
    return craft(
        name="light",
        environment={"gravity": 32.2 * FOOT},
        reference={"area": area, "chord": 5.7 * FOOT, "span": 33.4 * FOOT, "moment_point": [0, 0, 0]},
        loading={
            "mass": weight / (32.2 * FOOT), "Ixx": 1048 * slug_ft2, "Iyy": 3000 * slug_ft2, "Izz": 3530 * slug_ft2,
        },
        aero={
            "axes": "stability",
            "k": scale,
            "CL": f"k*({lift} + 4.44*alpha + 0.355*elevator)",
            "CD": f"k*({drag} + 0.33*alpha)",
            "Cm": "k*(-0.683*alpha - 4.36*alpha_dot_hat - 9.96*q_hat - 0.923*elevator)",
            "CY": "k*(-0.564*beta + 0.157*rudder)",
            "Cl": "k*(-0.074*beta - 0.410*p_hat + 0.107*r_hat + 0.1342*aileron + 0.0118*rudder)",
            "Cn": "k*(0.0701*beta - 0.0575*p_hat - 0.125*r_hat - 0.00346*aileron - 0.0717*rudder)",
            **coefficients,
        },
        controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
        engines={"one": {"position": [0, 0, 0], "thrust": "5000*power_one", "trim": True}},
    )  # fmt: skip


def transport() -> Aircraft:
    """Return the large transport of B. Etkin, L. D. Reid, Dynamics of Flight, 3rd ed., Wiley 1996, tables 6.1, 6.6, 7.2

    (40 000 ft, 774 ft/s, 636 636 lb): stability axes, where C_L alpha is -C_z alpha - C_D0, and so on.
    """
    slug_ft2 = SLUG * FOOT**2
    speed, area, weight = 774 * FOOT, 5500 * FOOT**2, 636636 * POUND
    density = 0.0005909 * SLUG / FOOT**3
    lift = weight / (0.5 * density * speed**2 * area)
    # the book's density differs by 0.6 % from the air of 1976
    scale = density / float(air_at("40000 ft").density)
    # the printed derivatives by speed hold the change of dynamic pressure: C_x u = -2 C_D0 - C_D u
    return craft(
        name="transport",
        environment={"gravity": 32.2 * FOOT},
        reference={"area": area, "chord": 27.31 * FOOT, "span": 195.7 * FOOT, "moment_point": [0, 0, 0]},
        loading={
            "mass": weight / (32.2 * FOOT), "Ixx": 0.183e8 * slug_ft2, "Iyy": 0.331e8 * slug_ft2,
            "Izz": 0.497e8 * slug_ft2, "Ixz": -0.156e7 * slug_ft2,
        },
        aero={
            "axes": "stability",
            "k": scale,
            "faster": f"airspeed/{speed} - 1",
            "CL": f"k*({lift} + 4.877*alpha + 0.106*faster + 5.921*q_hat - 5.896*alpha_dot_hat + 0.3648*elevator)",
            "CD": f"k*(0.0430 + {lift - 0.2193}*alpha + {0.1080 - 2 * 0.0430}*faster)",
            "Cm": "k*(0.1043*faster - 1.023*alpha - 23.92*q_hat - 6.314*alpha_dot_hat - 1.444*elevator)",
            "CY": "k*(-0.8771*beta + 0.1146*rudder)",
            "Cl": "k*(-0.2797*beta - 0.3295*p_hat + 0.304*r_hat - 0.01368*aileron + 0.006976*rudder)",
            "Cn": "k*(0.1946*beta - 0.04073*p_hat - 0.2737*r_hat - 0.0001973*aileron - 0.1257*rudder)",
        },
        controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
        engines={"one": {"position": [0, 0, 0], "thrust": "300000*power_one", "trim": True}},
    )  # fmt: skip


def craft_of(built: TableSet, cg: Sequence[float], **sections: Any) -> Aircraft:
    """Return an aircraft whose aerodynamics are a set of tables just built, with its centre of gravity at a station."""
    ref = built.reference
    heavy = {"mass": 30.0, "cg": list(cg), "Ixx": 2.0, "Iyy": 12.0, "Izz": 12.0}
    return craft(
        reference={"area": ref.area, "chord": ref.chord, "span": ref.span, "moment_point": list(ref.moment_point)},
        aero={"axes": built.axes, "moment_axes": built.moment_axes, **{n: {"formula": f.text, "unit": f.unit} for n, f in built.formulas.items()}},
        with_tables=built.tables, loading=heavy, **sections,
    )  # fmt: skip


def piston_aircraft() -> dict[str, Any]:
    """Return the sections of a light single with a governed propeller on a piston engine, for ``craft``.

    The blades are made up; the map reaches from standstill to a dive.
    """
    stations = [{"r": 0.2, "chord": 0.13, "twist": "24 deg"}, {"r": 0.5, "chord": 0.15, "twist": "9 deg"},
                {"r": 0.75, "chord": 0.13, "twist": "0 deg"}, {"r": 1.0, "chord": 0.06, "twist": "-5 deg"}]  # fmt: skip
    blades = Blades.model_validate({"format": 1, "name": "two", "blades": 2, "radius": 0.95, "stations": stations})
    tables = disc_map(blades, [-0.2, *np.linspace(0.0, 2.4, 25), 4.0], 0.02, np.arange(8, 46, 4) * DEG)
    return {
        "reference": {"area": 16.0, "chord": 1.5, "span": 11.0, "moment_point": [0, 0, 0]},
        "loading": {"mass": 1100.0, "Ixx": 1400.0, "Iyy": 2000.0, "Izz": 3000.0},
        "aero": {
            "axes": "stability", "CL": "0.3 + 4.9*alpha + 0.4*elevator + 4*q_hat", "CD": "0.027 + 0.053*CL**2",
            "CY": "-0.4*beta", "Cl": "-0.08*beta - 0.45*p_hat + 0.1*r_hat + 0.15*aileron",
            "Cm": "0.05 - 0.8*alpha - 12*q_hat - 1.2*elevator", "Cn": "0.08*beta - 0.1*r_hat - 0.07*rudder",
        },
        "controls": {n: {"trim": True, "range": ["-25 deg", "25 deg"]} for n in ("elevator", "aileron", "rudder")},
        "inputs": {"throttle": {"range": [0, 1], "trim": True}},
        "propellers": {"two": {"map": "", "diameter": 1.9, "inertia": 1.6, "rated_speed": "2400 rpm"}},
        "drives": {
            "engine": {"kind": "piston", "rated_power": "150 kW", "rated_speed": "2400 rpm", "consumption": "0.3 kg/kW/h"}
        },
        "engines": {
            "one": {
                "kind": "propeller", "propeller": "two", "drive": "engine", "position": [-2, 0, 0], "command": "throttle",
                "governor": {"speed": "2400 rpm", "fine": "10 deg", "coarse": "40 deg"},
            }
        },
        "with_tables": {f"{t.name}_two": t for t in tables},
    }  # fmt: skip


def random_rotation(seed: int) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Return a proper rotation matrix."""
    q, _ = np.linalg.qr(np.random.default_rng(seed).normal(size=(3, 3)))
    return q * np.sign(np.linalg.det(q))


def wing(
    sections: list[tuple[tuple[float, float, float], float]], *, area: float, chord: float, span: float,
    panels: tuple[int, int], spacing: str = "uniform", mirrored: bool = True, moment_point: tuple[float, ...] = (0, 0, 0),
    controls: dict[str, Any] | None = None, mach: float = 0.0, height: float | None = None, wall: bool = False,
    **section: Any,
) -> Lattice:  # fmt: skip
    """Return the lattice of one surface: sections as leading edge (station axes) and chord."""
    surface = {
        "sections": [{"leading_edge": list(edge), "chord": c, **section} for edge, c in sections],
        "panels": list(panels), "spacing": spacing, "mirrored": mirrored, "controls": controls or {},
    }  # fmt: skip
    reference = {"area": area, "chord": chord, "span": span, "moment_point": list(moment_point)}
    geometry = Geometry.model_validate(
        {"format": 1, "name": "wing", "reference": reference, "surfaces": {"wing": surface}}
    )
    return Lattice(build_mesh(geometry), geometry, mach=mach, height=height, wall=wall)


def elliptic_wing(aspect: float, panels: tuple[int, int], height: float | None = None) -> Lattice:
    """Return the lattice of a wing of span 2 whose chord is an ellipse about a straight quarter line."""
    root = 8.0 / (math.pi * aspect)
    angles = np.linspace(0.0, 0.5 * math.pi, 40)
    chords = np.maximum(root * np.cos(angles), 1e-3)
    sections = [((-0.25 * c, float(np.sin(t)), 0.0), float(c)) for t, c in zip(angles, chords, strict=True)]
    return wing(
        sections, area=0.5 * math.pi * root, chord=root, span=2.0, panels=panels, spacing="cosine", height=height
    )


def lattice_slope(lattice: Lattice, coefficient: str, by: str, step: float = 1e-4) -> float:
    """Return the derivative of a coefficient at zero by a field of the flow state."""
    up, down = (getattr(lattice.forces(FlowState(**{by: s})), coefficient) for s in (step, -step))
    return float((up - down) / (2 * step))


def drawing(surfaces: dict[str, Any], *, area: float, airspeed: float = 30.0, **more: Any) -> Geometry:
    """Return a drawing of surfaces with a reference chord of 1 m, moments about the datum."""
    reference = {"area": area, "chord": 1.0, "span": area, "moment_point": [0, 0, 0]}
    return Geometry.model_validate(
        {
            "format": 1,
            "name": "drawn",
            "reference": reference,
            "surfaces": surfaces,
            "table_grid": {"airspeed": airspeed},
            **more,
        }
    )


def wing_and_tail(controls: dict[str, Any] | None = None, **surface: Any) -> Geometry:
    """Return an uncambered wing of aspect ratio 8 with a tail five chords behind; ``surface`` goes to both."""
    edges = [{"leading_edge": [-0.25, y, 0], "chord": 1.0} for y in (0, 4)]
    behind = [{"leading_edge": [5.0, y, 0.6], "chord": 0.6} for y in (0, 1.4)]
    surfaces = {
        "wing": {"sections": edges, "panels": [4, 14], **surface},
        "tail": {"sections": behind, "panels": [4, 8], "controls": controls or {}, **surface},
    }
    return drawing(surfaces, area=8.0)


def rectangle(span: float, **more: Any) -> dict[str, Any]:
    """Return a flat rectangular wing of chord 1, its leading edge at the datum."""
    edges = [{"leading_edge": [0, 0, 0], "chord": 1.0}, {"leading_edge": [0, 0.5 * span, 0], "chord": 1.0}]
    return {"sections": edges, "panels": [4, 16], **more}
