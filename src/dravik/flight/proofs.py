"""Proofs by flying: that a trim holds, and that a linear model answers like the aircraft it was taken from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.flight.flying import fly
from dravik.flight.histories import History, doublet
from dravik.flight.recording import Recording
from dravik.linear import LinearModel, linearise
from dravik.trimming import TrimPoint
from dravik.units import from_si

__all__ = ["HoldProof", "LinearProof", "prove_linear", "prove_trim"]

Floats = NDArray[np.float64]
#: How far a trimmed aircraft may wander hands off in a minute: SI and rad.
HOLD_LIMITS = {"airspeed": 0.01, "altitude": 0.1, "phi": 1.7453e-5, "theta": 1.7453e-5, "psi": 1.7453e-5}


@dataclass(frozen=True)
class HoldProof:
    """How far each signal wandered from the trimmed value, what was allowed, and the flight itself."""

    recording: Recording
    drift: dict[str, float]
    limits: dict[str, float]

    @property
    def holds(self) -> bool:
        """Whether every signal stayed within its limit."""
        return all(self.drift[n] <= self.limits[n] for n in self.drift)

    def rows(self) -> list[dict[str, object]]:
        """Return one plain record for each signal, in units shown to people."""
        rows: list[dict[str, object]] = []
        for name, drift in self.drift.items():
            unit, factor, _ = from_si(self.recording.units[name])
            shown = round(drift * factor, 12)  # what is left of zero is rounding
            rows.append({"signal": name, "drift": shown, "allowed": self.limits[name] * factor, "unit": unit})
        return rows


def prove_trim(point: TrimPoint, *, duration: float = 60.0, dt: float = 0.01) -> HoldProof:
    """Fly a trimmed point hands off and return how far it wanders; a climb is held against its straight line."""
    run = fly(point.craft, start=point, duration=duration, dt=dt)
    drift = {}
    for name in HOLD_LIMITS:
        expected = run[name][0] * np.ones(len(run.time))
        if name == "altitude":
            expected = expected + point.signals["climb_rate"] * run.time
        drift[name] = float(np.max(np.abs(run[name] - expected)))
    # in a climb the air thins, and a battery that drains sags: the trimmed speed is held to the limits where neither is
    level = abs(point.condition.flight_path or 0.0) < 1e-9 and not point.drifting
    return HoldProof(run, drift, {n: limit if level else np.inf for n, limit in HOLD_LIMITS.items()})


@dataclass(frozen=True)
class LinearProof:
    """Deviations of the same signals, nonlinear and linear, after the same input.

    ``errors``: largest difference of each signal over its nonlinear peak.
    """

    title: str
    time: Floats
    nonlinear: dict[str, Floats]
    linear: dict[str, Floats]
    units: dict[str, str]
    errors: dict[str, float]

    @property
    def worst(self) -> float:
        """The largest error of any signal."""
        return max(self.errors.values())

    def difference(self) -> float:
        """Return the largest difference itself, summed over signals in SI: it falls with the square of the input."""
        return float(sum(np.max(np.abs(self.nonlinear[n] - self.linear[n])) for n in self.errors))


def prove_linear(
    point: TrimPoint,
    *,
    control: str = "elevator",
    history: History | None = None,
    signals: Sequence[str] = ("airspeed", "alpha", "q", "theta"),
    duration: float = 10.0,
    dt: float = 0.01,
    model: LinearModel | None = None,
) -> LinearProof:
    """Fly a small input from a trimmed point, let the linear model answer the same, and compare.

    Without ``history`` a doublet of 0.1 deg (or 0.005 for an input without unit). Raises DravikError for unknown names,
    or a model without these outputs.
    """
    craft = point.craft
    index = craft.input_index(control)
    spec = list(craft.inputs.values())[index]
    if history is None:
        history = doublet("0.1 deg" if spec.unit == "rad" else 0.005, at=0.5, width=1.0)
    model = model or linearise(craft, point, outputs=list(signals))
    missing = [s for s in signals if s not in model.outputs]
    if missing:
        raise DravikError(f"the linear model has no output {missing[0]!r}")
    run = fly(craft, start=point, duration=duration, dt=dt, controls={control: history}, record=list(signals))
    t = run.time
    u = np.zeros((len(t) - 1, 2, len(model.inputs)))
    edge = 1e-6 * dt
    u[:, 0, index], u[:, 1, index] = history(t[:-1] + edge), history(t[1:] - edge)
    _, y = model.response(t, u)
    nonlinear = {s: run[s] - run[s][0] for s in signals}
    linear = {s: y[:, model.outputs.index(s)] for s in signals}
    errors = {
        s: float(np.max(np.abs(nonlinear[s] - linear[s])) / max(float(np.max(np.abs(nonlinear[s]))), 1e-12))
        for s in signals
    }
    units = {s: craft.signals[s].unit for s in signals}
    return LinearProof(f"{history.text} on {control}", t, nonlinear, linear, units, errors)
