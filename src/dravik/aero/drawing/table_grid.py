"""What tables to build: at which speed and height, over which angles, settings and thrust coefficients."""

from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.definition.fields import Angle, Length, Model, Speed
from dravik.errors import DravikError

__all__ = ["TableGrid"]

Floats = NDArray[np.float64]


class TableGrid(Model):
    """The grid of a set of tables.

    ``airspeed`` and ``altitude`` set Mach and Reynolds numbers. With ``mach`` the tables of surfaces run over Mach
    numbers too, but for those of slipstreams. Angles of attack run in steps of ``alpha_step`` between
    ``alpha_fine``, and more widely out to ±180 degrees; sideslip in steps of ``beta_step`` up to ``beta_fine``, and
    more widely to ±90. Each control is laid out over its range in about ``settings`` steps; ``flap`` names the control
    whose setting the slipstream's tables run over (and the one called flap, if there is one, unless said).
    """

    airspeed: Annotated[Speed, Field(gt=0.0)] = 50.0  #: airspeed for Mach and Reynolds numbers
    altitude: Length = 0.0  #: altitude for Mach and Reynolds numbers
    alpha_fine: tuple[Angle, Angle] = (-0.28, 0.49)  #: range of angles of attack with the fine step
    alpha_step: Annotated[Angle, Field(gt=0.005)] = 0.0349065850398866  #: fine step of the angle of attack
    beta_fine: Annotated[Angle, Field(gt=0.0, lt=1.57)] = 0.3490658503988659  #: sideslip up to which the fine step goes
    beta_step: Annotated[Angle, Field(gt=0.005)] = 0.08726646259971647  #: fine step of the sideslip
    settings: Annotated[int, Field(ge=3, le=41)] = 9  #: number of settings of each control
    roll_rates: tuple[float, ...] = (0.02, 0.05, 0.1, 0.15, 0.2, 0.3)  #: dimensionless roll rates p b / 2V
    #: thrust coefficients of the slipstream's tables
    thrust_coefficients: tuple[float, ...] = (0.0, 0.05, 0.1, 0.2, 0.4, 0.8)
    #: Mach numbers of the tables; without it those of surfaces are of one speed
    mach: tuple[float, ...] = (0.0, 0.5, 0.8, 0.95, 1.05, 1.2, 1.5, 2.0, 3.0)
    flap: str = ""  #: control that the slipstream's tables run over

    @model_validator(mode="after")
    def _rising(self) -> "TableGrid":
        for name in ("alpha_fine", "roll_rates", "thrust_coefficients", "mach"):
            values = getattr(self, name)
            if len(values) < 2 or not np.all(np.diff(values) > 0.0):
                raise DravikError(
                    f"the values {list(values)} do not rise", where=name, expected="two or more rising values"
                )
        if self.roll_rates[0] <= 0.0:
            raise DravikError(
                f"the first roll rate, {self.roll_rates[0]:g}, is not above zero",
                where="roll_rates",
                expected="p b/2V to one side",
            )
        if self.mach[0] < 0.0:
            raise DravikError(
                f"the first Mach number, {self.mach[0]:g}, is below zero", where="mach", expected="0 or more"
            )
        if self.thrust_coefficients[0] != 0.0:
            raise DravikError(
                f"the first coefficient, {self.thrust_coefficients[0]:g}, is not zero",
                where="thrust_coefficients",
                expected="0 first",
            )
        return self

    @property
    def surface_machs(self) -> tuple[float, ...]:
        """The Mach numbers over which the tables of surfaces run; none where they are of one speed."""
        return self.mach if "mach" in self.model_fields_set else ()

    def alphas(self) -> Floats:
        """Return angles of attack, rad, from -pi to pi."""
        low, high = self.alpha_fine
        first, last = round(low / self.alpha_step), round(high / self.alpha_step)
        fine = self.alpha_step * np.arange(first, last + 1).astype(float)
        wide = np.radians([20.0, 25.0, 30.0, 35.0, 40.0, 50.0, 60.0, 75.0, 90.0, 105.0, 120.0, 150.0, 170.0, 180.0])
        return _joined(fine, np.concatenate([-wide, wide]), 0.8 * self.alpha_step)

    def betas(self) -> Floats:
        """Return sideslip angles, rad, from -pi/2 to pi/2."""
        count = round(self.beta_fine / self.beta_step)
        fine = self.beta_step * np.arange(-count, count + 1).astype(float)
        wide = np.radians([30.0, 45.0, 60.0, 75.0, 90.0])
        return _joined(fine, np.concatenate([-wide, wide]), 0.8 * self.beta_step)

    def deflections(self, limits: tuple[float, float]) -> Floats:
        """Return settings of a control over its range, zero among them when the range has it."""
        low, high = limits
        if not low < 0.0 < high:
            return np.linspace(low, high, max(3, self.settings // 2 + 1))
        below = max(2, round(self.settings * -low / (high - low)))
        above = max(2, round(self.settings * high / (high - low)))
        sides = np.linspace(low, 0.0, below + 1), np.linspace(0.0, high, above + 1)[1:]
        return np.concatenate(sides)


def _joined(fine: NDArray[Any], wide: Floats, apart: float) -> Floats:
    """Return the fine values, and those of the wide ones that lie clear outside them."""
    outside = wide[(wide < fine[0] - apart) | (wide > fine[-1] + apart)]
    return np.unique(np.concatenate([outside, fine]))
