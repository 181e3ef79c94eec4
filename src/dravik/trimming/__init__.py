"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trimming.condition import Asked, Condition
from dravik.trimming.continuation import Family
from dravik.trimming.ground import on_ground
from dravik.trimming.minimum import trim_least
from dravik.trimming.nearest import Edge, nearest_held, walk
from dravik.trimming.reference_speeds import glide_speed, stall_speed
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.solve import settle, steady, trim, trim_all, trim_plant
from dravik.trimming.statement import Equation, Free, Statement
from dravik.trimming.sweeps import TrimSweep, trim_sweep

__all__ = [
    "Asked",
    "Condition",
    "Edge",
    "Equation",
    "Family",
    "Free",
    "PlantTrim",
    "Statement",
    "TrimPoint",
    "TrimSweep",
    "glide_speed",
    "nearest_held",
    "on_ground",
    "settle",
    "stall_speed",
    "steady",
    "trim",
    "trim_all",
    "trim_least",
    "trim_plant",
    "trim_sweep",
    "walk",
]
