"""Dravik: flight simulation for engineers. Tables in, aircraft as data, one compiled kernel.

``import dravik as dv``; everything below is loaded when it is first used, so the import stays light. Rooms are
attributes too: ``dv.loops``, ``dv.validation``.
"""

from collections.abc import Callable
from importlib import import_module
from typing import Any

import lazy_loader

#: Rooms with names of their own beside those that stand here.
ROOMS = (
    "aero", "aircraft", "book", "checks", "contact", "estimation", "flight", "formula", "guidance", "handling",
    "linear", "link", "live_page", "loops", "mass", "mode_logic", "performance", "propulsion", "real_time",
    "recording", "scenarios", "sensors", "surroundings", "systems", "tables", "trimming", "units", "validation",
)  # fmt: skip
_load: Callable[[str], Any]
_load, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)


def __getattr__(name: str) -> Any:
    return import_module(f"dravik.{name}") if name in ROOMS else _load(name)
