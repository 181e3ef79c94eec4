"""Formulas on plain NumPy arrays, for tables and curves: slower than a tape, without states, and any shape at once."""

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from dravik.errors import FormulaError, nearest
from dravik.formula.opcodes import OPS
from dravik.formula.parse import Node
from dravik.tables import Table

__all__ = ["value_of"]

Floats = NDArray[np.float64]


def value_of(node: Node, name: Callable[[str], Floats], tables: Mapping[str, Table]) -> Floats:
    """Return a formula's value; ``name`` gives those of the names in it, ``tables`` what it may call.

    Raises FormulaError for a function with states and for a table that is not there.
    """
    if node.kind == "number":
        return np.asarray(node.value, dtype=float)
    if node.kind == "name":
        return name(node.name)
    arguments = [value_of(a, name, tables) for a in node.args]
    if node.kind == "call":
        if node.name not in tables:
            hint = nearest(node.name, tables)
            raise FormulaError(f"{node.name!r} is no table here", text="", position=node.position, hint=hint)
        return tables[node.name](*arguments)
    apply = OPS[node.name].apply
    # limits and memory have a meaning only in a flight, from one step to the next
    if apply is None:
        raise FormulaError(f"{node.name} has states and no value of its own", text="", position=node.position)
    return np.asarray(apply(*arguments), dtype=float)
