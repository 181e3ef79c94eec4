"""Other forms of a linear system: balanced and truncated, sampled and continuous, with a delay."""

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.systems import interconnection
from dravik.systems.matrices import NamedMatrices
from dravik.systems.reduction import balance, sizes, split
from dravik.systems.sampling import bilinear, continuous, delay, first_order_hold, zero_order_hold
from dravik.units import quantity

__all__ = ["balanced", "continued", "delayed", "discretised", "numbered", "reduced", "residualised"]

Floats = NDArray[np.float64]
ROUNDING = 1e-6  # of the largest gain: what rounding may add to a truncation
EDGE = 1e-9  # of the largest root: slower ones count as integrators
HOLDS = {"zero_order_hold": zero_order_hold, "first_order_hold": first_order_hold}


def balanced(system: NamedMatrices) -> tuple[Floats, Floats, Floats, tuple[Floats, Floats, int]]:
    """Return Hankel values and balancing matrices of the stable part, and the transformation that splits it off."""
    sampled = system.sample_time is not None
    edge = EDGE if sampled else EDGE * max(float(np.abs(np.linalg.eigvals(system.A)).max(initial=0.0)), 1e-300)
    # states of like size: in units of their own, what is small in number would be lost beside what is large
    size = sizes(system.A, system.B, system.C)
    a, b, c = system.A * size[None, :] / size[:, None], system.B / size[:, None], system.C * size[None, :]
    t, back, k = split(a, edge, sampled=sampled)
    values, left, right = balance((back @ a @ t)[:k, :k], back[:k] @ b, c @ t[:, :k], sampled=sampled)
    return values, left, right, (size[:, None] * t, back / size[None, :], k)


def reduced(system: NamedMatrices, order: int) -> Any:
    """Return the balanced truncation with ``order`` states, checked at some frequencies against its own bound."""
    values, left, right, (t, back, k) = balanced(system)
    standing = len(system.A) - k
    if isinstance(order, bool) or not isinstance(order, int) or not standing <= order:
        raise DravikError(
            f"the system cannot be reduced to order {order}",
            expected=f"at least {standing}, the roots that do not decay",
        )
    many = min(order - standing, len(left))
    into = np.vstack([left[:many] @ back[:k], back[k:]])
    out = np.hstack([t[:, :k] @ right[:, :many], t[:, k:]])
    found = system.plain(
        A=into @ system.A @ out, B=into @ system.B, C=system.C @ out, D=system.D,
        names=[numbered("x", len(into)), system.inputs, system.outputs],
    )  # fmt: skip
    _refuse_far(system, found, 2.0 * float(values[many:].sum()))
    return found


def _refuse_far(system: Any, found: Any, bound: float) -> None:
    """Raise DravikError where a truncation is further from its system than its bound allows: rounding took over."""
    sizes_of_roots = (
        np.abs(np.linalg.eigvals(system.A))
        if system.sample_time is None
        else np.array([0.01, math.pi]) / system.sample_time
    )
    moving = sizes_of_roots[sizes_of_roots > 0.0]
    if not len(moving) or not system.B.size or not system.C.size:
        return
    w = np.geomspace(0.1 * float(moving.min()), (10.0 if system.sample_time is None else 1.0) * float(moving.max()), 30)
    whole = system.frequency_response(w)
    off = np.linalg.norm(found.frequency_response(w) - whole, axis=(1, 2))
    rank = math.sqrt(min(whole.shape[1:]))  # the bound is on the largest singular value, the norm here on all of them
    if np.any(off > rank * bound * 1.01 + ROUNDING * np.linalg.norm(whole, axis=(1, 2)).max()):
        raise DravikError(
            f"the truncation is {float(off.max()):.3g} off where {bound:.3g} is its bound: a system too badly scaled",
            hint="states in units in which they are of like size",
        )


def residualised(system: NamedMatrices, names: Sequence[str]) -> Any:
    """Return the system in which some states have always settled: 0 = A21 x + A22 z + B2 u solved for them, z.

    Raises DravikError where these states have no equilibrium of their own.
    """
    # an actuator's position settles only together with its rate
    names = [*names, *(f"{n}_rate" for n in names if f"{n}_rate" in system.states and f"{n}_rate" not in names)]
    out = system.indices(names, "states")
    keep = [i for i in range(len(system.states)) if i not in out]
    a, b, c = system.A, system.B, system.C
    inner = a[np.ix_(out, out)]
    if out and np.linalg.cond(inner) > 1.0 / EDGE**1.5:
        raise DravikError(
            f"{', '.join(names)} settle nowhere", expected="states that come to rest while all others are held"
        )
    if not out:
        return system
    solved = -np.linalg.solve(inner, np.hstack([a[np.ix_(out, keep)], b[out]]))
    from_x, from_u = solved[:, : len(keep)], solved[:, len(keep) :]
    return replace(
        system.part(states=[system.states[i] for i in keep]),
        A=a[np.ix_(keep, keep)] + a[np.ix_(keep, out)] @ from_x, B=b[keep] + a[np.ix_(keep, out)] @ from_u,
        C=c[:, keep] + c[:, out] @ from_x, D=system.D + c[:, out] @ from_u,
    )  # fmt: skip


def discretised(system: NamedMatrices, sample_time: str | float, method: str, match: float) -> Any:
    """Return the system at samples ``sample_time`` apart."""
    h = quantity(sample_time, "time", where="sample_time")
    if system.sample_time is not None or not h > 0.0:
        what = "the system is sampled already" if system.sample_time else f"the sample time cannot be {sample_time!r}"
        raise DravikError(what, expected="a continuous system, and a time above zero")
    matrices = (system.A, system.B, system.C, system.D)
    if isinstance(method, str) and method in HOLDS:
        a, b, c, d = HOLDS[method](*matrices, h)
    elif method == "bilinear":
        a, b, c, d = bilinear(*matrices, h, match)
    else:
        raise DravikError(f"there is no method {method!r}", expected="zero_order_hold, first_order_hold or bilinear")
    return replace(system, A=a, B=b, C=c, D=d, sample_time=h)


def continued(system: NamedMatrices, method: str) -> Any:
    """Return the continuous system of which this one is the sampled form."""
    if system.sample_time is None:
        raise DravikError("the system is not sampled", hint="discretised(dt)")
    a, b, c, d = continuous(system.A, system.B, system.C, system.D, system.sample_time, method)
    return replace(system, A=a, B=b, C=c, D=d, sample_time=None)


def delayed(system: NamedMatrices, name: str, time: str | float, order: int) -> Any:
    """Return the system with a delay at an input or output."""
    at_input = name in system.inputs
    system.indices([name], "inputs" if at_input else "outputs")
    inner = f"{name} {'behind' if at_input else 'before'} the delay"
    a, b, c, d = delay(quantity(time, "time", where="time"), order, system.sample_time)
    old, new = (name, inner) if at_input else (inner, name)
    states = [f"{name}_delay_{k + 1}" for k in range(len(a))]
    line = system.plain(A=a, B=b, C=c, D=d, names=[states, [old], [new]], units={})
    inputs = [inner if at_input and n == name else n for n in system.inputs]
    outputs = [inner if not at_input and n == name else n for n in system.outputs]
    names = [system.states, inputs, outputs]
    own = system.plain(A=system.A, B=system.B, C=system.C, D=system.D, names=names, units={})
    joined = interconnection.wired(own, line, inputs=system.inputs, outputs=system.outputs)
    return replace(joined, units=system.units)


def numbered(letter: str, count: int) -> list[str]:
    """Return names of states without a physical meaning: x1, x2, ..."""
    return [f"{letter}{k + 1}" for k in range(count)]
