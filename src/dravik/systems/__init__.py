"""Linear systems with names and units: joined, sampled, reduced, and their responses."""

from dravik.systems.delayed_loops import DelayedLoop
from dravik.systems.interconnection import beside, wired
from dravik.systems.measured_response import MeasuredLoop, MeasuredMargins, read_response
from dravik.systems.responses import FrequencyResponse, StepMetrics, TimeResponse, frequency_response, time_response
from dravik.systems.system import LinearSystem
from dravik.systems.transfer import Transfer

__all__ = [
    "DelayedLoop",
    "FrequencyResponse",
    "LinearSystem",
    "MeasuredLoop",
    "MeasuredMargins",
    "StepMetrics",
    "TimeResponse",
    "Transfer",
    "beside",
    "frequency_response",
    "read_response",
    "time_response",
    "wired",
]
