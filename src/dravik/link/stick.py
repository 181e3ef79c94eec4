"""A stick of this machine as a device, read through the operating system's own interface: events of 8 octets.

The events are those of Linux (kernel documentation, "Linux Joystick Driver API", ``struct js_event``): time in ms,
value from -32767 to 32767, kind (1 button, 2 axis, with 128 added for the state at the start), number from 0.
"""

import errno
import os
import struct
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from pydantic import Field

from dravik.definition.fields import Model
from dravik.errors import DravikError

__all__ = ["Stick", "StickAxis", "StickDefinition", "shaped"]

EVENT = struct.Struct("<IhBB")
AXIS, BUTTON, INITIAL, FULL = 2, 1, 0x80, 32767.0
MOST_AT_ONCE = 256  # events of one call; what is left waits


class StickAxis(Model):
    """An axis or a button of a stick, and how it moves an input: from where that was at the start."""

    input: str  #: input that it moves
    axis: Annotated[int, Field(ge=0, le=255)] | None = None  #: number of the axis, from 0
    button: Annotated[int, Field(ge=0, le=255)] | None = None  #: number of the button, from 0: 1 while it is pressed
    dead_zone: Annotated[float, Field(ge=0.0, le=0.9)] = 0.05  #: share about the centre in which nothing moves
    centre: Annotated[float, Field(ge=-0.9, le=0.9)] = 0.0  #: place of the axis at which nothing moves
    curve: Annotated[float, Field(ge=0.0, le=1.0)] = 0.3  #: 0 straight, 1 a cube: finer about the centre
    reversed: bool = False  #: whether the sign is turned
    share: Annotated[float, Field(gt=0.0, le=1.0)] = 0.4  #: of the input's half range at full deflection


class StickDefinition(Model):
    """A stick of this machine, read through the operating system's event interface."""

    device: str = "/dev/input/js0"  #: file of the device
    axes: tuple[StickAxis, ...] = Field(min_length=1)  #: axes and buttons that move inputs


def shaped(raw: float, axis: StickAxis) -> float:
    """Return where centre, dead zone, curve and sign put an axis's value, from -1 to 1.

    >>> [round(shaped(v, StickAxis(input="pedal", axis=0, dead_zone=0.1, curve=0.0)), 3) for v in (0.1, 0.55, -1.0)]
    [0.0, 0.5, -1.0]
    """
    v = max(-1.0, min(1.0, raw)) - axis.centre
    v /= 1.0 - axis.centre if v > 0.0 else 1.0 + axis.centre  # both ends stay in reach
    v = 0.0 if abs(v) <= axis.dead_zone else float(np.sign(v)) * (abs(v) - axis.dead_zone) / (1.0 - axis.dead_zone)
    v = v * (1.0 - axis.curve) + axis.curve * v**3
    return -v if axis.reversed else v


class Stick:
    """A device that moves inputs by a stick of this machine; a stick that is pulled out leaves them where they are.

    ``ranges`` are those of the inputs (SI). ``is_lost`` tells that it has gone. Raises DravikError for a device that
    cannot be read, and inputs without a range.
    """

    def __init__(self, spec: StickDefinition, ranges: Mapping[str, tuple[float, float]] | None = None) -> None:
        self.spec, self.name, self.rate = spec, f"stick {Path(spec.device).name}", float("inf")
        self.sets = tuple(dict.fromkeys(a.input for a in spec.axes))
        self.is_lost = False
        self._ranges = dict(ranges or {})
        self._raw: dict[tuple[int, int], float] = {}
        self._begun: dict[str, float] = {}
        self._data = b""
        for axis in spec.axes:
            if (axis.axis is None) == (axis.button is None):
                raise DravikError(f"{axis.input} has an axis or a button", where="axes", expected="one of them")
        try:
            self._file = os.open(spec.device, os.O_RDONLY | os.O_NONBLOCK)
        except OSError as error:
            raise DravikError(
                f"the stick {spec.device} cannot be read ({error.strerror})", expected="a device such as /dev/input/js0"
            ) from None

    def learn(self, ranges: Mapping[str, tuple[float, float]]) -> None:
        """Take the ranges of inputs; raises DravikError for an input that has none."""
        for name in self.sets:
            low, high = ranges.get(name, (-np.inf, np.inf))
            if not np.isfinite(high - low):
                raise DravikError(
                    f"{name} has no range, so a stick cannot move it", where="axes", expected="an input with one"
                )
            self._ranges[name] = (float(low), float(high))

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return inputs that have moved since the last call."""
        if not self._begun:
            self._begun = {n: float(signals[n]) for n in self.sets}
        moved = self._read()
        if not moved:
            return {}
        found = {}
        for name in self.sets:
            own = [a for a in self.spec.axes if a.input == name]
            if not any(_key(a) in moved for a in own):
                continue
            low, high = self._ranges[name]
            value = self._begun[name] + sum(
                shaped(self._raw.get(_key(a), 0.0), a) * a.share * 0.5 * (high - low) for a in own
            )
            found[name] = min(max(value, low), high)
        return found

    def _read(self) -> set[tuple[int, int]]:
        """Take the events that have come in; return the axes and buttons that moved."""
        moved: set[tuple[int, int]] = set()
        if self.is_lost:
            return moved
        try:
            self._data += os.read(self._file, EVENT.size * MOST_AT_ONCE)
        except BlockingIOError:
            return moved
        except OSError as error:
            self.is_lost = error.errno in (errno.ENODEV, errno.EIO, errno.EBADF)
            return moved
        whole = len(self._data) // EVENT.size * EVENT.size
        for _, value, kind, number in EVENT.iter_unpack(self._data[:whole]):
            key = (kind & ~INITIAL, number)
            if key[0] in (AXIS, BUTTON):
                self._raw[key] = value / FULL if key[0] == AXIS else float(value != 0)
                # what stands at the start moves nothing: a lever that lies somewhere shall not make a jump
                if not kind & INITIAL:
                    moved.add(key)
        self._data = self._data[whole:]
        return moved

    def close(self) -> None:
        """Give the device back."""
        os.close(self._file)

    def save(self) -> dict[str, Any]:
        """Return nothing: where a stick is, is not the flight's."""
        return {}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Go on with where the stick is."""


def _key(axis: StickAxis) -> tuple[int, int]:
    return (AXIS, axis.axis) if axis.axis is not None else (BUTTON, axis.button or 0)
