"""The trimmed point: state, inputs, residuals, and what stands at a stop."""

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.table_limits import TableExceedance
from dravik.host.notebooks import Shown, ShownAsTable
from dravik.plants import Plant
from dravik.trimming.statement import Statement
from dravik.units import from_si

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["PlantTrim", "TrimPoint"]

Floats = NDArray[np.float64]


@dataclass(frozen=True, repr=False)
class TrimPoint(ShownAsTable):
    """A flight condition held, or the nearest to it that was found.

    Attributes
    ----------
    craft : Aircraft
        The aircraft.
    statement : Statement
        What was asked.
    state : array, shape (n,)
        The integrated state, SI.
    inputs : array, shape (m,)
        The inputs in the kernel's order, SI.
    signals : dict of str to float
        Every signal, SI; ``point["alpha"]`` is short for it.
    residuals : dict of str to float
        What is left of each equation, SI.
    at_stop : list of str
        Unknowns at a limit.
    drifting : dict of str to float
        Integrals that do not stand still, with their rates.
    reached : bool
        Whether it is held.
    evaluations : int
        Evaluations of the search.
    unknowns : list of str
        What was free.
    outside : list of TableExceedance
        Tables that the point has left, beyond the last value of which each holds its end.
    spare : list of str
        How inputs were chosen of which there are more than the condition needs.
    airspeed_from : str
        How an airspeed such as ``"1.3 stall"`` came about: the stall speed and what limits it. Empty for other speeds.

    Examples
    --------
    >>> import dravik as dv
    >>> point = dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> point.reached, round(point["airspeed"], 6)
    (True, 62.0)
    """

    craft: Aircraft
    statement: Statement
    state: Floats
    inputs: Floats
    signals: dict[str, float]
    residuals: dict[str, float]
    at_stop: list[str]
    drifting: dict[str, float]
    reached: bool
    evaluations: int
    unknowns: list[str] = field(default_factory=list)
    outside: list[TableExceedance] = field(default_factory=list)
    spare: list[str] = field(default_factory=list)
    airspeed_from: str = ""

    def summary_table(self) -> Shown:
        """Return what a notebook shows: the main signals, and whether the condition holds."""
        held = "" if self.reached else ", not reached"
        return f"{self.craft.name}: {self.title}{held}", ("signal", "value", "unit", "meaning"), self.rows()

    @property
    def title(self) -> str:
        """The condition in words."""
        return self.statement.title

    @property
    def coordinates(self) -> str:
        """``air``, or ``body`` where angles to the flow mean nothing or are singular: hover, straight up or down."""
        return self.statement.coordinates

    def __getitem__(self, name: str) -> float:
        """Return a signal's value in SI; raises DravikError when there is no such signal."""
        self.craft.signal(name)
        return self.signals[name]

    @property
    def turning(self) -> float:
        """The rate of the heading, rad/s; zero with the nose straight up, where there is none."""
        q, r, phi, theta = (self.signals[n] for n in ("q", "r", "phi", "theta"))
        across = math.cos(theta)
        return (q * math.sin(phi) + r * math.cos(phi)) / across if abs(across) > 1e-6 else 0.0

    @property
    def worst_residual(self) -> float:
        """The largest residual, m/s^2 or rad/s^2 or the like."""
        return max((abs(v) for v in self.residuals.values()), default=0.0)

    @property
    def table(self) -> "DataFrame":
        """The main signals for people: name, value and unit shown, meaning."""
        import pandas as pd

        return pd.DataFrame(self.rows(), columns=["signal", "value", "unit", "meaning"]).set_index("signal")

    def rows(self) -> list[tuple[str, float, str, str]]:
        """Return name, value, unit shown to people, and meaning of the main signals."""
        craft = self.craft
        flight = ["airspeed", "altitude", "mach", "alpha", "beta", "phi", "theta", "psi", "flight_path", "nz"]
        wanted = [
            *flight,
            *(n for n in self.unknowns if n not in flight and craft.signals[n].kind != "state"),
        ]
        wanted += [n for n in craft.limits if n not in wanted]
        totals = ("CL", "CD", "thrust", "fuel_flow", "shaft_power", "electric_power")
        wanted += [n for n in totals if n in craft.signals]
        # shaft speeds are shown in rpm, not in deg/s
        shafts = {f"speed_{n}": f"rpm_{n}" for n in craft.definition.engines if f"rpm_{n}" in craft.signals}
        wanted = [shafts.get(n, n) for n in wanted]
        rows = []
        for name in wanted:
            signal = craft.signals[name]
            unit, factor, _ = from_si(signal.unit)
            # zero but for the search's rounding: not worth a line
            rows.append((name, round(self.signals[name] * factor, 9) + 0.0, unit, signal.meaning))
        return rows


@dataclass(frozen=True)
class PlantTrim:
    """An equilibrium of any plant: the plant, state, inputs, residuals."""

    plant: Plant
    state: Floats
    inputs: Floats
    residuals: dict[str, float]
    reached: bool
