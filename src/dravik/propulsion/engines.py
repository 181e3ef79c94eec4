"""Engines as a definition gives them: plain thrust, jets, propellers on a drive, solid motors; batteries and mixers."""

import re
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator, Discriminator, Field, Tag, model_validator

from dravik.definition.effectors import Effector
from dravik.definition.fields import (
    Angle,
    AngularMomentum,
    Area,
    Charge,
    Consumption,
    Current,
    Duration,
    Formula,
    Fraction,
    Frequency,
    Length,
    Model,
    Position,
    PositiveAngularRate,
    PositiveInertia,
    PositiveLength,
    Power,
    Resistance,
    SpeedConstant,
    Voltage,
)
from dravik.definition.toml import kind_tag
from dravik.errors import DravikError
from dravik.units import quantity, to_si

__all__ = [
    "Battery",
    "Drive",
    "Electric",
    "Engine",
    "Governor",
    "JetEngine",
    "Mixer",
    "Piston",
    "PropellerEngine",
    "PropellerEntry",
    "SolidMotor",
    "ThrustEngine",
    "Turbine",
]

_PLAIN = re.compile(r"\s*[+-]?[\d.]+(?:[eE][+-]?\d+)?\s*(?:[A-Za-z°µ][\w/^°µ]*)?\s*")
NotNegative = Annotated[float, Field(ge=0.0)]


class _Engine(Model):
    """What all engines have: a place (station axes), the direction of thrust (body axes), and a throttle from 0 to 1.

    The throttle ``power_NAME`` follows ``command`` with ``lag`` and ``rate`` as a control does. The input ``fail_NAME``
    is 1 when the engine has failed.
    """

    position: Position
    direction: tuple[float, float, float] = (1.0, 0.0, 0.0)
    command: Formula | None = None
    range: tuple[float, float] = (0.0, 1.0)
    lag: Duration | None = None
    rate: Frequency | None = None
    trim: bool = False
    description: str = ""

    @model_validator(mode="after")
    def _has_direction(self) -> "_Engine":
        if not np.linalg.norm(self.direction) > 1e-6:
            raise DravikError(
                "the direction has no length", where="direction", expected="body axes, forward is [1, 0, 0]"
            )
        self.throttle()
        return self

    def throttle(self) -> Effector:
        """Return the throttle as an effector; raises DravikError for a range or rate that none can have."""
        return Effector(
            kind="number", range=self.range, lag=self.lag, rate=self.rate, command=self.command, trim=self.trim,
            description=self.description,
        )  # fmt: skip


class ThrustEngine(_Engine):
    """Thrust (N), torque (N m) and fuel flow (kg/s) as formulas; ``failed_thrust`` is what is left of it, or drags.

    ``torque`` acts on the airframe, right-handed about the thrust: negative for the reaction of a rotor that turns
    right. ``spin`` tells a mixer which way a plain rotor turns.
    """

    kind: Literal["thrust"] = "thrust"
    thrust: Formula
    torque: Formula | None = None
    spin: Literal["right", "left"] = "right"
    fuel_flow: Formula | None = None
    failed_thrust: Formula = 0.0

    @property
    def sign(self) -> int:
        """1 for right-handed rotation about the thrust, -1 for left-handed."""
        return 1 if self.spin == "right" else -1


class JetEngine(_Engine):
    """A gas turbine whose thrust (N) and fuel flow (kg/s) are formulas over the spool, ``spool_NAME`` from 0 to 1.

    The spool follows the throttle with the time constant ``spool_time`` (s, a formula); failed, it runs down to
    ``windmilling`` and leaves ``failed_thrust``. ``spin_momentum`` is the angular momentum of a full spool, N m s,
    right-handed about the thrust.
    """

    kind: Literal["jet"]
    thrust: Formula
    fuel_flow: Formula
    spool_time: Formula = 1.0
    windmilling: Fraction = 0.1
    failed_thrust: Formula = 0.0
    spin_momentum: AngularMomentum = 0.0


class Turbine(Model):
    """A free turbine: power at the shaft (W) and fuel flow (kg/s) as formulas over ``power_NAME`` and the air.

    ``start_speed`` is the share of the rated speed below which torque, not power, is what the formula's power gives.
    """

    kind: Literal["turbine"]
    shaft_power: Formula
    fuel_flow: Formula = 0.0
    start_speed: Annotated[float, Field(gt=0.0, le=1.0)] = 0.3


class Piston(Model):
    """A piston engine: torque by the throttle and the air's density (Gagg and Ferrar), less its friction.

    A supercharged one keeps its sea-level torque up to ``critical_altitude``. At throttle 0 it idles: what the closed
    throttle lets in is ``idle_torque``, a share of the rated torque, at ``idle_speed`` (0.27 of the rated speed unless
    given), and less the faster it turns, so that it stands still there on the ground and brakes in a glide.
    """

    kind: Literal["piston"]
    rated_power: Power
    rated_speed: PositiveAngularRate
    consumption: Consumption
    friction: Annotated[float, Field(ge=0.0, lt=0.5)] = 0.12
    critical_altitude: Length = 0.0
    idle_speed: PositiveAngularRate | None = None
    idle_torque: Annotated[float, Field(ge=0.0, lt=1.0)] = 0.18


class Electric(Model):
    """An electric motor with its controller: speed constant, resistance, idle current, greatest current, gear.

    ``gear`` is turns of the motor for one of the propeller. Without ``regenerate`` the controller draws nothing back.
    """

    kind: Literal["electric"]
    battery: str
    speed_constant: SpeedConstant
    resistance: Annotated[Resistance, Field(gt=0.0)]
    controller_resistance: Annotated[Resistance, Field(ge=0.0)] = 0.0
    idle_current: Annotated[Current, Field(ge=0.0)] = 0.0
    current_limit: Annotated[Current, Field(gt=0.0)]
    gear: Annotated[float, Field(gt=0.0)] = 1.0
    regenerate: bool = False


def _speed(value: Any) -> Any:
    """Return a speed in rad/s, or a formula of one in rad/s: from a quantity, or a formula with the unit it is in."""
    if isinstance(value, dict):
        unknown = sorted(set(value) - {"formula", "unit"})
        if unknown or len(value) != 2:
            what = f"there is no key {unknown[0]!r}" if unknown else f"only {', '.join(value)}"
            raise DravikError(what, expected='{ formula = "2000 + 700*throttle", unit = "rpm" }')
        factor, _ = to_si(str(value["unit"]), "angular rate")
        return f"({value['formula']})*{factor!r}"
    try:
        return quantity(value, "angular rate")
    except DravikError:
        if not isinstance(value, str) or _PLAIN.fullmatch(value):
            raise  # a number without its unit, or with a wrong one
        return value  # a formula, in rad/s


class Governor(Model):
    """Constant speed: the blade angle follows the shaft's speed, between ``fine`` and ``coarse``.

    ``speed`` is one with its unit; or a formula in rad/s; or ``{ formula = "...", unit = "rpm" }``. ``droop`` is how
    far the speed may stray, as a share, over the whole travel. It acts on the speed ahead by half its ``lag``: so it
    comes to rest without ringing (damping 0.7 and more) whatever the blades weigh on the shaft. ``feather`` is a
    formula that is true when the blades shall go to the coarse stop.
    """

    speed: Annotated[Formula, BeforeValidator(_speed)]
    fine: Angle
    coarse: Angle
    rate: PositiveAngularRate = 0.2
    lag: Duration = 0.1
    droop: Annotated[float, Field(gt=0.0, le=0.2)] = 0.01
    feather: Formula = 0.0

    @model_validator(mode="after")
    def _rising(self) -> "Governor":
        if not self.fine < self.coarse:
            raise DravikError("the fine stop is not below the coarse one", where="fine", expected="the fine stop first")
        return self


def _kind(value: Any) -> str:
    return kind_tag(value) or "(thrust)"


Drive = Annotated[
    Annotated[Turbine, Tag("(turbine)")] | Annotated[Piston, Tag("(piston)")] | Annotated[Electric, Tag("(electric)")],
    Discriminator(_kind),
]


class PropellerEngine(_Engine):
    """A propeller or rotor and the drive that turns it, both by name: the shaft's speed is a state.

    Thrust and torque come from the propeller's map. ``spin`` is the sense of rotation seen along the thrust:
    ``right`` is clockwise from behind.
    """

    kind: Literal["propeller"]
    propeller: str
    drive: str
    spin: Literal["right", "left"] = "right"
    governor: Governor | None = None

    @property
    def sign(self) -> int:
        """1 for right-handed rotation about the thrust, -1 for left-handed."""
        return 1 if self.spin == "right" else -1


class SolidMotor(_Engine):
    """A solid motor: a thrust curve (CSV of time and thrust at sea level), and the grain, a tank that burns away.

    The throttle lights it at 0.5. The grain loses mass in the proportion that thrust has to the total impulse;
    ``exit_area`` adds what the nozzle gains where the air is thinner.
    """

    kind: Literal["solid_motor"]
    thrust_curve: str
    grain: str
    exit_area: Annotated[Area, Field(ge=0.0)] = 0.0


Engine = Annotated[
    Annotated[ThrustEngine, Tag("(thrust)")]
    | Annotated[JetEngine, Tag("(jet)")]
    | Annotated[PropellerEngine, Tag("(propeller)")]
    | Annotated[SolidMotor, Tag("(solid_motor)")],
    Discriminator(_kind),
]


class PropellerEntry(Model):
    """A propeller that engines share: its map (CSV), diameter, inertia of all that turns, and the speed to start from.

    The map's columns are CT and CP over ``advance_ratio``, and ``blade_angle`` and ``cross_ratio`` where it has them;
    and optionally CN_cross and CM_cross, force in the disc and moment across it by the cross ratio.
    ``stopped_drag`` is the drag area of the blades when they stand feathered.
    """

    map: str
    diameter: PositiveLength
    inertia: PositiveInertia
    rated_speed: PositiveAngularRate
    stopped_drag: Annotated[Area, Field(ge=0.0)] = 0.0


class Battery(Model):
    """A battery: cells in series, charge, resistance of the whole, open-circuit volts of a cell over the charge left.

    ``open_circuit`` is pairs of charge (0 to 1) and volts; ``load`` is what else draws power, W; ``cut_off`` is the
    voltage of the whole below which an event is logged.
    """

    cells: Annotated[int, Field(ge=1, le=400)]
    charge: Charge
    resistance: Annotated[Resistance, Field(gt=0.0)]
    open_circuit: tuple[tuple[Fraction, Voltage], ...] = Field(min_length=2)
    cut_off: Voltage
    load: NotNegative | Formula = 0.0
    initial: Fraction = 1.0

    @model_validator(mode="after")
    def _rising(self) -> "Battery":
        levels = [level for level, _ in self.open_circuit]
        if sorted(set(levels)) != levels or levels[0] != 0.0 or levels[-1] != 1.0:
            raise DravikError(
                f"charges {levels} do not rise from 0 to 1", where="open_circuit", expected="[[0, ...], ..., [1, ...]]"
            )
        return self


class Mixer(Model):
    """Shares collective, roll, pitch and yaw out to rotors by their places and senses of rotation.

    Each of the four is a formula: collective from 0 to 1, the others as shares of what one rotor gives, right roll,
    nose up and nose right positive. What does not fit is given up in this order: yaw, then collective, then roll and
    pitch together. ``torque_length`` is a rotor's torque over its thrust. The throttle that it sets, ``mix_ENGINE``, is
    the root of the share of thrust, as thrust goes with the square of a rotor's speed. ``engines`` are propellers, or
    plain rotors: engines of kind thrust with their ``spin``. ``make_up``: rotors that have failed are made up for by
    the others.
    """

    engines: tuple[str, ...] = Field(min_length=3)
    collective: Formula
    roll: Formula
    pitch: Formula
    yaw: Formula
    torque_length: PositiveLength
    make_up: bool = False
