"""Estimates of what is not measured, or measured badly: filters in a flight's loop and on its recording."""

from dravik.estimation.afterwards import Consistency, Estimate, estimate
from dravik.estimation.device import TRUTH, InertialFilter
from dravik.estimation.setup import FilterPlan, estimator_of, filter_plan

__all__ = [
    "TRUTH",
    "Consistency",
    "Estimate",
    "FilterPlan",
    "InertialFilter",
    "estimate",
    "estimator_of",
    "filter_plan",
]
