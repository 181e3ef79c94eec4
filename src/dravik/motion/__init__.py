"""The equations of motion on the compiled kernel: loads, rates, integration, and the residual of an equilibrium."""

from dravik.motion.linking import linked

__all__ = ["linked"]
