"""The compiled kernel: programs of tapes, the interpreter that runs them, and their machine code."""

from dravik.kernel.program import PointLoad, Program, RigidBody, Workspace, build_program, new_workspace
from dravik.kernel.signals import BASE_SIGNALS, RIGID_STATES, BaseSignal

__all__ = [
    "BASE_SIGNALS",
    "RIGID_STATES",
    "BaseSignal",
    "PointLoad",
    "Program",
    "RigidBody",
    "Workspace",
    "build_program",
    "new_workspace",
]
