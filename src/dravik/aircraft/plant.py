"""A compiled aircraft as a plant: in Euler angles, and air angles or body velocities; every signal is an output."""

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.compiling.compiled_aircraft import CompiledAircraft
from dravik.kernel import new_workspace
from dravik.kernel.program import EVERYTHING
from dravik.motion.equations import evaluate
from dravik.motion.minimal_coordinates import (
    AIR_CHART,
    BODY_CHART,
    minimal_from_state,
    minimal_rates,
    state_from_minimal,
)
from dravik.plants import Columns

__all__ = ["COORDINATES", "AircraftPlant"]

Floats = NDArray[np.float64]
# what differences of 1 count as in a linear model: a metre is little, a radian is much
_SIZES = {"m": 100.0, "m/s": 10.0}  # scales of lengths and speeds
_COMMON = ("phi", "theta", "psi", "p", "q", "r")
#: Chart coordinates by name, for ``Aircraft.plant``.
COORDINATES = {
    "air": (AIR_CHART, ("north", "east", "altitude", "airspeed", "alpha", "beta", *_COMMON)),
    "body": (BODY_CHART, ("north", "east", "altitude", "u", "v", "w", *_COMMON)),
}


class AircraftPlant:
    """An aircraft behind the Plant protocol, in minimal coordinates; every signal is an output."""

    def __init__(self, built: CompiledAircraft, coordinates: str) -> None:
        self.coordinates = coordinates
        self.kind, names = COORDINATES[coordinates]
        self.state_names = [*names, *(s.name for s in built.tape.states)]
        self.input_names = list(built.inputs)
        self.output_names = list(built.signals)
        self._program = built.program
        self._registers = built.signal_registers
        self.workspace = new_workspace(built.program, built.tape)
        self._built = built

    def __reduce__(self) -> tuple[object, ...]:
        # sent or copied it is made anew: the program holds addresses of this process
        return AircraftPlant, (self._built, self.coordinates)

    @property
    def columns(self) -> Columns:
        """States and inputs as arrays, worked out once for an aircraft and these coordinates."""
        found: Columns | None = self._built.derived.get(f"columns {self.coordinates}")
        if found is None:
            found = Columns.of(self)
            self._built.derived[f"columns {self.coordinates}"] = found
        return found

    @cached_property
    def units(self) -> dict[str, str]:
        """SI units by name."""
        return {name: signal.unit for name, signal in self._built.signals.items() if signal.unit}

    @cached_property
    def bounds(self) -> dict[str, tuple[float, float]]:
        """Ranges of effectors, throttles and inputs."""
        limits = {n: e.range for n, e in self._built.effectors.items() if e.range is not None}
        return limits | {n: (i.low, i.high) for n, i in self._built.inputs.items()}

    @cached_property
    def scales(self) -> dict[str, float]:
        """What counts as much of a signal."""
        return {n: _SIZES[u] for n, u in self.units.items() if u in _SIZES}

    def evaluate(self, t: float, x: Floats, u: Floats) -> tuple[Floats, Floats]:
        """Return the rates of the minimal coordinates, and every signal."""
        # scratch for the integrated state and its rates, one number longer
        n = len(x)
        rates, scratch = np.empty(n), np.empty((2, n + 1))
        minimal_rates(
            self._program, self.workspace, t, x, u, self.kind, scratch[0], scratch[1], rates, False, EVERYTHING
        )
        outputs: Floats = self.workspace.registers[self._registers].copy()
        return rates, outputs

    def to_state(self, z: Floats, u: Floats) -> Floats:
        """Return the integrated state of minimal coordinates."""
        # one more: three Euler angles become four numbers of a quaternion
        x = np.empty(len(z) + 1)
        state_from_minimal(self._program, self.workspace, 0.0, z, u, self.kind, x)
        return x

    def from_state(self, x: Floats, u: Floats, t: float = 0.0) -> Floats:
        """Return the minimal coordinates of an integrated state, at a time (s)."""
        evaluate(self._program, self.workspace, t, x, u, np.empty(len(x)), False, EVERYTHING)
        z = np.empty(len(x) - 1)
        minimal_from_state(self._program, self.workspace, x, self.kind, z)
        return z
