"""Inputs, parameters and effectors as a definition gives them: ranges, dynamics, and what commands them."""

import re
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, ValidationInfo, field_validator, model_validator

from dravik.definition.fields import AngularRate, Duration, Formula, Model, positive
from dravik.errors import DravikError, nearest
from dravik.units import KINDS, kind_of_unit, quantity

__all__ = ["Effector", "Input", "Parameter", "Parameters"]

RATE_KIND = {"angle": "angular rate", "number": "frequency", "length": "speed", "speed": "acceleration"}


def _known_kind(value: object) -> object:
    if not isinstance(value, str) or value not in KINDS:
        hint = nearest(str(value), KINDS)
        raise DravikError(
            f"there is no kind of quantity {value!r}", expected="" if hint else ", ".join(KINDS), hint=hint
        )
    return value


AnyKind = Annotated[str, BeforeValidator(_known_kind)]


class _Ranged(Model):
    """Something with a kind of quantity and a range in it."""

    kind: str = "number"  #: kind of quantity
    range: tuple[float, float] | None = None  #: lowest and highest value
    description: str = ""  #: what it is, for lists of signals

    @field_validator("range", mode="before")
    @classmethod
    def _range(cls, value: object, info: ValidationInfo) -> object:
        if value is None:
            return None
        if not isinstance(value, list | tuple) or len(value) != 2:
            raise DravikError(f"{value!r} is no range", expected="two limits, the lower first")
        low, high = (quantity(v, info.data.get("kind", "number")) for v in value)
        if not low < high:
            raise DravikError(f"the range {value!r} does not rise", expected="two limits, the lower first")
        return low, high


class Input(_Ranged):
    """What a pilot, an autopilot or a test puts in; ``kind`` is any kind of quantity that has a unit.

    ``trim``: a trim may move it; ``trim_weight``: how much its deflection counts where there are more of them than the
    condition needs. ``follows``: a trim sets it to the value of this signal, as an autopilot
    takes over the present value when it is engaged.
    """

    kind: AnyKind = "number"  #: kind of quantity
    default: float = 0.0  #: value unless it is set
    trim: bool = False  #: whether a trim may move it
    #: how much its deflection counts where a trim has more inputs than it needs
    trim_weight: Annotated[float, Field(gt=0.0, le=1e6)] = 1.0
    follows: str = ""  #: signal whose value a trim and an engaged law give it

    @field_validator("default", mode="before")
    @classmethod
    def _default(cls, value: object, info: ValidationInfo) -> float:
        kind = info.data.get("kind", "number")
        return 0.0 if value == 0 else quantity(value, kind)


class Effector(_Ranged):
    """A control surface, or anything that is commanded and follows: actuator, range, rate limit, command."""

    kind: Literal["angle", "number", "length", "speed"] = "angle"  #: kind of quantity of its position
    rate: float | None = None  #: rate limit of the actuator: the greatest rate of the position
    lag: Duration | None = None  #: time constant of a first-order actuator, a lag
    frequency: Annotated[AngularRate, Field(gt=0.0)] | None = None  #: natural frequency of a second-order actuator
    damping: float = Field(default=0.7, gt=0.0, le=5.0)  #: damping ratio of a second-order actuator
    command: Formula | None = None  #: formula of the commanded position
    trim: bool = False  #: whether a trim may move it, where it has no command

    @field_validator("rate", mode="before")
    @classmethod
    def _rate(cls, value: object, info: ValidationInfo) -> float | None:
        if value is None:
            return None
        return positive(RATE_KIND[info.data.get("kind", "angle")])(value)

    @model_validator(mode="after")
    def _one_dynamics(self) -> "Effector":
        if self.lag is not None and self.frequency is not None:
            raise DravikError(
                "both lag and frequency are given", where="lag", expected="lag (first order) or frequency (second)"
            )
        if self.trim and self.command is not None:
            raise DravikError(
                "a control with a formula for its command cannot have trim = true",
                where="trim",
                expected="trim on the input that commands it",
            )
        return self


_NUMBER_UNIT = re.compile(r"\s*[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?\s*(?P<unit>[^\s\d].*)?\s*")


class Parameter(Model):
    """A number that formulas read and that may be set without compiling anew: a gain, a scale, a dispersed value.

    ``value`` and ``range`` are quantities with their unit, which says what kind the parameter is; SI inside, ``unit``
    the SI unit.
    """

    value: float  #: its value, with its unit
    unit: str = ""  #: SI unit, found from the value
    range: tuple[float, float] | None = None  #: lowest and highest value that it may be set to
    description: str = ""  #: what it is

    @model_validator(mode="before")
    @classmethod
    def _in_si(cls, data: object) -> object:
        if isinstance(data, int | float | str) and not isinstance(data, bool):
            data = {"value": data}
        if not isinstance(data, dict) or "value" not in data or "unit" in data:
            return data
        raw = data["value"]
        match = _NUMBER_UNIT.fullmatch(raw) if isinstance(raw, str) else None
        kind = kind_of_unit((match["unit"] or "").strip()) if match else "number"
        found = {**data, "value": quantity(raw, kind), "unit": KINDS[kind][0]}
        if data.get("range") is not None:
            pair = data["range"]
            if not isinstance(pair, list | tuple) or len(pair) != 2:
                raise DravikError(f"{pair!r} is no range", where="range", expected="two limits, the lower first")
            low, high = (quantity(v, kind, where="range") for v in pair)
            if not low <= found["value"] <= high:
                raise DravikError(f"{raw!r} is outside its range", where="value", expected=f"{pair[0]} to {pair[1]}")
            found["range"] = (low, high)
        return found


Parameters = dict[str, Parameter]
