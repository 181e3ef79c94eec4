"""A scorecard of a flight: how each change of a target was followed, found from the recording by itself."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.recording.recording import Recording

__all__ = ["TargetResponse", "asked_of", "scorecard", "targets_of"]

Floats = NDArray[np.float64]
SUFFIXES = ("_command", "_target", "_demand")  # of the names of targets, before which stands what they are targets of
STILL = 0.5  # s: a target that has stood so long has come to its end
BAND = 0.05  # of the change: a response within it has settled
LEAST = 1e-6  # of the target's whole range: smaller changes are rounding
RESTLESS = 0.5  # share of the rows in which a target may move
LAST = 0.1  # share of the time at the end over which the steady-state error is taken
CONTROLS = ("elevator", "aileron", "rudder", "throttle")
# what the name of a target stands for where it is not the signal's own
MEANT = {"pitch": "theta", "bank": "phi", "heading": "psi", "climb": "climb_rate", "path": "flight_path"}
TURNING = ("psi", "track", "phi", "heading")


@dataclass(frozen=True)
class TargetResponse:
    """How one change of a target was followed, SI.

    From ``begins`` to ``ends`` (s) the target goes from ``before`` to ``after``. ``rise`` runs from 10 to 90 % (s),
    ``overshoot`` is over the change, ``settling`` to 5 % of it (s after its beginning), ``steady_error`` the target
    less the actual value over the last tenth; nan where there is none in that time. ``activity`` is how far each
    control moved in all, per second.
    """

    target: str
    actual: str
    begins: float
    ends: float
    before: float
    after: float
    rise: float
    overshoot: float
    settling: float
    steady_error: float
    activity: dict[str, float]

    @property
    def why(self) -> str:
        """Why figures are missing, in words; nothing where none is."""
        found = []
        if math.isnan(self.rise):
            found.append("90 % not reached")
        if math.isnan(self.settling):
            found.append(f"not settled in {self.ends - self.begins:.3g} s")
        return "; ".join(found)

    def row(self) -> dict[str, Any]:
        """Return its figures as a plain record."""
        own = {n: getattr(self, n) for n in ("target", "actual", "begins", "ends", "before", "after", "rise",
                                              "overshoot", "settling", "steady_error")}  # fmt: skip
        return {**own, "why": self.why, **{f"{n}_activity": v for n, v in self.activity.items()}}


def targets_of(run: Recording) -> dict[str, str]:
    """Return the targets that a recording has, with what follows them: ``theta_command`` and ``theta``, and so on.

    >>> import numpy as np
    >>> run = Recording(["time", "theta", "theta_command"], {}, np.zeros((3, 3)))
    >>> targets_of(run)
    {'theta_command': 'theta'}
    """
    require(run, Recording, "the recording")
    found = {}
    for name in run.names:
        for suffix in SUFFIXES:
            base = name.removesuffix(suffix)
            actual = base if base in run.names else MEANT.get(base, base)
            if base != name and actual in run.names and not _is_control(actual, run):
                found[name] = actual
    return found


def asked_of(run: Recording, name: str) -> str:
    """Return the recorded signal that a signal is to follow, its command or a target; nothing where there is none.

    What moves from step to step (``climb_demand``) goes before what was set (``climb_target``).

    >>> import numpy as np
    >>> asked_of(Recording(["time", "theta", "pitch_target"], {}, np.zeros((3, 3))), "theta")
    'pitch_target'
    """
    stems = [name, *(short for short, meant in MEANT.items() if meant == name)]
    for suffix in ("_command", "_demand", "_target"):
        for stem in stems:
            if f"{stem}{suffix}" in run.names and run.units.get(f"{stem}{suffix}") == run.units.get(name):
                return f"{stem}{suffix}"
    return ""


def _is_control(name: str, run: Recording) -> bool:
    """Whether a signal is what moves the aircraft, not what is to follow; a throttle has a command where any has.

    A recording keeps the ranges of its effectors: one at its stop does not follow its command, which is no target.
    """
    names = run.names
    if name in CONTROLS or name in (run.metadata.get("limits") or {}):
        return True
    if not name.startswith("power_") or name.endswith((*SUFFIXES, "_increment")):
        return False
    throttles = [n for n in names if n.startswith("power_") and n.endswith("_command")]
    return f"{name}_command" in throttles or not throttles


def scorecard(
    run: Recording, targets: Mapping[str, str] | None = None, *, controls: Sequence[str] = ()
) -> list[TargetResponse]:  # fmt: skip
    """Return how every change of every target was followed, in the order in which they begin.

    ``targets`` names what follows each (``{"theta_command": "theta"}``): those that the names tell unless given.
    ``controls`` are the signals whose activity counts: elevator, aileron, rudder, throttle and powers unless given.
    A change lasts from the target's first move until it moves again after half a second of rest, or the end; in a
    scenario no longer than its phase.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    targets : mapping of str to str, optional
        Target and what follows it, by name.
    controls : sequence of str, default ()
        Signals whose activity counts.

    Returns
    -------
    list of TargetResponse

    Raises
    ------
    DravikError
        For signals that were not recorded, and for a target in another unit.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn", laws=["pitch_hold"])
    >>> start = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=start, duration=12, controls={"theta_command": dv.step("2 deg", at=1)})
    >>> [(c.target, round(c.begins, 2)) for c in scorecard(run)]
    [('theta_command', 1.0)]
    """
    require(run, Recording, "the recording", "dv.read_recording(file)")
    pairs = targets_of(run) if targets is None else arguments.mapping(targets, "targets")
    if not pairs:
        raise DravikError(
            "the recording has no target that its name tells", expected="such as theta_command beside theta",
            hint="targets={'NAME': 'WHAT FOLLOWS IT'}",
        )  # fmt: skip
    moved = arguments.names(controls, "controls") or [n for n in run.names if _is_control(n, run)]
    found: list[TargetResponse] = []
    for target, actual in pairs.items():
        units = [run.units.get(n, "") or "1" for n in (target, actual)]
        if target in run.names and actual in run.names and units[0] != units[1]:
            what = f"{target} [{units[0]}] and {actual} [{units[1]}] are in different units"
            raise DravikError(what, where="targets", expected="a target in the unit of what follows it")
        asked, was = (run[arguments.names([n], "targets")[0]] for n in (target, actual))
        turns = _turns(run, target, actual)
        asked = np.unwrap(asked) if turns else asked
        for first, last, end in _changes(run.time, asked):
            end = _in_phase(run, last, end)
            if end > last + 1:
                own = _round_to(was, asked, last, end) if turns else was
                found.append(_followed(run, (target, actual), (asked, own), (first, last, end), moved))
    return sorted(found, key=lambda c: c.begins)


def _turns(run: Recording, target: str, actual: str) -> bool:
    """Whether a target is an angle that goes round."""
    return actual in TURNING and all(run.units.get(n, "rad") == "rad" for n in (target, actual))


def _round_to(was: Floats, asked: Floats, last: int, end: int) -> Floats:
    """Return an angle without jumps, by whole turns such that it ends within half of one of what was asked for.

    So it says which way round the aircraft went; what is half a turn away has two.
    """
    smooth = np.unwrap(was)
    return np.asarray(smooth + 2.0 * math.pi * round(float(asked[last] - smooth[end]) / (2.0 * math.pi)))


def _in_phase(run: Recording, last: int, end: int) -> int:
    """Return the row at which a change is judged last: in a scenario the next phase may follow something else."""
    if "phase" not in run.names:
        return end
    later = np.flatnonzero(np.diff(run["phase"][last : end + 1]) != 0.0)
    return end if not len(later) else last + int(later[0])


def _changes(t: Floats, asked: Floats) -> list[tuple[int, int, int]]:
    """Return for each change the rows of its beginning, of the target's coming to rest, and of what is judged last."""
    size = float(np.ptp(asked))
    if not size > 0.0:
        return []
    moves = np.flatnonzero(np.abs(np.diff(asked)) > LEAST * size)
    if len(moves) > RESTLESS * len(asked):
        return []  # what an outer loop asks for moves all the time: nothing is changed by anybody
    groups: list[list[int]] = []
    for k in moves:
        if groups and t[k] - t[groups[-1][1] + 1] < STILL:
            groups[-1][1] = int(k)
        else:
            groups.append([int(k), int(k)])
    ends = [g[0] for g in groups[1:]] + [len(t) - 1]
    return [
        (first, last + 1, end)
        for (first, last), end in zip(groups, ends, strict=True)
        if end > last + 1 and abs(float(asked[last + 1] - asked[first])) > LEAST * size
    ]


def _followed(
    run: Recording, names: tuple[str, str], values: tuple[Floats, Floats], rows: tuple[int, int, int],
    controls: Sequence[str],
) -> TargetResponse:  # fmt: skip
    (first, last, end), (asked, was) = rows, values
    # a step is there in the row after the last old value, a ramp begins at that
    begins = float(run.time[first + 1 if last == first + 1 else first])
    t = run.time[first : end + 1] - begins
    before, after, begun = float(asked[first]), float(asked[last]), float(was[first])
    # of what was missing when the target began to move: the response may have been elsewhere than the old target
    way = after - begun if abs(after - begun) > 0.1 * abs(after - before) else after - before
    share = (was[first : end + 1] - begun) / way
    outside = np.flatnonzero(np.abs(share - (after - begun) / way) > BAND)
    settling = 0.0 if not len(outside) else float(t[outside[-1] + 1]) if outside[-1] + 1 < len(t) else math.nan
    rise = _first(t, share, 0.9) - _first(t, share, 0.1)
    tail = slice(end - max(1, int(LAST * (end - first))), end + 1)
    lasts = float(t[-1])
    activity = {n: float(np.abs(np.diff(run[n][first : end + 1])).sum()) / lasts for n in controls}
    return TargetResponse(
        names[0], names[1], begins, float(run.time[end]), before, after, rise,
        max(float(share.max()) - (after - begun) / way, 0.0), settling,
        float(np.mean(asked[tail] - was[tail])), activity,
    )  # fmt: skip


def _first(t: Floats, share: Floats, level: float) -> float:
    """Return the first time at which a share is reached; nan if never."""
    at = np.flatnonzero(share >= level)
    if not len(at):
        return math.nan
    k = int(at[0])
    return float(t[0]) if k == 0 else float(np.interp(level, share[k - 1 : k + 1], t[k - 1 : k + 1]))
