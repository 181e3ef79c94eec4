"""A link file: which datagrams go where, with which fields, and which come in."""

from pathlib import Path
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from dravik.definition.fields import Duration, Frequency, Length, Model
from dravik.definition.toml import read_definition
from dravik.errors import DravikError
from dravik.host.files import as_path
from dravik.link.entity_state import READS
from dravik.link.picture_axes import pose_in_axes
from dravik.link.stick import StickDefinition
from dravik.units import kind_of_unit, to_si

__all__ = ["LinkDefinition", "Received", "Sent", "conversion", "read_link"]

POSE = ("place_1", "place_2", "place_3", "turn_w", "turn_x", "turn_y", "turn_z")  # fields along the picture's axes
POSE_READS = ("north", "east", "altitude", "phi", "theta", "psi")
Type = Literal["float32", "float64", "int32", "uint8"]


def _address(value: object) -> object:
    """Return host and port of text such as "127.0.0.1:5005"."""
    host, _, port = str(value).rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        raise DravikError(f"{value!r} is no address", expected="host and port: '127.0.0.1:5005'")
    return host, int(port)


Address = Annotated[tuple[str, int], BeforeValidator(_address)]


def conversion(unit: str) -> tuple[float, float]:
    """Return factor and offset from a unit to SI; raises DravikError for a unit that is none."""
    return to_si(unit, kind_of_unit(unit)) if unit else (1.0, 0.0)


class SentField(Model):
    """A field of a datagram that is sent: a signal in a unit, scaled and shifted, or a value that never changes."""

    name: str = ""  #: name of the field; the signal's unless given
    signal: str = ""  #: signal, or place_1 ... turn_z along the picture's axes
    value: float | None = None  #: value that never changes, for what the other side also wants
    unit: str = ""  #: unit of the field; SI unless given
    scale: float = 1.0  #: factor on the value in its unit
    offset: float = 0.0  #: what is added after that
    type: Type = "float32"  #: type of the number in a binary datagram

    @model_validator(mode="after")
    def _one(self) -> "SentField":
        if bool(self.signal) == (self.value is not None):
            raise DravikError("a field has a signal or a value", where="signal", expected="one of them")
        if not (self.name or self.signal):
            raise DravikError("a field with a value needs a name", where="name", expected='such as name = "lights"')
        return self

    @property
    def label(self) -> str:
        """The name of the field."""
        return self.name or self.signal


class ReceivedField(Model):
    """A field of a datagram that comes in: the input that it sets, in a unit, scaled and shifted."""

    name: str = ""  #: name of the field; the input's unless given
    input: str = ""  #: input that it sets; a field without one is passed over
    unit: str = ""  #: unit of the field; SI unless given
    scale: float = 1.0  #: factor on what came in, before its unit
    offset: float = 0.0  #: what is added after the factor
    type: Type = "float32"  #: type of the number in a binary datagram

    @property
    def label(self) -> str:
        """The name of the field."""
        return self.name or self.input


class MovingPart(Model):
    """An articulated part of an entity state: a control surface, by its number in the standard's enumerations."""

    signal: str  #: signal that is sent, rad or m
    part: Annotated[int, Field(ge=0, le=2**32 - 1)]  #: kind of part and of its motion, such as 1024 + 13 for the rudder


class Sent(Model):
    """Datagrams that are sent: to whom, how often, and what stands in them."""

    to: Address  #: host and port of the receiver
    kind: Literal["entity_state", "binary", "json"]  #: IEEE 1278.1, or the plain format of our own
    rate: Frequency = 60.0  #: datagrams a second
    fields: tuple[SentField, ...] = ()  #: fields of a plain datagram, in their order
    world: tuple[str, str, str] = ("north", "east", "down")  #: the picture's axes of the world
    body: tuple[str, str, str] = ("forward", "right", "down")  #: the picture's axes of the body
    parts: tuple[MovingPart, ...] = ()  #: articulated parts of an entity state
    identity: tuple[int, int, int] = (1, 1, 1)  #: site, application and entity of an entity state
    entity: tuple[int, ...] = (1, 2, 0, 0, 0, 0, 0)  #: kind, domain, country, category, subcategory, specific, extra
    exercise: Annotated[int, Field(ge=0, le=255)] = 1  #: exercise of an entity state
    force: Annotated[int, Field(ge=0, le=255)] = 1  #: force of an entity state
    marking: str = Field(default="", max_length=11)  #: letters on an entity state
    geoid: Length = 0.0  #: height of sea level above the ellipsoid
    threshold: Length = 0.0  #: an entity state is sent only when dead reckoning is off by this; each time unless given
    threshold_angle: Annotated[float, Field(ge=0.0)] = 0.05  #: the same of the attitude and of each part, rad
    heartbeat: Duration = 5.0  #: longest time without an entity state

    @model_validator(mode="after")
    def _consistent(self) -> "Sent":
        if self.kind == "entity_state" and self.fields:
            raise DravikError("an entity state has no fields of its own", where="fields", expected="parts")
        if self.kind != "entity_state" and not self.fields:
            raise DravikError("a plain datagram needs fields", where="fields")
        labels = [f.label for f in self.fields]
        if len(set(labels)) != len(labels):
            raise DravikError("two fields have one name", where="fields", expected="a name for each")
        pose_in_axes((0, 0, 0), (0, 0, 0), self.world, self.body)
        for f in self.fields:
            conversion(f.unit)
        return self

    @property
    def reads(self) -> tuple[str, ...]:
        """The signals that it needs."""
        if self.kind == "entity_state":
            return tuple(dict.fromkeys([*READS, *(p.signal for p in self.parts)]))
        own = [f.signal for f in self.fields if f.signal and f.signal not in POSE]
        return tuple(dict.fromkeys([*own, *(POSE_READS if any(f.signal in POSE for f in self.fields) else ())]))


class Received(Model):
    """Datagrams that come in: where they are waited for, and what their fields set."""

    at: Address  #: host and port where they are waited for; 127.0.0.1 hears only this machine
    kind: Literal["binary", "json"]  #: the plain format of our own
    fields: tuple[ReceivedField, ...] = Field(min_length=1)  #: fields of the datagram, in their order
    lost_after: Duration = 0.5  #: silence after which the sender counts as lost
    when_lost: Literal["hold", "start"] = "hold"  #: then inputs hold, or go back to what they were at the start

    @model_validator(mode="after")
    def _consistent(self) -> "Received":
        inputs = [f.input for f in self.fields if f.input]
        if not inputs or len(set(inputs)) != len(inputs):
            raise DravikError("each field sets an input of its own, and one at least does", where="fields")
        for f in self.fields:
            conversion(f.unit)
        return self


class LinkDefinition(Model):
    """Datagrams between a flight and other programs: pictures, sticks, controllers."""

    format: Literal[1]  #: version of the file's format
    name: str = ""  #: name, for messages
    send: tuple[Sent, ...] = ()  #: datagrams that are sent
    receive: tuple[Received, ...] = ()  #: datagrams that come in
    stick: tuple[StickDefinition, ...] = ()  #: sticks of this machine


def read_link(path: str | Path) -> LinkDefinition:
    """Return what a link file says.

    Parameters
    ----------
    path : str or Path
        A TOML file.

    Returns
    -------
    LinkDefinition

    Raises
    ------
    DefinitionError
        Listing everything wrong in the file, each with its line and key.
    DravikError
        For a file that cannot be read.
    """
    return read_definition(as_path(path), LinkDefinition)[0]
