"""Effectors as formulas: dynamics, rate limit and stops between command and position, and their faults."""

import math
from collections.abc import Mapping

from dravik.aircraft.description.faults import Fault
from dravik.definition.effectors import Effector
from dravik.formula import Node, name_node, number_node

__all__ = ["effector_node"]

FOLLOW_TIME = 0.02  # s, of an effector with a rate limit but no lag of its own


def effector_node(name: str, effector: Effector, faults: Mapping[str, Fault]) -> Node:
    """Return the position of an effector as a formula of its command, with the faults that concern it.

    Raises DravikError for a fault that the control cannot have, such as slow without a rate.
    """
    node = _healthy(name, effector)
    for key, fault in faults.items():
        if getattr(fault, "control", None) == name:
            node = fault.control_node(key, effector, node)
    return node


def _healthy(name: str, effector: Effector) -> Node:
    """Return the position of an effector: a state with dynamics, or its limited command without."""
    low, high = effector.range or (-math.inf, math.inf)
    command = name_node(f"{name}_command")
    rate = math.inf if effector.rate is None else effector.rate
    # a frequency asks for the second-order actuator; with a lag or a rate alone the first order is enough
    if effector.frequency is not None:
        parts = (effector.frequency, effector.damping, rate, low, high)
        return Node("call", 0, "actuator_2", args=(command, *(number_node(v) for v in parts)))
    if effector.lag is not None or effector.rate is not None:
        parts4 = (effector.lag or FOLLOW_TIME, rate, low, high)
        return Node("call", 0, "actuator_1", args=(command, *(number_node(v) for v in parts4)))
    # neither dynamics nor stops: the command itself, without a register of its own
    if math.isinf(low) and math.isinf(high):
        return command
    return Node("op", 0, "position_limit", args=(command, number_node(low), number_node(high)))
