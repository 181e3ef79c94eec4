"""Things that happen over time: control histories, flights, recordings, and proofs by flying."""

from dravik.flight.along import linearise_along
from dravik.flight.core import Flight, SavedFlight, Start
from dravik.flight.devices import Device
from dravik.flight.flying import fly
from dravik.flight.histories import (
    History,
    doublet,
    from_csv,
    gust,
    parse_history,
    pulse,
    pulses_3211,
    ramp,
    sine,
    step,
    sweep,
)
from dravik.flight.loop_truth import FlownStep, LoopTruth, engaged, fly_loop
from dravik.flight.mode_motion import mode_motion
from dravik.flight.model_proof import ModelCheck, ModelProof, prove_model
from dravik.flight.options import Options
from dravik.flight.proofs import HoldProof, LinearProof, prove_linear, prove_trim
from dravik.flight.recording import Event, Recording, read_recording
from dravik.flight.resuming import resume
from dravik.flight.sampled_loops import SampledLoops
from dravik.flight.scenario import Scenario, is_scenario, load_scenario, scenario_names
from dravik.flight.scorecard import Followed, scorecard
from dravik.flight.session import Session
from dravik.flight.starts import on_rail, start
from dravik.flight.tracks import write_track
from dravik.flight.turbulence import Turbulence

__all__ = [
    "Device",
    "Event",
    "Flight",
    "FlownStep",
    "Followed",
    "History",
    "HoldProof",
    "LinearProof",
    "LoopTruth",
    "ModelCheck",
    "ModelProof",
    "Options",
    "Recording",
    "SampledLoops",
    "SavedFlight",
    "Scenario",
    "Session",
    "Start",
    "Turbulence",
    "doublet",
    "engaged",
    "fly",
    "fly_loop",
    "from_csv",
    "gust",
    "is_scenario",
    "linearise_along",
    "load_scenario",
    "mode_motion",
    "on_rail",
    "parse_history",
    "prove_linear",
    "prove_model",
    "prove_trim",
    "pulse",
    "pulses_3211",
    "ramp",
    "read_recording",
    "resume",
    "scenario_names",
    "scorecard",
    "sine",
    "start",
    "step",
    "sweep",
    "write_track",
]
