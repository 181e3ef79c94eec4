"""Loops: broken, analysed, closed and designed, on any linear system and on the aircraft with its laws."""

from dravik.loops.closed_loops import ClosedLoops, SteadyErrors, steady_errors
from dravik.loops.cut_loops import cut_loop
from dravik.loops.describing_functions import LimitCycle, Nonlinearity, limit_cycles
from dravik.loops.elements import PID, lag_compensator, lead_compensator, notch_filter, sampled_loop
from dravik.loops.gains import GainResult, GainTarget, gain_for
from dravik.loops.law_text import law_of, law_of_regulator
from dravik.loops.locus import LocusCrossing, RootLocus, locus_of_roots, locus_over_gain, locus_over_parameter
from dravik.loops.margins import Crossing, Margins, margins
from dravik.loops.observers import Observer, steady_observer, with_observer
from dravik.loops.over_conditions import MarginSweep, margins_over, plan_over
from dravik.loops.pid_design import PIDOption, pid_for, pid_options
from dravik.loops.plan import LoopEntry, LoopPlan, read_loops
from dravik.loops.regulators import optimal_outputs, optimal_states, tracked
from dravik.loops.root_assignment import Regulator, assign_mode, assign_roots
from dravik.loops.schedule import GainSchedule, schedule_gains
from dravik.loops.several import SeveralMargins, one_of, several_margins
from dravik.loops.study import ClosedLoop, LoopStudy, study_loops

__all__ = [
    "PID",
    "ClosedLoop",
    "ClosedLoops",
    "Crossing",
    "GainResult",
    "GainSchedule",
    "GainTarget",
    "LimitCycle",
    "LocusCrossing",
    "LoopEntry",
    "LoopPlan",
    "LoopStudy",
    "MarginSweep",
    "Margins",
    "Nonlinearity",
    "Observer",
    "PIDOption",
    "Regulator",
    "RootLocus",
    "SeveralMargins",
    "SteadyErrors",
    "assign_mode",
    "assign_roots",
    "cut_loop",
    "gain_for",
    "lag_compensator",
    "law_of",
    "law_of_regulator",
    "lead_compensator",
    "limit_cycles",
    "locus_of_roots",
    "locus_over_gain",
    "locus_over_parameter",
    "margins",
    "margins_over",
    "notch_filter",
    "one_of",
    "optimal_outputs",
    "optimal_states",
    "pid_for",
    "pid_options",
    "plan_over",
    "read_loops",
    "sampled_loop",
    "schedule_gains",
    "several_margins",
    "steady_errors",
    "steady_observer",
    "study_loops",
    "tracked",
    "with_observer",
]
