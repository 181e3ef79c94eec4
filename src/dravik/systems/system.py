"""Linear systems with names and units: x' = A x + B u, y = C x + D u, or sampled, x[k+1] = A x[k] + B u[k]."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Self, cast

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.systems import arithmetic, forms, interconnection
from dravik.systems.exact_steps import input_step
from dravik.systems.matrices import NamedMatrices
from dravik.systems.reduction import minimal, sizes, transmission_zeros
from dravik.systems.transfer import Transfer

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["LinearSystem"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]


def _without(roots: Complexes, others: Complexes) -> Complexes:
    """Return roots less those that are nearest to some others."""
    left = list(roots)
    for other in others:
        left.pop(int(np.argmin([abs(r - other) for r in left])))
    return np.array(left, dtype=complex)


@dataclass(frozen=True, eq=False, repr=False)
class LinearSystem(NamedMatrices):
    """A linear system with names and units, continuous or sampled; nothing changes it: every method returns another.

    Attributes
    ----------
    A, B, C, D : array
        Matrices (n, n), (n, m), (k, n), (k, m), SI.
    states, inputs, outputs : list of str
        Their names.
    units : dict of str to str
        SI units by name.
    sample_time : float or None
        Of a sampled system, s; None of a continuous one.
    title : str
        What it is called in figures.

    Examples
    --------
    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of([[-2.0]], [[2.0]], states=["x"], inputs=["command"], outputs=["angle"], C=[[1.0]])
    >>> float(lag.gains()[0, 0])
    1.0
    """

    __array_ufunc__ = None  # a number of NumPy's leaves products and sums to the system

    @staticmethod
    def _of_these(*parts: Any) -> "LinearSystem":
        return LinearSystem(*parts)

    @staticmethod
    def gain(output: str, parts: Mapping[str, float]) -> "LinearSystem":
        """Return a system without states: ``output`` is the sum of inputs times their gains."""
        return LinearSystem.of(
            [], states=[], inputs=list(parts), outputs=[output], C=np.zeros((1, 0)), D=[[*parts.values()]]
        )

    @staticmethod
    def filtered(
        output: str, input: str, numerator: Sequence[float], denominator: Sequence[float]
    ) -> "LinearSystem":  # fmt: skip
        """Return a transfer function of one input, coefficients of powers of s, highest first.

        Raises DravikError for a numerator of higher order, or a denominator that begins with zero.
        """
        over, under = arguments.numbers(numerator, "numerator"), arguments.numbers(denominator, "denominator")
        if under.ndim != 1 or over.ndim != 1 or not len(under) or under[0] == 0.0 or len(over) > len(under):
            raise DravikError("the fraction has more zeros than poles, or its denominator begins with zero")
        n = len(under) - 1
        over = np.concatenate([np.zeros(n + 1 - len(over)), over]) / under[0]
        under = under[1:] / under[0]
        a = np.vstack([-under[None, :], np.eye(n)[: n - 1]]) if n else np.zeros((0, 0))
        b = np.eye(n)[:, :1]
        return LinearSystem.of(
            a, b, states=[f"{output}_{k + 1}" for k in range(n)], inputs=[input], outputs=[output],
            C=(over[1:] - over[0] * under)[None, :], D=[[over[0]]],
        )  # fmt: skip

    @staticmethod
    def of_roots(
        output: str, input: str, *, zeros: Sequence[complex] = (), poles: Sequence[complex] = (), gain: float = 1.0,
        sample_time: float | None = None,
    ) -> "LinearSystem":  # fmt: skip
        """Return a channel of its zeros, poles (1/s, or in z) and gain: gain (s - z1)(s - z2).../((s - p1)...).

        A chain of sections of first and second order, so that roots of very different sizes keep their digits. Raises
        DravikError for more zeros than poles and for a complex root without its conjugate.

        >>> LinearSystem.of_roots("y", "u", zeros=[-2.0], poles=[-1 + 1j, -1 - 1j], gain=3.0).gains().round(9).tolist()
        [[3.0]]
        """
        return cast(LinearSystem, arithmetic.of_roots(LinearSystem, (output, input), zeros, poles, gain, sample_time))

    # -- joined --------------------------------------------------------------------------------------------------------

    def beside(self, *others: "LinearSystem") -> "LinearSystem":
        """Return this system and others side by side."""
        return cast(LinearSystem, interconnection.beside(self, *others))

    def followed_by(self, other: "LinearSystem") -> "LinearSystem":
        """Return ``other`` behind this system: its inputs take the outputs of the same names.

        An input of the other that no output of this system feeds stays an input. Raises DravikError where none fits.
        """
        require(other, NamedMatrices, "the system behind")
        if not set(self.outputs) & set(other.inputs):
            raise DravikError(
                f"no output of the first ({', '.join(self.outputs)}) is an input of the second", hint="renamed({...})"
            )
        more = [n for n in other.inputs if n not in self.outputs and n not in self.inputs]
        return cast(
            LinearSystem, interconnection.wired(self, other, inputs=[*self.inputs, *more], outputs=other.outputs)
        )

    def summed_with(self, other: "LinearSystem", *, sign: float = 1.0) -> "LinearSystem":
        """Return the sum (or, with ``sign`` -1, the difference) of two systems with the same inputs and outputs."""
        require(other, NamedMatrices, "the system in parallel")
        if self.inputs != other.inputs or self.outputs != other.outputs or self.sample_time != other.sample_time:
            raise DravikError("systems in parallel must have the same inputs, outputs and sample time")
        from scipy.linalg import block_diag

        states = [*self.states, *(n if n not in self.states else f"{n}_2" for n in other.states)]
        found = self.plain(
            A=block_diag(self.A, other.A), B=np.vstack([self.B, other.B]), C=np.hstack([self.C, sign * other.C]),
            D=self.D + sign * other.D, names=[states, self.inputs, self.outputs], units={**other.units, **self.units},
        )  # fmt: skip
        return cast(LinearSystem, found)

    def looped_with(self, other: "LinearSystem", *, sign: float = -1.0) -> "LinearSystem":
        """Return the loop of this system with another that reads its outputs and feeds its inputs, by name.

        What the other gives is subtracted (``sign`` 1: added) from what comes to this system's inputs from outside.
        Raises DravikError where names do not lead back.
        """
        require(other, NamedMatrices, "the system in the loop")
        back = [n for n in other.outputs if n in self.inputs]
        if not back or not set(other.inputs) & set(self.outputs):
            raise DravikError("the second system does not read the first and feed it", hint="renamed({...})")
        inner = {n: f"{n} fed back" for n in back}
        sums = {n: {f"{n} from outside": 1.0, inner[n]: sign} for n in back}
        free = [n for n in other.inputs if n not in self.outputs]
        outside = [f"{n} from outside" if n in back else n for n in self.inputs]
        found = interconnection.wired(
            self, other.renamed(inner), inputs=[*outside, *free], outputs=self.outputs, sums=sums
        )
        return cast(LinearSystem, found.renamed({f"{n} from outside": n for n in back}))

    def with_gains(self, gains: Mapping[str, Mapping[str, float]]) -> Self:
        """Return the system with loops of constant gains: ``{"elevator": {"q": 0.5}}`` adds 0.5 q to the elevator."""
        return cast("Self", interconnection.with_gains(self, gains))

    def __mul__(self, other: "LinearSystem | float") -> "LinearSystem":
        """Return this system behind another, as G1(s) G2(s) is written, or all its outputs times a number."""
        return cast(LinearSystem, arithmetic.product(self, other))

    def __rmul__(self, other: float) -> "LinearSystem":
        return cast(LinearSystem, arithmetic.product(self, other))

    def __add__(self, other: "LinearSystem | float") -> "LinearSystem":
        """Return the sum of two systems of one shape, under this one's names; a number is a direct path."""
        return cast(LinearSystem, arithmetic.total(self, other, 1.0))

    def __radd__(self, other: float) -> "LinearSystem":
        return cast(LinearSystem, arithmetic.total(self, other, 1.0))

    def __sub__(self, other: "LinearSystem | float") -> "LinearSystem":
        """Return the difference of two systems of one shape, under this one's names."""
        return cast(LinearSystem, arithmetic.total(self, other, -1.0))

    def __rsub__(self, other: float) -> "LinearSystem":
        return -self + other

    def __neg__(self) -> "LinearSystem":
        return cast(LinearSystem, arithmetic.product(self, -1.0))

    def __truediv__(self, other: "LinearSystem | float") -> "LinearSystem":
        """Return this system behind the inverse of another, G1 G2^-1, or divided by a number.

        Raises DravikError where the other has no direct path, or the quotient more zeros than poles.
        """
        return cast(LinearSystem, arithmetic.quotient(self, other))

    def __rtruediv__(self, other: float) -> "LinearSystem":
        return cast(LinearSystem, arithmetic.product(arithmetic.inverse(self), other))

    # -- figures -------------------------------------------------------------------------------------------------------

    def poles(self) -> Complexes:
        """Return the eigenvalues of A, 1/s (or of z), the slowest first."""
        from scipy.linalg import eigvals

        found = np.asarray(eigvals(self.A), dtype=complex) if len(self.A) else np.zeros(0, dtype=complex)
        away = np.abs(found) if self.sample_time is None else -np.abs(found)
        return found[np.lexsort((found.imag, away))]

    @property
    def is_stable(self) -> bool:
        """Whether every root decays."""
        poles = self.poles()
        return bool(np.all(poles.real < 0.0) if self.sample_time is None else np.all(np.abs(poles) < 1.0))

    def zeros(self, *, input: str | None = None, output: str | None = None) -> Complexes:
        """Return the finite zeros, 1/s (or of z), of the whole or of one channel, without states that it does not move.

        The zeros are those of the matrix pencil, not roots of polynomials.
        """
        one: LinearSystem = self.part(inputs=[input] if input else None, outputs=[output] if output else None)
        if input or output:
            one = one.minimal()
        found = transmission_zeros(one.A, one.B, one.C, one.D)
        return found[np.lexsort((found.imag, np.abs(found)))]

    def transfer(self, input: str, output: str) -> Transfer:
        """Return one channel as zeros, poles and gain; ``cancelled`` are the roots that it does not show."""
        whole = self.part(inputs=[input], outputs=[output])
        one = whole.minimal()
        zeros, poles = transmission_zeros(one.A, one.B, one.C, one.D), one.poles()
        # evaluate the gain far from all poles and zeros: outside them, and off the real axis
        far = 2.0 * max(1.0, float(np.abs(np.concatenate([zeros, poles, [0.0]])).max())) * complex(0.8, 0.6)
        value = (one.C @ np.linalg.solve(far * np.eye(len(one.A)) - one.A, one.B) + one.D)[0, 0]
        unit = Transfer(input, output, zeros, poles, 1.0, self.sample_time, _without(whole.poles(), poles))
        return replace(unit, gain=float((value / unit(far)).real))

    def gains(self) -> Floats:
        """Return the static gains (outputs, inputs); infinite in channels with a root at rest that nothing cancels."""
        found, system = np.empty(self.D.shape), self
        if self.sample_time is not None:
            # use (z - 1)/sample_time: integrators are then at zero, where rounding is smallest, instead of at one
            system = replace(
                self, A=(self.A - np.eye(len(self.A))) / self.sample_time, B=self.B / self.sample_time, sample_time=None
            )
        for i, output in enumerate(self.outputs):
            for j, name in enumerate(self.inputs):
                found[i, j] = system.transfer(name, output).at_rest()
        return found

    def frequency_response(self, omega: ArrayLike) -> Complexes:
        """Return the transfer matrix, shape (frequencies, outputs, inputs), at frequencies in rad/s."""
        w = np.atleast_1d(arguments.numbers(omega, "frequencies"))
        points = 1j * w if self.sample_time is None else np.exp(1j * w * self.sample_time)
        left = points[:, None, None] * np.eye(len(self.A)) - self.A
        solved = self.C @ np.linalg.solve(left, self.B + 0j) + self.D
        return np.asarray(solved, dtype=np.complex128)

    def response(self, t: Floats, u: Floats, *, x: Floats | None = None) -> tuple[Floats, Floats]:
        """Return states (k, n) and outputs (k, m), deviations, at evenly spaced times ``t`` (k,).

        ``u`` (k, inputs) are deviations, straight between the times, for which the matrix exponential is exact;
        or (k - 1, 2, inputs): values at the start and end of each interval, for inputs that jump. A sampled system
        takes ``u`` (k, inputs) at its own samples. ``x`` is the deviation at the start. Raises DravikError for uneven
        times or another shape of ``u``.
        """
        n, m = len(self.states), len(self.inputs)
        pairs = np.stack([u[:-1], u[1:]], axis=1) if u.shape == (len(t), m) else u
        if pairs.shape != (len(t) - 1, 2, m) or (self.sample_time is not None and u.shape != (len(t), m)):
            raise DravikError(f"the inputs have the shape {u.shape}", expected=f"{(len(t), m)}: times by inputs")
        steps = np.diff(t)
        if len(t) < 2 or not np.allclose(steps, steps[0], rtol=1e-6):
            raise DravikError("the times are not evenly spaced")
        if self.sample_time is not None and abs(float(steps[0]) - self.sample_time) > 1e-6 * self.sample_time:
            raise DravikError(
                f"the times are {float(steps[0]):g} s apart", expected=f"the sample time, {self.sample_time:g} s"
            )
        states = np.zeros((len(t), n))
        if x is not None:
            states[0] = x
        held, ramped = self.B, np.zeros((n, m))
        phi = self.A
        if self.sample_time is None:
            phi, held, ramped = input_step(self.A, self.B, float(steps[0]))
        driven = pairs[:, 0] @ held.T + (pairs[:, 1] - pairs[:, 0]) @ ramped.T
        for k in range(len(t) - 1):
            states[k + 1] = phi @ states[k] + driven[k]
        return states, states @ self.C.T + np.concatenate([pairs[:, 0], pairs[-1:, 1]]) @ self.D.T

    def covariance(self, density: ArrayLike | None = None) -> Floats:
        """Return the covariance (outputs, outputs) under white noise at the inputs, in the steady state.

        ``density`` (inputs, inputs), or one value for each input, is the noise's two-sided spectral density, unit^2 s
        (of sampled systems its covariance); one unless given. Raises DravikError for a system that does not
        decay, or continuous noise that reaches an output without a lag.
        """
        from scipy.linalg import solve_continuous_lyapunov, solve_discrete_lyapunov

        w = np.eye(len(self.inputs)) if density is None else arguments.numbers(density, "density")
        w = np.diag(w) if w.ndim == 1 else w
        if w.shape != (len(self.inputs),) * 2:
            raise DravikError(
                f"the density has the shape {w.shape}", expected=f"one value for each of {self.inputs}, or a matrix"
            )
        poles = self.poles()
        edge = forms.EDGE * (float(np.abs(poles).max(initial=0.0)) if self.sample_time is None else 1.0)
        if np.any(poles.real >= -edge if self.sample_time is None else np.abs(poles) >= 1.0 - edge):
            raise DravikError(
                "the system does not decay, so that it has no covariance", hint="part(states=...), or a loop around it"
            )
        # states of like size: in units of their own, what is small in number would be lost beside what is large
        size = sizes(self.A, self.B, self.C)
        a, b, c = self.A * size[None, :] / size[:, None], self.B / size[:, None], self.C * size[None, :]
        drive = b @ w @ b.T
        if self.sample_time is None and np.any(self.D @ w @ self.D.T != 0.0):
            raise DravikError("white noise that reaches an output without a lag has no variance", hint="a filter first")
        state = solve_continuous_lyapunov(a, -drive) if self.sample_time is None else solve_discrete_lyapunov(a, drive)
        found: Floats = c @ state @ c.T
        return found if self.sample_time is None else found + self.D @ w @ self.D.T

    def spectra(self, omega: ArrayLike) -> Floats:
        """Return one-sided spectra (outputs, frequencies), unit^2 s/rad, under unit white noises at the inputs.

        The integral over frequencies in rad/s is the variance.
        """
        found: Floats = (np.abs(self.frequency_response(omega)) ** 2).sum(axis=2).T / math.pi
        return found

    # -- other forms ---------------------------------------------------------------------------------------------------

    def minimal(self, tolerance: float = 1e-12) -> "LinearSystem":
        """Return a system with the same responses, without states that no input reaches or no output sees."""
        a, b, c = minimal(self.A, self.B, self.C, tolerance)
        return cast(
            LinearSystem,
            self.plain(A=a, B=b, C=c, D=self.D, names=[forms.numbered("x", len(a)), self.inputs, self.outputs]),
        )

    def hankel(self) -> Floats:
        """Return the Hankel singular values of the decaying part, largest first: what each state of it is worth."""
        return forms.balanced(self)[0]

    def reduced(self, order: int) -> "LinearSystem":
        """Return a balanced truncation with ``order`` states; roots that do not decay are all kept.

        At no frequency is the error larger than twice the sum of the Hankel values left out. Raises DravikError for an
        order below the number of roots that are kept.
        """
        return cast(LinearSystem, forms.reduced(self, order))

    def residualised(self, *states: str) -> Self:
        """Return the system without some states, which have always settled: for what is much faster than the rest.

        The static gains stay as they are; the rate of an actuator goes with its position. Raises DravikError for states
        that do not settle by themselves.
        """
        return cast("Self", forms.residualised(self, states))

    def discretised(self, sample_time: str | float, *, method: str = "zero_order_hold", match: float = 0.0) -> Self:
        """Return the system at samples ``sample_time`` apart (s, or with a unit).

        ``method``: ``zero_order_hold`` (exact for inputs held between samples), ``first_order_hold`` (exact for inputs
        straight between them), ``bilinear`` (Tustin's, exact at the frequency ``match``, rad/s, and at zero). Only
        with ``zero_order_hold`` are the states those of the continuous system. Raises DravikError for others.
        """
        return cast("Self", forms.discretised(self, sample_time, method, match))

    def continued(self, *, method: str = "zero_order_hold") -> Self:
        """Return the continuous system of which this one is the ``zero_order_hold`` or ``bilinear`` sampled form.

        Raises DravikError for a continuous system, and for roots on the negative real axis, which none has.
        """
        return cast("Self", forms.continued(self, method))

    def delayed(self, name: str, time: str | float, *, order: int = 3) -> "LinearSystem":
        """Return the system with a delay (s) at an input or output.

        Continuous: a Padé fraction of ``order``, whose phase is good to 1 deg up to frequencies of about
        (order + 1)/time rad/s. Sampled: exact, a whole number of samples. Raises DravikError for other delays.
        """
        return cast(LinearSystem, forms.delayed(self, name, time, order))

    def frame(self, matrix: str) -> "DataFrame":
        """Return A, B, C or D as a table with names; raises DravikError for another letter."""
        import pandas as pd

        rows = {"A": self.states, "B": self.states, "C": self.outputs, "D": self.outputs}
        columns = {"A": self.states, "B": self.inputs, "C": self.states, "D": self.inputs}
        if matrix not in rows:
            raise DravikError(f"there is no matrix {matrix!r}", expected="A, B, C or D")
        return pd.DataFrame(getattr(self, matrix), index=rows[matrix], columns=columns[matrix])

    def as_dict(self) -> dict[str, object]:
        """Return everything as plain lists, for JSON."""
        return {
            "title": self.title, "states": self.states, "inputs": self.inputs, "outputs": self.outputs,
            "units": self.units, "sample_time_s": self.sample_time, **{k: getattr(self, k).tolist() for k in "ABCD"},
        }  # fmt: skip
