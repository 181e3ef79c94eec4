"""Tables over one to four variables: tidy CSV in and out, linear or smooth look-up, a policy outside."""

from dravik.tables.csvfile import Sheet, read_table, write_columns, write_table
from dravik.tables.table import METHODS, OUTSIDE, Axis, Table

__all__ = ["METHODS", "OUTSIDE", "Axis", "Sheet", "Table", "read_table", "write_columns", "write_table"]
