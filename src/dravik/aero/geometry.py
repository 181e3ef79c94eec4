"""The drawing of an aircraft's lifting surfaces: ``geometry.toml``, checked key by key."""

from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from dravik.definitions import read_definition
from dravik.errors import DravikError
from dravik.units import quantity

__all__ = ["Control", "Geometry", "Section", "Surface", "read_geometry"]

Length = Annotated[float, BeforeValidator(lambda v: quantity(v, "length"))]
Area = Annotated[float, BeforeValidator(lambda v: quantity(v, "area"))]
Angle = Annotated[float, BeforeValidator(lambda v: 0.0 if v == 0 else quantity(v, "angle"))]
Position = tuple[Length, Length, Length]
Fraction = Annotated[float, Field(ge=0.0, le=1.0)]


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Section(_Model):
    """A section of a surface: leading edge in station axes, chord, incidence (nose up), and shape."""

    leading_edge: Position
    chord: Annotated[Length, Field(gt=0.0)]
    incidence: Angle = 0.0
    profile: str = "flat"


class Control(_Model):
    """A control on a surface: share of the span from first to last section, hinge as a share of the chord.

    ``gearing``: ``symmetric`` moves both sides alike (elevator, flap), ``opposite`` against each other (ailerons:
    positive raises the right one and lowers the left one); a surface that is not mirrored has one side only.
    """

    span: tuple[Fraction, Fraction]
    hinge: Annotated[float, Field(gt=0.0, lt=1.0)]
    gearing: Literal["symmetric", "opposite"] = "symmetric"

    @model_validator(mode="after")
    def _inside(self) -> "Control":
        if not self.span[0] < self.span[1]:
            raise DravikError(f"{list(self.span)} does not rise", where="span", expected="two shares of the span")
        return self


class Surface(_Model):
    """A lifting surface by its sections, root first; ``mirrored`` adds the other side (given on the right).

    ``panels`` are the numbers of panels along the chord and along the span of one side; ``spacing`` along the span is
    uniform, or closer together towards the ends.
    """

    sections: tuple[Section, ...] = Field(min_length=2)
    mirrored: bool = True
    panels: tuple[Annotated[int, Field(ge=1, le=200)], Annotated[int, Field(ge=1, le=400)]] = (6, 16)
    spacing: Literal["uniform", "cosine"] = "cosine"
    controls: dict[str, Control] = {}

    @model_validator(mode="after")
    def _not_crossed(self) -> "Surface":
        places = np.array([s.leading_edge[1:] for s in self.sections])
        steps = np.diff(places, axis=0)
        for i, step in enumerate(steps):
            if float(np.hypot(step[0], step[1])) < 1e-9:
                raise DravikError(f"sections {i + 1} and {i + 2} are at the same place across", where="sections")
            if i and float(step @ steps[i - 1]) <= 0.0:
                raise DravikError(f"section {i + 2} turns back over section {i + 1}", where="sections")
        if self.mirrored and any(s.leading_edge[1] < -1e-9 for s in self.sections):
            raise DravikError(
                "a mirrored surface has a section left of the plane of symmetry", where="sections",
                expected="the right side, y not below zero",
            )  # fmt: skip
        return self


class Reference(_Model):
    """What makes coefficients dimensionless, and the point their moments are about (station axes)."""

    area: Annotated[Area, Field(gt=0.0)]
    chord: Annotated[Length, Field(gt=0.0)]
    span: Annotated[Length, Field(gt=0.0)]
    moment_point: Position


class Geometry(_Model):
    """All lifting surfaces of an aircraft."""

    format: Literal[1]
    name: str = Field(min_length=1)
    reference: Reference
    surfaces: dict[str, Surface] = Field(min_length=1)


def read_geometry(path: str | Path) -> Geometry:
    """Return the geometry in a TOML file.

    Raises DefinitionError listing everything wrong, each with line and key; DravikError for a file that cannot be read.
    """
    geometry, _ = read_definition(Path(path), Geometry)
    return geometry
