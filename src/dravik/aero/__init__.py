"""Aerodynamic builders: from a drawing or a wind tunnel to tables, and what tables say before they are trusted."""

from typing import TYPE_CHECKING

from dravik.lazy import lazily

if TYPE_CHECKING:
    from dravik.aero.airframe import Airframe
    from dravik.aero.building import build_tables
    from dravik.aero.coefficients import Coefficients, read_coefficients
    from dravik.aero.comparing import Comparison, compare
    from dravik.aero.finned import FinnedBody, components, pressure_centre
    from dravik.aero.geometry import Geometry, Surface, read_geometry
    from dravik.aero.lattice import FlowState, Lattice, LatticeForces
    from dravik.aero.mesh import Mesh, build_mesh
    from dravik.aero.reducing import reduce_campaign
    from dravik.aero.reduction import Reduction
    from dravik.aero.sections import Profile, naca_profile, profile_of, read_profile
    from dravik.aero.stability import (
        CentreRange,
        centre_range,
        lengthwise_controls,
        margin_unit,
        signals_of,
        static_margin,
    )
    from dravik.aero.tableset import TableSet

__all__ = [
    "Airframe",
    "CentreRange",
    "Coefficients",
    "Comparison",
    "FinnedBody",
    "FlowState",
    "Geometry",
    "Lattice",
    "LatticeForces",
    "Mesh",
    "Profile",
    "Reduction",
    "Surface",
    "TableSet",
    "build_mesh",
    "build_tables",
    "centre_range",
    "compare",
    "components",
    "lengthwise_controls",
    "margin_unit",
    "naca_profile",
    "pressure_centre",
    "profile_of",
    "read_coefficients",
    "read_geometry",
    "read_profile",
    "reduce_campaign",
    "signals_of",
    "static_margin",
]

__getattr__ = lazily(
    __name__,
    {
        "airframe": ("Airframe",),
        "building": ("build_tables",),
        "coefficients": (
            "Coefficients",
            "read_coefficients",
        ),
        "comparing": (
            "Comparison",
            "compare",
        ),
        "finned": (
            "FinnedBody",
            "components",
            "pressure_centre",
        ),
        "geometry": (
            "Geometry",
            "Surface",
            "read_geometry",
        ),
        "lattice": (
            "FlowState",
            "Lattice",
            "LatticeForces",
        ),
        "mesh": (
            "Mesh",
            "build_mesh",
        ),
        "reducing": ("reduce_campaign",),
        "reduction": ("Reduction",),
        "sections": (
            "Profile",
            "naca_profile",
            "profile_of",
            "read_profile",
        ),
        "stability": (
            "CentreRange",
            "centre_range",
            "lengthwise_controls",
            "margin_unit",
            "signals_of",
            "static_margin",
        ),
        "tableset": ("TableSet",),
    },
)
