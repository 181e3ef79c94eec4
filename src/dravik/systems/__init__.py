"""Linear systems with names and units: joined, sampled, reduced, and their responses."""

from dravik.systems.interconnection import append, connect
from dravik.systems.responses import Answer, FrequencyAnswer, StepFigures, answer, frequency_answer
from dravik.systems.system import LinearSystem
from dravik.systems.transfer import Transfer

__all__ = [
    "Answer",
    "FrequencyAnswer",
    "LinearSystem",
    "StepFigures",
    "Transfer",
    "answer",
    "append",
    "connect",
    "frequency_answer",
]
