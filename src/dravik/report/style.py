"""The common look of all figures: colours and style."""

from typing import Any

__all__ = ["ACTUAL", "COMMANDED", "GRID", "INK", "PALETTE", "SOFT", "STYLE", "THIRD"]

INK, SOFT, GRID = "#1d2b33", "#6b7b84", "#dfe5e8"
ACTUAL, COMMANDED, THIRD = "#0b6e8f", "#d1662c", "#7a4fa3"
PALETTE = (ACTUAL, COMMANDED, THIRD, "#4c8c5a", "#b08a2e", "#8a3b52")
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "text.parse_math": False,  # a name may hold a $
    "axes.edgecolor": SOFT,
    "axes.labelcolor": INK,
    "axes.grid": True,
    "grid.color": GRID,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "xtick.color": INK,
    "ytick.color": INK,
}
