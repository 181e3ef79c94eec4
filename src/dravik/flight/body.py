"""What the flying core works on: the interface of a body, which a compiled aircraft and any plant have."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition.effectors import Parameter
from dravik.definition.signals import InputSpec, Signal
from dravik.errors import DravikError
from dravik.flight import pauses
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.plant_body import PlantBody
from dravik.kernel import Workspace
from dravik.plants import Plant
from dravik.recording.recording import Event

__all__ = ["Body", "body_of"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class Body(Protocol):
    """Names and signals of what flies, its workspace, and how it moves."""

    name: str
    state_names: list[str]
    inputs: dict[str, InputSpec]
    signals: dict[str, Signal]
    registers: dict[str, int]  # register of each signal
    parameters: Mapping[str, Parameter]
    work: Workspace
    is_sensing: bool  # whether sensors are on board
    switches: frozenset[str]  # inputs from which more follows: modes, laws that are engaged
    key: tuple[object, ...]  # must be equal for a saved flight of one body to be restored into another

    def signal(self, name: str) -> Signal:
        """Return a signal; raises DravikError, naming the nearest, when there is none of that name."""

    def input_index(self, name: str) -> int:
        """Return the place of an input; raises DravikError, naming the nearest."""

    def evaluate(self, t: float, x: Floats, u: Floats) -> None:
        """Put every signal at a state and inputs into the registers."""

    def look_ahead(self, t: float, x: Floats, u: Floats, dt: float, step: int) -> None:
        """Put every signal into the registers, with the samples that are taken at this instant."""

    def look_back(self) -> None:
        """Hold again what was held before the look ahead."""

    def settle_inputs(self, inputs: Floats) -> None:
        """Put what an estimator on board gives into the inputs that are held."""

    def clamp(self, x: Floats) -> None:
        """Put states that have limits back inside them."""

    def begin_memory(self, t: float, x: Floats, u: Floats, dt: float, held: Mapping[str, float]) -> None:
        """Begin to remember: what the start gives, or what was ``held`` before; evaluate what follows.

        Raises DravikError for a period that is no whole number of steps, and for held values of other names.
        """

    def memory(self) -> dict[str, float]:
        """Return what is remembered, by name."""

    def steps(
        self, x: Floats, when: tuple[float, float, int], controls: Floats, every: int, picks: Ints, out: Floats,
        last: int,
    ) -> tuple[int, int]:  # fmt: skip
        """Fly as ``fly_steps`` does; ``when`` is the offset, the step (s), and the number of the first step."""

    def failure(self, t: float, dt: float) -> tuple[float, str]:
        """Return when and why it could not go on, in words."""

    def events(self) -> list[Event]:
        """Return what the conditions have logged."""

    def begin(self, x: Floats, u: Floats) -> tuple[pauses.Change, list[Event]]:
        """Return the start with all of its script that is so from the beginning."""

    def happened(self, since: int) -> Iterable[tuple[str, ...]]:
        """Return what of its script the conditions logged after the first ``since`` stand for."""

    def follow(self, then: tuple[str, ...], t: float, x: Floats, u: Floats, now: Floats) -> pauses.Change:
        """Return the flight after one of them."""

    def change(
        self, values: Mapping[str, float], u: Floats, read: Callable[[str], float]
    ) -> tuple[tuple[str, str | float], ...]:
        """Set inputs in ``u``, with what follows from that; return parameters that are set besides."""

    def switched(self, before: Floats, after: Floats, t: float, but: str = "") -> list[Event]:
        """Return the modes that have begun and the laws that were engaged, but for those of one mode logic."""

    def ended_by(self) -> dict[str, Any] | None:
        """Return the event that has ended the flight, and whether it was asked for."""

    def origin(self) -> dict[str, Any]:
        """Return what it is, as plain data for a recording."""

    def afterwards(self, x: Floats, u: Floats, names: Sequence[str], rows: Floats) -> dict[str, Any]:
        """Return what a recording keeps beside its rows."""

    def outside(self) -> list[tuple[str, str, int, float, float]]:
        """Return the tables that were left."""


def body_of(what: object) -> Body:
    """Return what flies; raises DravikError for what is neither an aircraft nor a plant."""
    if isinstance(what, Aircraft):
        return AircraftBody(what)
    if isinstance(what, Plant):
        return PlantBody(what)
    raise DravikError(
        f"a {type(what).__name__} cannot be flown", expected="an aircraft, or a plant: dv.plant(f, states=...)"
    )
