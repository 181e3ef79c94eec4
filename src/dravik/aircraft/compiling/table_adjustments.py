"""Scales and shifts of tables as formulas of parameters."""

from dravik.aircraft.description.configuration import Configuration
from dravik.definition.signals import Where
from dravik.errors import DravikError, nearest
from dravik.formula import CONSTANTS, Node, direct_names, parse

__all__ = ["table_adjustments"]


def table_adjustments(configuration: Configuration, where: Where) -> dict[str, tuple[Node, Node]]:
    """Return the scale and the shift of tables that have them, as formulas of parameters.

    Raises DravikError for formulas that read anything else.
    """
    found = {}
    for name, entry in configuration.tables.items():
        if (entry.scale, entry.shift) == (1.0, 0.0):
            continue
        nodes = []
        for key in ("scale", "shift"):
            place = where("tables", name, key)
            node = parse(getattr(entry, key), where=place)
            for other in direct_names(node):
                # a signal would change the table within an evaluation, and its grid would no longer be looked up once
                if other not in configuration.parameters and other not in CONSTANTS:
                    hint = nearest(other, configuration.parameters)
                    raise DravikError(
                        f"{key} of a table reads {other!r}", where=place, expected="numbers and parameters", hint=hint
                    )
            nodes.append(node)
        found[name] = nodes[0], nodes[1]
    return found
