"""What trim, linearise, flights and loop analyses need of anything that moves: the Plant protocol."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol, runtime_checkable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.errors import DravikError

__all__ = ["FunctionPlant", "Plant", "plant"]

Floats = NDArray[np.float64]
Function = Callable[[float, Floats, Floats], ArrayLike]
Matrices = tuple[Floats, Floats, Floats, Floats]


@runtime_checkable
class Plant(Protocol):
    """Named states, inputs and outputs with units (SI), bounds and scales; rates and outputs in one call.

    A plant may also have ``jacobian(t, x, u)``, which returns A, B, C, D; without it slopes are central differences.
    """

    @property
    def state_names(self) -> list[str]:
        """Names of the states, in order."""

    @property
    def input_names(self) -> list[str]:
        """Names of the inputs, in order."""

    @property
    def output_names(self) -> list[str]:
        """Names of the outputs, in order."""

    @property
    def units(self) -> Mapping[str, str]:
        """SI units by name, where there are any."""

    @property
    def bounds(self) -> Mapping[str, tuple[float, float]]:
        """Limits of states and inputs by name, where there are any."""

    @property
    def scales(self) -> Mapping[str, float]:
        """What counts as much of a state, input or output, by name; one where it is not given."""

    def evaluate(self, t: float, x: Floats, u: Floats) -> tuple[Floats, Floats]:
        """Return the rates of the states, and the outputs."""


@dataclass(frozen=True)
class FunctionPlant:
    """A plain function of time, state and input as a plant."""

    function: Function
    state_names: list[str]
    input_names: list[str]
    output_names: list[str]
    output_function: Function | None = None
    units: Mapping[str, str] = field(default_factory=dict)
    bounds: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    scales: Mapping[str, float] = field(default_factory=dict)
    jacobian: Callable[[float, Floats, Floats], Matrices] | None = None

    def evaluate(self, t: float, x: Floats, u: Floats) -> tuple[Floats, Floats]:
        """Return rates and outputs; raises DravikError when a function's result has another shape."""
        # copies: what a function writes into its arguments, or into an array that it returns again, stays its own
        rates = _array(self.function(t, x.copy(), u.copy()), "the function")
        if rates.shape != (len(self.state_names),):
            raise DravikError(
                f"the function returned shape {rates.shape}",
                expected=f"one rate for each of {self.state_names}",
            )
        if self.output_function is None:
            return rates, np.array(x, dtype=float)
        outputs = _array(self.output_function(t, x.copy(), u.copy()), "the output function")
        if outputs.shape != (len(self.output_names),):
            raise DravikError(
                f"the output function returned shape {outputs.shape}",
                expected=f"one value for each of {self.output_names}",
            )
        return rates, outputs


def _array(value: ArrayLike, what: str) -> Floats:
    try:
        if np.iscomplexobj(value):
            raise TypeError
        return np.array(value, dtype=float)
    except (TypeError, ValueError):
        raise DravikError(f"{what} returned {arguments.shown(value)}", expected="real numbers") from None


def _names(given: Sequence[str] | Mapping[str, str], what: str, units: dict[str, str]) -> list[str]:
    """Return names, and add the units that a mapping gives with them."""
    if isinstance(given, Mapping):
        found = arguments.mapping(given, what)
        arguments.names(list(found.values()), f"units of {what}")
        units.update(found)
    return arguments.names(given, what)


def plant(
    function: Function,
    *,
    states: Sequence[str] | Mapping[str, str],
    inputs: Sequence[str] | Mapping[str, str] = (),
    outputs: Sequence[str] | Mapping[str, str] = (),
    output_function: Function | None = None,
    bounds: Mapping[str, tuple[float, float]] | None = None,
    scales: Mapping[str, float] | None = None,
    jacobian: Callable[[float, Floats, Floats], Matrices] | None = None,
) -> FunctionPlant:
    """Return a plain function ``f(t, x, u) -> rates`` as a plant, ready for trim, linear models and flights.

    A function that Numba has compiled is called compiled.

    Parameters
    ----------
    function : callable
        Takes the time (s), the state (n,) and the inputs (m,); returns the rates (n,). All in SI.
    states, inputs, outputs : sequence of str, or mapping of str to str
        Names, or names with their SI units. Without ``outputs`` the states are the outputs.
    output_function : callable, optional
        Takes what ``function`` does; returns the outputs (k,).
    bounds : mapping of str to (low, high), optional
        Limits of states and inputs by name.
    scales : mapping of str to float, optional
        Typical sizes of states and inputs by name.
    jacobian : callable, optional
        Takes what ``function`` does; returns A, B, C, D.

    Returns
    -------
    Plant
        The plant.

    Raises
    ------
    DravikError
        For outputs named without a function for them, a name that stands twice, and bounds or scales of what is not
        there.

    Examples
    --------
    >>> import dravik as dv
    >>> swing = dv.plant(
    ...     lambda t, x, u: [x[1], u[0] - 9.8 * x[0]], states={"angle": "rad", "rate": "rad/s"}, inputs=["push"]
    ... )
    >>> swing.units["angle"]
    'rad'
    """
    if outputs and output_function is None:
        raise DravikError("outputs are named, but there is no output_function")
    units: dict[str, str] = {}
    moved, driven, seen = (
        _names(g, w, units) for g, w in ((states, "states"), (inputs, "inputs"), (outputs, "outputs"))
    )
    names = seen if output_function is not None else moved
    own = [*moved, *driven]
    for name in own:
        if own.count(name) > 1:
            raise DravikError(f"the plant has two states or inputs {name!r}", hint="another name")
    limits = {n: _pair(v, f"bounds of {n}") for n, v in arguments.mapping(bounds or {}, "bounds").items()}
    sizes = {n: arguments.number(v, f"scale of {n}") for n, v in arguments.mapping(scales or {}, "scales").items()}
    for what, given in (("bounds", limits), ("a scale", sizes)):
        for name in given:
            if name not in own and name not in names:
                raise DravikError(
                    f"{what} names {name!r}, which the plant has not", expected="one of " + ", ".join([*own, *names])
                )
    return FunctionPlant(function, moved, driven, names, output_function, units, limits, sizes, jacobian)


def _pair(value: object, what: str) -> tuple[float, float]:
    if not isinstance(value, tuple | list) or len(value) != 2 or not all(isinstance(v, int | float) for v in value):
        raise DravikError(f"{what} cannot be {arguments.shown(value)}", expected="two numbers, the lower first")
    if not value[0] < value[1]:
        raise DravikError(f"{what} {arguments.shown(value)} does not rise", expected="the lower first")
    return float(value[0]), float(value[1])


class Columns(NamedTuple):
    """The columns of a plant's linear model as arrays: what counts as much of each, and its bounds.

    ``increments`` are pairs of columns: an input that is added to an effector's command, and that effector's state, at
    whose stops it has no more effect in one direction.
    """

    names: list[str]
    units: dict[str, str]
    sizes: Floats
    low: Floats
    high: Floats
    increments: NDArray[np.int64]

    @staticmethod
    def of(plant: Plant) -> "Columns":
        """Return those of a plant."""
        names, bounds = [*plant.state_names, *plant.input_names], plant.bounds
        places = {n: k for k, n in enumerate(names)}
        low, high = np.array([bounds.get(n, (-np.inf, np.inf)) for n in names], dtype=float).reshape(-1, 2).T
        pairs = [(places[f"{n}_increment"], places[n]) for n in bounds if {n, f"{n}_increment"} <= places.keys()]
        return Columns(
            names, {n: plant.units.get(n, "") for n in names}, np.array([plant.scales.get(n, 1.0) for n in names]),
            low, high, np.array(pairs, dtype=np.int64).reshape(-1, 2),
        )  # fmt: skip

    def open_sides(self, values: Floats) -> NDArray[np.int64]:
        """Return 1 or -1 for what stands at its lower or upper bound (or an increment on such), else 0."""
        span = self.high - self.low
        room = np.where(np.isfinite(span), 1e-9 * span, 0.0)
        found = np.where(values <= self.low + room, 1, np.where(values >= self.high - room, -1, 0))
        found[self.increments[:, 0]] = found[self.increments[:, 1]]
        return found
