"""Linear systems with names and units, linear models about an operating point, their modes and their responses."""

from dravik.linear.joining import append, connect
from dravik.linear.linearising import linearise, linearise_plant
from dravik.linear.model import LinearModel
from dravik.linear.modes import Mode, Modes, find_modes
from dravik.linear.steps import longest_step
from dravik.linear.system import LinearSystem
from dravik.linear.transfer import Transfer

__all__ = [
    "LinearModel",
    "LinearSystem",
    "Mode",
    "Modes",
    "Transfer",
    "append",
    "connect",
    "find_modes",
    "linearise",
    "linearise_plant",
    "longest_step",
]
