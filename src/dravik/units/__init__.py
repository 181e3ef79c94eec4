"""Quantities with units, such as ``"62 m/s"``: turned to SI numbers at the boundary; inside, everything is SI."""

from dravik.units.columns import column_name, from_si, split_column
from dravik.units.quantities import KINDS, in_si, kind_of_quantity, kind_of_unit, quantity, to_si

__all__ = [
    "KINDS",
    "column_name",
    "from_si",
    "in_si",
    "kind_of_quantity",
    "kind_of_unit",
    "quantity",
    "split_column",
    "to_si",
]
