"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trimming.condition import Condition
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.solve import on_ground, settle, straight, trim, trim_plant
from dravik.trimming.statement import Equation, Free, Statement

__all__ = [
    "Condition",
    "Equation",
    "Free",
    "PlantTrim",
    "Statement",
    "TrimPoint",
    "on_ground",
    "settle",
    "straight",
    "trim",
    "trim_plant",
]
