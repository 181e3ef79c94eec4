"""Two sets of coefficients held against each other: derivatives side by side, curves with their differences."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aero.sets.coefficients import COEFFICIENTS, Coefficients
from dravik.aero.sets.stability import lengthwise_controls, signals_of
from dravik.errors import DravikError

__all__ = ["Comparison", "Curve", "Panel", "compare"]

Floats = NDArray[np.float64]
# 2 deg, rad: as tunnel sweeps usually are
STEP = 0.0349065850398866
SETTINGS = 4
STEPS = {"alpha": 0.035, "beta": 0.087}
SMALL = 0.01  # of the largest derivative by the same signal: smaller ones are rounding or scatter


@dataclass(frozen=True)
class Curve:
    """One curve of both sets over ``x`` (rad), at a setting ``value`` (rad)."""

    value: float
    x: Floats
    first: Floats
    second: Floats


@dataclass(frozen=True)
class Panel:
    """A coefficient over an angle for some settings of ``by`` (empty for the bare curve)."""

    coefficient: str
    over: str
    by: str
    members: list[Curve]


@dataclass(frozen=True)
class Comparison:
    """Two sets by name: ``derivatives`` as (coefficient, by, first, second), ``curves``, and the ``range`` of alpha."""

    names: tuple[str, str]
    derivatives: list[tuple[str, str, float, float]]
    curves: list[Panel]
    range: tuple[float, float]

    def differences(self) -> dict[str, tuple[float, float]]:
        """Return each coefficient's largest and root-mean-square difference over all its curves."""
        found = {}
        for name in dict.fromkeys(p.coefficient for p in self.curves):
            # second minus first, as everywhere in the report
            off = np.concatenate([c.second - c.first for p in self.curves if p.coefficient == name for c in p.members])
            found[name] = float(np.max(np.abs(off))), float(np.sqrt(np.mean(off**2)))
        return found


def compare(first: Coefficients, second: Coefficients, *, alpha: float = 0.0349) -> Comparison:
    """Return two sets held against each other where both reach; derivatives at ``alpha`` (rad).

    Parameters
    ----------
    first : Coefficients
        Drawn as lines.
    second : Coefficients
        Held against it.
    alpha : float, default 0.0349
        Angle of attack of the derivatives, rad.

    Returns
    -------
    Comparison

    Raises
    ------
    DravikError
        When they share no range of alpha.
    """
    low, high = _shared(first, second, "alpha", (-0.2, 0.4))
    if not high > low:
        raise DravikError("the two sets share no angles of attack", expected="tables over alpha that overlap")
    # post-stall points are left out of the comparison
    low, high = max(low, -0.21), min(high, 0.45)
    # whole multiples of the step, so that zero and the even degrees are among them
    x = np.arange(np.ceil(low / STEP - 1e-6), np.floor(high / STEP + 1e-6) + 1) * STEP
    motions, controls = ([n for n in a if n in b] for a, b in zip(signals_of(first), signals_of(second), strict=True))
    lengthwise = lengthwise_controls(first, controls)
    curves = []
    for name in ("CL", "CD", "Cm"):
        by = _family_of(name, first, lengthwise)
        curves.append(
            Panel(
                name, "alpha", by, [_curve(first, second, name, "alpha", x, by, v) for v in _values(first, second, by)]
            )
        )
    if "beta" in motions:
        sides = _shared(first, second, "beta", (-0.2, 0.2))
        beta = np.linspace(max(sides[0], -0.35), min(sides[1], 0.35), 9)
        curves += [
            Panel(
                n, "beta", "alpha", [_curve(first, second, n, "beta", beta, "alpha", v) for v in (0.0, 6 * np.pi / 180)]
            )
            for n in ("Cl", "Cn")
        ]
    return Comparison(
        (first.name, second.name), _derivatives(first, second, [*motions, *controls], alpha), curves, (low, high)
    )


def _shared(first: Coefficients, second: Coefficients, name: str, default: tuple[float, float]) -> tuple[float, float]:
    a, b = first.ranges.get(name, default), second.ranges.get(name, default)
    return max(a[0], b[0]), min(a[1], b[1])


def _family_of(coefficient: str, set_: Coefficients, lengthwise: list[str]) -> str:
    """Return the control whose settings make the family: the elevator for the moment, the flap for the others."""
    flaps = [c for c in lengthwise if set_.ranges[c][0] >= 0.0]
    others = [c for c in lengthwise if c not in flaps]
    wanted = others or flaps if coefficient == "Cm" else flaps or others
    return wanted[0] if wanted else ""


def _values(first: Coefficients, second: Coefficients, by: str) -> list[float]:
    if not by:
        return [0.0]
    low, high = _shared(first, second, by, (0.0, 0.0))
    values = np.linspace(low, high, SETTINGS)
    # the neutral setting is always one of the curves: a reader looks for it first
    values[int(np.argmin(np.abs(values)))] = 0.0 if low <= 0.0 <= high else values[int(np.argmin(np.abs(values)))]
    return [float(v) for v in values]


def _curve(first: Coefficients, second: Coefficients, name: str, over: str, x: Floats, by: str, value: float) -> Curve:
    signals: dict[str, Any] = {over: x, **({by: value} if by else {})}
    return Curve(value, x, first.at(**signals)[name], second.at(**signals)[name])


def _derivatives(
    first: Coefficients, second: Coefficients, by: list[str], alpha: float
) -> list[tuple[str, str, float, float]]:
    found = []
    for name in by:
        # wide steps: measured tables are coarse, and scatter between neighbouring points would dominate narrow ones
        low, high = _shared(first, second, name, (-1.0, 1.0))
        step = min(STEPS.get(name, 0.17 if first.is_angle(name) else 0.02), 0.5 * (high - low))
        middle = alpha if name == "alpha" else min(max(0.0, low + step), high - step)
        both = [s.slopes(name, step=step, **{"alpha": alpha, name: middle}) for s in (first, second)]
        least = SMALL * max(abs(float(s[c])) for s in both for c in COEFFICIENTS)
        for c in COEFFICIENTS:
            a, b = (float(s[c]) for s in both)
            if max(abs(a), abs(b)) > least:
                found.append((c, name, a, b))
    return found
