"""Aerodynamic builders: from a drawing to forces and moments. So far lifting surfaces by a vortex lattice."""

from dravik.aero.geometry import Geometry, Surface, read_geometry
from dravik.aero.lattice import FlowState, Lattice, LatticeForces
from dravik.aero.mesh import Mesh, build_mesh
from dravik.aero.sections import Profile, naca_profile, profile_of, read_profile

__all__ = [
    "FlowState",
    "Geometry",
    "Lattice",
    "LatticeForces",
    "Mesh",
    "Profile",
    "Surface",
    "build_mesh",
    "naca_profile",
    "profile_of",
    "read_geometry",
    "read_profile",
]
