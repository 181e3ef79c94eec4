"""Performance: what the engines give over speed and throttle, and what the aircraft does with it in steady flight."""

from dravik.performance.balanced_field import BalancedField, balanced_field
from dravik.performance.bench import EnginePoint, MotorFacts, engine_points, motor_facts, throttle_inputs
from dravik.performance.corridor import Corridor, CorridorEdge, corridor
from dravik.performance.engine_out import ControlSpeed, minimum_control_speeds
from dravik.performance.fuel import FuelLeg, FuelMission, FuelUse, LegUse, fuel_for, read_fuel_mission
from dravik.performance.level import Ceiling, Performance, SpeedPoint, ceiling, performance
from dravik.performance.limits import EnvelopeRow, ManoeuvreRow, flight_envelope, manoeuvre_limits
from dravik.performance.runway import Landing, RunwayRules, TakeOff, landing, take_off
from dravik.performance.stability import StaticStability, StickForce, static_stability

__all__ = [
    "BalancedField",
    "Ceiling",
    "ControlSpeed",
    "Corridor",
    "CorridorEdge",
    "EnginePoint",
    "EnvelopeRow",
    "FuelLeg",
    "FuelMission",
    "FuelUse",
    "Landing",
    "LegUse",
    "ManoeuvreRow",
    "MotorFacts",
    "Performance",
    "RunwayRules",
    "SpeedPoint",
    "StaticStability",
    "StickForce",
    "TakeOff",
    "balanced_field",
    "ceiling",
    "corridor",
    "engine_points",
    "flight_envelope",
    "fuel_for",
    "landing",
    "manoeuvre_limits",
    "minimum_control_speeds",
    "motor_facts",
    "performance",
    "read_fuel_mission",
    "static_stability",
    "take_off",
    "throttle_inputs",
]
