"""Mixing: how collective, roll, pitch and yaw are shared out to rotors, and what is given up when it does not fit."""

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, nearest
from dravik.formula.contributions import Contributions, unit_vector
from dravik.frames import body_from_station
from dravik.propulsion.engines import Mixer, PropellerEngine, ThrustEngine

__all__ = ["add_mixer", "effectiveness", "make_up", "shares"]

Floats = NDArray[np.float64]
LINEAR_BELOW = 0.01  # share of full thrust below which the throttle is linear in thrust instead of its square root


def effectiveness(rotors: Sequence[PropellerEngine | ThrustEngine], torque_length: float) -> Floats:
    """Return what one newton of each rotor gives (4, n): upward force, and moments about their middle (body axes)."""
    # moments count about the rotors' own middle: mixing must not depend on where the datum is
    places = np.array([body_from_station(np.array(r.position)) for r in rotors])
    directions = np.array([unit_vector(r.direction) for r in rotors])
    signs = np.array([r.sign for r in rotors])
    # lift times its arm, and the reaction of the rotor's torque against its sense of rotation
    moments = np.cross(places - places.mean(axis=0), directions) - (signs * torque_length)[:, None] * directions
    # upward force first: body z points down
    found: Floats = np.vstack([-directions[:, 2], moments.T])
    return found


def shares(matrix: Floats) -> Floats:
    """Return each rotor's part (n, 4) in collective, roll, pitch and yaw, the largest part of each being one.

    Raises DravikError where the rotors cannot give all four independently.
    """
    if np.linalg.matrix_rank(matrix, tol=1e-9 * float(np.abs(matrix).max())) < 4:
        raise DravikError(
            "these rotors cannot give force, roll, pitch and yaw independently", where="mixers",
            hint="four or more, spinning both ways, not all in a row",
        )  # fmt: skip
    # the pseudo-inverse gives each demand with the least sum of squares of the thrusts
    inverse = np.linalg.pinv(matrix)
    # each column scaled by its largest part: a demand of one uses some rotor fully
    found: Floats = inverse / np.abs(inverse).max(axis=0)
    return found


def make_up(matrix: Floats) -> tuple[Floats, Floats]:
    """Return how the others make up for a rotor that is lost: directions (n, d) that change nothing, and weights (n).

    A rotor k that no longer gives f: the least change of the others that leaves force and moments as they were is
    -f ``weights[k]`` ``directions`` ``directions[k]``; it takes f off rotor k itself. The weight is 0 where it cannot
    be made up for.
    """
    # rows of the null space: changes of thrust that leave force and moments as they are
    _, sizes, rows = np.linalg.svd(matrix)
    rank = int(np.sum(sizes > 1e-9 * sizes[0]))
    directions = rows[rank:].T
    # how much of a rotor's own thrust such changes can take off it
    own = np.sum(directions**2, axis=1)
    weights: Floats = np.where(own > 1e-9, 1.0 / np.maximum(own, 1e-9), 0.0)
    return directions, weights


def add_mixer(out: Contributions, name: str, mixer: Mixer, engines: Mapping[str, object], place: str) -> None:
    """Add a mixer's formulas: ``mix_ENGINE`` is what each rotor's throttle is set to."""
    rotors: list[PropellerEngine | ThrustEngine] = []
    for engine in mixer.engines:
        found = engines.get(engine)
        if not isinstance(found, PropellerEngine | ThrustEngine):
            known = [n for n, e in engines.items() if isinstance(e, PropellerEngine | ThrustEngine)]
            raise DravikError(
                f"there is no rotor {engine!r}", where=f"{place}.engines", expected=", ".join(known),
                hint=nearest(engine, known),
            )  # fmt: skip
        rotors.append(found)
    matrix = effectiveness(rotors, mixer.torque_length)
    parts = shares(matrix)
    keys = ("mixers", name)
    # what is given up first: yaw, then collective, and roll and pitch last, because they keep it upright
    for demand in ("collective", "roll", "pitch", "yaw"):
        out.add(f"{name}_{demand}", getattr(mixer, demand), "", f"{demand} asked of {name}", *keys, demand)
    for i, engine in enumerate(mixer.engines):
        text = f"{float(parts[i, 1])!r}*{name}_roll + {float(parts[i, 2])!r}*{name}_pitch"
        out.add(f"{name}_tilt_{engine}", text, "", f"share of {engine} in roll and pitch", *keys)
    tilts = ", ".join(f"{name}_tilt_{e}" for e in mixer.engines)
    out.add(f"{name}_most", f"max({tilts})", "", "largest share in roll and pitch", *keys)
    out.add(f"{name}_least", f"min({tilts})", "", "smallest share in roll and pitch", *keys)
    out.add(
        f"{name}_kept", f"min(1, 1/max({name}_most - {name}_least, 1e-6))", "", "what is kept of roll and pitch", *keys
    )
    # room for the collective so that the most and the least loaded rotor stay within 0 and 1
    low, high = f"-{name}_kept*{name}_least", f"1 - {name}_kept*{name}_most"
    out.add(f"{name}_lift", f"limit({name}_collective, {low}, {high})", "", "collective that fits", *keys)
    # yaw gets what is left between both limits
    room = f"max(min({name}_lift - ({low}), ({high}) - {name}_lift), 0)"
    out.add(f"{name}_room", room, "", "what is left for yaw", *keys)
    out.add(f"{name}_turn", f"limit({name}_yaw, -{name}_room, {name}_room)", "", "yaw that fits", *keys)
    for i, engine in enumerate(mixer.engines):
        text = f"{name}_lift + {name}_kept*{name}_tilt_{engine} + {float(parts[i, 3])!r}*{name}_turn"
        out.add(f"share_{engine}", text, "", f"thrust asked of {engine}, as a share of its most", *keys)
    directions, weights = make_up(matrix)
    # without make_up failed rotors are not told to the mixer
    count = directions.shape[1] if mixer.make_up else 0
    for j in range(count):
        lost = [
            f"{float(directions[k, j] * weights[k])!r}*(fail_{other}*share_{other})"
            for k, other in enumerate(mixer.engines)
            if abs(directions[k, j] * weights[k]) > 1e-9
        ]
        out.add(f"{name}_lost_{j + 1}", " + ".join(lost) or "0", "", "thrust of failed rotors to make up for", *keys)
    for i, engine in enumerate(mixer.engines):
        terms = [f"share_{engine}", *(f"{-float(directions[i, j])!r}*{name}_lost_{j + 1}" for j in range(count))]
        whole = f"mix_thrust_{engine}"
        out.add(whole, f"limit({' + '.join(terms)}, 0, 1)", "", f"thrust that {engine} is set to give", *keys)
        # thrust goes with the square of the throttle
        text = f"if_else({whole} < {LINEAR_BELOW}, {LINEAR_BELOW**-0.5!r}*{whole}, sqrt(max({whole}, {LINEAR_BELOW})))"
        out.add(f"mix_{engine}", text, "", f"throttle that {engine} is set to", *keys)
