"""Parts of an aircraft: a mass, where it is, and the inertia of its shape."""

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.definition.fields import Angle, Formula, Inertia, Length, Mass, Model, Position
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.mass.rollup import Properties, inertia_fault, rotated

__all__ = ["Part", "solid"]

Floats = NDArray[np.float64]
AXES = {"x": 0, "y": 1, "z": 2}
NEEDS = {
    "point": (), "box": ("size",), "cylinder": ("radius", "length"), "tube": ("radius", "inner_radius", "length"),
    "shell": ("radius",), "tensor": ("inertia",),
}  # fmt: skip


class Part(Model):
    """A part: ``mass``, ``position`` of its own centre of gravity (station axes), and a shape for its own inertia.

    ``point``; ``box`` with ``size`` along x, y, z; ``cylinder`` and ``tube`` with ``radius``, ``length`` and the
    ``axis`` they lie along; ``shell``, a thin hollow sphere; or ``tensor`` with ``inertia`` = Ixx, Iyy, Izz, Ixy, Ixz,
    Iyz about its own centre (body axes; products are integrals over the mass). ``attitude`` turns it: yaw, pitch,
    roll. ``group`` is what loadings call it by. A part that moves in flight, such as a gear leg, stands at ``moved_to``
    when ``moved``, a formula, is 1, at ``position`` when it is 0, and on the straight way between; how fast it moves is
    left out.
    """

    mass: Annotated[Mass, Field(gt=0.0)]  #: mass of the part
    position: Position  #: its own centre of gravity, station axes
    shape: Literal["point", "box", "cylinder", "tube", "shell", "tensor"] = "point"  #: shape, for its own inertia
    size: tuple[Length, Length, Length] | None = None  #: lengths of a box along x, y and z
    radius: Annotated[Length, Field(gt=0.0)] | None = None  #: outer radius of a cylinder, tube or shell
    inner_radius: Annotated[Length, Field(gt=0.0)] | None = None  #: inner radius of a tube
    length: Annotated[Length, Field(gt=0.0)] | None = None  #: length of a cylinder or tube
    axis: Literal["x", "y", "z"] = "x"  #: axis that a cylinder or tube lies along
    #: Ixx, Iyy, Izz, Ixy, Ixz, Iyz about its own centre, body axes
    inertia: tuple[Inertia, Inertia, Inertia, Inertia, Inertia, Inertia] | None = None
    attitude: tuple[Angle, Angle, Angle] = (0.0, 0.0, 0.0)  #: yaw, pitch and roll that turn the shape
    group: str = "empty"  #: group that loadings call it by
    mirrored: bool = False  #: whether there is another on the other side
    moved_to: Position | None = None  #: second position of a part that moves in flight, station axes
    moved: Formula = 0.0  #: formula from 0 (at `position`) to 1 (at `moved_to`)

    @model_validator(mode="after")
    def _complete(self) -> "Part":
        for key in ("size", "radius", "inner_radius", "length", "inertia"):
            if (getattr(self, key) is not None) != (key in NEEDS[self.shape]):
                wanted = ", ".join(NEEDS[self.shape]) or "nothing more"
                raise DravikError(f"a {self.shape} has {wanted}", where=key, expected=wanted)
        if self.size is not None and min(self.size) < 0.0:
            raise DravikError(f"the size {list(self.size)} m has a side below zero", where="size")
        if self.inner_radius is not None and not self.inner_radius < (self.radius or 0.0):
            raise DravikError("the inner radius is not below the outer one", where="inner_radius")
        if (self.moved_to is None) != (self.moved == 0.0):
            raise DravikError("moved_to and moved belong together", where="moved", expected="both or neither")
        fault = inertia_fault(self.own_tensor())
        if fault:
            raise DravikError(f"{fault}: no body has that", where="inertia", expected="Ixx, Iyy, Izz, Ixy, Ixz, Iyz")
        if self.mirrored and self.position[1] == 0.0:
            raise DravikError(
                "the part is mirrored, but y is 0: both would be in one place",
                where="position",
                expected="the right one's",
            )
        return self

    def own_tensor(self) -> Floats:
        """Return the tensor about the part's own centre of gravity, along body axes."""
        if self.inertia is not None:
            a, b, c, xy, xz, yz = self.inertia
            tensor = np.array([[a, -xy, -xz], [-xy, b, -yz], [-xz, -yz, c]])
        else:
            tensor = solid(
                self.shape, self.mass, size=self.size, radius=self.radius, inner_radius=self.inner_radius,
                length=self.length, axis=self.axis,
            )  # fmt: skip
        return rotated(tensor, *self.attitude)

    def properties(self) -> list[Properties]:
        """Return the part's mass properties, and those of its mirror image if it has one."""
        return self.sides(self.position)

    def sides(self, position: Position) -> list[Properties]:
        """Return the same with the part at a station position."""
        centre, tensor = body_from_station(np.array(position)), self.own_tensor()
        found = [Properties(self.mass, centre, tensor)]
        if self.mirrored:
            flip = np.array([1.0, -1.0, 1.0])
            found.append(Properties(self.mass, centre * flip, tensor * np.outer(flip, flip)))
        return found


def solid(
    shape: str, mass: float, *, size: tuple[float, float, float] | None = None, radius: float | None = None,
    inner_radius: float | None = None, length: float | None = None, axis: str = "x",
) -> Floats:  # fmt: skip
    """Return the inertia tensor (3, 3) of a homogeneous solid about its centre, kg m^2."""
    if shape == "box" and size is not None:
        a, b, c = (s**2 for s in size)
        return mass / 12.0 * np.diag([b + c, a + c, a + b])
    if shape == "shell" and radius is not None:
        return 2.0 / 3.0 * mass * radius**2 * np.eye(3)
    if shape in ("cylinder", "tube") and radius is not None and length is not None:
        round_ = radius**2 + (inner_radius or 0.0) ** 2
        moments = np.full(3, mass * (round_ / 4.0 + length**2 / 12.0))
        moments[AXES[axis]] = mass * round_ / 2.0
        return np.diag(moments)
    return np.zeros((3, 3))
