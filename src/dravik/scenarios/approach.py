"""The beams of an approach: how far from a glide path and a localiser an aircraft is, as angles and along the way."""

import math
from typing import Annotated

from pydantic import Field

from dravik.aircraft.description.schema import NamedFormula
from dravik.definition.fields import Angle, Length, Model, PositiveLength

__all__ = ["Approach"]

BEHIND = 300.0  # m: of the localiser's antenna behind the far end of the runway
SECTOR = 105.0  # m: full scale of the localiser at the threshold (ICAO Annex 10, volume I, 3.1.3.7: 210 m both sides)
FULL = 0.24  # of the glide path's angle: full scale (the same, 3.1.5.6: half scale at 0.12 of it)


class Approach(Model):
    """A runway with its beams, which gives a flight the signals of its deviations.

    ``localiser_deviation`` and ``glide_deviation`` (rad, positive to the right of the centre line and above the path),
    ``localiser_share`` and ``glide_share`` of full scale, and ``threshold_distance`` (m, positive before it). The
    localiser stands 300 m behind the far end; the glide path comes out of the runway at its aiming point.
    """

    north: Length  #: threshold to the north
    east: Length  #: threshold to the east
    altitude: Length = 0.0  #: altitude of the threshold
    heading: Angle  #: true heading of the runway
    length: PositiveLength = 2000.0  #: length of the runway
    path: Annotated[Angle, Field(gt=0.0, lt=0.5)] = math.radians(3.0)  #: angle of the glide path
    aiming_point: Length = 300.0  #: where the glide path meets the runway, behind the threshold

    def formulas(self) -> dict[str, NamedFormula]:
        """Return the signals as formulas of place and altitude."""
        c, s = math.cos(self.heading), math.sin(self.heading)
        north, east = f"(north - ({self.north!r}))", f"(east - ({self.east!r}))"
        ahead = f"({-c!r}*{north} - ({s!r})*{east})"
        aside = f"({-s!r}*{north} + ({c!r})*{east})"
        reach = self.length + BEHIND
        up = f"(altitude - ({self.altitude!r}))"
        localiser = f"atan2({aside}, {ahead} + {reach!r})"
        glide = f"atan2({up}, {ahead} + ({self.aiming_point!r})) - {self.path!r}"
        rows = (
            ("threshold_distance", ahead, "m", "distance to the threshold along the runway, positive before it"),
            ("localiser_deviation", localiser, "rad", "angle to the right of the centre line, at the localiser"),
            ("glide_deviation", glide, "rad", "angle above the glide path, at its aiming point"),
            (
                "localiser_share", f"localiser_deviation/{math.atan(SECTOR / reach)!r}", "",
                "localiser deviation over full scale",
            ),
            ("glide_share", f"glide_deviation/{FULL * self.path!r}", "", "glide path deviation over full scale"),
        )  # fmt: skip
        return {n: NamedFormula(formula=f, unit=unit, description=text) for n, f, unit, text in rows}
