"""Estimates of what is not measured, or measured badly: filters in a flight's loop and on its recording."""

from dravik.estimation.device import TRUTH, InertialFilter
from dravik.estimation.setup import FilterPlan, estimator_of, filter_plan

__all__ = ["TRUTH", "FilterPlan", "InertialFilter", "estimator_of", "filter_plan"]
