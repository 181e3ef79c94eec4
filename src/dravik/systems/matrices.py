"""Matrices with names: the states, inputs and outputs of a linear system, their units, and parts of it."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, nearest
from dravik.host.notebooks import Shown, ShownAsTable

__all__ = ["NamedMatrices"]

Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class NamedMatrices(ShownAsTable):
    """A, B, C, D with the names of their states, inputs and outputs; ``units`` (SI), ``dt`` the sample time in s.

    Without ``dt`` they are those of a continuous system.
    """

    A: Floats
    B: Floats
    C: Floats
    D: Floats
    states: list[str]
    inputs: list[str]
    outputs: list[str]
    units: dict[str, str] = field(default_factory=dict)
    sample_time: float | None = None
    title: str = ""

    def summary_table(self) -> Shown:
        """Return what a notebook shows: A and B, row by row, with the names of their columns."""
        n, m, k = len(self.states), len(self.inputs), len(self.outputs)
        sampled = "" if self.sample_time is None else f", sampled every {self.sample_time:g} s"
        title = f"{self.title}{': ' if self.title else ''}{n} states, {m} inputs, {k} outputs{sampled}"
        rows = [[f"{s} rate", *a, *b] for s, a, b in zip(self.states, self.A, self.B, strict=True)]
        return title, ["", *self.states, *self.inputs], rows

    @classmethod
    def of(
        cls, A: ArrayLike, B: ArrayLike | None = None, *, states: Sequence[str], inputs: Sequence[str] = (),
        C: ArrayLike | None = None, D: ArrayLike | None = None, outputs: Sequence[str] = (),
    ) -> Self:  # fmt: skip
        """Return a system from matrices; without ``C`` the outputs are the states. See also ``united`` and ``sampled``.

        Raises DravikError when a matrix does not fit the names, or holds values that are not finite.
        """
        states, inputs = arguments.names(states, "states"), arguments.names(inputs, "inputs")
        n, m = len(states), len(inputs)
        names = arguments.names(outputs, "outputs") if C is not None else list(states)
        parts = {
            "A": (np.zeros((0, 0)) if n == 0 else arguments.numbers(A, "A"), (n, n)),
            "B": (np.zeros((n, m)) if B is None else arguments.numbers(B, "B"), (n, m)),
            "C": (np.eye(n) if C is None else arguments.numbers(C, "C"), (len(names), n)),
            "D": (np.zeros((len(names), m)) if D is None else arguments.numbers(D, "D"), (len(names), m)),
        }
        for name, (matrix, shape) in parts.items():
            if matrix.shape != shape and matrix.size + math.prod(shape) > 0:
                raise DravikError(f"{name} has shape {matrix.shape}", expected=f"{shape} from the names given")
        a, b, c, d = (matrix.reshape(shape) for matrix, shape in parts.values())
        return cls(a, b, c, d, list(states), list(inputs), names)

    def plain(
        self, *, A: Floats, B: Floats, C: Floats, D: Floats, names: Sequence[Sequence[str]],
        units: Mapping[str, str] | None = None,
    ) -> Any:  # fmt: skip
        """Return a plain system of other matrices and names (states, inputs, outputs), with this one's sample time."""
        states, inputs, outputs = (list(n) for n in names)
        kept = {n: u for n, u in (self.units if units is None else units).items() if n in {*states, *inputs, *outputs}}
        return self._of_these(A, B, C, D, states, inputs, outputs, kept, self.sample_time, self.title)

    def __eq__(self, other: object) -> bool:
        """Whether two systems are the same to the last bit: matrices, names, units and sample time."""
        if type(other) is not type(self):
            return NotImplemented
        pairs = ((getattr(self, f.name), getattr(other, f.name)) for f in fields(self))
        return all(np.array_equal(a, b) if isinstance(a, np.ndarray) else a == b for a, b in pairs)

    def __hash__(self) -> int:
        return hash(
            (*(getattr(self, n).tobytes() for n in "ABCD"), *self.states, *self.inputs, *self.outputs, self.sample_time)
        )

    @staticmethod
    def _of_these(*parts: Any) -> Any:
        return NamedMatrices(*parts)

    # -- names ---------------------------------------------------------------------------------------------------------

    def indices(self, names: Sequence[str], kind: str) -> list[int]:
        """Return the places of names among ``states``, ``inputs`` or ``outputs``; raises DravikError for others."""
        own, names = getattr(self, kind), arguments.names(names, kind)
        for name in names:
            if name not in own:
                what = f"the model has no {kind[:-1]} {name!r}"
                raise DravikError(what, expected=", ".join(own), hint=nearest(name, own))
        return [own.index(n) for n in names]

    def part(
        self, *, states: Sequence[str] | None = None, inputs: Sequence[str] | None = None,
        outputs: Sequence[str] | None = None,
    ) -> Self:  # fmt: skip
        """Return the system of some states, inputs and outputs; states left out are held where they are.

        Raises DravikError for a name that it does not have.
        """
        s = self.indices(self.states if states is None else states, "states")
        i = self.indices(self.inputs if inputs is None else inputs, "inputs")
        o = self.indices(self.outputs if outputs is None else outputs, "outputs")
        return replace(
            self, A=self.A[np.ix_(s, s)], B=self.B[np.ix_(s, i)], C=self.C[np.ix_(o, s)], D=self.D[np.ix_(o, i)],
            states=[self.states[k] for k in s], inputs=[self.inputs[k] for k in i],
            outputs=[self.outputs[k] for k in o],
        )  # fmt: skip

    def renamed(self, names: Mapping[str, str]) -> Self:
        """Return the system with other names; raises DravikError for a name that is not there, or then twice."""
        known, names = {*self.states, *self.inputs, *self.outputs}, arguments.mapping(names, "new names")
        arguments.names(list(names.values()), "new names")
        for name in names:
            if name not in known:
                raise DravikError(f"there is no {name!r} to rename", hint=nearest(name, known))
        lists = [[names.get(n, n) for n in own] for own in (self.states, self.inputs, self.outputs)]
        for own in lists:
            if len(set(own)) < len(own):
                raise DravikError(f"a name would stand twice among {', '.join(own)}", hint="another name")
        units = {names.get(n, n): u for n, u in self.units.items()}
        return replace(self, states=lists[0], inputs=lists[1], outputs=lists[2], units=units)

    def with_facts(self, **changes: Any) -> Self:
        """Return the system with some of its fields changed, such as ``title``, ``units`` or ``dt``."""
        return replace(self, **changes)

    def united(self, **units: str) -> Self:
        """Return the system with SI units of some of its signals, such as ``q="rad/s"``."""
        arguments.names(list(units.values()), "units")
        return replace(self, units={**self.units, **units})
