"""Finned bodies by components: normal-force slope and centre of pressure of nose, tapers and fins, against Mach.

Source: J. S. Barrowman, The Practical Calculation of the Aerodynamic Characteristics of Slender Finned Vehicles,
M.S. thesis, Catholic University of America, 1967: bodies by slender-body theory (section 3.2), fins by the formula
of F. W. Diederich (NACA TN 2335, 1951) with the interference factor of section 3.3. Lift of the body at incidence:
R. Galejs, Wind instability, Sport Rocketry 1999. Supersonic fins: slope by linear theory of the rectangular wing,
A. E. Puckett and H. J. Stewart, J. Aeronaut. Sci. 14 (1947); place by E. L. Fleeman, Tactical Missile Design,
AIAA 2001.
"""

from collections.abc import Callable
from dataclasses import dataclass
from math import pi
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.definition.fields import Length, Model
from dravik.errors import DravikError

__all__ = ["Component", "FinnedBody", "Fins", "Nose", "Taper", "components", "pressure_centre"]

Floats = NDArray[np.float64]
Law = Callable[[float], float]
Above = Annotated[Length, Field(gt=0.0)]
SUBSONIC, SUPERSONIC = 0.85, 1.3  # Mach numbers between which the subsonic and the supersonic law are blended
FORWARD, AFT = 0.5, 2.0  # Mach numbers between which the fins' centre of pressure moves back
FASTEST = 10.0  # Mach number above which these laws do not hold (real-gas effects)
CROSSFLOW = 1.1  # lift of a body's plan area with the square of the incidence (Galejs)


class Nose(Model):
    """The nose: its tip at station ``x``, its shape and length, and the diameter of its base."""

    x: Length = 0.0  #: station of the tip
    shape: Literal["cone", "ogive", "ellipsoid", "parabola"] = "ogive"  #: shape
    length: Above  #: length
    diameter: Above  #: diameter of the base


class Taper(Model):
    """A cone from the diameter at its ``front`` to that at its ``back`` (shoulder, boat tail), from station ``x``."""

    x: Length  #: station of its front
    length: Above  #: length
    front: Annotated[Length, Field(ge=0.0)]  #: diameter at the front
    back: Annotated[Length, Field(ge=0.0)]  #: diameter at the back


class Fins(Model):
    """A set of equal fins.

    ``x`` of the root's leading edge, ``root`` and ``tip`` chords, ``span`` from body to tip, ``tip_offset``: by how
    much the tip's leading edge lies behind the root's, and the ``diameter`` of the body where they stand.
    """

    x: Length  #: station of the root's leading edge
    count: Annotated[int, Field(ge=3, le=8)]  #: number of fins
    root: Above  #: chord at the body
    tip: Annotated[Length, Field(ge=0.0)]  #: chord at the tip
    span: Above  #: span of a fin from the body to the tip
    tip_offset: Annotated[Length, Field(ge=0.0)] = 0.0  #: distance of the tip's leading edge behind the root's
    diameter: Above  #: diameter of the body where they stand

    @property
    def area(self) -> float:
        """Area of one fin, m^2."""
        return 0.5 * (self.root + self.tip) * self.span


class FinnedBody(Model):
    """A slender body with fins; ``diameter`` is the calibre, to which coefficients and margins refer."""

    diameter: Above  #: calibre, the length of coefficients and margins
    length: Above  #: length of the whole
    nose: Nose  #: nose
    tapers: tuple[Taper, ...] = ()  #: shoulders and boat tails
    fins: dict[str, Fins] = {}  #: sets of fins by name

    @model_validator(mode="after")
    def _in_order(self) -> "FinnedBody":
        end = self.nose.x + self.nose.length
        for i, part in enumerate(self.tapers):
            if part.x < end - 1e-9:
                raise DravikError(
                    f"it begins at {part.x:g} m, before the part ahead of it ends at {end:g} m",
                    where=f"tapers.{i}", expected="parts from nose to tail",
                )  # fmt: skip
            end = part.x + part.length
        for name, fins in self.fins.items():
            if fins.x + fins.root > self.nose.x + self.length + 1e-9:
                raise DravikError(
                    f"the root ends at {fins.x + fins.root:g} m, behind the body at {self.nose.x + self.length:g} m",
                    where=f"fins.{name}",
                )  # fmt: skip
        return self

    def profile(self, count: int = 400) -> tuple[Floats, Floats]:
        """Return stations x and diameters of the body, m."""
        x = np.linspace(self.nose.x, self.nose.x + self.length, count)
        at = (x - self.nose.x) / self.nose.length
        diameter = np.where(at < 1.0, self.nose.diameter * _shape(self.nose, np.clip(at, 0.0, 1.0)), self.nose.diameter)
        for part in self.tapers:
            along = np.clip((x - part.x) / part.length, 0.0, 1.0)
            diameter = np.where(x >= part.x, part.front + along * (part.back - part.front), diameter)
        return x, diameter


@dataclass(frozen=True)
class Component:
    """A part's normal-force slope (1/rad, on the calibre's circle) and its centre of pressure, station x in m."""

    name: str
    slope: float
    x: float


def _shape(nose: Nose, share: Floats) -> Floats:
    """Return the nose's diameter over that of its base."""
    if nose.shape == "cone":
        return share
    if nose.shape == "ellipsoid":
        return np.sqrt(np.clip(1.0 - (1.0 - share) ** 2, 0.0, 1.0))
    if nose.shape == "parabola":
        return share * (2.0 - share)
    # tangent ogive: a circular arc that runs into the cylinder without a kink
    slim = 2.0 * nose.length / nose.diameter
    radius = 0.5 * (slim**2 + 1.0)
    return np.sqrt(np.clip(radius**2 - (slim * (1.0 - share)) ** 2, 0.0, None)) - (radius - 1.0)


def _body_part(name: str, x: Floats, diameter: Floats, calibre: float) -> Component:
    """Return a part of the body by slender-body theory: slope from its growth, place from its volume."""
    area = 0.25 * pi * diameter**2
    growth = float(area[-1] - area[0])
    # Munk: the normal force of a slice is the growth of its section, 2 alpha dS
    slope = 2.0 * growth / (0.25 * pi * calibre**2)
    if abs(growth) < 1e-12:
        return Component(name, 0.0, float(x[0]))
    # its moment follows from the volume: no other integral is needed
    volume = float(np.trapezoid(area, x))
    length = float(x[-1] - x[0])
    return Component(name, slope, float(x[0]) + (length * float(area[-1]) - volume) / growth)


def fin_slope(fins: Fins, mach: float) -> float:
    """Return the normal-force slope of one fin on its own area, 1/rad, without the body."""
    aspect = 2.0 * fins.span**2 / fins.area
    middle = np.hypot(fins.span, fins.tip_offset + 0.5 * (fins.tip - fins.root))
    # sweep of the line through the middles of the chords
    cosine = float(fins.span / middle)

    def subsonic(m: float) -> float:
        return 2.0 * pi * aspect / (2.0 + float(np.sqrt(4.0 + (1.0 - m**2) * (aspect / cosine) ** 2)))

    def supersonic(m: float) -> float:
        reach = aspect * float(np.sqrt(m**2 - 1.0))
        # supersonic: where the Mach cones of the tips cover the fin, slender-wing theory is the upper bound
        return min(4.0 * aspect / reach * (1.0 - 0.5 / reach), 0.5 * pi * aspect) if reach > 1.0 else 0.5 * pi * aspect

    if mach <= SUBSONIC:
        return subsonic(mach)
    if mach >= SUPERSONIC:
        return supersonic(mach)
    return _hermite(mach, SUBSONIC, SUPERSONIC, subsonic, supersonic)


def _hermite(x: float, a: float, b: float, left: Law, right: Law) -> float:
    """Return a cubic that leaves the left law at ``a`` and enters the right one at ``b`` with their slopes."""
    step = 1e-4
    # slopes at both ends from inside the laws' own ranges
    s0, s1 = (left(a) - left(a - step)) / step, (right(b + step) - right(b)) / step
    t, h = (x - a) / (b - a), b - a
    return float(
        (1 + 2 * t) * (1 - t) ** 2 * left(a) + t * (1 - t) ** 2 * h * s0
        + t**2 * (3 - 2 * t) * right(b) + t**2 * (t - 1) * h * s1
    )  # fmt: skip


def _fin_place(fins: Fins, mach: float) -> float:
    """Return the fins' centre of pressure: a quarter of the mean chord, moving towards half of it beyond Mach 0.5."""
    both = fins.root + fins.tip
    # mean aerodynamic chord of a straight taper
    chord = 2.0 / 3.0 * (both - fins.root * fins.tip / both)
    # its leading edge
    lead = fins.x + fins.tip_offset * (fins.root + 2.0 * fins.tip) / (3.0 * both)
    aspect = 2.0 * fins.span**2 / fins.area

    def aft(m: float) -> float:
        reach = max(aspect * float(np.sqrt(m**2 - 1.0)), 1.0)
        return (reach - 0.67) / (2.0 * reach - 1.0)

    share = 0.25 if mach <= FORWARD else aft(mach) if mach >= AFT else _hermite(mach, FORWARD, AFT, lambda m: 0.25, aft)
    return lead + share * chord


def components(body: FinnedBody, mach: float = 0.0) -> list[Component]:
    """Return every part's slope and centre of pressure; fins with the body's interference.

    A set of three or more fins acts alike in every direction, as half their number would in the plane of incidence;
    more than four shade one another (MIL-HDBK-762, 1990: six are worth 1.37 sets of four, eight 1.62).

    Parameters
    ----------
    body : FinnedBody
        The finned body.
    mach : float, default 0.0
        Mach number.

    Returns
    -------
    list of Component
        Each part by name with its slope (1/rad) and station x (m).
    """
    if not 0.0 <= mach <= FASTEST:
        raise DravikError(f"Mach {mach:g} is outside the method", expected=f"0 to {FASTEST:g}")
    edges = [body.nose.x, body.nose.x + body.nose.length]
    found = []
    # fine enough that the trapezoidal rule is exact to six digits
    nose = np.linspace(edges[0], edges[1], 2001)
    shape = body.nose.diameter * _shape(body.nose, np.linspace(0.0, 1.0, 2001))
    found.append(_body_part("nose", nose, shape, body.diameter))
    for i, part in enumerate(body.tapers, start=1):
        along = np.linspace(part.x, part.x + part.length, 2001)
        cone = np.linspace(part.front, part.back, 2001)
        found.append(_body_part(f"taper {i}", along, cone, body.diameter))
    for name, fins in body.fins.items():
        radius = 0.5 * fins.diameter
        # the body's upwash lifts the fins, slender-body theory of a fin on a cylinder
        interference = 1.0 + radius / (fins.span + radius)
        # of the handbook's counts, over what equal fins without shading would be worth
        shading = float(np.interp(fins.count, [4, 6, 8], [1.0, 1.37 / 1.5, 1.62 / 2.0]))
        share = fins.area / (0.25 * pi * body.diameter**2)
        # half the fins' number in the plane of incidence: the mean of cos^2 around the body
        slope = 0.5 * fins.count * shading * interference * fin_slope(fins, mach) * share
        found.append(Component(name, slope, _fin_place(fins, mach)))
    return found


def pressure_centre(body: FinnedBody, mach: float = 0.0, alpha: float = 0.0) -> tuple[float, float]:
    """Return the whole body's normal-force slope (1/rad) and centre of pressure (station x, m) at an incidence.

    At incidence the body's plan area lifts too, with the square of the angle: its force over the angle is added.

    Parameters
    ----------
    body : FinnedBody
        The finned body.
    mach : float, default 0.0
        Mach number.
    alpha : float, default 0.0
        Incidence, rad.

    Returns
    -------
    tuple (float, float)
        Slope (1/rad), and station x (m).
    """
    parts = components(body, mach)
    x, diameter = body.profile()
    plan = float(np.trapezoid(diameter, x))
    middle = float(np.trapezoid(diameter * x, x)) / plan
    # Galejs: viscous cross flow over the plan area, at its middle
    body_lift = CROSSFLOW * plan / (0.25 * pi * body.diameter**2) * abs(float(np.sin(alpha)))
    total = sum(c.slope for c in parts) + body_lift
    moment = sum(c.slope * c.x for c in parts) + body_lift * middle
    if total <= 0.0:
        raise DravikError("the parts together have no lift", hint="fins, or a wider base")
    return total, moment / total
