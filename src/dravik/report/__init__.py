"""Figures and pages: what people look at. Nothing is computed here."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dravik.report.animation import frame_of, write_animation
    from dravik.report.axes import figure_axes
    from dravik.report.book import write_book
    from dravik.report.comparing import figure_runs
    from dravik.report.drawings import figure_loading, figure_three_views
    from dravik.report.engines import figure_performance, figure_thrust_curves
    from dravik.report.families import figure_comparison, figure_families
    from dravik.report.figures import figure_histories, figure_overlay, figure_poles, marked_events, save_figure
    from dravik.report.masses import figure_masses
    from dravik.report.page import Block, write_page
    from dravik.report.tracks import figure_plan, figure_track

_HOMES = {
    "figure_axes": "axes",
    "figure_comparison": "families",
    "figure_families": "families",
    "figure_histories": "figures",
    "figure_loading": "drawings",
    "figure_masses": "masses",
    "figure_overlay": "figures",
    "figure_performance": "engines",
    "figure_plan": "tracks",
    "figure_poles": "figures",
    "figure_runs": "comparing",
    "figure_three_views": "drawings",
    "figure_thrust_curves": "engines",
    "figure_track": "tracks",
    "frame_of": "animation",
    "marked_events": "figures",
    "save_figure": "figures",
    "Block": "page",
    "write_animation": "animation",
    "write_book": "book",
    "write_page": "page",
}

__all__ = [
    "Block",
    "figure_axes",
    "figure_comparison",
    "figure_families",
    "figure_histories",
    "figure_loading",
    "figure_masses",
    "figure_overlay",
    "figure_performance",
    "figure_plan",
    "figure_poles",
    "figure_runs",
    "figure_three_views",
    "figure_thrust_curves",
    "figure_track",
    "frame_of",
    "marked_events",
    "save_figure",
    "write_animation",
    "write_book",
    "write_page",
]


def __getattr__(name: str) -> Any:
    """Load matplotlib and jinja2 only when something is drawn."""
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
