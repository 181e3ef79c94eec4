"""The blades of a propeller or rotor: ``blades.toml``, checked key by key."""

from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field, model_validator

from dravik.aero.flow.separated import separation
from dravik.definition.fields import Angle, Length, Model
from dravik.definition.toml import read_definition
from dravik.errors import DravikError

__all__ = ["BladeStation", "Blades", "MapGrid", "Section", "read_blades"]

Floats = NDArray[np.float64]


class Section(Model):
    """A blade's section: lift slope 1/rad, angle of no lift, stall, and a drag polar cd = least + rise (cl - ideal)^2.

    The polar's defaults are those of blades in service: what a laboratory finds on a polished section is a third less,
    and gives efficiencies 3 to 5 points above those that propellers reach. Beyond Mach 0.7 the drag rises by
    20 (M - 0.7)^4 (C. N. H. Lock's fit). Beyond the stall it is a flat plate of normal force ``across`` sin(alpha),
    blended in as an aircraft's surfaces are.
    """

    lift_slope: Annotated[float, Field(gt=0.0, le=7.0)] = 5.9  #: lift slope at Mach 0, 1/rad
    no_lift: Angle = -0.05  #: angle of attack without lift
    stall: Annotated[Angle, Field(gt=0.0)] = 0.24  #: angle of attack at which half the attached lift is lost
    sharpness: Annotated[float, Field(gt=1.0)] = 40.0  #: how sudden the stall is, 1/rad
    least_drag: Annotated[float, Field(ge=0.0)] = 0.016  #: least drag coefficient
    drag_rise: Annotated[float, Field(ge=0.0)] = 0.020  #: growth of the drag with the square of cl - ideal
    ideal: float = 0.3  #: lift coefficient of the least drag
    across: Annotated[float, Field(gt=0.0)] = 1.8  #: normal-force coefficient of the stalled section, as a flat plate

    def lift_and_drag(self, alpha: ArrayLike, mach: ArrayLike = 0.0) -> tuple[Floats, Floats]:
        """Return cl and cd at angles of attack (rad), any shape; the slope grows by Prandtl and Glauert to Mach 0.7."""
        a = np.asarray(alpha, dtype=float)
        fast = 20.0 * np.maximum(np.asarray(mach, dtype=float) - 0.7, 0.0) ** 4
        squeeze = np.sqrt(1.0 - np.minimum(np.asarray(mach, dtype=float), 0.7) ** 2)
        attached = self.lift_slope / squeeze * np.sin(a - self.no_lift)
        gone = separation(a - self.no_lift, self.stall - self.no_lift, self.sharpness)
        normal = self.across * np.sin(a)
        lift = (1.0 - gone) * attached + gone * normal * np.cos(a)
        drag = (
            self.least_drag
            + fast
            + (1.0 - gone) * self.drag_rise * (attached - self.ideal) ** 2
            + gone * normal * np.sin(a)
        )
        return lift, drag


class BladeStation(Model):
    """A station: ``r`` as a share of the radius, chord, and ``twist``, the blade angle there but for a constant."""

    r: Annotated[float, Field(gt=0.0, le=1.0)]  #: place along the blade, as a share of the radius
    chord: Annotated[Length, Field(gt=0.0)]  #: chord there
    twist: Angle  #: blade angle there, less that at the reference station


class MapGrid(Model):
    """What a map of the blades is computed over; an axis of one value is left out of it."""

    advance_ratio: tuple[float, ...] = Field(min_length=2)  #: advance ratios V/(n D) of the map
    cross_ratio: tuple[Annotated[float, Field(ge=0.0)], ...] = (0.0,)  #: flow across the disc over n D
    blade_angle: tuple[Angle, ...] = Field(min_length=1)  #: blade angles of the map
    tip_mach: Annotated[float, Field(gt=0.0, lt=1.0)] = 0.3  #: Mach number of the tips


class Blades(Model):
    """A set of blades; angles of the whole blade are those at ``reference`` of the radius (0.75 unless said)."""

    format: Literal[1]  #: version of the file's format
    name: str = Field(min_length=1)  #: name, for titles
    blades: Annotated[int, Field(ge=1, le=24)]  #: number of blades
    radius: Annotated[Length, Field(gt=0.0)]  #: radius of the tips
    stations: tuple[BladeStation, ...] = Field(min_length=2)  #: stations from root to tip
    section: Section = Section()  #: section of all stations
    reference: Annotated[float, Field(gt=0.0, le=1.0)] = 0.75  #: share of the radius at which blade angles are measured
    map: MapGrid | None = None  #: what a map is computed over

    @model_validator(mode="after")
    def _rising(self) -> "Blades":
        for i, (a, b) in enumerate(zip(self.stations, self.stations[1:], strict=False)):
            if not a.r < b.r:
                raise DravikError(
                    f"station {i + 2} at {b.r:g} is not outside station {i + 1} at {a.r:g}", where="stations",
                    expected="stations from root to tip",
                )  # fmt: skip
        if self.stations[0].r >= 0.9:
            raise DravikError(
                f"the blade begins at {self.stations[0].r:g} of the radius", where="stations", expected="less"
            )
        return self

    def laid_out(self, count: int) -> tuple[Floats, Floats, Floats, Floats]:
        """Return r, chord, twist less that at the reference (rad), and width of elements, m; closer at the tip."""
        at = np.array([[s.r * self.radius, s.chord, s.twist] for s in self.stations])
        share = np.sin(np.linspace(0.0, 0.5 * np.pi, count + 1))
        edges = at[0, 0] + share * (at[-1, 0] - at[0, 0])
        r = 0.5 * (edges[1:] + edges[:-1])
        chord, twist = (np.interp(r, at[:, 0], at[:, k]) for k in (1, 2))
        return r, chord, twist - float(np.interp(self.reference * self.radius, at[:, 0], at[:, 2])), np.diff(edges)


def read_blades(path: str | Path) -> Blades:
    """Return the blades in a TOML file.

    Parameters
    ----------
    path : str or path
        The TOML file.

    Returns
    -------
    Blades

    Raises
    ------
    DefinitionError
        With all that is wrong in it.
    """
    blades, _ = read_definition(Path(path), Blades)
    return blades
