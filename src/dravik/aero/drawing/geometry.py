"""The drawing of an aircraft: ``geometry.toml``, checked key by key."""

from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from dravik.aero.bodies.finned import FinnedBody
from dravik.aero.drawing.parts import Body, Parasite, Propeller
from dravik.aero.drawing.table_grid import TableGrid
from dravik.definition.fields import Angle, Area, Fraction, Length, Model, Position
from dravik.definition.toml import read_definition
from dravik.errors import DravikError, nearest

__all__ = ["Control", "Geometry", "Section", "Stall", "Surface", "read_geometry"]

RIGHT_ANGLE = 0.5 * np.pi
FINNED_GRID = {
    "mach",
    "altitude",
    "airspeed",
}  # Mach numbers and the altitude give the speeds; airspeed names one of them


class Section(Model):
    """A section of a surface: leading edge in station axes, chord, incidence (nose up), and shape."""

    leading_edge: Position  #: leading edge, station axes
    chord: Annotated[Length, Field(gt=0.0)]  #: chord
    incidence: Angle = 0.0  #: angle of the chord to the x axis, nose up
    profile: str = "flat"  #: flat, NACA digits, or a file of coordinates


class Stall(Model):
    """Where the flow over a surface's sections breaks down, either way.

    ``angle`` is the angle of attack of the section's chord, in the flow that the other surfaces leave it, at which half
    the attached lift is lost; ``sharpness`` (1/rad) that of the blending function. The lift peaks some degrees before
    that angle. Where the highest lift is known and not the angle, ``highest_lift`` gives it: the greatest CL of the
    whole drawing, controls neutral, for which the angle of this surface is then found.
    """

    #: angle of attack of the section at which half the attached lift is lost
    angle: Annotated[Angle, Field(gt=0.0, lt=RIGHT_ANGLE)] = 0.28
    #: greatest lift coefficient of the drawing, from which the angle is found
    highest_lift: Annotated[float, Field(gt=0.1, lt=5.0)] | None = None
    sharpness: Annotated[float, Field(gt=1.0, le=1000.0)] = 40.0  #: how sudden the stall is, 1/rad


class Control(Model):
    """A control on a surface: share of the span from first to last section, hinge as a share of the chord.

    ``gearing``: ``symmetric`` moves both sides alike (elevator, flap), ``opposite`` against each other (ailerons:
    positive raises the right one and lowers the left one); a surface that is not mirrored has one side only.
    ``range`` is what tables of it cover. The flow turns by less than the deflection: by ``effectiveness`` of it when it
    is small, and less and less as it comes near ``saturation``. ``slotted`` flaps drag less than plain ones.
    ``stall_shift`` moves the angle of stall, rad a rad of deflection, of the strips that have the control.
    """

    span: tuple[Fraction, Fraction]  #: from and to, as shares from the first to the last section
    hinge: Annotated[float, Field(gt=0.0, lt=1.0)]  #: place of the hinge as a share of the chord
    gearing: Literal["symmetric", "opposite"] = "symmetric"  #: whether both sides move alike or against each other
    range: tuple[Angle, Angle] = (-0.35, 0.35)  #: deflections that the tables cover
    effectiveness: Annotated[float, Field(gt=0.0, le=1.0)] = 0.85  #: turning of the flow over a small deflection
    saturation: Annotated[Angle, Field(gt=0.0)] = 0.7  #: deflection near which the flow turns no further
    slotted: bool = False  #: whether the flap is slotted
    stall_shift: float = -0.1  #: shift of the stall angle for the deflection, rad/rad

    @model_validator(mode="after")
    def _inside(self) -> "Control":
        if not self.span[0] < self.span[1]:
            raise DravikError(
                f"the shares of the span {list(self.span)} do not rise", where="span", expected="two shares of the span"
            )
        if not self.range[0] < self.range[1]:
            raise DravikError(
                f"the range {list(self.range)} does not rise", where="range", expected="the lower limit first"
            )
        return self

    def turning(self, deflection: float) -> float:
        """Return by how much (rad) a deflection turns the flow: effectiveness * saturation * tanh(d/saturation)."""
        # the slope at zero is the effectiveness, the limit its product with the saturation
        return self.effectiveness * self.saturation * float(np.tanh(deflection / self.saturation))


class Surface(Model):
    """A lifting surface by its sections, root first; ``mirrored`` adds the other side (given on the right).

    ``panels`` are the numbers of panels along the chord and along the span of one side; ``spacing`` along the span is
    uniform, or closer together towards the ends. ``laminar`` is the share of the chord with laminar flow, for the
    profile drag; ``interference`` what junctions and gaps multiply it by; ``drag_rise`` by how much of itself it grows
    at a lift coefficient 1 away from the section's own; ``polar`` a CSV file of ``CL, CD`` that replaces all that.
    """

    sections: tuple[Section, ...] = Field(min_length=2)  #: sections from the root to the tip
    mirrored: bool = True  #: whether the other side is added
    #: panels along the chord, and along the span of one side
    panels: tuple[Annotated[int, Field(ge=1, le=200)], Annotated[int, Field(ge=1, le=400)]] = (6, 16)
    spacing: Literal["uniform", "cosine"] = "cosine"  #: spacing of the panels along the span
    controls: dict[str, Control] = {}  #: controls on the surface, by name
    stall: Stall = Stall()  #: stall of its sections
    laminar: Fraction = 0.1  #: share of the chord with laminar flow
    interference: Annotated[float, Field(ge=1.0, le=3.0)] = 1.2  #: factor on the profile drag for junctions and gaps
    #: growth of the profile drag with the square of the lift coefficient
    drag_rise: Annotated[float, Field(ge=0.0, le=5.0)] = 1.0
    polar: str = ""  #: CSV file of CL and CD in the place of the estimated profile drag

    @model_validator(mode="after")
    def _not_crossed(self) -> "Surface":
        places = np.array([s.leading_edge[1:] for s in self.sections])
        steps = np.diff(places, axis=0)
        for i, step in enumerate(steps):
            if float(np.hypot(step[0], step[1])) < 1e-9:
                raise DravikError(f"sections {i + 1} and {i + 2} are at the same place across", where="sections")
            # a surface that folds back has two panels in one place across: their vortices would pass through each other
            if i and float(step @ steps[i - 1]) <= 0.0:
                raise DravikError(f"section {i + 2} turns back over section {i + 1}", where="sections")
        if self.mirrored and any(s.leading_edge[1] < -1e-9 for s in self.sections):
            raise DravikError(
                "a mirrored surface has a section left of the plane of symmetry", where="sections",
                expected="the right side, y not below zero",
            )  # fmt: skip
        return self


class Reference(Model):
    """What makes coefficients dimensionless, and the point their moments are about (station axes)."""

    area: Annotated[Area, Field(gt=0.0)]  #: wing area that makes coefficients dimensionless
    chord: Annotated[Length, Field(gt=0.0)]  #: mean aerodynamic chord
    span: Annotated[Length, Field(gt=0.0)]  #: wing span
    moment_point: Position  #: point that the moments are about, station axes


class Geometry(Model):
    """An aircraft as drawn: lifting surfaces and bodies, or a finned body; and the grid of its tables."""

    format: Literal[1]  #: version of the file's format
    include: tuple[str, ...] = ()  #: files whose sections are taken in
    name: str = Field(min_length=1)  #: name, for titles
    reference: Reference  #: lengths and the moment point of the coefficients
    surfaces: dict[str, Surface] = {}  #: lifting surfaces by name
    bodies: dict[str, Body] = {}  #: bodies by name
    propellers: dict[str, Propeller] = {}  #: propeller discs by name
    parasites: dict[str, Parasite] = {}  #: small things that only drag, by name
    finned_body: FinnedBody | None = None  #: a rocket in the place of surfaces
    table_grid: TableGrid = TableGrid()  #: grid of the tables

    @model_validator(mode="after")
    def _whole(self) -> "Geometry":
        if not self.surfaces and self.finned_body is None:
            raise DravikError(
                "the drawing has neither surfaces nor a finned body", expected="[surfaces.NAME], or [finned_body]"
            )
        self._refuse_unused()
        homes: dict[str, str] = {}
        for name, surface in self.surfaces.items():
            for control in surface.controls:
                # tables and formulas go by the control's name, not by that of its surface
                if control in homes:
                    raise DravikError(
                        f"the control {control!r} is on {homes[control]} already",
                        where=f"surfaces.{name}.controls.{control}", hint="a control has one surface: another name",
                    )  # fmt: skip
                homes[control] = name
        flap = self.table_grid.flap
        if flap and flap not in homes:
            raise DravikError(
                f"there is no control {flap!r}",
                where="table_grid.flap",
                expected=", ".join(homes),
                hint=nearest(flap, homes),
            )
        return self

    def _refuse_unused(self) -> None:
        """Refuse what the method for this kind of drawing would leave out."""
        if self.finned_body is not None:
            beside = [n for n in ("surfaces", "bodies", "propellers", "parasites") if getattr(self, n)]
            if beside:
                raise DravikError(
                    f"a finned body is drawn alone, without {beside[0]}", where=beside[0], hint="a drawing of its own"
                )
            # what would be left out silently is refused: who wrote it expects it to matter
            unused, why = self.table_grid.model_fields_set - FINNED_GRID, "the tables of a finned body do not use it"
            if unused:
                raise DravikError(why, where=f"table_grid.{sorted(unused)[0]}", hint="leave it out")

    @property
    def controls(self) -> dict[str, tuple[Surface, Control]]:
        """Every control by name, with the surface it is on."""
        return {n: (s, c) for s in self.surfaces.values() for n, c in s.controls.items()}


def read_geometry(path: str | Path) -> Geometry:
    """Return the geometry in a TOML file.

    Parameters
    ----------
    path : str or path
        The ``geometry.toml``.

    Returns
    -------
    Geometry

    Raises
    ------
    DravikError
        For a file that cannot be read, and a DefinitionError with everything that is wrong, each with line and key.
    """
    geometry, _ = read_definition(Path(path), Geometry)
    return geometry
