"""A leg that touches the ground: spring and damper along the vertical, a tyre across it, rolling and braking.

The foot is pressed in as far as it would stand below the ground. Across the wheel the tyre is a string: its deflection
z obeys dz/dt = v - |v_along| z/L with the relaxation length L (H. B. Pacejka, Tyre and Vehicle Dynamics, 2nd ed., 2006,
ch. 5), so that its side force goes with the slip angle when it rolls and holds like a spring when it stands. Along the
wheel a bristle holds what rolling friction and brakes can hold. Together they give way on a circle.
"""

from typing import Annotated

from pydantic import Field

from dravik.pieces import Pieces, lever_arm
from dravik.quantities import Formula, Model, Position, PositiveLength

__all__ = ["Leg", "add_ground", "add_leg"]

NotNegative = Annotated[float, Field(ge=0.0)]
LIFTED = 0.05  # s, in which a tyre in the air straightens
DAMPED = 0.1  # s: a tyre's damping over its stiffness
LEFT_ACROSS = 0.1  # of the friction across a wheel that slides along


class Leg(Model):
    """A leg or a point of the hull: where its foot is when nothing presses on it (station axes), and how it gives way.

    ``stiffness`` N/m and ``damping`` N s/m along the vertical; ``stroke`` after which it is ``bottom`` times as stiff.
    ``rolling`` and ``sliding`` are coefficients of friction along a free wheel, and across it or with it held; a skid
    or a hull has both the same. ``brake`` is a formula from 0 to 1, ``steering`` one of the wheel's angle to the right,
    rad. ``tyre`` N/m is the stiffness of the foot in the ground's plane, ``relaxation`` the tyre's length.
    """

    position: Position
    stiffness: Annotated[float, Field(gt=0.0)]
    damping: NotNegative
    stroke: PositiveLength
    bottom: Annotated[float, Field(ge=1.0)] = 10.0
    tyre: Annotated[float, Field(gt=0.0)]
    rolling: NotNegative = 0.02
    sliding: NotNegative = 0.7
    brake: Formula = 0.0
    steering: Formula = 0.0
    relaxation: PositiveLength = 0.6
    description: str = ""


def add_ground(out: Pieces, height: str | float) -> None:
    """Add the ground's height and what all legs share; the terms of the vertical in body axes are the kernel's."""
    out.add("ground_height", height, "m", "height of the ground above sea level", "ground", "height")
    out.add("ground_slant", "1/sqrt(max(1 - down_x**2, 1e-6))", "", "for the way ahead in the ground's plane", "ground")


def add_leg(out: Pieces, name: str, leg: Leg) -> None:
    """Add a leg's formulas and the three forces it puts on the aircraft."""
    _add_foot(out, name, leg)
    _add_wheel(out, name, leg)
    _add_tyre(out, name, leg)
    _add_forces(out, name, leg)
    out.events[f"{name}_touches"] = (f"normal_{name} > 0", f"{name} touches the ground")
    pressed = f"pressed_{name} > {leg.stroke!r}"
    out.events[f"{name}_bottoms"] = (pressed, f"{name} is pressed in to the end of its stroke")


def _add_foot(out: Pieces, name: str, leg: Leg) -> None:
    """Add where the foot is against the ground, how it moves, and the force that presses it."""
    keys, (x, y, z) = ("gear", name), lever_arm(leg.position)
    speed = (f"(u + q*{z} - r*{y})", f"(v + r*{x} - p*{z})", f"(w + p*{y} - q*{x})")
    for axis, letter, text in zip("xyz", "uvw", speed, strict=True):
        out.add(f"foot_{letter}_{name}", text, "m/s", f"velocity of {name}'s foot along body {axis}", *keys)
    below = f"down_x*{x} + down_y*{y} + down_z*{z}"
    out.add(
        f"pressed_{name}", f"max({below} - altitude + ground_height, 0)", "m", f"how far {name} is pressed in", *keys
    )
    sinking = f"down_x*foot_u_{name} + down_y*foot_v_{name} + down_z*foot_w_{name}"
    out.add(f"sinking_{name}", sinking, "m/s", f"how fast {name}'s foot moves down", *keys)
    beyond = f"{(leg.bottom - 1.0) * leg.stiffness!r}*max(pressed_{name} - {leg.stroke!r}, 0)"
    spring = f"{leg.stiffness!r}*pressed_{name} + {beyond} + {leg.damping!r}*sinking_{name}"
    out.add(f"normal_{name}", f"max({spring}, 0)*(pressed_{name} > 0)", "N", f"force of the ground on {name}", *keys)


def _add_wheel(out: Pieces, name: str, leg: Leg) -> None:
    """Add the speeds along and across the wheel, in the ground's plane."""
    keys, (u, v, w) = ("gear", name), (f"foot_{a}_{name}" for a in "uvw")
    out.add(f"steering_{name}", leg.steering, "rad", f"angle of {name}'s wheel to the right", *keys, "steering")
    out.add(f"brake_{name}", leg.brake, "", f"brake of {name}", *keys, "brake")
    # ahead: the body's x axis laid into the ground's plane; right of it: down x ahead
    ahead = f"({u} - down_x*sinking_{name})*ground_slant"
    out.add(f"ahead_{name}", ahead, "m/s", f"speed of {name}'s foot ahead over the ground", *keys)
    right = f"(down_z*{v} - down_y*{w})*ground_slant"
    out.add(f"right_{name}", right, "m/s", f"speed of {name}'s foot to the right over the ground", *keys)
    cosine, sine = f"cos(steering_{name})", f"sin(steering_{name})"
    along = f"ahead_{name}*{cosine} + right_{name}*{sine}"
    out.add(f"rolling_speed_{name}", along, "m/s", f"speed along {name}'s wheel", *keys)
    across = f"right_{name}*{cosine} - ahead_{name}*{sine}"
    out.add(f"slipping_speed_{name}", across, "m/s", f"speed across {name}'s wheel", *keys)


def _add_tyre(out: Pieces, name: str, leg: Leg) -> None:
    """Add what the foot can hold, its deflections, and its forces on the ground along and across the wheel."""
    keys, along, across = ("gear", name), f"rolling_speed_{name}", f"slipping_speed_{name}"
    held = f"({leg.rolling!r} + {max(leg.sliding - leg.rolling, 0.0)!r}*limit(brake_{name}, 0, 1))"
    out.add(f"grip_along_{name}", f"{held}*normal_{name}", "N", f"what {name} can hold along its wheel", *keys)
    # what is held along the wheel is gone across it: together no more than friction gives
    whole = f"({leg.sliding!r}*normal_{name})**2"
    left = f"sqrt(max({whole} - drag_{name}**2, {LEFT_ACROSS**2!r}*{whole}))"
    out.add(f"grip_across_{name}", left, "N", f"what {name} can hold across its wheel", *keys)
    slip = f"{across} - abs({along})*tyre_{name}/{leg.relaxation!r}"
    for state, force, rate, grip, speed, way in (
        (f"bristle_{name}", f"drag_{name}", along, f"grip_along_{name}", along, "along"),
        (f"tyre_{name}", f"side_{name}", slip, f"grip_across_{name}", across, "across"),
    ):
        moving = f"if_else(normal_{name} > 0, {rate}, -{state}/{LIFTED!r})"
        most = f"{grip}/{leg.tyre!r}"
        bent = f"deflection of {name}'s foot {way} its wheel"
        out.add(state, f"state({moving}, 0, -{most}, {most})", "m", bent, *keys)
        text = f"limit({leg.tyre!r}*{state} + {DAMPED * leg.tyre!r}*{speed}, -{grip}, {grip})"
        out.add(force, text, "N", f"force of {name}'s foot on the ground {way} its wheel", *keys)


def _add_forces(out: Pieces, name: str, leg: Leg) -> None:
    """Add the force of the ground on the foot along the body's axes, as three loads."""
    keys, cosine, sine = ("gear", name), f"cos(steering_{name})", f"sin(steering_{name})"
    out.add(f"back_{name}", f"drag_{name}*{cosine} - side_{name}*{sine}", "N", f"force backwards on {name}", *keys)
    out.add(f"left_{name}", f"drag_{name}*{sine} + side_{name}*{cosine}", "N", f"force to the left on {name}", *keys)
    forces = (
        f"-normal_{name}*down_x - back_{name}*(1 - down_x**2)*ground_slant",
        f"-normal_{name}*down_y + back_{name}*down_x*down_y*ground_slant - left_{name}*down_z*ground_slant",
        f"-normal_{name}*down_z + back_{name}*down_x*down_z*ground_slant + left_{name}*down_y*ground_slant",
    )
    for axis, way, text in zip("xyz", ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)), forces, strict=True):
        out.add(f"ground_force_{axis}_{name}", text, "N", f"force of the ground on {name} along body {axis}", *keys)
        out.load(f"ground_force_{axis}_{name}", way, leg.position)
