"""Figures and pages: what people look at. Nothing is computed here."""

from typing import TYPE_CHECKING

from dravik.lazy import lazily

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

# matplotlib and jinja2 are loaded only when something is drawn
__getattr__ = lazily(
    __name__,
    {
        "animation": (
            "frame_of",
            "write_animation",
        ),
        "axes": ("figure_axes",),
        "book": ("write_book",),
        "comparing": ("figure_runs",),
        "drawings": (
            "figure_loading",
            "figure_three_views",
        ),
        "engines": (
            "figure_performance",
            "figure_thrust_curves",
        ),
        "families": (
            "figure_comparison",
            "figure_families",
        ),
        "figures": (
            "figure_histories",
            "figure_overlay",
            "figure_poles",
            "marked_events",
            "save_figure",
        ),
        "masses": ("figure_masses",),
        "page": (
            "Block",
            "write_page",
        ),
        "tracks": (
            "figure_plan",
            "figure_track",
        ),
    },
)
