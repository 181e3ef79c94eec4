"""What trim, linearise and the loop analyses need of anything that moves: the Plant protocol."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError

__all__ = ["FunctionPlant", "Plant", "plant"]

Floats = NDArray[np.float64]


class Plant(Protocol):
    """Named states, inputs and outputs; derivatives and outputs as functions of time, state and input."""

    @property
    def state_names(self) -> list[str]:
        """Names of the states, in order."""

    @property
    def input_names(self) -> list[str]:
        """Names of the inputs, in order."""

    @property
    def output_names(self) -> list[str]:
        """Names of the outputs, in order."""

    def derivatives(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return the rates of the states."""

    def outputs(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return the outputs."""


@dataclass(frozen=True)
class FunctionPlant:
    """A plain function of time, state and input as a plant."""

    function: Callable[[float, Floats, Floats], ArrayLike]
    state_names: list[str]
    input_names: list[str]
    output_names: list[str]
    output_function: Callable[[float, Floats, Floats], ArrayLike] | None = None

    def derivatives(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return the rates of the states; raises DravikError when the function's answer has another shape."""
        rates = np.asarray(self.function(t, x, u), dtype=float)
        if rates.shape != (len(self.state_names),):
            raise DravikError(
                f"the function returned shape {rates.shape}",
                expected=f"one rate for each of {self.state_names}",
            )
        return rates

    def outputs(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return the outputs: the states unless a function for them was given."""
        if self.output_function is None:
            return np.asarray(x, dtype=float)
        return np.asarray(self.output_function(t, x, u), dtype=float)


def plant(
    function: Callable[[float, Floats, Floats], ArrayLike],
    *,
    states: Sequence[str],
    inputs: Sequence[str] = (),
    outputs: Sequence[str] = (),
    output_function: Callable[[float, Floats, Floats], ArrayLike] | None = None,
) -> FunctionPlant:
    """Return a plain function ``f(t, x, u) -> rates`` as a plant, ready for trim and linearise.

    ``outputs`` names what ``output_function(t, x, u)`` returns; without it the outputs are the states.
    Raises DravikError when outputs are named without a function for them.
    """
    if outputs and output_function is None:
        raise DravikError("outputs are named, but there is no output_function")
    names = list(outputs) if output_function is not None else list(states)
    return FunctionPlant(function, list(states), list(inputs), names, output_function)
