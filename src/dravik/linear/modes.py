"""Modes of a linear model: eigenvalues, what takes part in them, and what pilots call them.

Participation of a state in a mode is the product of left and right eigenvector entries, scaled to a
sum of one over the states (I. J. Perez-Arriaga, G. C. Verghese, F. C. Schweppe, IEEE Trans. PAS-101 (1982), 3117).
A mode belongs to the longitudinal or lateral motion, or to a function or actuator, by where most of it lies.
"""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from numpy.typing import NDArray

from dravik.host.notebooks import Shown, ShownAsTable, of_records

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Mode", "Modes", "find_modes", "is_body_mode"]

Floats = NDArray[np.float64]
_PITCHING = {"u", "w", "airspeed", "alpha", "q", "theta"}
SIDESLIP_SHARE = 1e-6  # of the largest angle, below which a mode has no sideslip but by rounding
_LATERAL = {"v", "beta", "p", "r", "phi"}
_POSITION = {"north", "east", "altitude", "psi"}
_FREE = {"psi": "heading"}
HOVER = 1.0  # m/s: at lower speeds modes are named by their largest state
_HOVER = {
    "u": "surge", "v": "sway", "w": "heave", "p": "roll", "phi": "roll", "q": "pitch", "theta": "pitch", "r": "yaw",
    "psi": "yaw",
}  # fmt: skip


def is_body_mode(name: str) -> bool:
    """Whether a mode's name is one of the rigid body's in flight on a wing, and not an actuator's or a position's.

    Parameters
    ----------
    name : str
        The mode's name.

    Returns
    -------
    bool
    """
    return any(word in name for word in ("short period", "phugoid", "Dutch roll", "roll", "spiral"))


@dataclass(frozen=True)
class Mode:
    """One mode: eigenvalue (1/s, the one with positive imaginary part of a pair), its name, its figures.

    ``frequency`` is undamped, rad/s; ``damping`` the ratio; ``time_constant`` in s for a real root;
    ``time_to_half`` and ``time_to_double`` in s, infinite when they do not apply. ``participation`` by state,
    largest first; ``vector`` the right eigenvector by state.
    """

    name: str
    eigenvalue: complex
    participation: dict[str, float]
    vector: dict[str, complex]

    @property
    def is_oscillatory(self) -> bool:
        """Whether it is a pair of complex roots."""
        return self.eigenvalue.imag != 0.0

    @property
    def frequency(self) -> float:
        """Undamped natural frequency, rad/s."""
        return abs(self.eigenvalue)

    @property
    def damping(self) -> float:
        """Damping ratio; ±1 for a real root."""
        return -self.eigenvalue.real / self.frequency if self.frequency else 0.0

    @property
    def period(self) -> float:
        """Period of the damped oscillation, s; infinite for a real root."""
        return 2.0 * math.pi / abs(self.eigenvalue.imag) if self.is_oscillatory else math.inf

    @property
    def time_constant(self) -> float:
        """Time constant -1/root, s; negative for a root that diverges."""
        return -1.0 / self.eigenvalue.real if self.eigenvalue.real else math.inf

    @property
    def time_to_half(self) -> float:
        """Time to half amplitude, s; infinite when it does not decay."""
        return math.log(2.0) / -self.eigenvalue.real if self.eigenvalue.real < 0.0 else math.inf

    @property
    def time_to_double(self) -> float:
        """Time to double amplitude, s; infinite when it does not grow."""
        return math.log(2.0) / self.eigenvalue.real if self.eigenvalue.real > 0.0 else math.inf

    @property
    def phi_over_beta(self) -> float | None:
        """Bank over sideslip, both in rad, in an oscillation that has sideslip; None for other modes."""
        beta = abs(self.vector.get("beta", 0.0))
        if not self.is_oscillatory or not beta or "phi" not in self.vector:
            return None
        largest = max(abs(self.vector.get(name, 0.0)) for name in ("alpha", "theta", "beta", "phi"))
        return abs(self.vector["phi"]) / beta if beta > SIDESLIP_SHARE * largest else None


class Modes(ShownAsTable, list[Mode]):
    """The modes of a model, fastest first; ``table`` for people and pandas."""

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each mode."""
        return f"{len(self)} modes", *of_records(self.rows())

    def named(self, name: str) -> Mode | None:
        """Return the mode of that name, or None."""
        return next((m for m in self if m.name == name), None)

    @property
    def coupling(self) -> float:
        """The largest share, by participation, of the other motion in a longitudinal or lateral mode: 0 to 0.5."""
        found = 0.0
        for mode in self:
            long, lateral = (
                sum(share for name, share in mode.participation.items() if name in own) for own in (_PITCHING, _LATERAL)
            )
            if long + lateral > 0.5:
                found = max(found, min(long, lateral) / (long + lateral))
        return found

    def rows(self) -> list[dict[str, object]]:
        """Return one plain record for each mode."""
        return [
            {
                "mode": m.name,
                "real_1_s": m.eigenvalue.real,
                "imag_1_s": m.eigenvalue.imag,
                "frequency_rad_s": m.frequency,
                "damping": m.damping if m.is_oscillatory else None,
                "period_s": m.period if m.is_oscillatory else None,
                "time_constant_s": None if m.is_oscillatory or not m.eigenvalue.real else m.time_constant,
                "time_to_half_s": m.time_to_half if m.eigenvalue.real < 0 else None,
                "time_to_double_s": m.time_to_double if m.eigenvalue.real > 0 else None,
                "participation": {k: v for k, v in list(m.participation.items())[:4] if v >= 0.05},
            }
            for m in self
        ]

    @property
    def table(self) -> "DataFrame":
        """The modes as a DataFrame."""
        import pandas as pd

        frame = pd.DataFrame(self.rows()).set_index("mode")
        frame["participation"] = [", ".join(f"{k} {v:.2f}" for k, v in p.items()) for p in frame["participation"]]
        return frame


def find_modes(A: Floats, states: Sequence[str], x0: Floats) -> Modes:
    """Return the modes of x' = A x, named and classified, fastest first: every root once, roots at zero last.

    ``states`` are the names, by which modes are classified; ``x0`` is the operating point (SI), empty if unknown.

    States that nothing depends on (position, heading; in still air and without drag also velocities) bring roots at
    exactly zero, each named by its state.

    Parameters
    ----------
    A : array of float
        System matrix (n, n), SI.
    states : sequence of str
        Names of the states.
    x0 : array of float
        Operating point (n), SI; empty if unknown.

    Returns
    -------
    Modes
    """
    # place and heading drive nothing: their roots are exactly zero, and would only be blurred by rounding
    keep = _coupled(A)
    values, left, right = _eigen(A, keep)
    modes = []
    for i, value in enumerate(values):
        # of a conjugate pair one stands for both
        if value.imag < 0.0:
            continue
        # participation: how much a state moves in the mode, times how much it excites it; free of units
        products = np.abs(left[:, i].conj() * right[:, i])
        share = products / max(float(np.sum(products)), 1e-300)
        order = np.argsort(-share, kind="stable")
        participation = {states[k]: float(share[k]) for k in order if share[k] > 1e-6}
        # an eigenvector tells the motion, heading and place included
        vector = {s: complex(v) for s, v in zip(states, _with_led(A, right[:, i], value, keep), strict=True)}
        modes.append(Mode("", complex(value), participation, vector))
    # fastest first, by the distance from the origin
    ordered = sorted(modes, key=lambda m: -m.frequency)
    names = [_hover_name(m) for m in ordered] if _hovers(states, x0) else _names(ordered)
    # a zero column of A: the state drives nothing, its root is zero and its eigenvector is the state itself
    free = [s for k, s in enumerate(states) if k not in keep]
    zeros = [Mode("", 0j, {s: 1.0}, {n: complex(n == s) for n in states}) for s in free]
    names += [f"{_FREE.get(s, s)}, zero root" for s in free]
    return Modes(_numbered(names, [*ordered, *zeros]))


def _with_led(A: Floats, vector: "NDArray[np.complex128]", value: complex, keep: list[int]) -> Any:
    """Return an eigenvector with the states that only follow, such as heading and place: value * v = A v."""
    whole, led = vector.copy(), [k for k in range(len(A)) if k not in keep]
    if led and abs(value) > 0.0:
        # one may follow another, as the place does the heading
        for _ in led:
            whole[led] = (A @ whole)[led] / value
    return whole


def _eigen(
    A: Floats, keep: list[int]
) -> "tuple[NDArray[np.complex128], NDArray[np.complex128], NDArray[np.complex128]]":
    from scipy.linalg import eig

    full = np.zeros((2, A.shape[0], len(keep)), dtype=complex)
    if not keep:
        return np.zeros(0, dtype=complex), full[0], full[1]
    values, left, right = cast(Any, eig(A[np.ix_(keep, keep)], left=True, right=True))
    full[0][keep], full[1][keep] = left, right
    return values, full[0], full[1]


def _coupled(A: Floats) -> list[int]:
    """Return the states without those that drive no other (zero columns of A), repeated until none is left."""
    keep = list(range(A.shape[0]))
    while True:
        columns = np.max(np.abs(A[np.ix_(keep, keep)]), axis=0) if keep else np.zeros(0)
        scale = np.max(np.abs(A[keep]), initial=1e-300)
        # relative to the largest of its row: what is a zero must not depend on units
        drop = [k for k, size in zip(keep, columns, strict=True) if size <= 1e-12 * scale]
        if not drop:
            return keep
        keep = [k for k in keep if k not in drop]


def _group(mode: Mode) -> str:
    sums = {"pitching": 0.0, "lateral": 0.0, "position": 0.0, "function": 0.0}
    for state, share in mode.participation.items():
        for group, names in (("pitching", _PITCHING), ("lateral", _LATERAL), ("position", _POSITION)):
            if state in names:
                sums[group] += share
                break
        else:
            sums["function"] += share
    # judge by the rigid-body states alone, so that large controller states do not hide a body mode
    body = max(("pitching", "lateral"), key=lambda g: sums[g])
    # a mode in which the rigid body has two fifths is the body's, whatever a law adds
    if sums[body] >= 0.4:
        return body
    return max(sums, key=lambda g: sums[g])


def _names(modes: list[Mode]) -> list[str]:
    groups = [_group(m) for m in modes]
    names: dict[int, str] = {}
    _name_pitching([i for i, g in enumerate(groups) if g == "pitching"], modes, names)
    _name_lateral([i for i, g in enumerate(groups) if g == "lateral"], modes, names)
    return [names.get(i) or next(iter(m.participation), "unnamed") for i, m in enumerate(modes)]


def _numbered(names: list[str], modes: list[Mode]) -> list[Mode]:
    """Return the modes with their names, those of one name numbered."""
    counts: dict[str, int] = {}
    result = []
    for i, mode in enumerate(modes):
        counts[names[i]] = counts.get(names[i], 0) + 1
        # the second of a name gets a number, such as short period, real root 2
        suffix = f" {counts[names[i]]}" if counts[names[i]] > 1 else ""
        result.append(Mode(names[i] + suffix, mode.eigenvalue, mode.participation, mode.vector))
    return result


def _hovers(states: Sequence[str], x0: Floats) -> bool:
    """Whether the operating point is hover or nearly so, where the modes of wing-borne flight do not exist."""
    at = dict(zip(states, x0, strict=False))
    return all(n in at for n in "uvw") and math.hypot(*(float(at[n]) for n in "uvw")) < HOVER


def _hover_name(mode: Mode) -> str:
    main = next(iter(mode.participation), "unnamed")
    return _HOVER.get(main, main)


def _share(mode: Mode, states: tuple[str, ...]) -> float:
    return sum(mode.participation.get(s, 0.0) for s in states)


def _name_pitching(found: list[int], modes: list[Mode], names: dict[int, str]) -> None:
    """Name the roots of the longitudinal motion (fastest first): two of the short period, two of the phugoid.

    Either may have split into real roots. An aircraft that is unstable in pitch has a real root that grows, one that
    decays, and a slow pair, which then counts as the phugoid.
    """
    if sum(2 if modes[i].is_oscillatory else 1 for i in found) > 4:
        found = _without_surplus(found, modes, names)
    pairs = [i for i in found if modes[i].is_oscillatory]
    real = [i for i in found if not modes[i].is_oscillatory]
    fast = ("alpha", "w", "q")
    for i in pairs:
        # the short period turns angle of attack at constant speed, the phugoid trades speed for height
        quick = _share(modes[i], fast) > _share(modes[i], ("airspeed", "u", "theta"))
        names[i] = "short period" if quick else "phugoid"
    if len(pairs) == 2 and names[pairs[0]] == names[pairs[1]]:
        names[pairs[0]], names[pairs[1]] = "short period", "phugoid"
    # two real roots in which alpha takes part: a short period that has split, as of an unstable aircraft
    split = [i for i in real if _share(modes[i], fast) > 0.3]
    if len(pairs) == 1 and len(split) >= 2 and modes[split[0]].frequency > modes[pairs[0]].frequency:
        names[pairs[0]] = "phugoid"
    if "short period" in names.values():
        split = []
    split = sorted(split[:2] if "phugoid" in names.values() or len(real) > 2 else split)
    for i in real:
        names[i] = "short period, real root" if i in split else "phugoid, real root"


def _without_surplus(found: list[int], modes: list[Mode], names: dict[int, str]) -> list[int]:
    """Return the roots of the longitudinal motion that are the aircraft's own; the others get the name of a state.

    A law's integrals and filters mix with pitch, and bring more roots than the four of a rigid body. The short period
    is where both angle of attack and pitch rate take part, the phugoid where speed and attitude do: two roots each.
    """

    # the geometric mean is small unless both take part
    def both(i: int) -> float:
        return math.sqrt(_share(modes[i], ("alpha", "w")) * _share(modes[i], ("q",)))

    def slowly(i: int) -> float:
        return _share(modes[i], ("airspeed", "u", "theta"))

    quick = [i for i in found if _share(modes[i], ("alpha", "w", "q")) > slowly(i)]
    kept = [*_two_roots(quick, modes, both), *_two_roots([i for i in found if i not in quick], modes, slowly)]
    for i in found:
        if i not in kept:
            body = _PITCHING | _LATERAL | _POSITION
            names[i] = next((s for s in modes[i].participation if s not in body), next(iter(modes[i].participation)))
    return sorted(kept)


def _two_roots(found: list[int], modes: list[Mode], weight: Callable[[int], float]) -> list[int]:
    """Return the pair, or the two real roots, of the most weight; one real root where there is no other."""
    pairs = sorted((i for i in found if modes[i].is_oscillatory), key=weight, reverse=True)
    real = sorted((i for i in found if not modes[i].is_oscillatory), key=weight, reverse=True)
    # two real roots outweigh a pair only if they weigh twice as much
    if not pairs or (len(real) > 1 and sum(weight(i) for i in real[:2]) > 2.0 * weight(pairs[0])):
        return real[:2]
    return pairs[:1]


def _name_lateral(found: list[int], modes: list[Mode], names: dict[int, str]) -> None:
    """Name the roots of the lateral motion (fastest first): the Dutch roll, which may have split, roll and spiral.

    A pair is the Dutch roll, unless roll and bank outweigh sideslip and yaw: then roll and spiral have joined.
    """
    pairs = [i for i in found if modes[i].is_oscillatory]
    for i in pairs:
        names[i] = "Dutch roll" if _share(modes[i], ("beta", "v", "r")) > 0.35 else "roll-spiral"
    if len(pairs) == 2 and names[pairs[0]] == names[pairs[1]]:
        # of two pairs the one with more sideslip and yaw is the Dutch roll
        yawing = max(pairs, key=lambda i: _share(modes[i], ("beta", "v", "r")))
        names.update({i: "Dutch roll" if i == yawing else "roll-spiral" for i in pairs})
    kinds = [names[i] for i in pairs]
    real = [i for i in found if not modes[i].is_oscillatory]
    if "roll-spiral" not in kinds:
        # the roll mode is the root in which the roll rate takes part most
        rolls = [i for i in real if _share(modes[i], ("p",)) > 0.4]
        rolls = rolls or (real[:1] if len(real) >= 4 or (kinds and len(real) >= 2) else [])
        if rolls:
            names[rolls[0]] = "roll"
            real.remove(rolls[0])
    if "Dutch roll" not in kinds and len(real) >= 2:
        split = real[:2]
        names.update(dict.fromkeys(split, "Dutch roll, real root"))
        real = [i for i in real if i not in split]
    # a root that a law's washout or filter leads is not the spiral where there is another
    led = [i for i in real if next(iter(modes[i].participation)) in _LATERAL | _POSITION]
    for i in led or real:
        names[i] = "spiral"
