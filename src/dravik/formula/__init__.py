"""The formula language: text over named signals, parsed against a whitelist and compiled to a flat tape."""

from dravik.formula.arrange import Guard
from dravik.formula.dynamics import direct_names
from dravik.formula.functions import CONSTANTS, FUNCTIONS
from dravik.formula.layout import StateSlot, Tape
from dravik.formula.parse import Node, choice_node, name_node, number_node, parse
from dravik.formula.tape import TapeBuilder

__all__ = [
    "CONSTANTS",
    "FUNCTIONS",
    "Guard",
    "Node",
    "StateSlot",
    "Tape",
    "TapeBuilder",
    "choice_node",
    "direct_names",
    "name_node",
    "number_node",
    "parse",
]
