"""A linear model with names: x' = A x + B u, y = C x + D u, all in SI and about an operating point."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError, nearest

if TYPE_CHECKING:
    from pandas import DataFrame

    from dravik.linear.modes import Modes

__all__ = ["Kink", "LinearModel"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kink:
    """A slope that differs from one side of the operating point to the other by ``share`` of its size."""

    row: str
    column: str
    slope: float
    share: float


@dataclass(frozen=True)
class LinearModel:
    """Deviations from an operating point; ``state_units`` and the like are SI units by name.

    ``x0``, ``u0``, ``y0`` are the operating point; ``kinks`` lists slopes that depend on the side they are
    taken from (a table bends there), so that nobody trusts them unseen.
    """

    A: Floats
    B: Floats
    C: Floats
    D: Floats
    states: list[str]
    inputs: list[str]
    outputs: list[str]
    units: dict[str, str] = field(default_factory=dict)
    x0: Floats = field(default_factory=lambda: np.zeros(0))
    u0: Floats = field(default_factory=lambda: np.zeros(0))
    y0: Floats = field(default_factory=lambda: np.zeros(0))
    kinks: list[Kink] = field(default_factory=list)
    title: str = ""

    @classmethod
    def of(
        cls,
        A: ArrayLike,
        B: ArrayLike | None = None,
        *,
        states: Sequence[str],
        inputs: Sequence[str] = (),
        C: ArrayLike | None = None,
        D: ArrayLike | None = None,
        outputs: Sequence[str] = (),
    ) -> "LinearModel":
        """Return a model from matrices; without ``C`` the outputs are the states.

        Raises DravikError when a matrix does not fit the names.
        """
        n, m = len(states), len(inputs)
        names = list(outputs) if C is not None else list(states)
        parts = {
            "A": (np.asarray(A, float), (n, n)),
            "B": (np.zeros((n, m)) if B is None else np.asarray(B, float), (n, m)),
            "C": (np.eye(n) if C is None else np.asarray(C, float), (len(names), n)),
            "D": (np.zeros((len(names), m)) if D is None else np.asarray(D, float), (len(names), m)),
        }
        for name, (matrix, shape) in parts.items():
            if matrix.shape != shape:
                raise DravikError(f"{name} has shape {matrix.shape}", expected=f"{shape} from the names given")
        a, b, c, d = (matrix for matrix, _ in parts.values())
        return cls(a, b, c, d, list(states), list(inputs), names)

    def _indices(self, names: Sequence[str], own: list[str], what: str) -> list[int]:
        for name in names:
            if name not in own:
                raise DravikError(f"the model has no {what} {name!r}", expected=", ".join(own), hint=nearest(name, own))
        return [own.index(n) for n in names]

    def part(
        self, *, states: Sequence[str] | None = None, inputs: Sequence[str] | None = None,
        outputs: Sequence[str] | None = None,
    ) -> "LinearModel":  # fmt: skip
        """Return the model of some states, inputs and outputs; states left out are held at the operating point.

        Raises DravikError for a name that the model does not have.
        """
        s = self._indices(self.states if states is None else states, self.states, "state")
        i = self._indices(self.inputs if inputs is None else inputs, self.inputs, "input")
        o = self._indices(self.outputs if outputs is None else outputs, self.outputs, "output")
        kept = {*(self.states[k] for k in s), *(self.outputs[k] for k in o)}
        return LinearModel(
            self.A[np.ix_(s, s)], self.B[np.ix_(s, i)], self.C[np.ix_(o, s)], self.D[np.ix_(o, i)],
            [self.states[k] for k in s], [self.inputs[k] for k in i], [self.outputs[k] for k in o], self.units,
            self.x0[s] if self.x0.size else self.x0, self.u0[i] if self.u0.size else self.u0,
            self.y0[o] if self.y0.size else self.y0, [k for k in self.kinks if k.column in kept], self.title,
        )  # fmt: skip

    def modes(self) -> "Modes":
        """Return the modes, named and classified."""
        from dravik.linear.modes import find_modes

        return find_modes(self)

    def response(self, t: Floats, u: Floats, *, x: Floats | None = None) -> tuple[Floats, Floats]:
        """Return states (k, n) and outputs (k, m), deviations, at evenly spaced times ``t`` (k,).

        ``u`` (k, inputs) are deviations, straight between the times, for which the matrix exponential is exact;
        or (k - 1, 2, inputs): values at the start and end of each interval, for inputs that jump. ``x`` is the
        deviation at the start. Raises DravikError for uneven times or another shape of ``u``.
        """
        from scipy.linalg import expm

        n, m = len(self.states), len(self.inputs)
        if u.shape == (len(t), m):
            u = np.stack([u[:-1], u[1:]], axis=1)
        if u.shape != (len(t) - 1, 2, m):
            raise DravikError(f"inputs of shape {u.shape}", expected=f"{(len(t), m)}: times by inputs")
        steps = np.diff(t)
        if len(t) < 2 or not np.allclose(steps, steps[0], rtol=1e-6):
            raise DravikError("the times are not evenly spaced")
        dt = float(steps[0])
        # augmented with the input and its slope, the exponential gives the exact step (C. Van Loan, 1978)
        block = np.zeros((n + 2 * m, n + 2 * m))
        block[:n, :n], block[:n, n : n + m] = self.A * dt, self.B * dt
        block[n : n + m, n + m :] = np.eye(m)
        step = expm(block)
        phi, by_value, by_slope = step[:n, :n], step[:n, n : n + m], step[:n, n + m :]
        states = np.zeros((len(t), n))
        if x is not None:
            states[0] = x
        for k in range(len(t) - 1):
            states[k + 1] = phi @ states[k] + by_value @ u[k, 0] + by_slope @ (u[k, 1] - u[k, 0])
        return states, states @ self.C.T + np.concatenate([u[:, 0], u[-1:, 1]]) @ self.D.T

    def frequency_response(self, omega: Floats) -> NDArray[np.complex128]:
        """Return the transfer matrix, shape (frequencies, outputs, inputs), at frequencies in rad/s."""
        identity = np.eye(len(self.states))
        return np.array([self.C @ np.linalg.solve(1j * w * identity - self.A, self.B) + self.D for w in omega])

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
            "title": self.title,
            "states": self.states,
            "inputs": self.inputs,
            "outputs": self.outputs,
            "units": self.units,
            **{k: getattr(self, k).tolist() for k in ("A", "B", "C", "D", "x0", "u0", "y0")},
            "kinks": [vars(k) for k in self.kinks],
        }
