"""Linear systems with names and units: joined, sampled, reduced, and their responses."""

from dravik.systems.interconnection import beside, wired
from dravik.systems.responses import FrequencyResponse, StepMetrics, TimeResponse, frequency_response, time_response
from dravik.systems.system import LinearSystem
from dravik.systems.transfer import Transfer

__all__ = [
    "FrequencyResponse",
    "LinearSystem",
    "StepMetrics",
    "TimeResponse",
    "Transfer",
    "beside",
    "frequency_response",
    "time_response",
    "wired",
]
