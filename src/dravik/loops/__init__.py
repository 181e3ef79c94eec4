"""Loops: how far a closed loop is from instability, whatever it is closed around."""

from dravik.loops.breaking import broken_loop
from dravik.loops.margins import Crossing, Margins, margins

__all__ = ["Crossing", "Margins", "broken_loop", "margins"]
