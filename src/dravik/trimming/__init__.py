"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trimming.condition import Condition, ConditionKeys
from dravik.trimming.continuation import ConditionSeries
from dravik.trimming.ground import on_ground
from dravik.trimming.minimum import trim_minimum
from dravik.trimming.nearest import FeasibleLimit, find_limit, nearest_feasible
from dravik.trimming.point_files import load_point, save_point
from dravik.trimming.reference_speeds import glide_speed, stall_limit, stall_speed
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.solve import settle, steady, trim, trim_all, trim_plant
from dravik.trimming.statement import Equation, Free, Statement
from dravik.trimming.sweeps import TrimSweep, trim_sweep

__all__ = [
    "Condition",
    "ConditionKeys",
    "ConditionSeries",
    "Equation",
    "FeasibleLimit",
    "Free",
    "PlantTrim",
    "Statement",
    "TrimPoint",
    "TrimSweep",
    "find_limit",
    "glide_speed",
    "load_point",
    "nearest_feasible",
    "on_ground",
    "save_point",
    "settle",
    "stall_limit",
    "stall_speed",
    "steady",
    "trim",
    "trim_all",
    "trim_minimum",
    "trim_plant",
    "trim_sweep",
]
