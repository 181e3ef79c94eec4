"""Dravik: flight simulation for engineers. Tables in, aircraft as data, one compiled kernel.

``import dravik as dv``; everything below is loaded when it is first used, so the import stays light.
"""

from typing import TYPE_CHECKING

from dravik.lazy import lazily
from dravik.version import __version__

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft, Opening, audit, load, load_law, sample
    from dravik.atmosphere import air_at
    from dravik.errors import DravikError, FlightError, FormulaError, TrimError
    from dravik.flight import (
        Device,
        Recording,
        Session,
        Start,
        Turbulence,
        doublet,
        fly,
        from_csv,
        gust,
        load_scenario,
        on_rail,
        prove_linear,
        prove_trim,
        pulse,
        pulses_3211,
        ramp,
        read_recording,
        resume,
        sine,
        start,
        step,
        sweep,
    )  # fmt: skip
    from dravik.handling import evaluate
    from dravik.linear import LinearModel, LinearSystem, connect, linearise, linearise_plant
    from dravik.plants import plant
    from dravik.tables import Table, read_table, write_table
    from dravik.trimming import Equation, Free, Statement, TrimPoint, on_ground, straight, trim, trim_plant
    from dravik.units import quantity

_HOMES = {
    "aircraft": ("Aircraft", "Opening", "audit", "load", "load_law", "sample"),
    "atmosphere": ("air_at",),
    "errors": ("DravikError", "FlightError", "FormulaError", "TrimError"),
    "flight": (
        "Device", "Recording", "Session", "Start", "Turbulence", "doublet", "fly", "from_csv", "gust", "load_scenario",
        "on_rail", "prove_linear", "prove_trim", "pulse", "pulses_3211", "ramp", "read_recording",
        "resume", "sine", "start", "step", "sweep",
    ),
    "handling": ("evaluate",),
    "linear": ("LinearModel", "LinearSystem", "connect", "linearise", "linearise_plant"),
    "plants": ("plant",),
    "tables": ("Table", "read_table", "write_table"),
    "trimming": ("Equation", "Free", "Statement", "TrimPoint", "on_ground", "straight", "trim", "trim_plant"),
    "units": ("quantity",),
}  # fmt: skip

__all__ = [
    "Aircraft",
    "Device",
    "DravikError",
    "Equation",
    "FlightError",
    "FormulaError",
    "Free",
    "LinearModel",
    "LinearSystem",
    "Opening",
    "Recording",
    "Session",
    "Start",
    "Statement",
    "Table",
    "TrimError",
    "TrimPoint",
    "Turbulence",
    "__version__",
    "air_at",
    "audit",
    "connect",
    "doublet",
    "evaluate",
    "fly",
    "from_csv",
    "gust",
    "linearise",
    "linearise_plant",
    "load",
    "load_law",
    "load_scenario",
    "on_ground",
    "on_rail",
    "plant",
    "prove_linear",
    "prove_trim",
    "pulse",
    "pulses_3211",
    "quantity",
    "ramp",
    "read_recording",
    "read_table",
    "resume",
    "sample",
    "sine",
    "start",
    "step",
    "straight",
    "sweep",
    "trim",
    "trim_plant",
    "write_table",
]


__getattr__ = lazily(__name__, _HOMES)


def __dir__() -> list[str]:
    return __all__
