"""Linear models of an aircraft or a plant about an operating point: derivatives, modes, and what moves them."""

from dravik.linear.approximations import ShortForm
from dravik.linear.axes import in_axes
from dravik.linear.derivatives import Derivative, Derivatives, derivatives
from dravik.linear.linearising import linearise, linearise_plant
from dravik.linear.mode_tables import ModeSweep, mode_sweep
from dravik.linear.model import LinearModel
from dravik.linear.model_files import load_system, save_system
from dravik.linear.modes import Mode, Modes, find_modes, is_body_mode
from dravik.linear.operating_point import OperatingInstant
from dravik.linear.root_paths import RootSweep, root_sweep
from dravik.linear.root_sensitivity import RootSensitivity, root_sensitivities
from dravik.linear.step_size import longest_step

__all__ = [
    "Derivative",
    "Derivatives",
    "LinearModel",
    "Mode",
    "ModeSweep",
    "Modes",
    "OperatingInstant",
    "RootSensitivity",
    "RootSweep",
    "ShortForm",
    "derivatives",
    "find_modes",
    "in_axes",
    "is_body_mode",
    "linearise",
    "linearise_plant",
    "load_system",
    "longest_step",
    "mode_sweep",
    "root_sensitivities",
    "root_sweep",
    "save_system",
]
