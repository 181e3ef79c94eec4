"""A leg that touches the ground: spring and damper along the vertical, a tyre across it, rolling and braking.

The foot is pressed in as far as it would stand below the ground. Across the wheel the tyre is a string: its deflection
z obeys dz/dt = v - |v_along| z/L with the relaxation length L (H. B. Pacejka, Tyre and Vehicle Dynamics, 2nd ed., 2006,
ch. 5), so that its side force goes with the slip angle when it rolls and holds like a spring when it stands. Along the
wheel a bristle holds what rolling friction and brakes can hold. Both give way where friction ends.
"""

from typing import Annotated

from pydantic import Field

from dravik.pieces import Pieces, lever_arm
from dravik.quantities import Formula, Model, Position, PositiveLength

__all__ = ["Leg", "add_ground", "add_leg"]

NotNegative = Annotated[float, Field(ge=0.0)]
LIFTED = 0.05  # s, in which a tyre in the air straightens
DAMPED = 0.1  # s: a tyre's damping over its stiffness


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
    keys = ("gear", name)
    arm = lever_arm(leg.position)
    speed = (f"(u + q*{arm[2]} - r*{arm[1]})", f"(v + r*{arm[0]} - p*{arm[2]})", f"(w + p*{arm[1]} - q*{arm[0]})")
    vx, vy, vz = (f"foot_{a}_{name}" for a in "uvw")
    for signal, text, axis in zip((vx, vy, vz), speed, "xyz", strict=True):
        out.add(signal, text, "m/s", f"velocity of {name}'s foot along body {axis}", *keys)
    below = f"down_x*{arm[0]} + down_y*{arm[1]} + down_z*{arm[2]}"
    out.add(
        f"pressed_{name}", f"max({below} - altitude + ground_height, 0)", "m", f"how far {name} is pressed in", *keys
    )
    sinking = f"down_x*{vx} + down_y*{vy} + down_z*{vz}"
    out.add(f"sinking_{name}", sinking, "m/s", f"how fast {name}'s foot moves down", *keys)
    beyond = f"{(leg.bottom - 1.0) * leg.stiffness!r}*max(pressed_{name} - {leg.stroke!r}, 0)"
    spring = f"{leg.stiffness!r}*pressed_{name} + {beyond} + {leg.damping!r}*sinking_{name}"
    out.add(f"normal_{name}", f"max({spring}, 0)*(pressed_{name} > 0)", "N", f"force of the ground on {name}", *keys)
    out.add(f"steering_{name}", leg.steering, "rad", f"angle of {name}'s wheel to the right", *keys, "steering")
    out.add(f"brake_{name}", leg.brake, "", f"brake of {name}", *keys, "brake")
    # ahead: the body's x axis laid into the ground's plane; right of it: down x ahead
    ahead = f"({vx} - down_x*sinking_{name})*ground_slant"
    right = f"(down_z*{vy} - down_y*{vz})*ground_slant"
    out.add(f"ahead_{name}", ahead, "m/s", f"speed of {name}'s foot ahead over the ground", *keys)
    out.add(f"right_{name}", right, "m/s", f"speed of {name}'s foot to the right over the ground", *keys)
    cosine, sine = f"cos(steering_{name})", f"sin(steering_{name})"
    along, across = f"rolling_speed_{name}", f"slipping_speed_{name}"
    out.add(along, f"ahead_{name}*{cosine} + right_{name}*{sine}", "m/s", f"speed along {name}'s wheel", *keys)
    out.add(across, f"right_{name}*{cosine} - ahead_{name}*{sine}", "m/s", f"speed across {name}'s wheel", *keys)
    held = f"({leg.rolling!r} + {max(leg.sliding - leg.rolling, 0.0)!r}*limit(brake_{name}, 0, 1))"
    touches = f"normal_{name} > 0"
    for signal, rate, friction, what in (
        (f"bristle_{name}", along, held, "along"),
        (f"tyre_{name}", f"{across} - abs({along})*tyre_{name}/{leg.relaxation!r}", repr(leg.sliding), "across"),
    ):
        most = f"{friction}*normal_{name}/{leg.tyre!r}"
        moving = f"if_else({touches}, {rate}, -{signal}/{LIFTED!r})"
        out.add(
            signal,
            f"state({moving}, 0, -({most}), {most})",
            "m",
            f"deflection of {name}'s foot {what} its wheel",
            *keys,
        )
    damping = DAMPED * leg.tyre
    for signal, deflection, speed_, friction in (
        (f"drag_{name}", f"bristle_{name}", along, held), (f"side_{name}", f"tyre_{name}", across, repr(leg.sliding))
    ):  # fmt: skip
        most = f"{friction}*normal_{name}"
        force = f"limit({leg.tyre!r}*{deflection} + {damping!r}*{speed_}, -({most}), {most})"
        out.add(signal, force, "N", f"force of {name}'s foot on the ground, {signal.split('_')[0]}", *keys)
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
    out.events[f"{name}_touches"] = (touches, f"{name} touches the ground")
    out.events[f"{name}_bottoms"] = (
        f"pressed_{name} > {leg.stroke!r}",
        f"{name} is pressed in to the end of its stroke",
    )
