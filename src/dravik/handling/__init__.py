"""Handling qualities: modes and responses held against published criteria."""

from dravik.handling.agility import Change, attitude_changes, linear_changes
from dravik.handling.assessment import SETS, handling_qualities
from dravik.handling.attitude import Bandwidth, Dropback, TrackingPilot, bandwidth, dropback, tracking_pilot
from dravik.handling.comfort import Discomfort, discomfort
from dravik.handling.criteria import Assessment, Criterion
from dravik.handling.equivalent import EquivalentSystem, fit_equivalent, mismatch_envelopes
from dravik.handling.forces import PitchForce
from dravik.handling.level_sensitivity import LevelSensitivity, sensitivities_of_level
from dravik.handling.maps import HandlingMap, compare_handling, handling_map
from dravik.handling.modal import modal_criteria
from dravik.handling.pilot import TASKS, FlownTask, fly_task
from dravik.handling.pitch_steps import PitchStep, anticipation, c_star, pitch_step
from dravik.handling.ride import Ride, ride, ride_flown
from dravik.handling.rolling import RollOscillations, roll_oscillations, time_to_bank

__all__ = [
    "SETS",
    "TASKS",
    "Assessment",
    "Bandwidth",
    "Change",
    "Criterion",
    "Discomfort",
    "Dropback",
    "EquivalentSystem",
    "FlownTask",
    "HandlingMap",
    "LevelSensitivity",
    "PitchForce",
    "PitchStep",
    "Ride",
    "RollOscillations",
    "TrackingPilot",
    "anticipation",
    "attitude_changes",
    "bandwidth",
    "c_star",
    "compare_handling",
    "discomfort",
    "dropback",
    "fit_equivalent",
    "fly_task",
    "handling_map",
    "handling_qualities",
    "linear_changes",
    "mismatch_envelopes",
    "modal_criteria",
    "pitch_step",
    "ride",
    "ride_flown",
    "roll_oscillations",
    "sensitivities_of_level",
    "time_to_bank",
    "tracking_pilot",
]
