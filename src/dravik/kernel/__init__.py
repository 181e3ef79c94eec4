"""The compiled kernel: it interprets the tape, sums forces and moments, and integrates the motion."""

from dravik.compiled import is_cached
from dravik.kernel.chart import jacobian
from dravik.kernel.equilibrium import newton
from dravik.kernel.integrate import fly_steps
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
    "is_compiled",
    "linked",
    "new_workspace",
]


_PARTS = {"trim": newton, "linear": jacobian, "fly": fly_steps}


def is_compiled(*parts: str) -> bool:
    """Whether parts of the kernel (``trim``, ``linear``, ``fly``; all unless named) lie compiled on disk."""
    return all(is_cached(_PARTS[part]) for part in parts or _PARTS)
