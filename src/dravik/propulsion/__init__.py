"""Propulsion builders: propeller and rotor maps by blade elements and momentum, and readings of a thrust stand."""

from dravik.propulsion.bench import BenchResult, MotorConstants, reduce_bench
from dravik.propulsion.blades import Blades, Section, read_blades
from dravik.propulsion.elements import BladeFlow, RotorLoads, blade_flow, rotor_loads
from dravik.propulsion.maps import propeller_map, write_map

__all__ = [
    "BenchResult",
    "BladeFlow",
    "Blades",
    "MotorConstants",
    "RotorLoads",
    "Section",
    "blade_flow",
    "propeller_map",
    "read_blades",
    "reduce_bench",
    "rotor_loads",
    "write_map",
]
