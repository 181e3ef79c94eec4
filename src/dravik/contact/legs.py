"""A leg that touches the ground: spring and damper across the ground, a tyre in its plane, rolling and braking.

The foot is pressed in as far as it would stand below the ground. Across the wheel the tyre is a string: its deflection
z obeys dz/dt = v - |v_along| z/L with the relaxation length L (H. B. Pacejka, Tyre and Vehicle Dynamics, 2nd ed., 2006,
ch. 5), so that its side force goes with the slip angle when it rolls and holds like a spring when it stands. Along the
wheel a bristle holds what rolling friction and brakes can hold. Together they are limited by the friction circle.
"""

from collections.abc import Iterable, Mapping
from typing import Annotated, NamedTuple

import numpy as np
from pydantic import Field

from dravik.definition.fields import Damping, Formula, Model, Position, PositiveLength, Stiffness
from dravik.formula import Guard
from dravik.formula.contributions import Contributions, moment_arm
from dravik.frames import body_from_station

__all__ = ["Leg", "add_ground", "add_leg", "contact_states", "guard"]

NotNegative = Annotated[float, Field(ge=0.0)]
STATES = ("bristle", "tyre")  # states of a leg
LIFTED = 0.05  # s: time constant with which the deflection of an unloaded tyre decays
DAMPED = 0.1  # s: a tyre's damping over its stiffness
ROOM = 1.0  # m beyond the legs' reach, for a centre of gravity that moves
LOCKED = 0.98  # a retracting leg carries load from this share of its extension on
LEFT_ACROSS = 0.1  # share of the lateral friction that is left to a locked, sliding wheel


class Leg(Model):
    """A leg or a point of the hull: where its foot is when nothing presses on it (station axes), and how it gives way.

    ``stiffness`` and ``damping`` across the ground (N/m, N s/m, or with their units); ``stroke`` after which it is
    ``bottom`` times as stiff. ``rolling`` and ``sliding`` are coefficients of friction along a free wheel, and across
    it or with it held; a skid or a hull has both the same. ``brake`` is a formula from 0 to 1, ``steering`` one of the
    wheel's angle to the right, rad. A leg that retracts has its foot at ``up`` when ``extended``, a formula, is 0, and
    on the way there in between; it carries nothing until it is extended. ``tyre`` is the stiffness of the foot in the
    ground's plane, ``relaxation`` the tyre's length.
    """

    position: Position  #: foot of the leg when nothing presses on it, station axes
    stiffness: Stiffness  #: stiffness across the ground
    damping: Damping  #: damping across the ground
    stroke: PositiveLength  #: compression after which the leg is stiffer
    bottom: Annotated[float, Field(ge=1.0)] = 10.0  #: how many times as stiff it is past its stroke
    tyre: Stiffness  #: stiffness of the foot in the plane of the ground
    rolling: NotNegative = 0.02  #: coefficient of friction along a free wheel
    sliding: NotNegative = 0.7  #: coefficient of friction across the wheel, or along a braked one
    brake: Formula = 0.0  #: formula from 0 to 1
    steering: Formula = 0.0  #: formula of the wheel's angle to the right, rad
    relaxation: PositiveLength = 0.6  #: relaxation length of the tyre
    up: Position | None = None  #: foot of the retracted leg, station axes
    extended: Formula = 1.0  #: formula: 1 extended, 0 retracted
    description: str = ""  #: what it is


class Surface(NamedTuple):
    """The ground as the legs see it: the direction into it in body axes, and the height of the aircraft above it."""

    x: str
    y: str
    z: str
    gap: str


LEVEL = Surface("down_x", "down_y", "down_z", "(altitude - ground_height)")
SLOPED = Surface("into_ground_x", "into_ground_y", "into_ground_z", "above_ground")


def add_ground(out: Contributions, legs: Mapping[str, Leg], centre: Position, *, sloped: bool) -> Surface:
    """Add what all legs share, and the condition ``near_ground`` that guards their formulas; return the surface.

    A sloped ground is the plane through the point below the aircraft, by ``ground_slope_north`` and ``_east``.

    Parameters
    ----------
    out : Contributions
        What receives the formulas.
    legs : mapping of str to Leg
        The legs by name.
    centre : Position
        Signals of the centre of gravity, station axes.
    sloped : bool
        Whether the ground may have a slope.

    Returns
    -------
    Surface
        What legs need of the surface.
    """
    surface, what = LEVEL, "direction into the ground along body"
    if sloped:
        surface, keys = SLOPED, ("environment", "ground")
        steep = "1/sqrt(1 + ground_slope_north**2 + ground_slope_east**2)"
        out.add("ground_cosine", steep, "", "cosine of the ground's slope", *keys)
        ahead = "ground_slope_north*cos(psi) + ground_slope_east*sin(psi)"
        out.add("uphill_ahead", ahead, "", "slope of the ground ahead", *keys)
        right = "ground_slope_east*cos(psi) - ground_slope_north*sin(psi)"
        out.add("uphill_right", right, "", "slope of the ground to the right", *keys)
        for axis, text in (
            ("x", "uphill_ahead*cos(theta) + down_x"),
            ("y", "uphill_ahead*sin(phi)*sin(theta) + uphill_right*cos(phi) + down_y"),
            ("z", "uphill_ahead*cos(phi)*sin(theta) - uphill_right*sin(phi) + down_z"),
        ):
            out.add(f"into_ground_{axis}", f"({text})*ground_cosine", "", f"{what} {axis}", *keys)
        out.add("above_ground", "(altitude - ground_height)*ground_cosine", "m", "distance from the ground", *keys)
    out.add("ground_slant", f"1/sqrt(max(1 - {surface.x}**2, 1e-6))", "", "direction ahead in the ground", "gear")
    reach = ROOM + max(float(np.linalg.norm(np.subtract(leg.position, centre))) for leg in legs.values())
    # vertical distance to the ground instead of normal distance: needs no slope, and is enough up to 60 deg
    far = 2.0 * reach if sloped else reach
    out.add("near_ground", f"{LEVEL.gap} < {far!r}", "", "whether a leg can touch the ground", "gear")
    return surface


def add_leg(out: Contributions, name: str, leg: Leg, ground: Surface) -> None:
    """Add a leg's formulas and the three forces it puts on the aircraft; far from the ground they are zero.

    Parameters
    ----------
    out : Contributions
        What receives the formulas.
    name : str
        The leg's name.
    leg : Leg
        The leg.
    ground : Surface
        The surface, as ``add_ground`` gives it.
    """
    _add_foot(out, name, leg, ground)
    _add_wheel(out, name, leg, ground)
    _add_tyre(out, name, leg)
    _add_forces(out, name, leg, ground)
    out.events[f"{name}_touches"] = (f"normal_{name} > 0", f"{name} touches the ground")
    pressed = f"pressed_{name} > {leg.stroke!r}"
    out.events[f"{name}_bottoms"] = (pressed, f"{name} is pressed in to the end of its stroke")


def guard(names: Iterable[str], *, sloped: bool) -> Guard:
    """Return the formulas of all legs that are zero away from the ground, their states' rates and limits with them.

    Parameters
    ----------
    names : iterable of str
        Names of the legs.
    sloped : bool
        Whether the ground may have a slope.

    Returns
    -------
    Guard
    """
    parts = (
        "foot_u", "foot_v", "foot_w", "pressed", "sinking", "normal", "ahead", "right", "rolling_speed",
        "slipping_speed", "grip_along", "grip_across", *STATES, "drag", "side", "back", "left",
        *(f"ground_force_{a}" for a in "xyz"),
    )  # fmt: skip
    shared = (
        "ground_slope_north", "ground_slope_east", "ground_cosine", "uphill_ahead", "uphill_right", "above_ground",
        *(f"into_ground_{a}" for a in "xyz"),
    )  # fmt: skip
    return Guard(
        "near_ground", ("ground_slant", *(shared if sloped else ()), *(f"{p}_{name}" for name in names for p in parts))
    )


def contact_states(names: Iterable[str]) -> list[str]:
    """Return the names of the states of legs; away from the ground they are zero and stay so.

    Parameters
    ----------
    names : iterable of str
        Names of the legs.

    Returns
    -------
    list of str
    """
    return [f"{state}_{name}" for name in names for state in STATES]


def _add_foot(out: Contributions, name: str, leg: Leg, ground: Surface) -> None:
    """Add where the foot is against the ground, how it moves, and the force that presses it."""
    keys, (x, y, z) = ("gear", name), moment_arm(leg.position)
    locked = ""
    if leg.up is not None or leg.extended != 1.0:
        out.add(f"extended_{name}", leg.extended, "", f"how far {name} is extended", *keys, "extended")
        away = body_from_station(np.array(leg.up or leg.position)) - body_from_station(np.array(leg.position))
        x, y, z = (f"({own} + (1 - extended_{name})*{float(d)!r})" for own, d in zip((x, y, z), away, strict=True))
        locked = f"*(extended_{name} > {LOCKED!r})"
    speed = (f"(u + q*{z} - r*{y})", f"(v + r*{x} - p*{z})", f"(w + p*{y} - q*{x})")
    for axis, letter, text in zip("xyz", "uvw", speed, strict=True):
        out.add(f"foot_{letter}_{name}", text, "m/s", f"velocity of {name}'s foot along body {axis}", *keys)
    below = f"{ground.x}*{x} + {ground.y}*{y} + {ground.z}*{z}"
    out.add(f"pressed_{name}", f"max({below} - {ground.gap}, 0)", "m", f"how far {name} is pressed in", *keys)
    sinking = f"{ground.x}*foot_u_{name} + {ground.y}*foot_v_{name} + {ground.z}*foot_w_{name}"
    out.add(f"sinking_{name}", sinking, "m/s", f"how fast {name}'s foot moves down", *keys)
    beyond = f"{(leg.bottom - 1.0) * leg.stiffness!r}*max(pressed_{name} - {leg.stroke!r}, 0)"
    spring = f"{leg.stiffness!r}*pressed_{name} + {beyond} + {leg.damping!r}*sinking_{name}"
    out.add(
        f"normal_{name}", f"max({spring}, 0)*(pressed_{name} > 0){locked}", "N", f"force of the ground on {name}", *keys
    )


def _add_wheel(out: Contributions, name: str, leg: Leg, ground: Surface) -> None:
    """Add the speeds along and across the wheel, in the ground's plane."""
    keys, (u, v, w) = ("gear", name), (f"foot_{a}_{name}" for a in "uvw")
    out.add(f"steering_{name}", leg.steering, "rad", f"angle of {name}'s wheel to the right", *keys, "steering")
    out.add(f"brake_{name}", leg.brake, "", f"brake of {name}", *keys, "brake")
    # ahead: the body's x axis laid into the ground's plane; right of it: down x ahead
    ahead = f"({u} - {ground.x}*sinking_{name})*ground_slant"
    out.add(f"ahead_{name}", ahead, "m/s", f"speed of {name}'s foot ahead over the ground", *keys)
    right = f"({ground.z}*{v} - {ground.y}*{w})*ground_slant"
    out.add(f"right_{name}", right, "m/s", f"speed of {name}'s foot to the right over the ground", *keys)
    cosine, sine = f"cos(steering_{name})", f"sin(steering_{name})"
    along = f"ahead_{name}*{cosine} + right_{name}*{sine}"
    out.add(f"rolling_speed_{name}", along, "m/s", f"speed along {name}'s wheel", *keys)
    across = f"right_{name}*{cosine} - ahead_{name}*{sine}"
    out.add(f"slipping_speed_{name}", across, "m/s", f"speed across {name}'s wheel", *keys)


def _add_tyre(out: Contributions, name: str, leg: Leg) -> None:
    """Add the friction limits of the foot, its deflections, and its forces along and across the wheel."""
    keys, along, across = ("gear", name), f"rolling_speed_{name}", f"slipping_speed_{name}"
    held = f"({leg.rolling!r} + {max(leg.sliding - leg.rolling, 0.0)!r}*limit(brake_{name}, 0, 1))"
    out.add(f"grip_along_{name}", f"{held}*normal_{name}", "N", f"what {name} can hold along its wheel", *keys)
    # friction ellipse: braking force uses up part of the lateral grip
    whole = f"({leg.sliding!r}*normal_{name})**2"
    left = f"sqrt(max({whole} - drag_{name}**2, {LEFT_ACROSS**2!r}*{whole}))"
    out.add(f"grip_across_{name}", left, "N", f"what {name} can hold across its wheel", *keys)
    slip = f"{across} - abs({along})*tyre_{name}/{leg.relaxation!r}"
    for state, force, rate, grip, speed, direction in (
        (f"bristle_{name}", f"drag_{name}", along, f"grip_along_{name}", along, "along"),
        (f"tyre_{name}", f"side_{name}", slip, f"grip_across_{name}", across, "across"),
    ):
        moving = f"if_else(normal_{name}, {rate}, -{state}/{LIFTED!r})"
        most = f"{grip}/{leg.tyre!r}"
        bent = f"deflection of {name}'s foot {direction} its wheel"
        out.add(state, f"state({moving}, 0, -{most}, {most})", "m", bent, *keys)
        text = f"limit({leg.tyre!r}*{state} + {DAMPED * leg.tyre!r}*{speed}, -{grip}, {grip})"
        out.add(force, text, "N", f"force of {name}'s foot on the ground {direction} its wheel", *keys)


def _add_forces(out: Contributions, name: str, leg: Leg, ground: Surface) -> None:
    """Add the force of the ground on the foot along the body's axes, as three loads."""
    keys, cosine, sine = ("gear", name), f"cos(steering_{name})", f"sin(steering_{name})"
    out.add(f"back_{name}", f"drag_{name}*{cosine} - side_{name}*{sine}", "N", f"force backwards on {name}", *keys)
    out.add(f"left_{name}", f"drag_{name}*{sine} + side_{name}*{cosine}", "N", f"force to the left on {name}", *keys)
    x, y, z = ground.x, ground.y, ground.z
    forces = (
        f"-normal_{name}*{x} - back_{name}*(1 - {x}**2)*ground_slant",
        f"-normal_{name}*{y} + back_{name}*{x}*{y}*ground_slant - left_{name}*{z}*ground_slant",
        f"-normal_{name}*{z} + back_{name}*{x}*{z}*ground_slant + left_{name}*{y}*ground_slant",
    )
    for axis, direction, text in zip("xyz", ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)), forces, strict=True):
        out.add(f"ground_force_{axis}_{name}", text, "N", f"force of the ground on {name} along body {axis}", *keys)
        out.load(f"ground_force_{axis}_{name}", direction, leg.position)
