"""Linear systems with names and units, linear models about an operating point, their modes and their responses."""

from dravik.linear.answers import Answer, FrequencyAnswer, StepFigures, answer, frequency_answer
from dravik.linear.axes import in_axes
from dravik.linear.derivatives import Derivative, Derivatives, derivatives
from dravik.linear.joining import append, connect
from dravik.linear.linearising import linearise, linearise_plant
from dravik.linear.migration import RootSweep, root_sweep
from dravik.linear.model import LinearModel
from dravik.linear.modes import Mode, Modes, find_modes, is_body_mode
from dravik.linear.moment import Moment
from dravik.linear.sensitivity import RootSensitivity, root_sensitivities
from dravik.linear.short_forms import ShortForm
from dravik.linear.steps import longest_step
from dravik.linear.storing import load_system, save_system
from dravik.linear.system import LinearSystem
from dravik.linear.transfer import Transfer

__all__ = [
    "Answer",
    "Derivative",
    "Derivatives",
    "FrequencyAnswer",
    "LinearModel",
    "LinearSystem",
    "Mode",
    "Modes",
    "Moment",
    "RootSensitivity",
    "RootSweep",
    "ShortForm",
    "StepFigures",
    "Transfer",
    "answer",
    "append",
    "connect",
    "derivatives",
    "find_modes",
    "frequency_answer",
    "in_axes",
    "is_body_mode",
    "linearise",
    "linearise_plant",
    "load_system",
    "longest_step",
    "root_sensitivities",
    "root_sweep",
    "save_system",
]
