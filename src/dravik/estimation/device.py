"""The inertial filter in the loop of a flight: a device that is called at its own rate, in place, without Python."""

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.estimation import arrays as a
from dravik.estimation.setup import FilterPlan, filter_plan
from dravik.estimation.stepping import OUTPUTS, filter_step
from dravik.frames import dcm_from_euler, quaternion_from_euler
from dravik.kernel.random_numbers import normal, stream_of
from dravik.sensors import SEED

__all__ = ["InertialFilter", "begin_filter"]

Floats = NDArray[np.float64]
#: The true signals from which a filter begins that is given the state.
TRUTH = ("phi", "theta", "psi", "u", "v", "w", "north", "east", "altitude", "p", "q", "r")


def begin_filter(plan: FilterPlan, arrays: a.FilterArrays, truth: Mapping[str, float], seed: int) -> None:
    """Let a filter begin near the true state, off by an error drawn from its covariance.

    Parameters
    ----------
    plan : FilterPlan
        The filter.
    arrays : FilterArrays
        Its arrays, in which the state is put.
    truth : mapping of str to float
        The true signals, SI.
    seed : int
        Seed of the error.
    """
    x, c = arrays.nominal, arrays.constants
    angles = truth["phi"], truth["theta"], truth["psi"]
    local = np.asarray(dcm_from_euler(*angles)).T
    arm = c[a.C_PLACE : a.C_PLACE + 3]
    rates = np.array([truth["p"], truth["q"], truth["r"]])
    velocity = local @ (np.array([truth["u"], truth["v"], truth["w"]]) + np.cross(rates, arm))
    position = np.array([truth["north"], truth["east"], -truth["altitude"]]) + local @ arm
    stream = stream_of(f"{plan.name} start")
    spread = np.sqrt(np.diag(arrays.covariance))
    error = spread * np.array([normal(seed, stream, k) for k in range(a.N)])
    error[a.BG :] = 0.0  # biases, wind and the barometer's error are begun at zero: what they are is their error
    x[a.Q_ : a.Q_ + 4] = quaternion_from_euler(*angles)
    x[a.V_ : a.V_ + 3] = velocity - error[a.VEL : a.VEL + 3]
    x[a.P_ : a.P_ + 3] = position - error[a.POS : a.POS + 3]
    turn = -error[a.PSI : a.PSI + 3]
    x[a.Q_ : a.Q_ + 4] = _turned(x[a.Q_ : a.Q_ + 4], turn)


def _turned(q: Floats, turn: Floats) -> Floats:
    """Return an attitude turned about local axes."""
    angle = float(np.linalg.norm(turn))
    w, (p, r, s) = np.cos(0.5 * angle), 0.5 * np.sinc(0.5 * angle / np.pi) * turn
    q0, q1, q2, q3 = q
    found = np.array(
        [
            w * q0 - p * q1 - r * q2 - s * q3, w * q1 + p * q0 + r * q3 - s * q2,
            w * q2 - p * q3 + r * q0 + s * q1, w * q3 + p * q2 - r * q1 + s * q0,
        ]
    )  # fmt: skip
    return np.asarray(found / np.linalg.norm(found))


class InertialFilter:
    """The inertial filter of an aircraft as a device: it sets the inputs ``estimated_...``.

    A flight of an aircraft with an estimator on board (``with_sensors``) has it by itself.

    Parameters
    ----------
    craft : Aircraft
        With sensors and the estimator on board.
    name : str, optional
        The estimator; that on board unless given.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika").with_sensors("small", estimator="navigation")
    >>> point = dv.trim(craft, airspeed="16 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=point, duration=5)
    >>> bool(abs(run["estimated_theta"] - run["theta"]).max() < 0.1)
    True
    """

    def __init__(self, craft: Aircraft, name: str = "") -> None:
        self.plan = filter_plan(craft, name)
        self.rate = self.plan.keys.rate
        self.name = self.plan.name
        self.sets = [f"estimated_{n}" for n in OUTPUTS]
        self.arrays = self.plan.fresh()
        self._begun = False
        self._z, self._out = np.zeros(len(self.plan.reads)), np.zeros(len(OUTPUTS))

    def attach(self, registers: Mapping[str, int], input_names: list[str]) -> None:
        """Find the places of what it reads and sets; raises DravikError for a signal that is not there."""
        for name in self.plan.reads:
            if name and name not in registers:
                raise DravikError(f"the filter {self.name} reads {name!r}, which is not there")
        self._picks = np.array([registers[n] if n else -1 for n in self.plan.reads], dtype=np.int64)
        self._truth = {n: registers[n] for n in (*TRUTH, SEED)}
        self._into = np.array([input_names.index(n) if n in input_names else -1 for n in self.sets], dtype=np.int64)

    def step(self, t: float, registers: Floats, inputs: Floats) -> None:
        """Take the readings of now, and put the estimates into the inputs."""
        if not self._begun:
            truth = {n: float(registers[k]) for n, k in self._truth.items()}
            begin_filter(self.plan, self.arrays, truth, int(truth[SEED]))
            self._begun = True
        filter_step(self.arrays, registers, self._picks, t, self._z, inputs, self._into, self._out)

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Do the same by names, where a flight does not attach it."""
        if not self._begun:
            begin_filter(self.plan, self.arrays, signals, int(signals[SEED]))
            self._begun = True
        values = np.array([signals[n] if n else 0.0 for n in self.plan.reads])
        places = np.arange(len(values), dtype=np.int64)
        nowhere = np.full(len(OUTPUTS), -1, dtype=np.int64)
        filter_step(self.arrays, values, places, t, self._z, self._z, nowhere, self._out)
        return dict(zip(self.sets, self._out.tolist(), strict=True))

    def save(self) -> dict[str, Any]:
        """Return its state as plain data."""
        return {"begun": self._begun, "arrays": [part.tolist() for part in self.arrays]}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Restore a saved state."""
        self._begun = bool(data["begun"])
        for part, values in zip(self.arrays, data["arrays"], strict=True):
            part[...] = np.array(values)
