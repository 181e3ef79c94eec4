"""Loops: broken, analysed, closed and designed, on any linear system and on the aircraft with its laws."""

from dravik.loops.breaking import broken_loop
from dravik.loops.closing import Closed, SteadyErrors, steady_errors
from dravik.loops.designing import Choice, FoundGain, Wish, gain_for, pid_choices, pid_for
from dravik.loops.elements import PID, lag, lead, notch, sampled_loop
from dravik.loops.locus import LocusCrossing, RootLocus, locus_of, root_locus
from dravik.loops.margins import Crossing, Margins, margins

__all__ = [
    "PID",
    "Choice",
    "Closed",
    "Crossing",
    "FoundGain",
    "LocusCrossing",
    "Margins",
    "RootLocus",
    "SteadyErrors",
    "Wish",
    "broken_loop",
    "gain_for",
    "lag",
    "lead",
    "locus_of",
    "margins",
    "notch",
    "pid_choices",
    "pid_for",
    "root_locus",
    "sampled_loop",
    "steady_errors",
]
