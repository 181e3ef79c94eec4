"""Systems as terms: products, sums, differences, quotients, and channels of their zeros and poles."""

import math
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.systems.matrices import NamedMatrices

__all__ = ["inverse", "of_roots", "product", "quotient", "total"]

Floats = NDArray[np.float64]
DIRECT = 1e12  # condition of a direct path from which on it counts as none


def product(one: NamedMatrices, other: object) -> Any:
    """Return ``one`` behind ``other``; raises DravikError for shapes and sample times that do not fit."""
    if isinstance(other, bool) or not isinstance(other, NamedMatrices | int | float | np.number):
        raise DravikError(f"a system cannot be multiplied by {arguments.shown(other)}", expected="a system or a number")
    if not isinstance(other, NamedMatrices):
        factor = arguments.number(other, "the factor")
        return _like(one, one.A, one.B, factor * one.C, factor * one.D, list(one.states))
    _refuse_other_times(one, other)
    if len(one.inputs) != len(other.outputs):
        raise DravikError(
            f"{len(other.outputs)} outputs cannot be put into {len(one.inputs)} inputs",
            expected="as many outputs of the right system as inputs of the left one", hint="part(inputs=[...])",
        )  # fmt: skip
    a = np.block([[one.A, one.B @ other.C], [np.zeros((len(other.A), len(one.A))), other.A]])
    b, c = np.vstack([one.B @ other.D, other.B]), np.hstack([one.C, one.D @ other.C])
    states = [*one.states, *_apart(other.states, one.states)]
    units = {**{n: other.units[n] for n in other.inputs if n in other.units},
             **{n: one.units[n] for n in one.outputs if n in one.units}}  # fmt: skip
    return one.plain(
        A=a, B=b, C=c, D=one.D @ other.D, names=[states, list(other.inputs), list(one.outputs)], units=units
    )


def total(one: NamedMatrices, other: object, sign: float) -> Any:
    """Return the sum or difference; raises DravikError for other shapes and sample times."""
    if isinstance(other, bool) or not isinstance(other, NamedMatrices | int | float | np.number):
        raise DravikError(f"a system cannot be added to {arguments.shown(other)}", expected="a system or a number")
    if not isinstance(other, NamedMatrices):
        if one.D.shape != (1, 1):
            raise DravikError(
                f"a number cannot be added to a system of {len(one.inputs)} inputs and {len(one.outputs)} outputs",
                expected="a system of one input and one output",
            )
        return _like(one, one.A, one.B, one.C, one.D + sign * arguments.number(other, "the number"), list(one.states))
    _refuse_other_times(one, other)
    if one.D.shape != other.D.shape:
        raise DravikError(
            f"systems of {one.D.shape[::-1]} and {other.D.shape[::-1]} inputs and outputs cannot be added",
            expected="the same shape",
        )
    n, m = len(one.A), len(other.A)
    a = np.block([[one.A, np.zeros((n, m))], [np.zeros((m, n)), other.A]])
    states = [*one.states, *_apart(other.states, one.states)]
    return _like(
        one, a, np.vstack([one.B, other.B]), np.hstack([one.C, sign * other.C]), one.D + sign * other.D, states
    )


def quotient(one: NamedMatrices, other: object) -> Any:
    """Return ``one`` behind the inverse of ``other``; raises DravikError where that is improper."""
    if not isinstance(other, NamedMatrices):
        number = arguments.number(other, "the divisor")
        if number == 0.0:
            raise DravikError("a system cannot be divided by zero", expected="another number")
        return product(one, 1.0 / number)
    _refuse_other_times(one, other)
    if _is_invertible(other):
        return product(one, inverse(other))
    if one.D.shape != (1, 1) or other.D.shape != (1, 1):
        raise _improper(other)
    # one channel each: the fraction as a whole may be proper though the inverse alone is not
    top, under = (s.transfer(s.inputs[0], s.outputs[0]) for s in (one, other))  # type: ignore[attr-defined]
    zeros, poles = [*top.zeros, *under.poles], [*top.poles, *under.zeros]
    if len(zeros) > len(poles) or under.gain == 0.0:
        raise _improper(other)
    names = one.outputs[0], other.outputs[0]
    return of_roots(type(one), names, zeros, poles, top.gain / under.gain, one.sample_time)


def inverse(one: NamedMatrices) -> Any:
    """Return the inverse of a system with a direct path, from its outputs to its inputs; raises DravikError without."""
    if not _is_invertible(one):
        raise _improper(one)
    through: Floats = np.asarray(np.linalg.inv(one.D), dtype=np.float64)
    return one.plain(
        A=one.A - one.B @ through @ one.C, B=one.B @ through, C=-through @ one.C, D=through,
        names=[list(one.states), list(one.outputs), list(one.inputs)],
    )  # fmt: skip


def of_roots(
    kind: Any, names: tuple[str, str], zeros: Sequence[complex], poles: Sequence[complex], gain: float,
    sample_time: float | None,
) -> Any:  # fmt: skip
    """Return a channel, ``names`` its output and input, of zeros, poles and gain as a chain of small sections."""
    over, under = _sections(zeros, "zeros"), _sections(poles, "poles")
    if sum(map(len, over)) - len(over) > sum(map(len, under)) - len(under):
        raise DravikError(f"there are {len(list(zeros))} zeros and {len(list(poles))} poles", expected="no more zeros")
    size = arguments.number(gain, "gain")
    pairs = _paired(over, under)
    found = kind.filtered(names[0], names[1], [size], [1.0])
    for k, (top, low) in enumerate(pairs):
        section = kind.filtered(names[0], names[1], top, low)
        found = product(section.with_facts(states=[f"{names[0]}_{k + 1}_{i + 1}" for i in range(len(low) - 1)]), found)
    return found.with_facts(sample_time=sample_time)


def _sections(roots: Sequence[complex], what: str) -> list[list[float]]:
    """Return polynomials of first and second order, leading one, that have the roots; real roots in pairs."""
    try:
        own = [complex(r) for r in roots]
    except (TypeError, ValueError):
        raise DravikError(
            f"{what} cannot be {arguments.shown(roots)}", expected="numbers, such as [-1, -2 + 3j]"
        ) from None
    if not all(math.isfinite(abs(r)) for r in own):
        raise DravikError(f"{what} cannot be {arguments.shown(roots)}", expected="finite numbers")
    real = sorted((r.real for r in own if r.imag == 0.0), key=abs)
    above, below = ([r for r in own if s * r.imag > 0.0] for s in (1.0, -1.0))
    found = []
    for root in above:
        mate = min(below, key=lambda r, root=root: abs(r - root.conjugate()), default=None)  # type: ignore[misc]
        if mate is None or abs(mate - root.conjugate()) > 1e-9 * abs(root):
            raise DravikError(f"the root {root:.6g} of the {what} is without its conjugate", expected="pairs")
        below.remove(mate)
        found.append([1.0, -2.0 * root.real, abs(root) ** 2])
    if below:
        raise DravikError(f"the root {below[0]:.6g} of the {what} is without its conjugate", expected="pairs")
    found += [[1.0, -(a + b), a * b] for a, b in zip(real[::2], real[1::2], strict=False)]
    return found + ([[1.0, -real[-1]]] if len(real) % 2 else [])


def _paired(over: list[list[float]], under: list[list[float]]) -> list[tuple[list[float], list[float]]]:
    """Return proper sections: each numerator over a denominator of at least its order, of roots of like size."""
    tops, found = sorted(over, key=len), []
    for low in sorted(under, key=len, reverse=True):
        fits = [t for t in tops if len(t) <= len(low)]
        top = min(fits, key=lambda t, low=low: (-len(t), abs(abs(t[-1]) - abs(low[-1]))), default=[1.0])  # type: ignore[misc]
        if fits:
            tops.remove(top)
        found.append((top, low))
    if tops:
        # a numerator of second order over two poles of first order: one section of both
        return [(_multiplied(over), _multiplied(low for _, low in found))]
    return found


def _multiplied(polynomials: Iterable[list[float]]) -> list[float]:
    whole = np.array([1.0])
    for one in polynomials:
        whole = np.polymul(whole, np.array(one))
    return [float(v) for v in whole]


def _like(one: NamedMatrices, a: Floats, b: Floats, c: Floats, d: Floats, states: list[str]) -> Any:
    names = [states, list(one.inputs), list(one.outputs)]
    return one.plain(A=a, B=b, C=c, D=d, names=names, units=dict(one.units))


def _apart(names: Sequence[str], others: Sequence[str]) -> list[str]:
    """Return names that none of the others has."""
    taken, found = set(others), []
    for name in names:
        own, k = name, 2
        while own in taken:
            own, k = f"{name}_{k}", k + 1
        taken.add(own)
        found.append(own)
    return found


def _is_invertible(one: NamedMatrices) -> bool:
    d = one.D
    return d.shape[0] == d.shape[1] and d.size > 0 and bool(np.linalg.cond(d) < DIRECT)


def _improper(one: NamedMatrices) -> DravikError:
    return DravikError(
        f"nothing of {', '.join(one.inputs)} reaches {', '.join(one.outputs)} at once: its inverse is improper",
        expected="a system with a direct path (D)", hint="a quotient of one channel over another, or a fast lag more",
    )  # fmt: skip


def _refuse_other_times(one: NamedMatrices, other: NamedMatrices) -> None:
    if one.sample_time != other.sample_time:
        raise DravikError(
            f"one system is {_running(one)}, the other {_running(other)}",
            expected="the same", hint="discretised(...)",
        )  # fmt: skip


def _running(one: NamedMatrices) -> str:
    return "continuous" if one.sample_time is None else f"sampled each {one.sample_time:g} s"
