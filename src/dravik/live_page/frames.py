"""The binary frames of a live flight: a head of 40 octets, and the signals that a client has asked for."""

import struct
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.real_time import Published

__all__ = ["Frame", "frame_of", "read_frame"]

#: Version, kind, flags, list of signals, commands carried out, step, events, free, time of the flight (s), clock (s).
HEAD = struct.Struct("<BBHIIIIIdd")
VERSION, SIGNALS = 1, 1
FLAGS = {"running": 1, "ended": 2, "locked": 4, "recording": 8}


class Frame(NamedTuple):
    """A frame that was read: its list of signals by number, counts, times (s), flags by name, and the values (SI)."""

    watched: int
    applied: int
    step: int
    events: int
    time: float
    clock: float
    flags: frozenset[str]
    values: NDArray[np.float32]


def frame_of(shown: Published, watched: int, places: NDArray[np.intp], clock: float) -> bytes:
    """Return the frame of what a flight has published: the signals at some places of its list."""
    flags = (
        FLAGS["running"] * (shown.state == "running") + FLAGS["ended"] * (shown.state == "ended")
        + FLAGS["locked"] * shown.is_locked + FLAGS["recording"] * bool(shown.recording)
    )  # fmt: skip
    counts = [n & 0xFFFFFFFF for n in (watched, shown.applied, shown.step, shown.events)]
    head = HEAD.pack(VERSION, SIGNALS, flags, *counts, 0, shown.time, clock)
    with np.errstate(over="ignore"):  # a number beyond single precision becomes infinite, which a page can show
        return head + shown.values[places].astype("<f4").tobytes()


def read_frame(data: bytes) -> Frame:
    """Return what a frame says.

    Parameters
    ----------
    data : bytes
        A binary message of the socket.

    Returns
    -------
    Frame

    Raises
    ------
    DravikError
        For what is no frame, or one of another version.

    Examples
    --------
    >>> read_frame(b"")
    Traceback (most recent call last):
    ...
    dravik.errors.DravikError: 0 octets are no frame; expected 40 and four for each signal
    """
    if len(data) < HEAD.size or (len(data) - HEAD.size) % 4:
        raise DravikError(f"{len(data)} octets are no frame", expected="40 and four for each signal")
    version, kind, bits, watched, applied, step, events, _, time, clock = HEAD.unpack_from(data)
    if (version, kind) != (VERSION, SIGNALS):
        raise DravikError(f"a frame of version {version} and kind {kind}", expected=f"{VERSION} and {SIGNALS}")
    flags = frozenset(name for name, bit in FLAGS.items() if bits & bit)
    values = np.frombuffer(data, "<f4", offset=HEAD.size)
    return Frame(watched, applied, step, events, time, clock, flags, values)
