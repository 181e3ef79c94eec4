"""A compiled aircraft as a plant: in Euler angles, and air angles or body velocities; every signal is an output."""

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.specs import Built
from dravik.kernel import new_workspace
from dravik.kernel.chart import AIR_CHART, BODY_CHART, chart_from_state, chart_rates, state_from_chart
from dravik.kernel.motion import evaluate
from dravik.kernel.program import EVERYTHING

__all__ = ["COORDINATES", "AircraftPlant"]

Floats = NDArray[np.float64]
_COMMON = ("phi", "theta", "psi", "p", "q", "r")
#: Chart coordinates by name, for ``Aircraft.plant``.
COORDINATES = {
    "air": (AIR_CHART, ("north", "east", "altitude", "airspeed", "alpha", "beta", *_COMMON)),
    "body": (BODY_CHART, ("north", "east", "altitude", "u", "v", "w", *_COMMON)),
}


class AircraftPlant:
    """An aircraft behind the Plant protocol, in chart coordinates; every signal is an output."""

    def __init__(self, built: Built, coordinates: str) -> None:
        self.coordinates = coordinates
        self.chart, names = COORDINATES[coordinates]
        self.state_names = [*names, *(s.name for s in built.tape.states)]
        self.input_names = list(built.inputs)
        self.output_names = list(built.signals)
        self._program = built.program
        self._registers = np.array([built.tape.names[n] for n in self.output_names])
        self.workspace = new_workspace(built.program, built.tape)

    def derivatives(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return the rates of the chart coordinates."""
        n = len(x)
        rates = np.empty(n)
        scratch = np.empty((2, n + 1))
        chart_rates(
            self._program, self.workspace, t, x, u, self.chart, scratch[0], scratch[1], rates, False, EVERYTHING
        )
        return rates

    def outputs(self, t: float, x: Floats, u: Floats) -> Floats:
        """Return every signal."""
        self.derivatives(t, x, u)
        outputs: Floats = self.workspace.registers[self._registers].copy()
        return outputs

    def to_state(self, z: Floats, u: Floats) -> Floats:
        """Return the integrated state of chart coordinates."""
        x = np.empty(len(z) + 1)
        state_from_chart(self._program, self.workspace, 0.0, z, u, self.chart, x)
        return x

    def from_state(self, x: Floats, u: Floats) -> Floats:
        """Return the chart coordinates of an integrated state."""
        evaluate(self._program, self.workspace, 0.0, x, u, np.empty(len(x)), False, EVERYTHING)
        z = np.empty(len(x) - 1)
        chart_from_state(self._program, self.workspace, x, self.chart, z)
        return z
