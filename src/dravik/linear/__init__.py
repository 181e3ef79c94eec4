"""Linear models: A, B, C, D with names and units, their modes, and their responses."""

from dravik.linear.linearising import linearise, linearise_plant
from dravik.linear.model import LinearModel
from dravik.linear.modes import Mode, Modes, find_modes
from dravik.linear.steps import longest_step

__all__ = ["LinearModel", "Mode", "Modes", "find_modes", "linearise", "linearise_plant", "longest_step"]
