"""A flight's track for maps and viewers: GPX 1.1, KML 2.2 (OGC 07-147r2) and GeoJSON (RFC 7946), open formats all."""

import json
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple
from xml.etree import ElementTree as ET

import numpy as np

from dravik.errors import DravikError, readable
from dravik.host.files import write_text
from dravik.recording.recording import Recording
from dravik.surroundings.earth import curvature_radii
from dravik.units import in_si

__all__ = ["write_track"]

NEEDED = ("latitude", "longitude", "altitude")
DEFAULT_BEGIN = datetime(2000, 1, 1, tzinfo=UTC)


def write_track(
    run: Recording, path: str | Path, *, rate: str | float = 1.0, begins: datetime | None = None, name: str = "",
    place: tuple[str | float, str | float] | None = None,
) -> Path:  # fmt: skip
    """Write a track by the file's ending: ``.gpx``, ``.kml`` or ``.geojson``; a point ``rate`` times a second (Hz).

    Heights are above sea level; time counts from ``begins``, or what the recording's scenario says, or the
    beginning of 2000 in UTC. ``place`` is the latitude and longitude of the origin of north and east, for a flight
    over a flat Earth that has none.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    path : str or path
        A ``.gpx``, ``.kml`` or ``.geojson`` file.
    rate : str or float, default 1.0
        Points a second, Hz.
    begins : datetime, optional
        Time of the beginning, UTC.
    name : str, default ""
        The track's name.
    place : tuple (str | float, str | float), optional
        Latitude and longitude of the origin, for a flat Earth without.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        Where latitude, longitude and altitude were not recorded, for a flight that has no place on the Earth, for
        another ending, and for a file that cannot be written.
    """
    target = Path(path)
    writers: dict[str, _Writer] = {".gpx": _gpx, ".kml": _kml, ".geojson": _geojson}
    if target.suffix not in writers:
        raise DravikError(
            f"a track cannot be written as {target.name!r}", expected="a name that ends in .gpx, .kml or .geojson"
        )
    if place is not None:
        run = placed(run, *place)
    missing = [n for n in NEEDED if n not in run.names]
    if missing:
        raise DravikError(f"the recording has no {', '.join(missing)}", hint="record them, or all signals, when flying")
    if place is None and run.metadata.get("earth", "flat") == "flat" and not any(run.metadata.get("origin_deg", [])):
        raise DravikError(
            "the flight has no place on the Earth",
            hint="give one now (--place), or latitude and longitude in [environment], and fly again",
        )
    begin = begins or _begin(run) or DEFAULT_BEGIN
    begin = begin.replace(tzinfo=UTC) if begin.tzinfo is None else begin.astimezone(UTC)
    track = run.resampled(rate)
    stamps = [_stamp(begin, float(t)) for t in track.time]
    title = name or str(run.metadata.get("scenario") or run.metadata.get("aircraft") or "flight")
    return write_text(target, writers[target.suffix](track, stamps, readable(title), _marks(run, begin)), what="track")


def placed(run: Recording, latitude: str | float, longitude: str | float) -> Recording:
    """Return a recording with latitude and longitude by its distance north and east of a place on the ellipsoid."""
    missing = [n for n in ("north", "east", "altitude") if n not in run.names]
    if missing:
        raise DravikError(f"the recording has no {', '.join(missing)}", hint="record them, or all signals, when flying")
    lat, lon = in_si(latitude, "angle", where="latitude"), in_si(longitude, "angle", where="longitude")
    if not abs(lat) < np.radians(89.9):
        raise DravikError(f"a place cannot be at latitude {latitude!r}", expected="within 89.9 deg of the equator")
    meridian, across = curvature_radii(lat)
    found = {
        "latitude": lat + run["north"] / float(meridian),
        "longitude": lon + run["east"] / (float(across) * np.cos(lat)),
    }
    kept = [n for n in run.names if n not in found]
    values = np.column_stack([*(run[n] for n in kept), *found.values()])
    units = {**run.units, "latitude": "rad", "longitude": "rad"}
    return replace(run, names=[*kept, *found], units=units, values=values)


class Mark(NamedTuple):
    """Something that happened: words, time, longitude and latitude in degrees, altitude in m."""

    text: str
    stamp: str
    lon: float
    lat: float
    height: float


_Writer = Callable[[Recording, list[str], str, list[Mark]], str]


def _stamp(begin: datetime, seconds: float) -> str:
    text = (begin + timedelta(seconds=seconds)).isoformat(timespec="milliseconds")
    return text.replace("+00:00", "Z")


def _begin(run: Recording) -> datetime | None:
    text = run.metadata.get("begins")
    return datetime.fromisoformat(text) if isinstance(text, str) else None


def _points(track: Recording) -> Iterator[tuple[float, float, float]]:
    """Yield longitude and latitude in degrees, altitude in m."""
    degrees = np.degrees(np.column_stack([track["longitude"], track["latitude"]]))
    for (lon, lat), height in zip(degrees, track["altitude"], strict=True):
        yield float(lon), float(lat), float(height)


def _marks(run: Recording, begin: datetime) -> list[Mark]:
    """Return the phases, faults and crashes with their times and places."""
    found = []
    for event in run.events:
        if event.text.startswith(("phase:", "fault:", "gust:", "crash")):
            lon, lat = (float(np.degrees(np.interp(event.time, run.time, np.unwrap(run[n])))) for n in NEEDED[1::-1])
            height = float(np.interp(event.time, run.time, run["altitude"]))
            found.append(Mark(readable(event.text), _stamp(begin, event.time), lon, lat, height))
    return found


def _text(root: ET.Element) -> str:
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def _gpx(track: Recording, stamps: list[str], title: str, marks: list[Mark]) -> str:
    root = ET.Element("gpx", {"version": "1.1", "creator": "Dravik", "xmlns": "http://www.topografix.com/GPX/1/1"})
    for words, stamp, lon, lat, height in marks:
        point = ET.SubElement(root, "wpt", {"lat": f"{lat:.8f}", "lon": f"{lon:.8f}"})
        for tag, text in (("ele", f"{height:.2f}"), ("time", stamp), ("name", words)):
            ET.SubElement(point, tag).text = text
    line = ET.SubElement(root, "trk")
    ET.SubElement(line, "name").text = title
    segment = ET.SubElement(line, "trkseg")
    for (lon, lat, height), stamp in zip(_points(track), stamps, strict=True):
        point = ET.SubElement(segment, "trkpt", {"lat": f"{lat:.8f}", "lon": f"{lon:.8f}"})
        ET.SubElement(point, "ele").text = f"{height:.2f}"
        ET.SubElement(point, "time").text = stamp
    return _text(root)


def _kml(track: Recording, stamps: list[str], title: str, marks: list[Mark]) -> str:
    root = ET.Element("kml", {"xmlns": "http://www.opengis.net/kml/2.2"})
    document = ET.SubElement(root, "Document")
    ET.SubElement(document, "name").text = title
    line = ET.SubElement(document, "Placemark")
    ET.SubElement(line, "name").text = "track"
    span = ET.SubElement(line, "TimeSpan")
    ET.SubElement(span, "begin").text, ET.SubElement(span, "end").text = stamps[0], stamps[-1]
    string = ET.SubElement(line, "LineString")
    ET.SubElement(string, "altitudeMode").text = "absolute"
    places = [f"{lon:.8f},{lat:.8f},{height:.2f}" for lon, lat, height in _points(track)]
    ET.SubElement(string, "coordinates").text = " ".join(places)
    for words, stamp, lon, lat, height in marks:
        mark = ET.SubElement(document, "Placemark")
        ET.SubElement(mark, "name").text = words
        ET.SubElement(ET.SubElement(mark, "TimeStamp"), "when").text = stamp
        point = ET.SubElement(mark, "Point")
        ET.SubElement(point, "altitudeMode").text = "absolute"
        ET.SubElement(point, "coordinates").text = f"{lon:.8f},{lat:.8f},{height:.2f}"
    return _text(root)


def _geojson(track: Recording, stamps: list[str], title: str, marks: list[Mark]) -> str:
    def rounded(point: tuple[float, float, float]) -> list[float]:
        return [round(point[0], 8), round(point[1], 8), round(point[2], 2)]

    line = {
        "type": "Feature",
        "properties": {"name": title, "times": stamps},
        "geometry": {"type": "LineString", "coordinates": [rounded(p) for p in _points(track)]},
    }
    features = [
        {
            "type": "Feature",
            "properties": {"name": mark.text, "time": mark.stamp},
            "geometry": {"type": "Point", "coordinates": rounded((mark.lon, mark.lat, mark.height))},
        }
        for mark in marks
    ]
    return json.dumps({"type": "FeatureCollection", "features": [line, *features]}) + "\n"
