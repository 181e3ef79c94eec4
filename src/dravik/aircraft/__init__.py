"""An aircraft as data: its definition file, its audit, and the step from there to a program for the kernel."""

from dravik.aircraft.checks import Finding, audit
from dravik.aircraft.craft import Aircraft, InputSpec, Signal
from dravik.aircraft.loadings import drain_paths, parts_of
from dravik.aircraft.openings import Opening
from dravik.aircraft.reading import load, load_law
from dravik.aircraft.samples import copy_sample, sample, sample_names, sample_path
from dravik.aircraft.schema import AircraftDefinition, LawDefinition

__all__ = [
    "Aircraft",
    "AircraftDefinition",
    "Finding",
    "InputSpec",
    "LawDefinition",
    "Opening",
    "Signal",
    "audit",
    "copy_sample",
    "drain_paths",
    "load",
    "load_law",
    "parts_of",
    "sample",
    "sample_names",
    "sample_path",
]
