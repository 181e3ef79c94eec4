"""Quantities with units as types of definitions' fields: a string such as ``"2.5 m"``, or a bare SI number."""

from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from dravik.units import quantity

__all__ = ["Angle", "Area", "Density", "Fraction", "Inertia", "Length", "Mass", "Model", "Position", "Speed"]

Length = Annotated[float, BeforeValidator(lambda v: quantity(v, "length"))]
Area = Annotated[float, BeforeValidator(lambda v: quantity(v, "area"))]
Speed = Annotated[float, BeforeValidator(lambda v: quantity(v, "speed"))]
Mass = Annotated[float, BeforeValidator(lambda v: quantity(v, "mass"))]
Inertia = Annotated[float, BeforeValidator(lambda v: quantity(v, "inertia"))]
Density = Annotated[float, BeforeValidator(lambda v: quantity(v, "density"))]
# zero is zero in degrees and in radians
Angle = Annotated[float, BeforeValidator(lambda v: 0.0 if v == 0 else quantity(v, "angle"))]
Position = tuple[Length, Length, Length]
Fraction = Annotated[float, Field(ge=0.0, le=1.0)]


class Model(BaseModel):
    """A part of a definition: unknown keys are errors, and nothing changes after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True)
