"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trim.condition import Condition
from dravik.trim.solve import trim, trim_plant
from dravik.trim.result import PlantTrim, TrimPoint

__all__ = ["Condition", "PlantTrim", "TrimPoint", "trim", "trim_plant"]
