"""A plain datagram of our own: a head with version, number and time, and then the fields that a file lists; or JSON.

Binary, little-endian: four letters ``DRVK``, version (2 octets), number of fields (2), number of the datagram (4), time
of the flight (8, s), and the fields one after the other. JSON:
``{"dravik": 1, "number": 7, "time": 0.5, "values": {}}``.
"""

import json
import math
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

from dravik.errors import DravikError

__all__ = ["LARGEST", "Datagram", "Layout", "pack", "pack_json", "unpack", "unpack_json"]

VERSION: Final = 1
LARGEST = 8192  # octets of a datagram that is read
Kind = Literal["float32", "float64", "int32", "uint8"]
_HEAD = struct.Struct("<4sHHId")
_CODES: dict[str, str] = {"float32": "f", "float64": "d", "int32": "i", "uint8": "B"}
_LIMITS = {"int32": (-(2**31), 2**31 - 1), "uint8": (0, 255), "float32": (-3.4028235e38, 3.4028235e38)}
Layout = Sequence[tuple[str, Kind]]  # names and types, in their order


@dataclass(frozen=True)
class Datagram:
    """What stood in a datagram: its number, the time of the flight (s), and values by the names of the fields."""

    number: int
    time: float
    values: dict[str, float]


def pack(layout: Layout, values: Mapping[str, float], number: int, time: float) -> bytes:
    """Return the binary datagram of some values; whole numbers are rounded and held within what they can be.

    Raises DravikError for values that are not finite.

    >>> len(pack([("alpha", "float32"), ("gear", "uint8")], {"alpha": 0.1, "gear": 1.0}, 7, 0.5))
    25
    """
    _refuse_infinite(values, time)
    found = [_fitting(values[name], kind) for name, kind in layout]
    codes = "".join(_CODES[kind] for _, kind in layout)
    return _HEAD.pack(b"DRVK", VERSION, len(layout), number % 2**32, time) + struct.pack(f"<{codes}", *found)


def _fitting(value: float, kind: Kind) -> float:
    low, high = _LIMITS.get(kind, (-math.inf, math.inf))
    held = min(max(value, low), high)
    return round(held) if kind in ("int32", "uint8") else held


def _refuse_infinite(values: Mapping[str, float], time: float) -> None:
    bad = [name for name, value in values.items() if not math.isfinite(value)]
    if bad or not math.isfinite(time):
        raise DravikError(f"{bad[0] if bad else 'the time'} is not finite, and is not sent")


def unpack(layout: Layout, data: bytes) -> Datagram:
    """Return what stands in a binary datagram with the fields of a layout; raises DravikError for any other."""
    codes = "<" + "".join(_CODES[kind] for _, kind in layout)
    wanted = _HEAD.size + struct.calcsize(codes)
    if len(data) != wanted:
        raise DravikError(f"the datagram has {len(data)} octets", expected=f"{wanted}, for {len(layout)} fields")
    mark, version, count, number, time = _HEAD.unpack_from(data)
    if mark != b"DRVK" or version != VERSION or count != len(layout):
        raise DravikError(
            f"the datagram begins with {mark!r}, version {version}, {count} fields",
            expected=f"b'DRVK', version {VERSION}, {len(layout)} fields",
        )
    numbers = struct.unpack_from(codes, data, _HEAD.size)
    values = {name: float(v) for (name, _), v in zip(layout, numbers, strict=True)}
    _refuse_infinite(values, time)
    return Datagram(number, time, values)


def pack_json(values: Mapping[str, float], number: int, time: float) -> bytes:
    """Return the JSON datagram of some values; raises DravikError for values that are not finite."""
    _refuse_infinite(values, time)
    data = {"dravik": VERSION, "number": number, "time": time, "values": dict(values)}
    return json.dumps(data, allow_nan=False, separators=(",", ":")).encode()


def unpack_json(names: Sequence[str], data: bytes) -> Datagram:
    """Return what stands in a JSON datagram, those of ``names`` that it has; raises DravikError for any other."""
    if len(data) > LARGEST:
        raise DravikError(f"the datagram has {len(data)} octets", expected=f"at most {LARGEST}")
    try:
        found = json.loads(data)
        if not isinstance(found, dict) or found.get("dravik") != VERSION:
            raise TypeError(f'"dravik": {VERSION} is not in it')
        given = found["values"]
        values = {n: float(given[n]) for n in names if n in given and not isinstance(given[n], bool)}
        number, time = int(found.get("number", 0)), float(found.get("time", 0.0))
    except (ValueError, TypeError, KeyError, OverflowError, RecursionError) as error:
        raise DravikError(f"the datagram is no plain one in JSON ({error})") from None
    _refuse_infinite(values, time)
    return Datagram(number, time, values)
