"""Modes of a linear model: eigenvalues, what takes part in them, and what pilots call them.

Participation of a state in a mode is the product of left and right eigenvector entries, scaled to a
sum of one over the states (I. J. Perez-Arriaga, G. C. Verghese, F. C. Schweppe, IEEE Trans. PAS-101 (1982), 3117).
A mode belongs to the longitudinal or lateral motion, or to a function or actuator, by where most of it lies.
"""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from numpy.typing import NDArray

from dravik.linear.model import LinearModel

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Mode", "Modes", "find_modes"]

Floats = NDArray[np.float64]
_PITCHING = {"u", "w", "airspeed", "alpha", "q", "theta"}
_LATERAL = {"v", "beta", "p", "r", "phi"}
_POSITION = {"north", "east", "altitude", "psi"}
HOVER = 1.0  # m/s: below it modes are named by what moves most
_HOVER = {
    "u": "surge", "v": "sway", "w": "heave", "p": "roll", "phi": "roll", "q": "pitch", "theta": "pitch", "r": "yaw",
    "psi": "yaw",
}  # fmt: skip


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


class Modes(list[Mode]):
    """The modes of a model, fastest first; ``table`` for people and pandas."""

    def named(self, name: str) -> Mode | None:
        """Return the mode of that name, or None."""
        return next((m for m in self if m.name == name), None)

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


def find_modes(model: LinearModel) -> Modes:
    """Return the modes of a model, named and classified, fastest first.

    States that nothing depends on (position, heading) bring roots at zero; they are left out.
    """
    values, left, right = _eigen(model.A)
    modes = []
    for i, value in enumerate(values):
        if value.imag < 0.0:
            continue
        products = np.abs(left[:, i].conj() * right[:, i])
        share = products / max(float(np.sum(products)), 1e-300)
        order = np.argsort(-share, kind="stable")
        participation = {model.states[k]: float(share[k]) for k in order if share[k] > 1e-6}
        vector = {s: complex(v) for s, v in zip(model.states, right[:, i], strict=True)}
        modes.append(Mode("", complex(value), participation, vector))
    ordered = sorted(modes, key=lambda m: -m.frequency)
    return Modes(_numbered([_hover_name(m) for m in ordered], ordered) if _hovers(model) else _name_all(ordered))


def _eigen(A: Floats) -> "tuple[NDArray[np.complex128], NDArray[np.complex128], NDArray[np.complex128]]":
    from scipy.linalg import eig

    keep = _coupled(A)
    values, left, right = cast(Any, eig(A[np.ix_(keep, keep)], left=True, right=True))
    full = np.zeros((2, A.shape[0], len(values)), dtype=complex)
    full[0][keep], full[1][keep] = left, right
    return values, full[0], full[1]


def _coupled(A: Floats) -> list[int]:
    """Return the states without those that feed nothing: a column of zeros, again after each is taken away."""
    keep = list(range(A.shape[0]))
    while True:
        columns = np.max(np.abs(A[np.ix_(keep, keep)]), axis=0) if keep else np.zeros(0)
        scale = np.max(np.abs(A[keep]), initial=1e-300)
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
    # a body mode stays one when its states are outweighed by those of a slow controller
    body = max(("pitching", "lateral"), key=lambda g: sums[g])
    if sums[body] >= 0.4:
        return body
    return max(sums, key=lambda g: sums[g])


def _name_all(modes: list[Mode]) -> list[Mode]:
    groups = [_group(m) for m in modes]
    names: dict[int, str] = {}
    _name_pitching([i for i, g in enumerate(groups) if g == "pitching"], modes, names)
    _name_lateral([i for i, g in enumerate(groups) if g == "lateral"], modes, names)
    for i, mode in enumerate(modes):
        if i not in names:
            names[i] = next(iter(mode.participation), "unnamed")
    return _numbered([names[i] for i in range(len(modes))], modes)


def _numbered(names: list[str], modes: list[Mode]) -> list[Mode]:
    """Return the modes with their names, those of one name numbered."""
    counts: dict[str, int] = {}
    result = []
    for i, mode in enumerate(modes):
        counts[names[i]] = counts.get(names[i], 0) + 1
        suffix = f" {counts[names[i]]}" if counts[names[i]] > 1 else ""
        result.append(Mode(names[i] + suffix, mode.eigenvalue, mode.participation, mode.vector))
    return result


def _hovers(model: LinearModel) -> bool:
    """Whether the model is of an aircraft at rest, or nearly: the modes of flight on a wing are not there."""
    at = dict(zip(model.states, model.x0, strict=False))
    return all(n in at for n in "uvw") and math.hypot(*(float(at[n]) for n in "uvw")) < HOVER


def _hover_name(mode: Mode) -> str:
    main = next(iter(mode.participation), "unnamed")
    return _HOVER.get(main, main)


def _name_pitching(found: list[int], modes: list[Mode], names: dict[int, str]) -> None:
    """The fastest pair is the short period, the slowest the phugoid; real roots carry what they are made of."""
    pairs = [i for i in found if modes[i].is_oscillatory]
    fast_states = {"alpha", "w", "q"}
    for i in pairs:
        fast = sum(v for k, v in modes[i].participation.items() if k in fast_states)
        slow = sum(v for k, v in modes[i].participation.items() if k in ("airspeed", "u", "theta"))
        names[i] = "short period" if fast > slow else "phugoid"
    for i in found:
        if not modes[i].is_oscillatory:
            fast = sum(v for k, v in modes[i].participation.items() if k in fast_states)
            names[i] = "short period, real root" if fast > 0.5 else "phugoid, real root"


def _name_lateral(found: list[int], modes: list[Mode], names: dict[int, str]) -> None:
    """A pair is the Dutch roll, unless roll and bank outweigh sideslip and yaw; of real roots the fast one is roll."""
    for i in found:
        if modes[i].is_oscillatory:
            yawing = sum(v for k, v in modes[i].participation.items() if k in ("beta", "v", "r"))
            names[i] = "Dutch roll" if yawing > 0.35 else "roll-spiral"
    real = [i for i in found if not modes[i].is_oscillatory]
    rolls = [i for i in real if modes[i].participation.get("p", 0.0) > 0.4]
    for i in real:
        if rolls and i == rolls[0]:
            names[i] = "roll"
        elif modes[i].participation.get("phi", 0.0) + modes[i].participation.get("r", 0.0) > 0.3:
            names[i] = "spiral"
