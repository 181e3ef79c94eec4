"""Propulsion: maps of propellers and rotors, readings of a thrust stand, and engines as formulas of an aircraft."""

from dravik.propulsion.bench import BenchResult, MotorConstants, reduce_bench
from dravik.propulsion.blades import Blades, Section, read_blades
from dravik.propulsion.direct import check_thrust_curve, read_thrust_curve
from dravik.propulsion.elements import BladeFlow, RotorLoads, blade_flow, rotor_loads
from dravik.propulsion.engines import FanEngine, Piston, PropellerEngine, SolidMotor
from dravik.propulsion.maps import propeller_map, write_map
from dravik.propulsion.powerplant import powerplant
from dravik.propulsion.rotors import DiscLoads, disc_loads, disc_map, planned_map
from dravik.propulsion.shafts import MAP_COLUMNS
from dravik.propulsion.turbines import CyclePoint, GasTurbine, cycle, turbine_tables

__all__ = [
    "MAP_COLUMNS",
    "BenchResult",
    "BladeFlow",
    "Blades",
    "CyclePoint",
    "DiscLoads",
    "FanEngine",
    "GasTurbine",
    "MotorConstants",
    "Piston",
    "PropellerEngine",
    "RotorLoads",
    "Section",
    "SolidMotor",
    "blade_flow",
    "check_thrust_curve",
    "cycle",
    "disc_loads",
    "disc_map",
    "planned_map",
    "powerplant",
    "propeller_map",
    "read_blades",
    "read_thrust_curve",
    "reduce_bench",
    "rotor_loads",
    "turbine_tables",
    "write_map",
]
