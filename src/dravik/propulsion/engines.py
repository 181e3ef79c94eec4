"""Engines as a definition gives them: plain thrust, jets, propellers on a drive, solid motors; batteries and mixers."""

import re
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, Tag, model_validator

from dravik.constants import SEA_LEVEL_PRESSURE, SEA_LEVEL_TEMPERATURE
from dravik.definition.effectors import Effector
from dravik.definition.fields import (
    Angle,
    AngularMomentum,
    Area,
    Charge,
    Consumption,
    Current,
    Duration,
    Force,
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
from dravik.surroundings.environment import day_offset
from dravik.units import quantity, to_si

__all__ = [
    "Battery",
    "Drive",
    "Electric",
    "Engine",
    "FanEngine",
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

    position: Position  #: where the thrust acts, station axes
    direction: tuple[float, float, float] = (1.0, 0.0, 0.0)  #: direction of the thrust, body axes
    command: Formula | None = None  #: formula of the commanded throttle
    range: tuple[float, float] = (0.0, 1.0)  #: lowest and highest throttle
    lag: Duration | None = None  #: time constant of the throttle
    rate: Frequency | None = None  #: greatest rate of the throttle, 1/s
    trim: bool = False  #: whether a trim may move the throttle, where it has no command
    description: str = ""  #: what it is

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

    kind: Literal["thrust"] = "thrust"  #: thrust and moment given as formulas
    thrust: Formula  #: thrust in N
    torque: Formula | None = None  #: torque on the airframe in N m, right-handed about the thrust
    spin: Literal["right", "left"] = "right"  #: which way a rotor turns, for a mixer
    fuel_flow: Formula | None = None  #: fuel flow in kg/s
    failed_thrust: Formula = 0.0  #: thrust when the engine has failed, N; negative is drag

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

    kind: Literal["jet"]  #: gas turbine with a spool
    thrust: Formula  #: thrust in N, over `spool_NAME` and the air
    fuel_flow: Formula  #: fuel flow in kg/s
    spool_time: Formula = 1.0  #: time constant of the spool in s
    windmilling: Fraction = 0.1  #: spool speed of a failed engine, as a share
    failed_thrust: Formula = 0.0  #: thrust when the engine has failed, N; negative is drag
    spin_momentum: AngularMomentum = 0.0  #: angular momentum of the full spool, right-handed about the thrust


def _a_day(text: str) -> str:
    day_offset(text)  # raises DravikError for what is none
    return text


class FanEngine(_Engine):
    """A turbofan without a deck, flat-rated: its thrust lapses with pressure, Mach number and heat.

    At full power it holds ``rated_thrust`` standing at sea level up to the day ``flat_to``, and less the hotter it is.
    With p the total pressure over sea level's, t the total temperature over sea level's, k the t of ``flat_to``, it is
    p (1 - 0.49 sqrt(M) - 3 max(0, t - k)/(1.5 + M)) of that for a high bypass ratio, and
    p (1 - 3.8 max(0, t - k)/t) for a low one, dry (J. D. Mattingly, W. H. Heiser, D. T. Pratt, Aircraft Engine
    Design, second edition, 2002, section 2.3.2; from memory). ``fuel_flow`` and the spool are those of a jet.
    """

    kind: Literal["fan"]  #: flat-rated turbofan without a deck
    rated_thrust: Force  #: thrust at full power, standing at sea level
    #: hottest day on which the rated thrust is there, standing at sea level
    flat_to: Annotated[str, AfterValidator(_a_day)] = "ISA+15"
    bypass: Literal["high", "low"] = "high"  #: which lapse it follows
    idle: Annotated[float, Field(ge=0.0, lt=0.5)] = 0.05  #: thrust of an idling spool as a share of the full one
    fuel_flow: Formula  #: fuel flow in kg/s, over `thrust_NAME` and the air
    spool_time: Formula = 1.0  #: time constant of the spool in s
    windmilling: Fraction = 0.1  #: spool speed of a failed engine, as a share
    failed_thrust: Formula = 0.0  #: thrust when the engine has failed, N; negative is drag
    spin_momentum: AngularMomentum = 0.0  #: angular momentum of the full spool, right-handed about the thrust

    def as_jet(self, name: str) -> JetEngine:
        """Return the same engine with its lapse written out as a jet's formula."""
        heat, ram = f"(temperature/{SEA_LEVEL_TEMPERATURE!r})", "(1 + 0.2*mach**2)"
        pressure = f"(pressure/{SEA_LEVEL_PRESSURE!r})*{ram}**3.5"
        hotter = f"max(0, {heat}*{ram} - {1.0 + day_offset(self.flat_to) / SEA_LEVEL_TEMPERATURE!r})"
        # the square root has no slope at rest, where a linear model may be asked for: it begins at a hundredth
        share = f"1 - 0.49*(sqrt(mach + 0.0001) - 0.01) - 3*{hotter}/(1.5 + mach)"
        if self.bypass == "low":
            share = f"1 - 3.8*{hotter}/({heat}*{ram})"
        spool = f"({self.idle!r} + {1.0 - self.idle!r}*spool_{name})"
        kept = self.model_dump(exclude={"kind", "rated_thrust", "flat_to", "bypass", "idle"})
        return JetEngine(
            **kept | {"kind": "jet", "thrust": f"{self.rated_thrust!r}*{pressure}*max(0, {share})*{spool}"}
        )


class Turbine(Model):
    """A free turbine: power at the shaft (W) and fuel flow (kg/s) as formulas over ``power_NAME`` and the air.

    ``start_speed`` is the share of the rated speed below which torque, not power, is what the formula's power gives.
    """

    kind: Literal["turbine"]  #: free turbine
    shaft_power: Formula  #: power at the shaft in W
    fuel_flow: Formula = 0.0  #: fuel flow in kg/s
    #: share of the rated speed below which the torque is constant
    start_speed: Annotated[float, Field(gt=0.0, le=1.0)] = 0.3


class Piston(Model):
    """A piston engine: torque by the throttle and the air's density (Gagg and Ferrar), less its friction.

    A supercharged one keeps its sea-level torque up to ``critical_altitude``. At throttle 0 it idles: what the closed
    throttle lets in is ``idle_torque``, a share of the rated torque, at ``idle_speed`` (0.27 of the rated speed unless
    given), and less the faster it turns, so that it stands still there on the ground and brakes in a glide.
    """

    kind: Literal["piston"]  #: piston engine
    rated_power: Power  #: power at sea level at the rated speed
    rated_speed: PositiveAngularRate  #: shaft speed of the rated power
    consumption: Consumption  #: fuel for the energy at the shaft
    friction: Annotated[float, Field(ge=0.0, lt=0.5)] = 0.12  #: friction torque as a share of the rated torque
    critical_altitude: Length = 0.0  #: altitude up to which a supercharger holds the torque of sea level
    #: shaft speed at closed throttle; 0.27 of the rated speed unless given
    idle_speed: PositiveAngularRate | None = None
    #: torque at closed throttle as a share of the rated torque
    idle_torque: Annotated[float, Field(ge=0.0, lt=1.0)] = 0.18


class Electric(Model):
    """An electric motor with its controller: speed constant, resistance, idle current, greatest current, gear.

    ``gear`` is turns of the motor for one of the propeller. Without ``regenerate`` the controller draws nothing back.
    """

    kind: Literal["electric"]  #: electric motor with its controller
    battery: str  #: battery that feeds it
    speed_constant: SpeedConstant  #: speed per volt without load
    resistance: Annotated[Resistance, Field(gt=0.0)]  #: resistance of the windings
    controller_resistance: Annotated[Resistance, Field(ge=0.0)] = 0.0  #: resistance of the controller
    idle_current: Annotated[Current, Field(ge=0.0)] = 0.0  #: current without load
    current_limit: Annotated[Current, Field(gt=0.0)]  #: greatest current that the controller allows
    gear: Annotated[float, Field(gt=0.0)] = 1.0  #: turns of the motor for one of the propeller
    regenerate: bool = False  #: whether the controller feeds current back


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

    #: shaft speed to hold: a quantity, a formula in rad/s, or `{ formula, unit }`
    speed: Annotated[Formula, BeforeValidator(_speed)]
    fine: Angle  #: blade angle at the fine stop
    coarse: Angle  #: blade angle at the coarse stop
    rate: PositiveAngularRate = 0.2  #: greatest rate of the blade angle
    lag: Duration = 0.1  #: time constant of the blade angle
    droop: Annotated[float, Field(gt=0.0, le=0.2)] = 0.01  #: deviation of the speed over the whole travel, as a share
    feather: Formula = 0.0  #: formula that is true when the blades are to feather

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

    kind: Literal["propeller"]  #: propeller or rotor on a drive
    propeller: str  #: propeller, by its name in `[propellers]`
    drive: str  #: drive, by its name in `[drives]`
    spin: Literal["right", "left"] = "right"  #: sense of rotation seen along the thrust; right is clockwise from behind
    governor: Governor | None = None  #: constant-speed governor of the blade angle

    @property
    def sign(self) -> int:
        """1 for right-handed rotation about the thrust, -1 for left-handed."""
        return 1 if self.spin == "right" else -1


class SolidMotor(_Engine):
    """A solid motor: a thrust curve (CSV of time and thrust at sea level), and the grain, a tank that burns away.

    The throttle lights it at 0.5. The grain loses mass in the proportion that thrust has to the total impulse;
    ``exit_area`` adds what the nozzle gains where the air is thinner.
    """

    kind: Literal["solid_motor"]  #: solid rocket motor
    thrust_curve: str  #: CSV file of time and thrust at sea level
    grain: str  #: tank that burns away
    exit_area: Annotated[Area, Field(ge=0.0)] = 0.0  #: exit area of the nozzle, for the gain in thinner air


Engine = Annotated[
    Annotated[ThrustEngine, Tag("(thrust)")]
    | Annotated[JetEngine, Tag("(jet)")]
    | Annotated[FanEngine, Tag("(fan)")]
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

    map: str  #: CSV file of CT and CP over the advance ratio
    diameter: PositiveLength  #: diameter of the propeller
    inertia: PositiveInertia  #: moment of inertia of all that turns, at the shaft
    rated_speed: PositiveAngularRate  #: shaft speed at which a search starts
    stopped_drag: Annotated[Area, Field(ge=0.0)] = 0.0  #: drag area of the blades standing feathered


class Battery(Model):
    """A battery: cells in series, charge, resistance of the whole, open-circuit volts of a cell over the charge left.

    ``open_circuit`` is pairs of charge (0 to 1) and volts; ``load`` is what else draws power, W; ``cut_off`` is the
    voltage of the whole below which an event is logged.
    """

    cells: Annotated[int, Field(ge=1, le=400)]  #: number of cells in series
    charge: Charge  #: charge of the full battery
    resistance: Annotated[Resistance, Field(gt=0.0)]  #: internal resistance of the whole
    #: pairs of charge left (0 to 1) and open-circuit voltage of a cell
    open_circuit: tuple[tuple[Fraction, Voltage], ...] = Field(min_length=2)
    cut_off: Voltage  #: voltage of the whole below which an event is logged
    load: NotNegative | Formula = 0.0  #: power in W that else is drawn: a number or a formula
    initial: Fraction = 1.0  #: charge at the start of a flight, as a share

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

    engines: tuple[str, ...] = Field(min_length=3)  #: engines that it commands, by name
    collective: Formula  #: formula from 0 to 1
    roll: Formula  #: formula, right roll positive, as a share of what one rotor gives
    pitch: Formula  #: formula, nose up positive, as a share of what one rotor gives
    yaw: Formula  #: formula, nose right positive, as a share of what one rotor gives
    torque_length: PositiveLength  #: torque of a rotor over its thrust
    make_up: bool = False  #: whether the others make up for a failed rotor
