"""The inertial filter in the loop of a flight: the kernel calls it at its own rate, without Python."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.compiled import address_of
from dravik.errors import DravikError
from dravik.estimation import arrays as a
from dravik.estimation.arrays import in_one_piece, views
from dravik.estimation.setup import FilterPlan, filter_plan
from dravik.estimation.stepping import OUTPUTS, filter_step
from dravik.frames import dcm_from_euler, quaternion_from_euler, quaternion_multiply
from dravik.kernel.calls import DEVICE_KINDS
from dravik.kernel.random_numbers import normal, stream_of
from dravik.sensors import SEED

__all__ = ["TRUTH", "InertialFilter", "begin_filter"]

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
    x[a.V_ : a.V_ + 3] = velocity - error[a.VEL : a.VEL + 3]
    x[a.P_ : a.P_ + 3] = position - error[a.POS : a.POS + 3]
    turn = -error[a.THETA : a.THETA + 3]
    half = 0.5 * float(np.linalg.norm(turn))
    small = np.concatenate([[np.cos(half)], 0.5 * np.sinc(half / np.pi) * turn])
    x[a.Q_ : a.Q_ + 4] = quaternion_multiply(quaternion_from_euler(*angles), small)


class InertialFilter:
    """The inertial filter of an aircraft in the loop of a flight, which sets the inputs ``estimated_...``.

    A flight of an aircraft with an estimator on board (``with_sensors``) has it by itself; the kernel calls it.

    Parameters
    ----------
    craft : Aircraft
        With sensors and the estimator on board.
    name : str, optional
        The estimator; that on board unless given.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika").with_sensors("cheap", estimator="navigation")
    >>> point = dv.trim(craft, airspeed="16 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=point, duration=5)
    >>> bool(abs(run["estimated_theta"] - run["theta"]).max() < 0.1)
    True
    """

    def __init__(self, craft: Aircraft, name: str = "") -> None:
        self.craft = craft
        self.plan = filter_plan(craft, name)

    @property
    def address(self) -> int:
        """Where the kernel finds it."""
        return address_of(filter_step, DEVICE_KINDS)

    def in_flight(self, registers: Mapping[str, int], dt: float) -> Floats:
        """Return what it works in, in one piece, for a flight in steps of ``dt``.

        Raises DravikError for a rate that does not fit the steps.
        """
        rate = self.plan.keys.rate
        every = 1.0 / (rate * dt)
        if every < 1.0 - 1e-9 or abs(every - round(every)) > 1e-6:
            raise DravikError(
                f"the estimator {self.plan.name} at {rate:g} Hz does not fit steps of {dt:g} s",
                expected="a whole number of steps", hint="another step (dt), or another rate of the estimator",
            )  # fmt: skip
        picks = [registers[n] if n else -1 for n in self.plan.reads]
        names = list(self.craft.inputs)
        into = [names.index(f"estimated_{n}") if f"estimated_{n}" in names else -1 for n in OUTPUTS]
        return in_one_piece(self.plan.arrays, np.array(picks), np.array(into), round(every))

    def begin(self, own: Floats, truth: Mapping[str, float]) -> None:
        """Let it begin near the true state."""
        begin_filter(self.plan, views(own), truth, int(truth[SEED]))
