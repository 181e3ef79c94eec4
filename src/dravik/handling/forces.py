"""The pilot's force for a load factor, held against MIL-F-8785C, 3.2.2.2.1."""

from typing import NamedTuple

from dravik.aircraft import Aircraft
from dravik.constants import POUND_FORCE
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import Limits, boundaries
from dravik.handling.sideslip_and_failure import settings_of
from dravik.performance import static_stability
from dravik.trimming import TrimPoint

__all__ = ["CONTROLLERS", "PitchForce", "force_limits", "force_per_g"]

CONTROLLERS = ("stick", "wheel")


class PitchForce(NamedTuple):
    """The signal that is the pilot's pull (N, positive aft), what he holds (CONTROLLERS), and the limit load factor."""

    signal: str
    controller: str = "stick"
    limit_load: float = 7.0

    @classmethod
    def of(cls, given: "PitchForce | str") -> "PitchForce":
        """Return it from text such as ``"stick_force"`` or ``"stick_force, wheel, 3.5"``; raises DravikError.

        >>> PitchForce.of("pull, wheel, 2.5").controller
        'wheel'
        """
        parts = [p.strip() for p in given.split(",")] if isinstance(given, str) else [str(v) for v in given]
        expected = "SIGNAL, stick or wheel, and the limit load factor, such as 'pull, wheel, 2.5'"
        if not 1 <= len(parts) <= 3 or not parts[0]:
            raise DravikError(f"force cannot be {arguments.shown(given)}", expected=expected)
        controller = arguments.word(parts[1], "a controller", CONTROLLERS) if len(parts) > 1 else "stick"
        try:
            load = float(parts[2]) if len(parts) > 2 else (7.0 if controller == "stick" else 2.5)
        except ValueError:
            raise DravikError(f"a limit load factor cannot be {parts[2]!r}", expected=expected) from None
        if not 1.0 < load < 20.0:
            raise DravikError(f"a limit load factor cannot be {load:g}", where="force", expected="above 1")
        return cls(parts[0], controller, load)


def force_limits(force: PitchForce, n_alpha: float) -> tuple[Limits, Limits]:
    """Return the least and the largest force per g (N) of levels 1 to 3 at n/alpha (1/rad)."""
    data = boundaries("responses")["pitch_force"][force.controller]
    # limits are over n_L - 1: the pull up to the limit load factor
    room = force.limit_load - 1.0
    # tables are in pounds of force
    lows = [POUND_FORCE * max(a / room, b) for a, b in zip(data["min_over_load"], data["min"], strict=True)]
    highs = []
    for over, most, least in zip(data["max_over_n_alpha"], data["most"], data["least_over_load"], strict=True):
        # never below what is least allowed as the most, which for weak airframes is more than the cap
        asked = most if isinstance(over, str) else max(min(over / n_alpha, most), min(least / room, most))
        highs.append(POUND_FORCE * asked)
    return (lows[0], lows[1], lows[2]), (highs[0], highs[1], highs[2])


def force_per_g(craft: Aircraft, point: TrimPoint, force: PitchForce, n_alpha: float) -> Criterion:
    """Return the criterion of the pull for a load factor, by trims in pulls with the thrust of level flight."""
    data, name = boundaries("responses")["pitch_force"], f"{force.signal} per g"
    own = settings_of(craft, point)
    note = "n/alpha is not positive: no level can be given"
    try:
        if n_alpha > 0.0:
            found = static_stability(
                craft, airspeed=point["airspeed"], altitude=point["altitude"], inputs=own, force=force.signal
            ).force
            assert found is not None
            lows, highs = force_limits(force, n_alpha)
            note = f"{force.controller}, limit load factor {force.limit_load:g}, n/alpha {n_alpha:.3g}"
            return Criterion(name, data["paragraph"], found.per_g, "N", lows, highs, note, remembered=True)
    except DravikError as error:
        note = f"{error}: no level can be given"
    return Criterion(name, data["paragraph"], float("nan"), "N", NONE, note=note, judged=False)
