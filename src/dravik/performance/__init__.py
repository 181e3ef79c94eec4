"""Performance: what the engines give over speed and lever, and what the aircraft does with it in steady flight."""

from dravik.performance.bench import EnginePoint, MotorFacts, engine_points, lever_inputs, motor_facts
from dravik.performance.engine_out import ControlSpeed, least_control_speeds
from dravik.performance.fuel import FuelLeg, FuelPlan, FuelUse, LegUse, fuel_for, read_fuel_plan
from dravik.performance.level import Ceiling, Performance, SpeedPoint, ceiling, performance
from dravik.performance.limits import EnvelopeRow, ManoeuvreRow, flight_envelope, manoeuvre_limits
from dravik.performance.runway import Landing, RunwayRules, TakeOff, landing, take_off
from dravik.performance.stability import StaticStability, StickForce, static_stability

__all__ = [
    "Ceiling",
    "ControlSpeed",
    "EnginePoint",
    "EnvelopeRow",
    "FuelLeg",
    "FuelPlan",
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
    "ceiling",
    "engine_points",
    "flight_envelope",
    "fuel_for",
    "landing",
    "least_control_speeds",
    "lever_inputs",
    "manoeuvre_limits",
    "motor_facts",
    "performance",
    "read_fuel_plan",
    "static_stability",
    "take_off",
]
