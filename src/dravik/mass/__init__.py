"""Mass builders: parts, tanks, loadings and measurements rolled up to mass, centre of gravity and inertia."""

from dravik.mass.measuring import swing_inertia, weigh
from dravik.mass.parts import Part
from dravik.mass.partslist import read_parts
from dravik.mass.rollup import Properties, combine, share_table
from dravik.mass.tanks import Tank, after_drop, tank_tables

__all__ = [
    "Part",
    "Properties",
    "Tank",
    "after_drop",
    "combine",
    "read_parts",
    "share_table",
    "swing_inertia",
    "tank_tables",
    "weigh",
]
