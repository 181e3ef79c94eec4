"""A landing judged over every touch until the aircraft rolls: which wheel, how hard, how long in the air again, where.

The first touch alone says little: an aircraft that touches softly may fly again and come down on its nose.
"""

import math
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.recording.recording import Recording

__all__ = ["Landing", "Touch", "landing_in", "landing_of"]

Floats = NDArray[np.float64]
LOADED = 0.5  # s after a touch: within which its greatest load factor falls
LONGEST_HOP = 0.3  # s: in the air again, of a landing that does not bounce
HIGHEST_HOP = 0.1  # m
HARDEST_NOSE = 1.0  # m/s: of the nose wheel's own sink
FLOWN_AWAY = 5.0  # m: higher than that after a touch, it has not landed but flies another approach
NEEDED = ("altitude", "climb_rate", "q", "theta", "phi", "nz", "north", "east")


class Touch(NamedTuple):
    """One touch: when (s), which ``legs`` come down within a tenth of a second, and how.

    ``sink`` (m/s) of the first of these feet, ``pitch`` and ``bank`` (rad) then, the greatest load factor ``nz`` in the
    half second after; ``hop`` (s) and ``height`` (m): how long and how high it flies again after it, zero where it does
    not.
    """

    time: float
    legs: tuple[str, ...]
    sink: float
    pitch: float
    bank: float
    nz: float
    hop: float
    height: float


@dataclass(frozen=True)
class Landing:
    """Every touch of a landing, the place of the first (m north and east), and the sink of a leg that comes last.

    ``lowered`` (m/s) is the sink of the foremost leg as it comes down for good; nan where it never does. Touches after
    which it flew away, higher than 5 m, are ``earlier`` ones: of a landing that was given up.
    """

    touches: list[Touch]
    place: tuple[float, float]
    lowered: float
    earlier: list[Touch] = field(default_factory=list)

    @property
    def hop(self) -> float:
        """The longest time in the air again, s."""
        return max(t.hop for t in self.touches)

    @property
    def height(self) -> float:
        """The highest that it flew again, m."""
        return max(t.height for t in self.touches)

    @property
    def sink(self) -> float:
        """The greatest sink of a touch, m/s."""
        return max(t.sink for t in self.touches)

    @property
    def nz(self) -> float:
        """The greatest load factor after a touch."""
        return max(t.nz for t in self.touches)

    @property
    def faults(self) -> list[str]:
        """What is wrong with it, in words; empty for a landing that does not bounce and lets its nose down."""
        found, first = [], self.touches[0]
        if first.pitch <= 0.0:
            found.append(f"pitch {math.degrees(first.pitch):.1f} deg at the first touch")
        if self.hop >= LONGEST_HOP or self.height >= HIGHEST_HOP:
            found.append(f"in the air again for {self.hop:.2f} s, {self.height:.2f} m high")
        if not self.lowered <= HARDEST_NOSE:
            found.append(f"the foremost leg comes down at {self.lowered:.2f} m/s")
        return found

    def __str__(self) -> str:
        """Say it in a line."""
        first = self.touches[0]
        text = f"{' and '.join(first.legs)} first, at {first.sink:.1f} m/s, pitch {math.degrees(first.pitch):.1f} deg"
        text += f", {len(self.touches)} touches" if len(self.touches) > 1 else ""
        text += f"; at most {self.sink:.1f} m/s and {self.nz:.2f} g"
        if self.hop > 0.0:
            text += f", in the air again for {self.hop:.2f} s, {self.height:.2f} m high"
        if self.earlier:
            text += f"; {len(self.earlier)} touch{'es' if len(self.earlier) > 1 else ''} before it flew away again"
        return text + f"; nose down at {self.lowered:.1f} m/s"

    def as_data(self) -> dict[str, Any]:
        """Return it as plain data, SI."""
        touches = [t._asdict() | {"legs": list(t.legs)} for t in self.touches]
        return {
            "touches": touches, "north_m": self.place[0], "east_m": self.place[1], "lowered": self.lowered,
            "earlier_touches": len(self.earlier), "faults": self.faults,
        }  # fmt: skip


def landing_of(run: Recording, *, after: float = 0.0) -> Landing:
    """Return the landing of a recorded flight: from the first touch after a time (s) on, until its end.

    The recording has ``normal_LEG`` of every leg, altitude, climb_rate, q, theta, phi, nz, north and east; what
    lies between its rows is not seen, so it has some tens of rows in a second. Where it flies away again, the
    landing is the last one.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    after : float, default 0.0
        From when on touches count, s.

    Returns
    -------
    Landing

    Raises
    ------
    DravikError
        For another recording, for an aircraft without legs, and where nothing touches.
    """
    require(run, Recording, "the flight", "fly(...)")
    legs: dict[str, list[float]] = dict(run.metadata.get("legs") or {})
    if not legs:
        raise DravikError(f"{run.metadata.get('aircraft', 'what flew')} has no gear", expected="an aircraft with legs")
    missing = [n for n in (*NEEDED, *(f"normal_{leg}" for leg in legs)) if n not in run.names]
    if missing:
        raise DravikError(f"the recording has no {', '.join(missing)}", expected="these signals recorded")
    down: NDArray[np.bool_] = np.stack([np.asarray(run[f"normal_{leg}"]) > 0.0 for leg in legs])
    down[:, run.time < after] = False
    touching: NDArray[np.bool_] = np.asarray(down.any(axis=0))
    begins = np.flatnonzero(touching[1:] & ~touching[:-1]) + 1
    if not len(begins):
        raise DravikError("nothing touches the ground", where=f"after {after:g} s")
    feet = [(float(ahead), float(right)) for ahead, right in legs.values()]
    touches = []
    for k, begin in enumerate(begins):
        until = begins[k + 1] if k + 1 < len(begins) else len(run.time)
        touches.append(_touch(run, down, list(legs), feet, (int(begin), int(until))))
    away = max((k + 1 for k, t in enumerate(touches) if t.height > FLOWN_AWAY), default=0)
    front = max(range(len(legs)), key=lambda n: feet[n][0])
    ends = np.flatnonzero(down[front][1:] & ~down[front][:-1]) + 1
    # at rest the front leg may lift briefly: its hardest touch counts
    k = int(begins[away])
    lowered = max((_sink(run, feet[front], int(e)) for e in ends if e >= k), default=math.nan)
    return Landing(touches[away:], (float(run["north"][k]), float(run["east"][k])), lowered, touches[:away])


def landing_in(run: Recording) -> Landing | None:
    """Return the last landing of a flight that came from the air, where its recording can tell; None without.

    Parameters
    ----------
    run : Recording
        The recorded flight.

    Returns
    -------
    Landing or None

    Examples
    --------
    >>> import dravik as dv
    >>> pika = dv.sample("pika")
    >>> landing_in(dv.fly(pika, start=dv.trim(pika, airspeed=16, altitude=300), duration=1)) is None
    True
    """
    legs = run.metadata.get("legs") or {}
    if not legs or not {*NEEDED, *(f"normal_{n}" for n in legs)} <= set(run.names) or not len(run.time):
        return None
    down = np.any([np.asarray(run[f"normal_{n}"]) > 0.0 for n in legs], axis=0)
    high = np.flatnonzero(~down & (run["altitude"] - run["altitude"][down].min(initial=math.inf) > FLOWN_AWAY))
    if not len(high) or not down[high[-1] :].any():
        return None
    return landing_of(run, after=float(run.time[high[0]]))


def _sink(run: Recording, foot: tuple[float, float], k: int) -> float:
    """Return how fast a foot comes down at the row before a touch, m/s."""
    k = max(k - 1, 0)
    return float(-run["climb_rate"][k] - run["q"][k] * foot[0] * math.cos(float(run["theta"][k])))


def _touch(
    run: Recording, down: "NDArray[np.bool_]", legs: list[str], feet: list[tuple[float, float]], rows: tuple[int, int]
) -> Touch:
    """Return the touch that begins at a row, and the flight after it up to the next one."""
    begin, until = rows
    near = (run.time >= run.time[begin]) & (run.time <= run.time[begin] + 0.1)
    own = [n for n in range(len(legs)) if bool(down[n][near].any())]
    after = slice(begin, max(int(np.searchsorted(run.time, run.time[begin] + LOADED)), begin + 1))
    air = np.flatnonzero(~down[:, begin:until].any(axis=0)) + begin
    hop = height = 0.0
    if len(air) and until < len(run.time):
        hop = float(run.time[until] - run.time[air[0]])
        height = max(float(run["altitude"][air].max() - run["altitude"][air[0]]), 0.0)
    return Touch(
        float(run.time[begin]), tuple(legs[n] for n in own), _sink(run, feet[own[0]], begin),
        float(run["theta"][begin]), float(run["phi"][begin]), float(run["nz"][after].max()), hop, height,
    )  # fmt: skip
