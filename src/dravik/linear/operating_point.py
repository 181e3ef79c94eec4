"""An instant of a flight to linearise about, at which nothing need stand still."""

from dataclasses import dataclass
from typing import Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, require

__all__ = ["OperatingInstant"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class OperatingInstant:
    """A state and inputs of an aircraft to linearise about, at which nothing need stand still.

    Attributes
    ----------
    craft : Aircraft
        The aircraft.
    state : array, shape (n,)
        The integrated state in the kernel's order, SI.
    inputs : array, shape (m,)
        The inputs in the kernel's order, SI.
    time : float
        The time, s.
    coordinates : str
        ``"air"`` or ``"body"``.
    signals : dict of str to float
        Every signal then, SI.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika")
    >>> gliding = craft.state(position=(0, 0, 300), velocity=(15, 0, 1))
    >>> model = dv.linearise(craft, dv.OperatingInstant.of(craft, gliding, craft.default_inputs()))
    >>> round(float(model.drift[model.states.index("altitude")]), 6)
    -1.0
    """

    craft: Aircraft
    state: Floats
    inputs: Floats
    time: float
    coordinates: str
    signals: dict[str, float]

    @classmethod
    def of(
        cls, craft: Aircraft, state: ArrayLike, inputs: ArrayLike, *, time: float = 0.0, coordinates: str = "air"
    ) -> Self:
        """Return the instant with its signals; raises DravikError for shapes that do not fit, or values not finite."""
        require(craft, Aircraft, "the aircraft of an instant")
        x, u = np.array(state, dtype=float), np.array(inputs, dtype=float)
        for what, values, names in (("state", x, craft.state_names), ("inputs", u, craft.input_names)):
            if values.shape != (len(names),) or not np.all(np.isfinite(values)):
                raise DravikError(f"the {what} has the shape {values.shape}", expected=f"{len(names)} finite numbers")
        return cls(craft, x, u, float(time), coordinates, craft.values(x, u, t=float(time)))

    @property
    def title(self) -> str:
        """The instant in words."""
        return f"at {self.time:g} s"

    def __getitem__(self, name: str) -> float:
        """Return a signal's value in SI; raises DravikError when there is no such signal."""
        self.craft.signal(name)
        return self.signals[name]
