"""Observers: the steady Kalman filter, the controller that reads its estimate, and the recovery of the loop it spoils.

Recovery: J. C. Doyle, G. Stein, Multivariable Feedback Design, IEEE Trans. Automatic Control 26 (1981), 4.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.loops.regulators import weights
from dravik.loops.riccati import solve_riccati, solve_sampled_riccati
from dravik.loops.root_assignment import Regulator, checked, rows_of
from dravik.systems import LinearSystem

__all__ = ["Observer", "steady_observer", "with_observer"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Observer:
    """A steady observer: ``gains`` (states, measured), ``variance`` of its error, ``residual`` of its equation.

    Of a sampled system it is the predictor: the estimate is that of the sample to come, from what has been measured up
    to now, and ``variance`` is its error's.
    """

    plant: LinearSystem
    measured: list[str]
    gains: Floats
    variance: Floats
    residual: float

    def system(self) -> LinearSystem:
        """Return the observer: from the plant's inputs and what is measured to NAME_estimate of each of its states."""
        plant = self.plant
        c, d = rows_of(plant, self.measured, plant.inputs)
        return LinearSystem.of(
            plant.A - self.gains @ c, np.hstack([plant.B - self.gains @ d, self.gains]),
            states=[f"{n}_estimate" for n in plant.states], inputs=[*plant.inputs, *self.measured],
        ).with_facts(sample_time=plant.sample_time)  # fmt: skip


def steady_observer(
    system: LinearSystem, *, noise: Mapping[str, Any], sensors: Mapping[str, Any], recovery: float = 0.0,
    moved: tuple[str, ...] = (),
) -> Observer:  # fmt: skip
    """Return the steady Kalman filter of a system: the observer whose error is least under white noise.

    ``noise`` names inputs with the square root of their noise's two-sided spectral density (unit times sqrt s),
    ``sensors`` the measured outputs or states with theirs. ``recovery`` adds noise of that size at the inputs
    ``moved`` (all unless named): the larger it is, the more of the state feedback's loop comes back at those
    inputs. Of a sampled system all noises are given by the standard deviation of a sample.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    noise : mapping of str to any
        Inputs and the square root of their noise's spectral density.
    sensors : mapping of str to any
        Measured quantities and the square root of theirs.
    recovery : float, default 0.0
        Noise added at the inputs ``moved``.
    moved : tuple of str, default ()
        Inputs of the recovery; all unless named.

    Returns
    -------
    Observer

    Raises
    ------
    DravikError
        Where no observer is optimal and stable.

    Examples
    --------
    >>> system = LinearSystem.of([[0.0]], [[1.0]], states=["x"], inputs=["w"])
    >>> steady_observer(system, noise={"w": 2.0}, sensors={"x": 1.0}).gains.round(9).tolist()
    [[2.0]]
    """
    noise = arguments.mapping(noise, "noise")
    system, names = checked(system, list(noise), sampled=True)
    driven, power = weights(noise, system.units, "noise")
    seen, inverse = weights(sensors, system.units, "sensors")
    g = system.part(inputs=driven).B
    # weights are one over a square: their inverse is the spectral density
    q = g @ np.diag(1.0 / power) @ g.T
    # as if the plant's own inputs were noisy: the observer then trusts the measurement there, and the loop comes back
    if recovery:
        b = system.part(inputs=list(moved) or system.inputs).B
        q = q + recovery**2 * b @ b.T
    c, _ = rows_of(system, seen, system.inputs)
    v = np.diag(1.0 / inverse)
    if system.sample_time is not None:
        p, gains, residual = solve_sampled_riccati(system.A.T, c.T, q, v, np.zeros((len(system.states), len(seen))))
        return Observer(system, seen, gains.T, p, residual)
    # the dual of the regulator: A and C transposed take the places of A and B
    p, residual = solve_riccati(system.A.T, c.T, q, v)
    return Observer(system, seen, p @ c.T @ np.linalg.inv(v), p, residual)


def with_observer(regulator: Regulator, observer: Observer) -> LinearSystem:
    """Return the controller that feeds an observer's estimate back: from what is measured to the plant's inputs.

    Its own inputs are what it gives, as the observer knows them.

    Parameters
    ----------
    regulator : Regulator
        The state feedback.
    observer : Observer
        The estimator.

    Returns
    -------
    LinearSystem

    Raises
    ------
    DravikError
        For a regulator that does not measure the observer's states, and for other inputs of the plant than those it
        moves.

    Examples
    --------
    >>> from dravik.loops.root_assignment import assign_roots
    >>> system = LinearSystem.of([[0.0]], [[1.0]], states=["x"], inputs=["w"])
    >>> seer = steady_observer(system, noise={"w": 2.0}, sensors={"x": 1.0})
    >>> both = with_observer(assign_roots(system, [-1.0]), seer)
    >>> both.inputs, both.outputs, both.poles().real.round(9).tolist()
    (['x'], ['w'], [-3.0])
    """
    require(regulator, Regulator, "the regulator", "optimal_states(...)")
    require(observer, Observer, "the observer", "steady_observer(...)")
    plant = observer.plant
    # states by name and in order: gains by position would feed back the wrong quantity without a word
    if regulator.measured != plant.states:
        raise DravikError(
            f"the regulator reads {', '.join(regulator.measured)}",
            expected=f"the observer's states {', '.join(plant.states)}",
        )
    c, d = rows_of(plant, observer.measured, regulator.inputs)
    b = plant.part(inputs=regulator.inputs).B
    # the observer with its own feedback put in for the plant's inputs
    a = plant.A - observer.gains @ c - (b - observer.gains @ d) @ regulator.gains
    return LinearSystem.of(
        a, observer.gains, states=[f"{n}_estimate" for n in plant.states], inputs=observer.measured,
        C=-regulator.gains, outputs=regulator.inputs,
    ).with_facts(sample_time=plant.sample_time)  # fmt: skip
