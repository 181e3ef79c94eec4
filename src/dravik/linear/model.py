"""The linear model of an aircraft or plant: a linear system about an operating point."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray

from dravik.linear.approximations import ShortForm, short_forms
from dravik.linear.modes import Modes, find_modes
from dravik.systems.system import LinearSystem

__all__ = ["Kink", "LinearModel"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kink:
    """A slope that differs from one side of the operating point to the other by ``share`` of its size."""

    row: str
    column: str
    slope: float
    share: float


@dataclass(frozen=True, eq=False, repr=False)
class LinearModel(LinearSystem):
    """A linear system of deviations (SI) from an operating point.

    Attributes
    ----------
    x0, u0, y0 : array
        States (n,), inputs (m,) and outputs (k,) of the operating point, SI.
    drift : array, shape (n,)
        Rates of its states there, which about an instant of a flight are not small.
    axes : str
        Those of an aircraft's motion: ``"air"``, ``"body"`` or ``"stability"``.
    kinks : list
        Slopes that depend on the side they are taken from (a table bends there), so that nobody trusts them unseen.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), outputs=["nz"])
    >>> model.part(inputs=["elevator_increment"]).D.shape
    (1, 1)
    """

    x0: Floats = field(default_factory=lambda: np.zeros(0))
    u0: Floats = field(default_factory=lambda: np.zeros(0))
    y0: Floats = field(default_factory=lambda: np.zeros(0))
    kinks: list[Kink] = field(default_factory=list)
    drift: Floats = field(default_factory=lambda: np.zeros(0))
    axes: str = ""

    def part(
        self, *, states: Sequence[str] | None = None, inputs: Sequence[str] | None = None,
        outputs: Sequence[str] | None = None,
    ) -> Self:  # fmt: skip
        """Return the model of some states, inputs and outputs; states left out are held at the operating point.

        Raises DravikError for a name that the model does not have.
        """
        found = super().part(states=states, inputs=inputs, outputs=outputs)
        x0, u0, y0 = (
            own[self.indices(getattr(found, kind), kind)] if own.size else own
            for kind, own in (("states", self.x0), ("inputs", self.u0), ("outputs", self.y0))
        )
        drift = self.drift[self.indices(found.states, "states")] if self.drift.size else self.drift
        kept = {*found.states, *found.outputs}
        return replace(found, kinks=[k for k in self.kinks if k.column in kept], x0=x0, u0=u0, y0=y0, drift=drift)

    def modes(self) -> Modes:
        """Return the modes, named and classified."""
        return find_modes(self.A, self.states, self.x0)

    def short_forms(self) -> list[ShortForm]:
        """Return the classical approximations of its modes, each with its error against the whole model."""
        return short_forms(self, self.modes())

    def coupling(self) -> float:
        """Return the largest share that the longitudinal states take in a lateral mode, or the other way round.

        By participation: 0 where the two motions are apart, a half where a mode belongs to both.
        """
        return self.modes().coupling

    def as_dict(self) -> dict[str, object]:
        """Return everything as plain lists, for JSON."""
        return {
            **super().as_dict(), **{k: getattr(self, k).tolist() for k in ("x0", "u0", "y0", "drift")},
            "axes": self.axes, "kinks": [vars(k) for k in self.kinks],
        }  # fmt: skip
