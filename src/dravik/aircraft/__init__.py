"""An aircraft as data: its definition file, and the step from there to a program for the kernel."""

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.description.loadings import drain_paths, parts_of
from dravik.aircraft.description.overrides import SignalOverride
from dravik.aircraft.description.schema import AircraftDefinition, LawDefinition
from dravik.aircraft.reading import load, load_law
from dravik.aircraft.samples import copy_sample, sample, sample_names, sample_path
from dravik.definition.signals import InputSpec, Signal

__all__ = [
    "Aircraft",
    "AircraftDefinition",
    "InputSpec",
    "LawDefinition",
    "Signal",
    "SignalOverride",
    "copy_sample",
    "drain_paths",
    "load",
    "load_law",
    "parts_of",
    "sample",
    "sample_names",
    "sample_path",
]
