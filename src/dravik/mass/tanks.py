"""Tanks: how mass, centre of gravity and inertia of a liquid move as it drains, its surface level."""

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.definition.fields import Density, Length, Model, Position, PositiveLength
from dravik.errors import DravikError
from dravik.frames import body_from_station, dcm_from_quaternion
from dravik.mass.rollup import Properties

__all__ = ["Tank", "TankTables", "after_drop", "tank_tables"]

Floats = NDArray[np.float64]
SLICES = 400
STRIPS = 64  # along the span of a tank in a wing


class Tank(Model):
    """A tank: the middle of its volume (``position``, station axes), its shape, and the density of what is in it.

    ``box`` with ``size``; ``cylinder`` with ``radius``, ``length`` and ``axis`` (``x``, ``y`` lying, ``z`` standing);
    ``grain``, solid propellant along x with ``radius``, ``length`` and ``bore`` (its radius), which burns from the bore
    outwards, or from its aft end (``burns = "end"``).
    ``wing``, between two ribs: from the inner end's middle (``position``) and ``inner_section``, its length along x and
    its height, to those of the ``outer`` end, straight between them: swept, tapered, with dihedral.
    ``flow`` is a formula for the rate at which it drains, kg/s (filling is negative); it stops when the tank is empty
    or full. ``exit`` is where the liquid leaves the aircraft (the tank's own middle unless said).
    """

    position: Position  #: middle of the volume, station axes
    #: shape of the volume; a wing's lies between two ribs, a grain is solid propellant
    shape: Literal["box", "cylinder", "grain", "wing"] = "box"
    outer: Position | None = None  #: middle of the outer end of a wing's tank, station axes
    inner_section: tuple[PositiveLength, PositiveLength] | None = None  #: length along x and height at the inner end
    outer_section: tuple[PositiveLength, PositiveLength] | None = None  #: length along x and height at the outer end
    size: tuple[Length, Length, Length] | None = None  #: lengths of a box along x, y and z
    radius: Annotated[Length, Field(gt=0.0)] | None = None  #: radius of a cylinder or grain
    length: Annotated[Length, Field(gt=0.0)] | None = None  #: length of a cylinder or grain
    axis: Literal["x", "y", "z"] = "x"  #: axis that a cylinder lies along; z is standing
    bore: Annotated[Length, Field(ge=0.0)] = 0.0  #: radius of a grain's bore
    burns: Literal["bore", "end"] = "bore"  #: where a grain burns: from the bore outwards, or from its aft end
    density: Annotated[Density, Field(gt=0.0)]  #: density of what is in it
    flow: str | float | None = None  #: formula of the rate at which it drains, kg/s
    exit: Position | None = None  #: where the liquid leaves the aircraft, station axes; the tank's middle unless given
    description: str = ""  #: what it holds

    @model_validator(mode="after")
    def _complete(self) -> "Tank":
        if self.shape == "box":
            if self.size is None or min(self.size) <= 0.0:
                raise DravikError("the box has not three sides above zero", where="size")
        elif self.shape == "wing":
            missing = [n for n in ("outer", "inner_section", "outer_section") if getattr(self, n) is None]
            if missing:
                raise DravikError("the tank of a wing is not complete", where=missing[0], expected="both ends")
            if self._across == 0.0:
                raise DravikError("both ends of the tank lie at the same y", where="outer")
        elif self.radius is None or self.length is None:
            raise DravikError(f"the {self.shape} has no radius or no length", where="radius")
        if self.radius is not None and not self.bore < self.radius:
            raise DravikError("the bore is not below the radius", where="bore")
        return self

    @property
    def _across(self) -> float:
        """The way along y from end to end of a wing's tank."""
        return abs(self.outer[1] - self.position[1]) if self.outer is not None else 0.0

    @property
    def capacity(self) -> float:
        """The most it holds, kg."""
        if self.inner_section is not None and self.outer_section is not None and self.shape == "wing":
            (a, b), (c, d) = self.inner_section, self.outer_section
            return self.density * self._across * (2.0 * a * b + a * d + c * b + 2.0 * c * d) / 6.0
        if self.size is not None and self.shape == "box":
            return self.density * self.size[0] * self.size[1] * self.size[2]
        return self.density * np.pi * (float(self.radius or 0.0) ** 2 - self.bore**2) * float(self.length or 0.0)


@dataclass(frozen=True)
class TankTables:
    """A tank over the mass in it (k masses), body axes from the datum.

    ``first`` (k, 3) is the integral of position over the mass, ``second`` (k, 6) those of xx, yy, zz, xy, xz, yz, and
    ``surface`` (k, 3) where the next kilogram is taken.
    """

    mass: Floats
    first: Floats
    second: Floats
    surface: Floats

    def at(self, mass: float) -> Properties:
        """Return the properties of what is left, between the table's masses by straight lines."""
        # an empty tank has no centre of its own: where the last drop would stand
        if mass <= 0.0:
            return Properties(0.0, self.surface[0], np.zeros((3, 3)))
        k = min(int(np.searchsorted(self.mass, mass)), len(self.mass) - 1)
        # integrals over the mass are joined by straight lines, and centre and tensor follow: a sum of them stays one
        back = max(self.mass[k] - mass, 0.0) / (self.mass[k] - self.mass[k - 1])
        first, second = (v[k] - back * (v[k] - v[k - 1]) for v in (self.first, self.second))
        xx, yy, zz, xy, xz, yz = second
        about_datum = np.array([[yy + zz, -xy, -xz], [-xy, xx + zz, -yz], [-xz, -yz, xx + yy]])
        centre = first / mass
        tensor = about_datum - mass * (float(centre @ centre) * np.eye(3) - np.outer(centre, centre))
        return Properties(mass, centre, tensor)


def tank_tables(tank: Tank, count: int = 33) -> TankTables:
    """Return a tank's tables, from empty to full, by summing level slices (exact for boxes and standing cylinders).

    The liquid's surface stays level with the aircraft's x and y: right in straight flight, the more so the fuller.

    Parameters
    ----------
    tank : Tank
        The tank.
    count : int, default 33
        Number of masses, from empty to full.

    Returns
    -------
    TankTables
    """
    # a grain burns from its bore or its end, not by level: its closed form needs no slices
    if tank.shape == "grain":
        return _grain_tables(tank, count)
    if tank.shape == "wing":
        return _wing_tables(tank, count)
    height = _height(tank)
    # from the bottom up, as it fills
    edges = np.linspace(0.0, height, SLICES + 1)
    middle, thick = 0.5 * (edges[1:] + edges[:-1]), np.diff(edges)
    along, across = _half_widths(tank, middle - 0.5 * height)
    area = np.pi * along**2 if _is_round(tank) else 4.0 * along * across
    slices = tank.density * area * thick
    # a homogeneous slice about its own middle: a third of the half widths squared, a quarter of a disc's radius squared
    share = 0.25 if _is_round(tank) else 1.0 / 3.0
    # a round tank cut into flat slices holds a little less: full must be the capacity exactly
    slices *= tank.capacity / slices.sum()
    centre = body_from_station(np.array(tank.position))
    z = centre[2] + 0.5 * height - middle  # body z is down: the bottom slice first
    x, y = centre[0], centre[1]
    points = np.stack([np.full_like(z, x), np.full_like(z, y), z], axis=1)
    widths = x * x + share * along**2, y * y + share * across**2, z * z + thick**2 / 12.0
    squares = np.stack([*widths, np.full_like(z, x * y), x * z, y * z], axis=1)
    sums = [
        np.concatenate([np.zeros((1, v.shape[1])), np.cumsum(slices[:, None] * v, axis=0)]) for v in (points, squares)
    ]
    filled = np.concatenate([[0.0], np.cumsum(slices)])
    mass = np.linspace(0.0, tank.capacity, count)
    first, second = (np.stack([np.interp(mass, filled, v[:, k]) for k in range(v.shape[1])], axis=1) for v in sums)
    level = np.interp(mass, filled, edges)
    surface = np.stack([np.full_like(mass, x), np.full_like(mass, y), centre[2] + 0.5 * height - level], axis=1)
    return TankTables(mass, first, second, surface)


def _wing_tables(tank: Tank, count: int) -> TankTables:
    """Return a wing tank's tables: strips along the span, each cut by the levels."""
    assert tank.outer is not None and tank.inner_section is not None and tank.outer_section is not None
    share = (np.arange(STRIPS) + 0.5) / STRIPS
    ends = np.stack([body_from_station(np.array(p)) for p in (tank.position, tank.outer)])
    middle = ends[0] + share[:, None] * (ends[1] - ends[0])
    sections = np.array([tank.inner_section, tank.outer_section])
    long, high = (sections[0] + share[:, None] * (sections[1] - sections[0])).T
    wide = abs(ends[1, 1] - ends[0, 1]) / STRIPS
    # body z is down: bottom and top of each strip, and of all of them, edges from the bottom up
    bottom, top = middle[:, 2] + 0.5 * high, middle[:, 2] - 0.5 * high
    edges = np.linspace(bottom.max(), top.min(), SLICES + 1)
    low = np.minimum(edges[:-1, None], bottom)  # (slices, strips)
    thick = np.clip(low - np.maximum(edges[1:, None], top), 0.0, None)
    part = tank.density * long * wide * thick
    part *= tank.capacity / part.sum()
    x, y, z = middle[:, 0] + 0.0 * thick, middle[:, 1] + 0.0 * thick, low - 0.5 * thick
    squares = (x * x + long**2 / 12.0, y * y + wide**2 / 12.0, z * z + thick**2 / 12.0, x * y, x * z, y * z)
    slices = part.sum(axis=1)
    filled = np.concatenate([[0.0], np.cumsum(slices)])
    mass = np.linspace(0.0, tank.capacity, count)

    def up_to(values: tuple[Floats, ...]) -> Floats:
        sums = [np.concatenate([[0.0], np.cumsum((part * v).sum(axis=1))]) for v in values]
        return np.stack([np.interp(mass, filled, v) for v in sums], axis=1)

    # the next kilogram is taken from the slice that is on top
    heavy = np.where(slices > 0.0, slices, 1.0)
    places = [(part * v).sum(axis=1) / heavy for v in (x, y)]
    up = 0.5 * (filled[1:] + filled[:-1])
    aside = [np.interp(mass, up, v) for v in places]
    surface = np.stack([*aside, np.interp(mass, filled, edges)], axis=1)
    return TankTables(mass, up_to((x, y, z)), up_to(squares), surface)


def _grain_tables(tank: Tank, count: int) -> TankTables:
    """Return a grain's tables from the closed forms of a tube."""
    radius, length, full = float(tank.radius or 0.0), float(tank.length or 0.0), tank.capacity
    mass = np.linspace(0.0, full, count)
    left = mass / full
    bore, long = np.full(count, tank.bore), np.full(count, length)
    if tank.burns == "bore":
        bore = np.sqrt(radius**2 - (radius**2 - tank.bore**2) * left)
    else:
        long = length * left
    centre = np.broadcast_to(body_from_station(np.array(tank.position)), (count, 3)).copy()
    fore = centre[:, 0] + 0.5 * length
    centre[:, 0] = fore - 0.5 * long
    surface = centre.copy()
    if tank.burns == "end":
        surface[:, 0] = fore - long
    x, y, z = centre.T
    across = 0.25 * (radius**2 + bore**2)
    squares = np.stack([x * x + long**2 / 12.0, y * y + across, z * z + across, x * y, x * z, y * z], axis=1)
    return TankTables(mass, mass[:, None] * centre, mass[:, None] * squares, surface)


def _is_round(tank: Tank) -> bool:
    return tank.shape == "cylinder" and tank.axis == "z"


def _height(tank: Tank) -> float:
    if tank.shape == "box" and tank.size is not None:
        return tank.size[2]
    return float(tank.length or 0.0) if tank.axis == "z" else 2.0 * float(tank.radius or 0.0)


def _half_widths(tank: Tank, height: Floats) -> tuple[Floats, Floats]:
    """Return half the extent along x and y at heights from the middle."""
    if tank.shape == "box" and tank.size is not None:
        return np.full_like(height, 0.5 * tank.size[0]), np.full_like(height, 0.5 * tank.size[1])
    radius, length = float(tank.radius or 0.0), float(tank.length or 0.0)
    if tank.axis == "z":
        return np.full_like(height, radius), np.full_like(height, radius)
    chord = np.sqrt(np.clip(radius**2 - height**2, 0.0, None))
    straight = np.full_like(height, 0.5 * length)
    return (straight, chord) if tank.axis == "x" else (chord, straight)


def after_drop(x: Floats, moved: Floats) -> Floats:
    """Return an integrated state whose point moves with the centre of gravity when mass leaves at once.

    ``moved`` is the displacement of the centre in body axes, m. What is left keeps moving as it did: the velocity
    becomes the body's there, and the difference of momentum is what the dropped mass carries off at its own
    velocity.

    Parameters
    ----------
    x : array of float
        Integrated state, SI.
    moved : array of float
        Displacement of the centre in body axes, m.

    Returns
    -------
    array of float
        Integrated state, SI.
    """
    found = x.copy()
    # north and east as they are, the third is an altitude: upwards
    found[:3] += (dcm_from_quaternion(x[6:10]).T @ moved) * np.array([1.0, 1.0, -1.0])
    found[3:6] += np.cross(x[10:13], moved)
    return found
