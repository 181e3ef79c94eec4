"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trimming.condition import Condition
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.solve import trim, trim_plant

__all__ = ["Condition", "PlantTrim", "TrimPoint", "trim", "trim_plant"]
