"""Routes: points to fly by or over, circles and holding patterns, with defaults at the top; from TOML or CSV."""

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, model_validator

from dravik.definition.fields import Angle, Length, Model, PositiveLength, Speed
from dravik.definition.toml import KeyLines, read_definition, validate
from dravik.errors import DravikError, require
from dravik.host.files import as_path
from dravik.surroundings.earth import curvature_radii
from dravik.tables.csvfile import Sheet

__all__ = ["Place", "Point", "Route", "read_route"]

WORDS = ("name", "kind", "sense")  # columns of text in a CSV file
Kind = Literal["fly_by", "fly_over", "circle", "hold", "arc"]


class Settings(Model):
    """What may stand for all points, and for any of them."""

    airspeed: Speed | None = None  #: airspeed to the point
    altitude: Length | None = None  #: altitude of the point
    acceptance: PositiveLength | None = None  #: distance that counts as met
    bank: Angle | None = None  #: greatest bank of the turns
    radius: PositiveLength | None = None  #: radius of circles, holds and arcs


class Point(Settings):
    """A point of a route: where, in metres or by latitude and longitude, and what happens there.

    ``kind``: turned before it (``fly_by``), passed and then turned (``fly_over``), a ``circle`` around it, a ``hold``
    (racetrack: inbound ``course`` to the point, ``length`` of its legs), or reached along an ``arc``; circles, holds
    and arcs have a ``radius`` and a ``sense``, circles and holds a number of ``turns``. With ``slope`` the altitude
    changes evenly along the way to the point, otherwise at once.
    """

    name: str = ""  #: name of the point
    north: Length | None = None  #: place to the north
    east: Length | None = None  #: place to the east
    latitude: Angle | None = None  #: latitude, in the place of north and east
    longitude: Angle | None = None  #: longitude, in the place of north and east
    kind: Kind = "fly_by"  #: what happens at the point
    sense: Literal["left", "right"] = "left"  #: which way circles, holds and arcs turn
    turns: float = Field(default=1.0, gt=0.0, le=1000.0)  #: number of turns of a circle or hold
    course: Angle | None = None  #: inbound course of a hold
    length: PositiveLength | None = None  #: length of the legs of a hold
    slope: bool = False  #: whether the altitude changes evenly along the way

    @model_validator(mode="after")
    def _one_place(self) -> "Point":
        metres, degrees = (self.north, self.east), (self.latitude, self.longitude)
        if (None in metres) == (None in degrees) or metres.count(None) == 1 or degrees.count(None) == 1:
            raise DravikError(
                "the point has no place, or more than one", expected="north and east, or latitude and longitude"
            )
        if self.kind == "hold" and (self.course is None or self.length is None):
            raise DravikError("the hold has no course or no length", expected="both: the inbound leg's")
        return self


class Route(Model):
    """A route: its points in order, and ``defaults`` for whatever a point does not say."""

    format: Literal[1]  #: version of the file's format
    name: str = Field(min_length=1, max_length=80)  #: name, for titles
    description: str = ""  #: what the route is for
    defaults: Settings = Settings()  #: what holds for every point that says nothing else
    points: tuple[Point, ...] = Field(min_length=2)  #: points in their order


@dataclass(frozen=True)
class Place:
    """A point of a route with nothing left open, in metres from the origin, SI and rad; ``sense`` is 1 to the right."""

    name: str
    north: float
    east: float
    altitude: float
    airspeed: float
    acceptance: float
    bank: float
    kind: Kind
    radius: float
    sense: int
    turns: float
    course: float
    length: float
    slope: bool


def read_route(path: str | Path) -> Route:
    """Return the route in a TOML file, or in a CSV file whose columns are keys of points with their units.

    Parameters
    ----------
    path : str or path
        A TOML or CSV file.

    Returns
    -------
    Route

    Raises
    ------
    DravikError
        For what is wrong, with file, line and key.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.aircraft import sample_path
    >>> len(read_route(sample_path("pika") / "routes" / "fire_edge.toml").points)
    12
    """
    source = as_path(path)
    if source.suffix.lower() == ".csv":
        return _from_csv(source)
    return read_definition(source, Route)[0]


def _from_csv(source: Path) -> Route:
    """Return the route of a table with a row for each point; text columns are name, kind, sense."""
    sheet = Sheet(source)
    rows: list[dict[str, Any]] = [{} for _ in range(len(sheet))]
    for name in sheet.names:
        if name in WORDS:
            for row, word in zip(rows, sheet.words(name), strict=True):
                row |= {name: word} if word else {}
        else:
            numbers, unit = sheet.as_written(name)
            for row, number in zip(rows, numbers.tolist(), strict=True):
                row[name] = f"{number!r} {unit}" if unit else number
    data: dict[str, Any] = {"format": 1, "name": source.stem, "points": rows}
    return validate(data, Route, KeyLines("", str(source)))


def places(route: Route, origin: tuple[float, float] = (0.0, 0.0)) -> list[Place]:
    """Return the points of a route in metres from an origin (latitude and longitude, rad), nothing left open.

    Raises DravikError for a point without speed, altitude or radius where none is given for all.
    """
    require(route, Route, "the route", "read_route(file)")
    meridian, across = curvature_radii(origin[0])
    found = []
    for k, p in enumerate(route.points, start=1):
        where = f"{route.name}: point {p.name or k}"
        whole = {
            key: getattr(p, key) if getattr(p, key) is not None else getattr(route.defaults, key)
            for key in Settings.model_fields
        }
        needed = ["airspeed", "altitude", *(["radius"] if p.kind in ("circle", "hold", "arc") else [])]
        for key in needed:
            if whole[key] is None:
                raise DravikError(
                    f"the point has no {key}", where=where, expected="the point's own, or one among the defaults"
                )
        if p.latitude is not None and p.longitude is not None:
            north = (p.latitude - origin[0]) * float(meridian)
            east = (p.longitude - origin[1]) * float(across) * math.cos(origin[0])
        else:
            assert p.north is not None
            assert p.east is not None
            north, east = p.north, p.east
        found.append(
            Place(
                p.name or str(k), north, east, whole["altitude"], whole["airspeed"], whole["acceptance"] or math.inf,
                whole["bank"] if whole["bank"] is not None else math.radians(25.0), p.kind, whole["radius"] or 0.0,
                1 if p.sense == "right" else -1, p.turns, p.course or 0.0, p.length or 0.0, p.slope,
            )
        )  # fmt: skip
    return found
