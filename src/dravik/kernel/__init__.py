"""The compiled kernel: it interprets the tape, sums forces and moments, and integrates the motion."""

from dravik.kernel.linking import linked
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
    "linked",
    "new_workspace",
]
