"""Loops: broken, analysed, closed and designed, on any linear system and on the aircraft with its laws."""

from dravik.loops.closed_loops import Closed, SteadyErrors, steady_errors
from dravik.loops.describing_functions import LimitCycle, Nonlinearity, limit_cycles
from dravik.loops.elements import PID, lag, lead, notch, sampled_loop
from dravik.loops.gains import FoundGain, Wish, gain_for
from dravik.loops.law_text import law_of
from dravik.loops.locus import LocusCrossing, RootLocus, locus_of, parameter_locus, root_locus
from dravik.loops.margins import Crossing, Margins, margins
from dravik.loops.observers import Observer, kalman, with_observer
from dravik.loops.open_loops import broken_loop
from dravik.loops.pid_design import Choice, pid_choices, pid_for
from dravik.loops.plan import LoopEntry, LoopPlan, read_loops
from dravik.loops.regulators import optimal_outputs, optimal_states, tracked
from dravik.loops.root_assignment import Regulator, place, place_mode
from dravik.loops.schedule import GainSchedule, schedule_gains
from dravik.loops.several import SeveralMargins, one_of, several_margins
from dravik.loops.study import ClosedLoop, LoopStudy, study_loops

__all__ = [
    "PID",
    "Choice",
    "Closed",
    "ClosedLoop",
    "Crossing",
    "FoundGain",
    "GainSchedule",
    "LimitCycle",
    "LocusCrossing",
    "LoopEntry",
    "LoopPlan",
    "LoopStudy",
    "Margins",
    "Nonlinearity",
    "Observer",
    "Regulator",
    "RootLocus",
    "SeveralMargins",
    "SteadyErrors",
    "Wish",
    "broken_loop",
    "gain_for",
    "kalman",
    "lag",
    "law_of",
    "lead",
    "limit_cycles",
    "locus_of",
    "margins",
    "notch",
    "one_of",
    "optimal_outputs",
    "optimal_states",
    "parameter_locus",
    "pid_choices",
    "pid_for",
    "place",
    "place_mode",
    "read_loops",
    "root_locus",
    "sampled_loop",
    "schedule_gains",
    "several_margins",
    "steady_errors",
    "study_loops",
    "tracked",
    "with_observer",
]
