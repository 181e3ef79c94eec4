"""Gains of many loops at once that cost least: from states or from outputs, with integral action; targets followed.

Weights are the largest acceptable deviations: each quantity costs its square over the square of that (A. E. Bryson and
Y.-C. Ho, Applied Optimal Control, 1975, 5.2). Output feedback: W. S. Levine, M. Athans, On the determination of the
optimal constant output feedback gains for linear multivariable systems, IEEE Trans. Automatic Control 15 (1970), 44.
"""

import math
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.loops.riccati import solve_riccati, solve_sampled_riccati
from dravik.loops.root_assignment import Regulator, as_system, checked, roots_of, rows_of
from dravik.systems import LinearSystem
from dravik.units import KINDS, in_si

__all__ = ["optimal_outputs", "optimal_states", "tracked", "weights"]

Floats = NDArray[np.float64]
UNKNOWN = ("angle", "angular rate", "length", "speed", "acceleration")
STEPS = 400  # of the search for output gains, at most


def weights(worst: Mapping[str, Any], units: Mapping[str, str], what: str) -> tuple[list[str], Floats]:
    """Return names and 1/deviation^2 of largest acceptable deviations."""
    own = arguments.mapping(worst, what)
    if not own:
        raise DravikError(
            f"{what} names nothing", expected="the largest acceptable deviation of each quantity, by name"
        )
    found = []
    for name, value in own.items():
        size = _size(value, name, units.get(name, ""))
        if not 1e-100 < size < 1e100:
            raise DravikError(f"{what} of {name} is {size:g}", expected="above zero, and a size")
        found.append(1.0 / size**2)
    return list(own), np.array(found)


def _size(value: Any, name: str, unit: str) -> float:
    """Return a number, or text with a unit: that of the signal, or any of an angle, rate or length."""
    if not isinstance(value, str):
        return arguments.number(value, name)
    kinds = [kind for kind, (si, _) in KINDS.items() if si == unit and unit] or list(UNKNOWN)
    for kind in kinds:
        with suppress(DravikError):
            return float(in_si(value, kind, where=name))
    raise DravikError(
        f"the weight of {name} cannot be {value!r}", expected=f"a number in SI, or with a unit of {' or '.join(kinds)}"
    )


def _with_integrals(system: LinearSystem, integrals: Sequence[str], names: list[str]) -> LinearSystem:
    """Return the system with integrals of some quantities as states and outputs, called NAME_integral.

    Of a sampled system sums over the samples, times the sample time.
    """
    base = as_system(system)
    if not integrals:
        return base
    c, d = rows_of(base, integrals, base.inputs)
    n, k = len(base.states), len(integrals)
    if base.sample_time is not None:
        c, d = base.sample_time * c, base.sample_time * d
    a = np.block([[base.A, np.zeros((n, k))], [c, np.zeros((k, k)) if base.sample_time is None else np.eye(k)]])
    more = [f"{name}_integral" for name in integrals]
    return LinearSystem(
        a, np.vstack([base.B, d]), np.block([[base.C, np.zeros((len(base.outputs), k))], [np.eye(n + k)[n:]]]),
        np.vstack([base.D, np.zeros((k, len(base.inputs)))]), [*base.states, *more], base.inputs,
        [*base.outputs, *more], base.units, base.sample_time, base.title,
    )  # fmt: skip


def _cost(
    plant: LinearSystem, worst: Mapping[str, Any], use: Mapping[str, Any]
) -> tuple[list[str], Floats, Floats, Floats, Floats]:
    inputs, r = weights(use, plant.units, "use")
    wanted, q = weights(worst, plant.units, "worst")
    c, d = rows_of(plant, wanted, inputs)
    return (
        inputs,
        plant.part(inputs=inputs).B,
        c.T @ (q[:, None] * c),
        c.T @ (q[:, None] * d),
        np.diag(r) + d.T @ (q[:, None] * d),
    )


def optimal_states(
    system: LinearSystem, *, worst: Mapping[str, Any], use: Mapping[str, Any], integrals: Sequence[str] = (),
) -> Regulator:  # fmt: skip
    """Return the state feedback that costs least: squares of deviations over those that are acceptable, for ever.

    Of a sampled system the sum over all samples, by the sampled Riccati equation.

    ``worst`` names outputs or states (or NAME_integral) with their largest acceptable deviation, ``use`` the inputs
    with theirs. ``integrals`` adds integrals of quantities, so that these come to rest without an error.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    worst : mapping of str to any
        Largest acceptable deviations by name.
    use : mapping of str to any
        Largest acceptable inputs by name.
    integrals : sequence of str, default ()
        Quantities whose integrals are fed back too.

    Returns
    -------
    Regulator

    Raises
    ------
    DravikError
        Where no gain is optimal and stable.

    Examples
    --------
    >>> system = LinearSystem.of([[0.0, 1.0], [0.0, 0.0]], [[0.0], [1.0]], states=["x", "v"], inputs=["a"])
    >>> optimal_states(system, worst={"x": 1.0}, use={"a": 1.0}).gains.round(6).tolist()
    [[1.0, 1.414214]]
    """
    use = arguments.mapping(use, "use")
    system, _ = checked(system, list(use), sampled=True)
    plant = _with_integrals(system, arguments.names(integrals, "integrals"), list(use))
    inputs, b, q, cross, r = _cost(plant, worst, use)
    if plant.sample_time is not None:
        p, k, residual = solve_sampled_riccati(plant.A, b, q, r, cross)
        return Regulator(plant, inputs, list(plant.states), k, roots_of(plant.A - b @ k), p, residual)
    # what inputs do to the outputs at once: u = v - R^-1 N'x leaves no cross term
    shift = np.linalg.solve(r, cross.T)
    a, q = plant.A - b @ shift, q - cross @ shift
    p, residual = solve_riccati(a, b, q, r)
    k = np.linalg.solve(r, b.T @ p) + shift
    return Regulator(plant, inputs, list(plant.states), k, roots_of(plant.A - b @ k), p, residual)


def optimal_outputs(
    system: LinearSystem, measured: Sequence[str], *, worst: Mapping[str, Any], use: Mapping[str, Any],
    integrals: Sequence[str] = (), start: Floats | None = None,
) -> Regulator:  # fmt: skip
    """Return the constant feedback of some measured quantities that costs least, over all directions to begin from.

    As ``optimal_states``, from outputs (or states) alone; it begins at ``start`` (inputs, measured), or at what
    comes nearest to the optimal state feedback. ``residual`` is the gradient, relative.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    measured : sequence of str
        Outputs or states that are fed back.
    worst : mapping of str to any
        Largest acceptable deviations by name.
    use : mapping of str to any
        Largest acceptable inputs by name.
    integrals : sequence of str, default ()
        Quantities whose integrals are fed back too.
    start : array of float, optional
        Gains to begin from (inputs, measured).

    Returns
    -------
    Regulator

    Raises
    ------
    DravikError
        Where the start does not make the loop stable.

    Examples
    --------
    >>> system = LinearSystem.of([[0.0, 1.0], [-1.0, -1.0]], [[0.0], [1.0]], states=["x", "v"], inputs=["a"])
    >>> found = optimal_outputs(system, ["v"], worst={"x": 1.0, "v": 1.0}, use={"a": 1.0})
    >>> found.residual < 1e-9
    True
    """
    use = arguments.mapping(use, "use")
    system, _ = checked(system, list(use))
    plant = _with_integrals(system, arguments.names(integrals, "integrals"), list(use))
    inputs, b, q, cross, r = _cost(plant, worst, use)
    if np.any(np.abs(cross) > 0.0):
        raise DravikError("the inputs move a weighted quantity at once", hint="a state, or an actuator's lag")
    names = arguments.names(measured, "measured")
    c, d = rows_of(plant, names, inputs)
    if np.any(d != 0.0):
        raise DravikError("the inputs move a measured quantity at once", hint="a state, or an actuator's lag")
    if start is None:
        best = optimal_states(system, worst=worst, use=use, integrals=integrals).gains
        start = best @ np.linalg.pinv(c)
    k, cost, residual = _descended(plant.A, (b, c), q, r, np.asarray(start, dtype=float))
    return Regulator(plant, inputs, names, k, roots_of(plant.A - b @ k @ c), cost, residual)


def _descended(
    a: Floats, ends: tuple[Floats, Floats], q: Floats, r: Floats, k: Floats
) -> tuple[Floats, float, float]:  # fmt: skip
    """Return gains, cost and relative gradient: steps towards what two Lyapunov equations ask for, then Newton's."""
    from scipy.linalg import solve_continuous_lyapunov
    from scipy.optimize import root

    b, c = ends

    def judged(gain: Floats) -> tuple[float, Floats]:
        closed = a - b @ gain @ c
        if float(np.linalg.eigvals(closed).real.max()) >= 0.0:
            return math.inf, np.zeros(0)
        p = np.asarray(solve_continuous_lyapunov(closed.T, -(q + c.T @ gain.T @ r @ gain @ c)), dtype=np.float64)
        return float(np.trace(p)), p

    def slope(gain: Floats, p: Floats) -> tuple[Floats, Floats]:
        """Return the gradient over two, and the gains at which it would vanish with these P and S."""
        s = np.asarray(solve_continuous_lyapunov(a - b @ gain @ c, -np.eye(len(a))), dtype=np.float64)
        wanted = np.linalg.solve(r, b.T @ p @ s @ c.T) @ np.linalg.inv(c @ s @ c.T)
        return (r @ gain @ c - b.T @ p) @ s @ c.T, wanted

    cost, p = judged(k)
    if not math.isfinite(cost):
        raise DravikError("the gains to begin from do not make the loop stable", hint="start=..., gains that do")
    first = float(np.linalg.norm(slope(k, p)[0])) or 1.0
    for _ in range(STEPS):
        gradient, wanted = slope(k, p)
        if float(np.linalg.norm(gradient)) < 1e-3 * first:
            break
        step, better = 1.0, False
        while step > 1e-9 and not better:
            value, found = judged(k + step * (wanted - k))
            better = value < cost
            if better:
                k, cost, p = k + step * (wanted - k), value, found
            step *= 0.5
        if not better:
            break

    def flat(values: Floats) -> Floats:
        gain = values.reshape(k.shape)
        value, own = judged(gain)
        return slope(gain, own)[0].ravel() if math.isfinite(value) else np.full(k.size, 1e3 * first)

    solved = root(flat, k.ravel(), tol=1e-14).x.reshape(k.shape)
    value, own = judged(solved)
    if value <= cost * (1.0 + 1e-12):
        k, cost, p = solved, value, own
    scale = float(np.linalg.norm(b.T @ p)) * float(np.linalg.norm(slope(k, p)[1])) or 1.0
    return k, cost, float(np.linalg.norm(slope(k, p)[0])) / scale


def tracked(
    system: LinearSystem, targets: Mapping[str, float], *, worst: Mapping[str, Any], inputs: Sequence[str] = (),
) -> tuple[dict[str, float], dict[str, float]]:  # fmt: skip
    """Return the steady states and inputs that come nearest to targets, more of them than inputs if need be.

    Least squares of the misses over ``worst`` of each, at rest: A x + B u = 0. Targets that can be had are met.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    targets : mapping of str to float
        Outputs or states and their values.
    worst : mapping of str to any
        Acceptable miss of each.
    inputs : sequence of str, default ()
        Inputs that may move; all unless given.

    Returns
    -------
    tuple (mapping of str to float, mapping of str to float)
        States and inputs, SI.

    Raises
    ------
    DravikError
        For a target without a weight.

    Examples
    --------
    >>> system = LinearSystem.of([[-1.0]], [[1.0]], states=["x"], inputs=["u"], C=[[1.0], [1.0]], outputs=["y", "z"])
    >>> states, moved = tracked(system, {"y": 1.0, "z": 2.0}, worst={"y": 1.0, "z": 1.0})
    >>> print(round(states["x"], 9), round(moved["u"], 9))
    1.5 1.5
    """
    system, names = checked(system, inputs)
    own, worst = arguments.mapping(targets, "targets"), arguments.mapping(worst, "worst")
    wanted, q = weights({n: worst[n] for n in own if n in worst}, system.units, "worst")
    missing = [n for n in own if n not in wanted]
    if missing:
        raise DravikError(f"there is no weight for {', '.join(missing)}", where="worst", expected="one for each target")
    c, d = rows_of(system, wanted, names)
    b = system.part(inputs=names).B
    # all rests: the null space of [A B]; then the nearest of them
    from scipy.linalg import null_space

    rests = null_space(np.hstack([system.A, b]))
    weighted = np.sqrt(q)[:, None] * np.hstack([c, d]) @ rests
    target = np.sqrt(q) * np.array([arguments.number(own[n], n) for n in wanted])
    found = rests @ np.linalg.lstsq(weighted, target, rcond=None)[0]
    n = len(system.states)
    return dict(zip(system.states, found[:n].tolist(), strict=True)), dict(zip(names, found[n:].tolist(), strict=True))
