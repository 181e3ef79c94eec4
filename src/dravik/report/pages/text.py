"""Values as text for people."""

import math

from dravik.errors import readable

__all__ = ["cell_text"]

NOTHING = 1e-300  # sizes below it are left over from rounding: no quantity of a flight is so small


def cell_text(value: object) -> str:
    """Return a value for people: four significant digits, whole numbers below a million, a dash for what is not."""
    if value is None:
        return ""
    if isinstance(value, float) and math.isnan(value):
        return "-"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "0" if abs(value) < NOTHING else f"{value:.0f}" if 1e4 <= abs(value) < 1e6 else f"{value:.4g}"
    return readable(str(value))
