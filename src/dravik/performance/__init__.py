"""Performance: what the engines give over speed and lever, and what the aircraft does with it in steady flight."""

from dravik.performance.bench import EnginePoint, MotorFacts, engine_points, lever_inputs, motor_facts
from dravik.performance.level import Performance, SpeedPoint, ceiling, performance

__all__ = [
    "EnginePoint",
    "MotorFacts",
    "Performance",
    "SpeedPoint",
    "ceiling",
    "engine_points",
    "lever_inputs",
    "motor_facts",
    "performance",
]
