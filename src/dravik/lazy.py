"""Public names of a package that are loaded when they are first asked for: importing the package stays light."""

import sys
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import Any

__all__ = ["lazily"]


def lazily(package: str, homes: Mapping[str, Sequence[str]]) -> Callable[[str], Any]:
    """Return a package's ``__getattr__`` for names by the module they are in.

    The function raises AttributeError for other names.
    """
    home_of = {name: home for home, names in homes.items() for name in names}

    def load(name: str) -> Any:
        if name not in home_of:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        value = getattr(import_module(f"{package}.{home_of[name]}"), name)
        setattr(sys.modules[package], name, value)
        return value

    return load
