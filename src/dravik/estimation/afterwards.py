"""The inertial filter on a recording: the same code as in flight, and whether it is as sure as it may be."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, nearest, require
from dravik.estimation import arrays as a
from dravik.estimation.device import TRUTH, begin_filter
from dravik.estimation.setup import FilterPlan, estimator_of, filter_plan
from dravik.estimation.stepping import OUTPUTS, filter_rows
from dravik.formula import parse
from dravik.formula.evaluate import value_of
from dravik.frames import dcm_from_euler, dcm_from_quaternion
from dravik.recording.recording import Recording
from dravik.sensors import SEED
from dravik.sensors.estimators import MEASURED_AIRSPEED, MEASURED_ALTITUDE, taken_sensors
from dravik.sensors.standing_in import air_data

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Consistency", "Estimate", "estimate"]

Floats = NDArray[np.float64]
KEPT = 1.0  # s between two covariances that are kept
SEEN = 0.9  # share of its first standard deviation to which an error that is seen has fallen
SURE = 0.99  # probability of the bounds
JUDGED = 9  # errors whose truth is known: attitude, velocity, position


class Consistency(NamedTuple):
    """Whether a filter is as sure as it may be: a mean of normalised squares against its chi-square bounds.

    ``whiteness`` is the correlation of neighbouring innovations, None where it does not apply.
    """

    name: str
    judged: int
    mean: float
    low: float
    high: float
    used: int
    refused: int
    whiteness: float | None = None

    @property
    def holds(self) -> bool:
        """Whether the mean lies within its bounds."""
        return self.judged > 0 and self.low <= self.mean <= self.high

    @property
    def verdict(self) -> str:
        """What that means."""
        if not self.judged or not math.isfinite(self.mean):
            return "nothing to judge"
        if self.holds:
            return "as sure as it may be"
        return "too sure of itself" if self.mean > self.high else "less sure than it could be"


@dataclass(frozen=True, eq=False)
class Estimate:
    """What a filter makes of a recording.

    Attributes
    ----------
    plan : FilterPlan
        The filter.
    times : array
        Its instants, s.
    values : array
        Estimates at each, in the order of ``names``.
    spreads : array
        Standard deviations of the errors, in the order of ``ERROR_STATES``.
    results : array
        What is known of each measurement at each instant.
    blocks : array
        Nominal state and covariance, once a second.
    every : int
        Instants from one of them to the next.
    """

    plan: FilterPlan
    times: Floats
    values: Floats
    spreads: Floats
    results: Floats
    blocks: Floats
    every: int

    @property
    def names(self) -> tuple[str, ...]:
        """The signals that are estimated."""
        return OUTPUTS

    def __getitem__(self, name: str) -> Floats:
        """Return an estimate over time, SI, or the standard deviation of an error: ``"velocity_north_sigma"``."""
        if name in OUTPUTS:
            return np.asarray(self.values[:, OUTPUTS.index(name)])
        errors = list(a.ERROR_STATES)
        if name.removesuffix("_sigma") in errors:
            return np.asarray(self.spreads[:, errors.index(name.removesuffix("_sigma"))])
        raise DravikError(f"there is no estimate of {name!r}", hint=nearest(name, OUTPUTS))

    @property
    def frame(self) -> "DataFrame":
        """Estimates and standard deviations as a table of pandas."""
        import pandas as pd

        columns = {"time": self.times, **{n: self[n] for n in OUTPUTS}}
        columns |= {f"{n}_sigma": self.spreads[:, k] for k, n in enumerate(a.ERROR_STATES)}
        return pd.DataFrame(columns)

    def innovations(self, measurement: str) -> tuple[Floats, Floats, Floats, Floats]:
        """Return times, innovations, their standard deviations and whether each was taken, of new samples.

        Raises DravikError for a measurement that the filter has not.
        """
        if measurement not in self.plan.measurements:
            raise DravikError(
                f"the filter has no measurement {measurement!r}", expected=", ".join(self.plan.measurements)
            )
        k = self.plan.measurements.index(measurement)
        own = self.results.reshape(len(self.times), -1, a.RESULT)[:, k]
        new, count = own[:, a.R_NEW] != 0.0, self.plan.counts[measurement]
        own = own[new]
        return (
            self.times[new], own[:, a.R_NU : a.R_NU + count], np.sqrt(own[:, a.R_S : a.R_S + count]),
            own[:, a.R_TAKEN : a.R_TAKEN + count],
        )  # fmt: skip

    @property
    def unseen(self) -> list[str]:
        """Errors of which the measurements have told next to nothing: no smaller at the end than at the start.

        Some are never seen, such as the wind without an airspeed; some only in other manoeuvres, such as an
        accelerometer's bias apart from the tilt.
        """
        first = np.sqrt(np.diag(self.plan.arrays.covariance))
        # of an error that is taken for known at the start there is nothing to see
        return [n for n, a0, b in zip(a.ERROR_STATES, first, self.spreads[-1], strict=True) if b > SEEN * a0 > 0.0]

    @cached_property
    def consistency(self) -> list[Consistency]:
        """Normalised innovations squared (NIS) of each measurement against their bounds."""
        found = []
        for name in self.plan.measurements:
            _, nu, sigma, taken = self.innovations(name)
            good = taken.astype(bool) & (sigma > 0.0)
            squares = (nu / np.where(sigma > 0.0, sigma, 1.0)) ** 2
            count, refused = int(good.sum()), int(taken.size - taken.sum())
            mean = float(squares[good].mean()) if count else math.nan
            low, high = _bounds(count)
            found.append(Consistency(name, count, mean, low, high, count, refused, _whiteness(nu, good)))
        return found

    def errors(self, run: Recording) -> tuple[Floats, Floats]:
        """Return errors of attitude, velocity and position (truth less estimate), and their covariances, once a second.

        Raises DravikError where the recording does not hold the truth.
        """
        missing = [n for n in TRUTH if n not in run.names]
        if missing:
            raise DravikError(f"the recording does not hold {', '.join(missing)}", expected="the true signals")
        rows = np.searchsorted(run.time, self.times[:: self.every] - 1e-9)[: len(self.blocks)]
        truth = {n: run[n][rows] for n in TRUTH}
        local = np.swapaxes(np.asarray(dcm_from_euler(truth["phi"], truth["theta"], truth["psi"])), -1, -2)
        arm = self.plan.arrays.constants[a.C_PLACE : a.C_PLACE + 3]
        rates = np.stack([truth[n] for n in "pqr"], axis=-1)
        speed = np.stack([truth[n] for n in "uvw"], axis=-1) + np.cross(rates, arm)
        velocity = np.einsum("nij,nj->ni", local, speed)
        position = np.stack([truth["north"], truth["east"], -truth["altitude"]], axis=-1) + local @ arm
        own = self.blocks[: len(rows)]
        estimated = np.swapaxes(np.asarray(dcm_from_quaternion(own[:, :4])), -1, -2)
        # the small rotation about body axes that takes the estimated attitude into the true one
        turn = np.swapaxes(estimated, -1, -2) @ local
        skew = 0.5 * (turn - np.swapaxes(turn, -1, -2))
        theta = np.stack([skew[:, 2, 1], skew[:, 0, 2], skew[:, 1, 0]], axis=-1)
        error = np.hstack([theta, velocity - own[:, a.V_ : a.V_ + 3], position - own[:, a.P_ : a.P_ + 3]])
        covariance = own[:, a.NOMINALS :].reshape(-1, a.N, a.N)[:, :JUDGED, :JUDGED]
        return error, covariance

    def nees(self, run: Recording) -> Consistency:
        """Return the normalised estimation errors squared (NEES) of attitude, velocity and position; see ``errors``."""
        error, covariance = self.errors(run)
        squares = np.einsum("ni,ni->n", error, np.linalg.solve(covariance, error[:, :, None])[:, :, 0]) / JUDGED
        low, high = _bounds(JUDGED)
        inside = (squares >= low) & (squares <= high)
        return Consistency(
            "errors", len(squares), float(squares.mean()), low, high, int(inside.sum()), int((~inside).sum())
        )


def _bounds(count: int) -> tuple[float, float]:
    """Return the bounds of a mean of so many squares of normal numbers."""
    if not count:
        return 0.0, math.inf
    from scipy.stats import chi2

    return float(chi2.ppf(0.5 - 0.5 * SURE, count) / count), float(chi2.ppf(0.5 + 0.5 * SURE, count) / count)


def _whiteness(nu: Floats, good: NDArray[np.bool_]) -> float | None:
    """Return the correlation of neighbouring innovations, the largest of the components."""
    found = []
    for k in range(nu.shape[1]):
        own = nu[good[:, k], k]
        if len(own) > 10 and own.std() > 0.0:
            own = own - own.mean()
            found.append(float((own[1:] * own[:-1]).mean() / (own**2).mean()))
    return max(found, key=abs) if found else None


def estimate(
    run: Recording, craft: Aircraft, *, estimator: str = "", start: Mapping[str, float] | None = None, seed: int = 0
) -> Estimate:  # fmt: skip
    """Return what a filter makes of a recording: with the same code as in flight, and the same to the last bit.

    Parameters
    ----------
    run : Recording
        With the outputs of the sensors that the filter reads.
    craft : Aircraft
        With the sensors on board (``with_sensors``) that were recorded.
    estimator : str, optional
        The estimator; that on board, or the only one, unless given.
    start : mapping of str to float, optional
        The state at the beginning (phi to w, north, east, altitude, p to r), SI; that of the recording unless given.
    seed : int, default 0
        Seed of the error with which it begins, where the recording does not tell it.

    Returns
    -------
    Estimate

    Raises
    ------
    DravikError
        For a recording without what the filter reads.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika").with_sensors("cheap")
    >>> run = dv.fly(craft, start=dv.trim(craft, airspeed="16 m/s", altitude="300 m"), duration=5)
    >>> found = dv.estimate(run, craft)
    >>> bool(abs(found["theta"] - run["theta"]).max() < 0.1)
    True
    """
    require(run, Recording, "what is estimated from", "a recording")
    sensing = craft.configuration.sensing
    if not sensing.estimator or (estimator and estimator != sensing.estimator):
        craft = craft.with_sensors(sensing.sensors, estimator=estimator_of(craft, estimator)[0])
    plan = filter_plan(craft, estimator)
    rows = _rows(run, plan, craft)
    picked = _beats(run.time, plan.keys.rate)
    rows, times = np.ascontiguousarray(rows[picked]), np.ascontiguousarray(run.time[picked])
    arrays = plan.fresh()
    truth = dict(start) if start is not None else {n: float(run[n][0]) for n in TRUTH if n in run.names}
    missing = [n for n in TRUTH if n not in truth]
    if not missing:
        begin_filter(plan, arrays, truth, int(_seed(run, seed)))
    elif plan.keys.start == "given":
        raise DravikError(
            f"it is not known where the filter begins: {', '.join(missing)}", expected="a start",
            hint='start = "standing" of the estimator',
        )  # fmt: skip
    every = max(1, round(KEPT * plan.keys.rate))
    values, spreads, results = (
        np.zeros((len(times), n)) for n in (len(OUTPUTS), a.N, len(plan.measurements) * a.RESULT)
    )
    blocks = np.zeros((-(-len(times) // every), a.NOMINALS + a.N * a.N))
    filter_rows(arrays, rows, times, values, spreads, results, every, blocks)
    return Estimate(plan, times, values, spreads, results, blocks, every)


def _seed(run: Recording, seed: int) -> float:
    """Return the seed of the sensors that a recording was flown with."""
    end = run.metadata.get("end")
    kept = end.get("parameters", {}) if isinstance(end, dict) else {}
    return float(kept.get(SEED, seed))


def _beats(times: Floats, rate: float) -> NDArray[np.int64]:
    """Return the rows at which a filter of this rate steps: all, where they come more seldom."""
    step = float(np.median(np.diff(times))) if len(times) > 1 else 1.0 / rate
    return np.arange(0, len(times), max(1, round(1.0 / (rate * step))))


def _rows(run: Recording, plan: FilterPlan, craft: Aircraft) -> Floats:
    """Return what the filter reads, a column for each of its readings."""
    columns = []
    for place, name in enumerate(plan.reads):
        if name in run.names:
            columns.append(run[name])
        elif not name or name.startswith(f"{plan.name}_ignores_"):
            columns.append(np.zeros(len(run.time)))
        elif name in (MEASURED_ALTITUDE, MEASURED_AIRSPEED):
            columns.append(_by_pressures(run, plan, craft, name.removeprefix("measured_")))
        elif name.endswith("_samples"):
            columns.append(_changes(run, plan.reads, place))
        else:
            raise DravikError(
                f"the recording does not hold {name!r}, which the filter reads", hint=nearest(name, run.names)
            )
    return np.column_stack(columns)


def _by_pressures(run: Recording, plan: FilterPlan, craft: Aircraft, signal: str) -> Floats:
    """Return altitude or airspeed by the pressures of a recording that does not hold it."""
    sensors = craft.configuration.sensors
    used = taken_sensors(plan.keys, sensors, f"estimators.{plan.name}")
    used += [n for n, s in sensors.items() if s.kind == "temperature"][:1]
    formulas, steps = air_data({n: sensors[n] for n in used})
    known: dict[str, Floats] = {}

    def value(name: str) -> Floats:
        if name in run.names:
            return run[name]
        if name not in steps:
            raise DravikError(f"the recording does not hold {name!r}", hint=nearest(name, run.names))
        if name not in known:
            known[name] = value_of(parse(steps[name]), value, {})
        return known[name]

    return np.broadcast_to(value_of(parse(formulas[signal]), value, {}), run.time.shape)


def _changes(run: Recording, reads: tuple[str, ...], place: int) -> Floats:
    """Return a count of samples that was not recorded: of the instants at which the readings change."""
    stem = reads[place].removesuffix("_samples")
    own = [n for n in reads[:place] if n.startswith(stem) and n in run.names][-3:]
    values = np.column_stack([run[n] for n in own or [stem]])
    changed = np.any(np.diff(values, axis=0) != 0.0, axis=1)
    return np.concatenate([[1.0], 1.0 + np.cumsum(changed)])
