"""Trim: the states and inputs that hold a flight condition, or the reason why nothing does."""

from dravik.trimming.condition import Condition
from dravik.trimming.result import PlantTrim, TrimPoint
from dravik.trimming.settling import settle
from dravik.trimming.solve import trim, trim_plant

__all__ = ["Condition", "PlantTrim", "TrimPoint", "settle", "trim", "trim_plant"]
