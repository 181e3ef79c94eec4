"""What ends a flight on the ground: parts that must not touch it, and how hard legs may."""

import math
from collections.abc import Iterable

from dravik.definition.fields import Angle, Model, Position, Speed
from dravik.formula.contributions import moment_arm

__all__ = ["GROUND_EVENT", "Crash", "crash_conditions"]

GROUND_EVENT = "buried"


CROSSED = 1e-3  # m: tolerance, so that rounding does not end a flight exactly at sea or ground level


class Crash(Model):
    """What ends a flight on the ground.

    ``parts`` (station positions) that touch it, or a leg that touches it while the aircraft sinks faster than
    ``sink_rate``, banks more than ``bank``, or has its pitch angle outside ``pitch``.
    """

    sink_rate: Speed | None = None  #: sink rate of a touching leg above which it is a crash
    bank: Angle | None = None  #: bank angle above which a touch is a crash
    pitch: tuple[Angle, Angle] | None = None  #: lowest and highest pitch angle of a touch
    parts: dict[str, Position] = {}  #: positions that may not touch the ground, by name, station axes


def crash_conditions(
    crash: Crash, legs: Iterable[str], *, has_ground: bool
) -> dict[str, tuple[str, str, tuple[str, ...]]]:
    """Return what ends a run on the ground or the rail: by name the condition, words, and keys of the definition."""
    below = "the centre of gravity is below "
    found: dict[str, tuple[str, str, tuple[str, ...]]] = {}
    if not has_ground:
        found[GROUND_EVENT] = (f"altitude < -{CROSSED!r}", below + "sea level", ("environment",))
        return found
    found[GROUND_EVENT] = (
        f"altitude < ground_height - {CROSSED!r}", below + "the ground", ("environment", "ground")
    )  # fmt: skip
    for name, position in crash.parts.items():
        x, y, z = moment_arm(position)
        lower = f"down_x*{x} + down_y*{y} + down_z*{z} > altitude - ground_height"
        found[f"crash_{name}"] = (lower, f"crash: {name} touches the ground", ("crash", "parts"))
    pressed = " + ".join(f"normal_{n}" for n in legs)
    if pressed:
        for key, (text, words) in _limits(crash).items():
            found[f"crash_by_{key}"] = (f"{pressed} > 0 and {text}", f"crash: {words}", ("crash", key))
    return found


def _limits(crash: Crash) -> dict[str, tuple[str, str]]:
    """Return what an aircraft on its legs may not do: by key the condition and words."""
    found: dict[str, tuple[str, str]] = {}
    if crash.sink_rate is not None:
        words = f"it comes down faster than {crash.sink_rate:g} m/s"
        found["sink_rate"] = (f"-climb_rate > {crash.sink_rate!r}", words)
    if crash.bank is not None:
        words = f"it touches the ground banked beyond {math.degrees(crash.bank):g} deg"
        found["bank"] = (f"abs(phi) > {crash.bank!r}", words)
    if crash.pitch is not None:
        low, high = crash.pitch
        words = f"its nose is outside {math.degrees(low):g} to {math.degrees(high):g} deg on the ground"
        found["pitch"] = (f"(theta < {low!r} or theta > {high!r})", words)
    return found
