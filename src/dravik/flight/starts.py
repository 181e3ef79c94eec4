"""Starts as files and Python say them: trimmed, with offsets; at rest on the ground or on a rail; given state by state.

An aircraft file names its own in ``[starts.NAME]``.
"""

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, Discriminator, Tag

from dravik.aircraft import Aircraft
from dravik.definition.fields import Angle, AngularRate, Length, Model, Speed
from dravik.definition.toml import KeyLines, kind_tag, validate
from dravik.errors import DravikError, nearest, require
from dravik.flight.snapshots import Start
from dravik.trimming import TrimPoint, on_ground, trim
from dravik.units import in_si, kind_of_unit

__all__ = ["NamedStart", "Quantities", "StartDefinition", "begin", "named_start", "on_rail", "start"]

Quantities = dict[str, str | float]


class TrimmedStart(Model):
    """A start in trimmed flight; ``offsets`` are added to it by name: angles, speeds, rates, place, states, inputs."""

    kind: Literal["trimmed"]  #: in trimmed flight
    airspeed: Speed  #: true airspeed
    altitude: Length  #: altitude
    flight_path: Angle | Literal["free"] = 0.0  #: angle of climb, or "free" with the throttle given
    heading: Angle = 0.0  #: heading
    sideslip: Angle | None = None  #: sideslip angle to hold
    bank: Angle | None = None  #: bank angle to hold
    north: Length = 0.0  #: place to the north
    east: Length = 0.0  #: place to the east
    inputs: Quantities = {}  #: inputs by name
    guess: Quantities = {}  #: where the search starts, by name
    offsets: Quantities = {}  #: added to what was trimmed, by name


class GroundStart(Model):
    """A start at rest on the gear."""

    kind: Literal["ground"]  #: at rest on the gear
    heading: Angle = 0.0  #: heading
    north: Length = 0.0  #: place to the north
    east: Length = 0.0  #: place to the east
    inputs: Quantities = {}  #: inputs by name


class RailStart(Model):
    """A start on the launch rail, whose lower end is at an altitude."""

    kind: Literal["rail"]  #: on the launch rail
    elevation: Angle  #: angle of the rail above the horizon
    heading: Angle = 0.0  #: direction of the rail
    altitude: Length = 0.0  #: altitude of the rail's lower end
    inputs: Quantities = {}  #: inputs by name


class StateStart(Model):
    """A start whose states are given: position north, east, altitude; u, v, w; phi, theta, psi; p, q, r.

    Each with its unit; ``states`` of actuators, engines and functions by name, a bare number in SI.
    """

    kind: Literal["states"]  #: with states that are given
    position: tuple[Length, Length, Length]  #: north, east and altitude
    velocity: tuple[Speed, Speed, Speed]  #: u, v and w, body axes
    attitude: tuple[Angle, Angle, Angle] = (0.0, 0.0, 0.0)  #: phi, theta and psi
    rates: tuple[AngularRate, AngularRate, AngularRate] = (0.0, 0.0, 0.0)  #: p, q and r
    states: Quantities = {}  #: states of actuators, engines and formulas by name
    inputs: Quantities = {}  #: inputs by name


class NamedStart(Model):
    """A start that the aircraft's file names, with inputs that go before its own."""

    kind: Literal["named"]  #: a start of the aircraft's file
    name: str  #: its name there
    inputs: Quantities = {}  #: inputs by name, before those of the named start


StartDefinition = Annotated[
    Annotated[TrimmedStart, Tag("(trimmed)")]
    | Annotated[GroundStart, Tag("(ground)")]
    | Annotated[RailStart, Tag("(rail)")]
    | Annotated[StateStart, Tag("(states)")]
    | Annotated[NamedStart, Tag("(named)")],
    Discriminator(kind_tag),
]


class _Whole(BaseModel):
    start: StartDefinition


def start(craft: Aircraft, name: str = "", **spec: Any) -> TrimPoint | Start:
    """Return a start of an aircraft: by the name of one in its file, or said here as a file would say it.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    name : str, optional
        A start of the file's ``[starts.NAME]``; ``inputs`` may be given besides, which go before its own.
    **spec
        ``kind``: ``"trimmed"`` (unless given), ``"ground"``, ``"rail"`` or ``"states"``, and the keys that a file has
        for it; quantities with their unit or in SI.

    Returns
    -------
    TrimPoint or Start
        The start.

    Raises
    ------
    DravikError
        For names and keys that are not there.
    TrimError
        Where nothing holds what is asked.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = start(craft, airspeed="62 m/s", altitude="300 m", offsets={"phi": "15 deg"})
    >>> run = dv.fly(craft, start=point, duration=0.1)
    >>> round(float(run.frame["phi_deg"][0]), 6)
    15.0
    """
    require(craft, Aircraft, "what starts")
    if name:
        return begin(craft, _checked({"kind": "named", "name": name, **spec}, f"start {name}"), {})
    return begin(craft, _checked({"kind": "trimmed", **_with_units(spec)}, "start"), {})


def named_start(craft: Aircraft, name: str) -> StartDefinition:
    """Return a start of an aircraft's file; raises DravikError for one that is not there or not right."""
    known = craft.definition.starts
    if name not in known:
        raise DravikError(
            f"{craft.name} has no start {name!r}", expected=", ".join(known) or "[starts.NAME] in its file",
            hint=nearest(name, known),
        )  # fmt: skip
    return _checked(known[name], craft.where("starts", name))


def _checked(data: Mapping[str, Any], place: str) -> StartDefinition:
    try:
        return validate({"start": dict(data)}, _Whole, KeyLines("", "")).start
    except DravikError as error:
        text = "; ".join(line.removeprefix(": start.").removeprefix(": start: ") for line in str(error).split("\n"))
        raise DravikError(text, where=place) from None


def _with_units(data: Mapping[str, Any]) -> dict[str, Any]:
    """Return what a Python call says in the words of a file, in which a bare angle has no place: there it is in rad."""
    # the same check reads files and calls: it refuses bare angles, which in a call are in rad
    angles = ("flight_path", "heading", "sideslip", "bank", "elevation")
    return {k: f"{v!r} rad" if k in angles and isinstance(v, int | float) else v for k, v in data.items()}


def begin(craft: Aircraft, spec: StartDefinition, asked: Mapping[str, str | float]) -> TrimPoint | Start:
    """Return where a flight begins; ``asked`` are inputs that are set besides those of the start.

    Raises TrimError or DravikError where that cannot be.
    """
    if isinstance(spec, NamedStart):
        found = named_start(craft, spec.name)
        # the file's inputs first, what is asked for here goes before them
        return begin(craft, found.model_copy(update={"inputs": {**found.inputs, **spec.inputs}}), asked)
    # inputs of the start itself go before those set from outside
    wanted: Quantities = {**asked, **spec.inputs}
    if isinstance(spec, TrimmedStart):
        point = trim(
            craft, airspeed=spec.airspeed, altitude=spec.altitude, heading=spec.heading, bank=spec.bank,
            flight_path=None if spec.flight_path == "free" else spec.flight_path, sideslip=spec.sideslip,
            north=spec.north, east=spec.east, inputs=wanted, guess=spec.guess,
        )  # fmt: skip
        return _offset(craft, point, spec.offsets) if spec.offsets else point
    if isinstance(spec, GroundStart):
        return on_ground(craft, heading=spec.heading, north=spec.north, east=spec.east, inputs=wanted)
    if isinstance(spec, RailStart):
        return on_rail(craft, elevation=spec.elevation, heading=spec.heading, altitude=spec.altitude, inputs=wanted)
    x = craft.state(
        position=spec.position, velocity=spec.velocity, attitude=spec.attitude, rates=spec.rates, functions=spec.states
    )  # fmt: skip
    return Start(x, craft.with_inputs(wanted))


def _offset(craft: Aircraft, point: TrimPoint, offsets: Mapping[str, str | float]) -> Start:
    """Return a trimmed point moved away from itself: what is not named stays as it is."""
    plant = craft.plant(point.coordinates)
    u = np.array(point.inputs, dtype=float)
    # in the trim's own coordinates: an offset of alpha leaves the airspeed as it is
    z = plant.from_state(point.state, u)
    known = [*plant.state_names, *craft.input_names]
    for name, value in offsets.items():
        alias = next((n for n in (name, f"{name}_increment", f"{name}_command") if n in known), "")
        if not alias:
            raise DravikError(
                f"{name} is no state and no input: it has no offset", where="offsets",
                expected=", ".join(plant.state_names[:12]) + ", ...", hint=nearest(name, known),
            )  # fmt: skip
        by = in_si(value, kind_of_unit(craft.signals[alias].unit), where=f"offsets.{name}")
        if alias in plant.state_names:
            z[plant.state_names.index(alias)] += by
        else:
            u[craft.input_names.index(alias)] += by
    return Start(plant.to_state(z, u), u)


def on_rail(
    craft: Aircraft, *, elevation: str | float, heading: str | float = 0.0, altitude: str | float = 0.0,
    inputs: Mapping[str, str | float] | None = None,
) -> Start:  # fmt: skip
    """Return the start at rest on the aircraft's launch rail.

    Parameters
    ----------
    craft : Aircraft
        The aircraft, with a rail.
    elevation : str or float
        Of the rail above the horizon, rad.
    heading : str or float, default 0
        Where it points, rad clockwise from north.
    altitude : str or float, default 0
        Of its lower end, m.
    inputs : mapping of str to str or float, optional
        Inputs by name, with their unit or SI.

    Returns
    -------
    Start
        The start.

    Raises
    ------
    DravikError
        Without a rail, and for an elevation that is not above the horizon.

    Examples
    --------
    >>> import dravik as dv
    >>> hail = dv.sample("hail")
    >>> start = dv.on_rail(hail, elevation="85 deg")
    >>> float(start.state[3])
    0.0
    """
    if craft.definition.rail is None:
        raise DravikError(f"{craft.name} has no launch rail", expected="[rail] with its length")
    angle = in_si(elevation, "angle", where="elevation")
    if not 0.0 < angle <= 0.5 * np.pi + 1e-9:
        raise DravikError(f"the elevation {elevation!r} is outside its range", expected="above 0 deg, at most 90 deg")
    height = in_si(altitude, "length", where="altitude")
    # the rail stands where the flight begins: its guidance ends a rail's length from there
    u = craft.with_inputs({"rail_altitude": height, **(inputs or {})})
    x = craft.state(
        position=(0.0, 0.0, height), velocity=(0.0, 0.0, 0.0),
        attitude=(0.0, angle, in_si(heading, "angle", where="heading")),
    )  # fmt: skip
    return Start(x, u)
