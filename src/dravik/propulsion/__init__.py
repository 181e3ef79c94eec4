"""Propulsion builders: so far propeller and rotor maps by blade elements and momentum."""

from dravik.propulsion.blades import Blades, Section, read_blades
from dravik.propulsion.elements import BladeFlow, RotorLoads, blade_flow, rotor_loads
from dravik.propulsion.maps import propeller_map, write_map

__all__ = [
    "BladeFlow",
    "Blades",
    "RotorLoads",
    "Section",
    "blade_flow",
    "propeller_map",
    "read_blades",
    "rotor_loads",
    "write_map",
]
