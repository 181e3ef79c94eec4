"""The definition of an aircraft, as pydantic models: what may stand in the TOML file, checked key by key."""

import math
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from dravik.contact import Leg
from dravik.contact.crash import Crash
from dravik.definition.effectors import Effector, Input, Parameters
from dravik.definition.fields import (
    Duration,
    Formula,
    Frequency,
    Inertia,
    Length,
    Model,
    Position,
    PositiveArea,
    PositiveLength,
    PositiveMass,
    Speed,
)
from dravik.errors import DravikError, nearest
from dravik.mass import Part, Tank
from dravik.mass.limits import CentreRows, MassLimits, Seats
from dravik.mode_logic.modes import ModeLogic
from dravik.propulsion.engines import Battery, Drive, Engine, Mixer, PropellerEntry
from dravik.sensors import Estimator, Sensor, chosen_sensors, refuse_sets
from dravik.sensors.definition import SensorSet
from dravik.surroundings.environment import Environment
from dravik.tables.entries import TableEntries
from dravik.units import quantity

__all__ = ["AircraftDefinition", "LawDefinition"]


class Reference(Model):
    """Lengths that make the coefficients dimensionless, and the point their moments are about (station axes)."""

    area: PositiveArea  #: wing area that makes coefficients dimensionless
    chord: PositiveLength  #: mean aerodynamic chord, the length of pitching moments
    span: PositiveLength  #: wing span, the length of rolling and yawing moments
    moment_point: Position  #: point that the moments are about, station axes


class Envelope(Model):
    """The speeds and altitudes that the data is meant for."""

    airspeed: tuple[Speed, Speed]  #: lowest and highest true airspeed that the data is meant for
    altitude: tuple[Length, Length]  #: lowest and highest altitude that the data is meant for

    @model_validator(mode="after")
    def _rising(self) -> "Envelope":
        for name in ("airspeed", "altitude"):
            low, high = getattr(self, name)
            if not low < high:
                raise DravikError(
                    f"the limits {low:g} and {high:g} do not rise", where=name, expected="the lower limit first"
                )
        return self


class Rail(Model):
    """A launch rail: the aircraft moves along its own x axis until it has travelled ``length`` from the start."""

    length: PositiveLength  #: way from the start over which the rail holds the aircraft to its x axis


class Filling(Model):
    """The order in which tanks are filled with one liquid, and drained from the end: steps of tanks filled together."""

    #: steps of tanks that are filled together, in their order; drained from the end
    order: tuple[tuple[str, ...], ...] = Field(min_length=1)


def _contents(value: object) -> object:
    return math.inf if value == "full" else quantity(value, "mass")


class Loading(Model):
    """Mass properties as given, or what is loaded: groups of parts and what tanks hold.

    Given: mass, centre of gravity (station axes) and inertia about it (body axes). Products of inertia are the
    integrals of xy, xz, yz over the mass: the tensor's off-diagonal elements are their negatives.

    Loaded: ``groups`` of parts, what tanks hold (a mass, or ``"full"``), what is ``filled`` into tanks in their order
    (by the name of a filling), and which of them are ``flowing`` in flight: the mass properties then follow them, which
    costs time.
    """

    groups: tuple[str, ...] = ()  #: groups of parts that are on board
    #: what each tank holds: a mass, or "full"
    tanks: dict[str, Annotated[float, BeforeValidator(_contents), Field(ge=0.0)]] = {}
    #: mass of each liquid, filled into tanks in the order of `[filling.NAME]`
    filled: dict[str, Annotated[float, BeforeValidator(_contents), Field(ge=0.0)]] = {}
    flowing: tuple[str, ...] = ()  #: tanks whose contents change in flight
    mass: PositiveMass = math.nan  #: mass of the whole, where it is given as a number
    cg: Position = (math.nan, math.nan, math.nan)  #: centre of gravity of the whole, station axes
    Ixx: Inertia = math.nan  #: moment of inertia about body x through the centre of gravity
    Iyy: Inertia = math.nan  #: moment of inertia about body y
    Izz: Inertia = math.nan  #: moment of inertia about body z
    Ixy: Inertia = 0.0  #: product of inertia, the integral of x y over the mass, body axes
    Ixz: Inertia = 0.0  #: product of inertia, the integral of x z over the mass, body axes
    Iyz: Inertia = 0.0  #: product of inertia, the integral of y z over the mass, body axes
    description: str = ""  #: one line about the loading

    @model_validator(mode="after")
    def _one_way(self) -> "Loading":
        numbers = [n for n in ("mass", "cg", "Ixx", "Iyy", "Izz") if n in self.model_fields_set]
        if self.groups and numbers:
            raise DravikError(
                f"the loading has both groups and {', '.join(numbers)}", where="groups", expected="parts, or numbers"
            )
        if not self.groups:
            for name in ("mass", "cg", "Ixx", "Iyy", "Izz"):
                if name not in numbers:
                    raise DravikError(
                        f"the key {name!r} is missing", expected="mass, cg, Ixx, Iyy, Izz; or groups of parts"
                    )
            if self.tanks or self.filled:
                raise DravikError(
                    "the loading fills tanks, but gives its mass as a number", where="tanks", expected="groups of parts"
                )
        return self

    def tensor(self) -> "np.ndarray[tuple[int, int], np.dtype[np.float64]]":
        """Return the inertia tensor in body axes, kg m^2."""
        return np.array(
            [
                [self.Ixx, -self.Ixy, -self.Ixz],
                [-self.Ixy, self.Iyy, -self.Iyz],
                [-self.Ixz, -self.Iyz, self.Izz],
            ]
        )


class NamedFormula(Model):
    """A formula with the unit (SI) and the meaning of what it gives."""

    formula: Formula  #: the formula
    unit: str = ""  #: SI unit of what it gives
    description: str = ""  #: what it gives, for lists of signals


def _named_formula(value: object) -> object:
    return value if isinstance(value, dict | NamedFormula) else {"formula": value}


FormulaEntry = Annotated[NamedFormula, BeforeValidator(_named_formula)]


class Aero(BaseModel):
    """Axes, and formulas for the six coefficients and whatever they are made of.

    Forces are CD, CY, CL in stability or wind axes and CX, CY, CZ in body axes; moments Cl, Cm, Cn in
    stability or body axes (``moment_axes``, the same as ``axes`` unless said; body with wind axes).
    """

    model_config = ConfigDict(extra="allow", frozen=True, defer_build=True)
    __pydantic_extra__: dict[str, FormulaEntry] = Field(init=False)

    axes: Literal["body", "stability", "wind"]  #: axes of the force coefficients
    moment_axes: Literal["body", "stability"] | None = None  #: axes of the moment coefficients; as `axes` unless given

    @property
    def formulas(self) -> dict[str, NamedFormula]:
        """The formulas by name."""
        return dict(self.__pydantic_extra__)

    @property
    def coefficients(self) -> tuple[str, ...]:
        """Names of the six coefficients, forces first."""
        forces = ("CX", "CY", "CZ") if self.axes == "body" else ("CD", "CY", "CL")
        return (*forces, "Cl", "Cm", "Cn")

    @model_validator(mode="after")
    def _complete(self) -> "Aero":
        missing = [c for c in self.coefficients if c not in self.formulas]
        if missing:
            hint = nearest(missing[0], self.formulas)
            raise DravikError(
                f"there is no formula for {', '.join(missing)}",
                expected=f"in {self.axes} axes all of {self.coefficients}",
                hint=hint,
            )
        return self


class Spinning(Model):
    """Something that spins about an axis fixed in the body.

    Its angular ``momentum`` (N m s) is a formula, right-handed about ``axis`` (body axes). A flywheel, a gyroscope, the
    turbine of an engine given as plain thrust.
    """

    momentum: Formula  #: angular momentum in N m s, right-handed about the axis
    axis: tuple[float, float, float] = (1.0, 0.0, 0.0)  #: direction of the axis, body axes
    description: str = ""  #: what spins

    @model_validator(mode="after")
    def _has_axis(self) -> "Spinning":
        if not np.linalg.norm(self.axis) > 1e-6:
            raise DravikError("the axis has no length", where="axis", expected="body axes, forward is [1, 0, 0]")
        return self


COEFFICIENT_NAMES = ("CL", "CD", "CY", "CX", "CZ", "Cl", "Cm", "Cn")


def _increments(value: object) -> object:
    """Refuse increments of what is no coefficient, with the nearest."""
    if isinstance(value, dict):
        for name in value:
            if name not in COEFFICIENT_NAMES:
                raise DravikError(
                    f"{name!r} is no coefficient", expected=", ".join(COEFFICIENT_NAMES),
                    hint=nearest(str(name), COEFFICIENT_NAMES),
                )  # fmt: skip
    return value


#: Formulas by coefficient that are added to those of [aero], which may stand in a generated file.
Increments = Annotated[dict[str, FormulaEntry], BeforeValidator(_increments)]


class Event(Model):
    """A condition to log when it becomes true, and perhaps to end the run."""

    when: Formula  #: condition that is logged when it becomes true
    stop: bool = False  #: whether it ends the flight


class _Document(Model):
    format: Literal[1]  #: version of the file's format
    name: str = Field(min_length=1, max_length=80)  #: name, for titles and lists
    description: str = ""  #: what it is, in a sentence or two
    include: tuple[str, ...] = ()  #: files whose sections are taken in, relative to this file
    tables: TableEntries = {}  #: tables by name, for formulas to call
    inputs: dict[str, Input] = {}  #: inputs by name: pilot, autopilot, test
    parameters: Parameters = {}  #: numbers that may be set without compiling anew
    formulas: dict[str, FormulaEntry] = {}  #: further signals by name
    events: dict[str, Event] = {}  #: conditions to log, by name


class LawDefinition(_Document):
    """A control law: inputs it takes, formulas, mode logic, and what it adds to the commands of controls.

    With a ``rate`` it reads its signals at samples, and what it adds changes a computing ``delay`` after each. With
    ``fade`` it can be disengaged and engaged in flight (input ``engaged_NAME``): what it adds passes over in that time.
    """

    add: dict[str, Formula] = {}  #: formulas added to the commands of controls, engines and inputs, by their names
    rate: Frequency | None = None  #: samples a second at which the law runs; continuous unless given
    #: computing delay between a sample and what is added
    delay: Annotated[float, BeforeValidator(lambda v: quantity(v, "time")), Field(ge=0.0)] = 0.0
    fade: Duration | None = None  #: time over which the law is engaged and disengaged in flight
    mode_logic: dict[str, ModeLogic] = {}  #: sets of modes by name


class AircraftDefinition(_Document):
    """A whole aircraft."""

    default_loading: str = ""  #: loading that is meant where none is named
    reference: Reference  #: lengths and the moment point of the coefficients
    envelope: Envelope | None = None  #: speeds and altitudes that the data is meant for
    environment: Environment = Environment()  #: the world: Earth, air, ground, wind
    loadings: dict[str, Loading] = Field(min_length=1)  #: mass properties by name
    parts: dict[str, Part] = {}  #: parts that loadings are made of, by name
    parts_lists: tuple[str, ...] = ()  #: CSV files of parts
    tanks: dict[str, Tank] = {}  #: tanks by name
    filling: dict[str, Filling] = {}  #: orders in which tanks are filled, by name
    #: forward and aft limit of the centre of gravity, station x; rows of mass and both where they depend on it
    centre_limits: CentreRows | None = None
    mass_limits: MassLimits = MassLimits()  #: the most that it may weigh
    seats: dict[str, Seats] = {}  #: rows of seats by name, from the front
    aero: Aero | None = None  #: aerodynamic coefficients as formulas
    controls: dict[str, Effector] = {}  #: effectors by name: control surfaces and all that is commanded
    increments: dict[str, Increments] = {}  #: formulas added to coefficients, by the name of the increment
    spinning: dict[str, Spinning] = {}  #: things that spin, by name
    starts: dict[str, dict[str, Any]] = {}  #: starts by name, for flights and scenarios
    rail: Rail | None = None  #: launch rail
    gear: dict[str, Leg] = {}  #: legs and points of the hull, by name
    crash: Crash = Crash()  #: what ends a flight on the ground
    engines: dict[str, Engine] = {}  #: engines by name
    propellers: dict[str, PropellerEntry] = {}  #: propellers that engines share, by name
    drives: dict[str, Drive] = {}  #: motors that turn propellers, by name
    batteries: dict[str, Battery] = {}  #: batteries that motors share, by name
    mixers: dict[str, Mixer] = {}  #: mixers that share commands out to rotors, by name
    sensors: dict[str, Sensor] = {}  #: sensors by name
    sensor_sets: dict[str, SensorSet] = {}  #: sets of sensors by name: which are on board, and with what other errors
    estimators: dict[str, Estimator] = {}  #: estimators by name
    default_sensors: str = ""  #: set that is meant where sensors are asked for and none is named
    laws: dict[str, dict[str, FormulaEntry]] = {}  #: formulas of laws that are always engaged, by name

    @model_validator(mode="after")
    def _sets_exist(self) -> "AircraftDefinition":
        refuse_sets(self.sensors, self.sensor_sets)
        if self.default_sensors:
            try:
                chosen_sensors(self.sensors, self.sensor_sets, self.default_sensors)
            except DravikError as error:
                raise error.at("default_sensors") from None
        return self

    @model_validator(mode="after")
    def _loading_exists(self) -> "AircraftDefinition":
        if not self.default_loading and len(self.loadings) == 1:
            object.__setattr__(self, "default_loading", next(iter(self.loadings)))
        if not self.default_loading:
            known = ", ".join(self.loadings)
            raise DravikError("the key 'default_loading' is missing", expected=f"one of {known}")
        if self.default_loading not in self.loadings:
            raise DravikError(
                f"there is no loading {self.default_loading!r}",
                where="default_loading",
                expected="one of " + ", ".join(self.loadings),
                hint=nearest(self.default_loading, self.loadings),
            )
        return self
