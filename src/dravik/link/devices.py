"""Devices that send a flight's motion as datagrams and take inputs from datagrams; a flight never waits for them."""

import math
import socket
from collections.abc import Mapping
from contextlib import suppress
from types import TracebackType
from typing import Any

import numpy as np

from dravik.errors import DravikError
from dravik.link.entity_state import EntityState, encode, entity_state, extrapolated
from dravik.link.link_file import POSE, POSE_READS, LinkDefinition, Received, ReceivedField, Sent, SentField, conversion
from dravik.link.picture_axes import pose_in_axes
from dravik.link.plain_format import LARGEST, Datagram, pack, pack_json, unpack, unpack_json
from dravik.link.stick import Stick

__all__ = ["Link", "Receiver", "Sender"]

MOST_AT_ONCE = 64  # datagrams that are read in one call; what is left waits, and the newest of them counts


class Sender:
    """A device that sends datagrams; what cannot be sent is counted and dropped.

    ``sent`` and ``failed`` count them, ``last_error`` says why the last one failed.
    """

    def __init__(self, spec: Sent) -> None:
        self.spec, self.reads = spec, spec.reads
        self.rate = math.inf  # looked at in every step: the datagrams' own rate need not fit the flight's steps
        self._sent_for = -1  # the number of the period that was sent last
        self.name = f"link to {spec.to[0]}:{spec.to[1]}"
        self.sent = self.failed = self.number = 0
        self.last_error = ""
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.setblocking(False)
        self._units = {f.label: conversion(f.unit) for f in spec.fields}
        self._last: EntityState | None = None

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Send what is due at this time (s); sets nothing."""
        period = math.floor(t * self.spec.rate + 1e-9)
        if period == self._sent_for:
            return {}
        self._sent_for = period
        try:
            data = self.datagram(t, signals)
            if data is not None:
                self._socket.sendto(data, self.spec.to)
                self.sent += 1
        except (OSError, DravikError) as error:  # nobody there, a full buffer, a signal that is not finite
            self.failed, self.last_error = self.failed + 1, str(error)
        return {}

    def datagram(self, t: float, signals: Mapping[str, float]) -> bytes | None:
        """Return the datagram of an instant; None where dead reckoning is good enough and none is due."""
        spec = self.spec
        if spec.kind == "entity_state":
            parts = [(p.part, float(signals[p.signal])) for p in spec.parts]
            state = entity_state(
                signals, parts=parts, geoid=spec.geoid, time=t, identity=spec.identity, kind=spec.entity,
                force=spec.force, exercise=spec.exercise, marking=spec.marking,
            )  # fmt: skip
            if not self._is_due(state):
                return None
            self._last = state
            return encode(state)
        values = self._values(signals)
        self.number += 1
        if spec.kind == "json":
            return pack_json(values, self.number, t)
        return pack([(f.label, f.type) for f in spec.fields], values, self.number, t)

    def _is_due(self, state: EntityState) -> bool:
        """Whether a receiver that extrapolates the last state is off by more than the threshold, or has waited long."""
        last, spec = self._last, self.spec
        if last is None or not spec.threshold:
            return True
        # parts are not extrapolated: a receiver has them where they were
        if any(
            abs(now - then) > spec.threshold_angle for (_, now), (_, then) in zip(state.parts, last.parts, strict=True)
        ):
            return True
        # half a period before the heartbeat, so that it is never exceeded
        if not 0.0 <= state.time - last.time < spec.heartbeat - 0.5 / spec.rate:
            return True
        place, angles = extrapolated(last, state.time - last.time + 1.0 / spec.rate)
        ahead, turned = extrapolated(state, 1.0 / spec.rate)  # it must hold until the next look
        off = float(np.linalg.norm(place - ahead))
        turn = float(np.abs((angles - turned + np.pi) % (2.0 * np.pi) - np.pi).max())
        return off > spec.threshold or turn > spec.threshold_angle

    def _values(self, signals: Mapping[str, float]) -> dict[str, float]:
        spec = self.spec
        pose: dict[str, float] = {}
        if any(f.signal in POSE for f in spec.fields):
            found = [float(signals[n]) for n in POSE_READS]
            place, turn = pose_in_axes(found[:3], found[3:], spec.world, spec.body)
            pose = dict(zip(POSE, [*place.tolist(), *turn.tolist()], strict=True))
        return {f.label: self._value(f, pose, signals) for f in spec.fields}

    def _value(self, f: SentField, pose: Mapping[str, float], signals: Mapping[str, float]) -> float:
        if f.value is not None:
            return f.value * f.scale + f.offset
        scale, offset = self._units[f.label]
        number = pose[f.signal] if f.signal in pose else float(signals[f.signal])
        return (number - offset) / scale * f.scale + f.offset

    def close(self) -> None:
        """Give the socket back."""
        self._socket.close()

    def save(self) -> dict[str, Any]:
        """Return nothing: what was sent is gone, and a flight that is restored goes on sending."""
        return {}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Send the next state whatever was sent before."""
        self._last, self._sent_for = None, -1


class Receiver:
    """A device that takes inputs from datagrams: the newest that is valid counts, others are counted and dropped.

    ``taken`` and ``refused`` count them, ``last_error`` says what was wrong with the last one, ``is_lost`` whether the
    sender has been silent for longer than ``lost_after``.
    """

    def __init__(self, spec: Received) -> None:
        self.spec, self.rate = spec, math.inf  # in every step: the newest counts
        self.name = f"link at {spec.at[0]}:{spec.at[1]}"
        self._fields: dict[str, ReceivedField] = {f.label: f for f in spec.fields if f.input}
        self.sets = tuple(f.input for f in self._fields.values())
        self._units = {f.label: conversion(f.unit) for f in spec.fields}
        self.taken = self.refused = 0
        self.last_error, self.is_lost = "", False
        self._heard: float | None = None
        self._values: dict[str, float] = {}
        self._begun: dict[str, float] = {}
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.setblocking(False)
        try:
            self._socket.bind(spec.at)
        except OSError as error:
            self._socket.close()
            raise DravikError(
                f"nothing can be received at {spec.at[0]}:{spec.at[1]} ({error.strerror or error})",
                expected="an address of this machine and a port that is free",
            ) from None
        self.port = int(self._socket.getsockname()[1])

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return the inputs of the newest datagram; a sender that was lost leaves them, or takes them back."""
        if not self._begun:
            # an effector's name stands for what is added to its command: nothing at the start
            self._begun = {n: 0.0 if f"{n}_increment" in signals else float(signals[n]) for n in self.sets}
        newest = self._newest()
        if newest is not None:
            self._values = {
                self._fields[n].input: self._in_si(n, v) for n, v in newest.values.items() if n in self._fields
            }
            self._heard, self.is_lost = t, False
            return dict(self._values)
        if self._heard is not None and t - self._heard > self.spec.lost_after and not self.is_lost:
            self.is_lost = True
            if self.spec.when_lost == "start":
                return {n: self._begun[n] for n in self._values}
        return {}

    def _in_si(self, name: str, value: float) -> float:
        f, (scale, offset) = self._fields[name], self._units[name]
        return (value * f.scale + f.offset) * scale + offset

    def _newest(self) -> Datagram | None:
        """Return the last valid datagram that has come in, of so many; None without one."""
        found: Datagram | None = None
        for _ in range(MOST_AT_ONCE):
            try:
                data = self._socket.recv(LARGEST + 1)
            except OSError:  # nothing more is there
                break
            try:
                found = self._read(data)
                self.taken += 1
            except DravikError as error:
                self.refused, self.last_error = self.refused + 1, str(error)
        return found

    def _read(self, data: bytes) -> Datagram:
        if self.spec.kind == "json":
            return unpack_json(list(self._fields), data)
        return unpack([(f.label or f"field {i}", f.type) for i, f in enumerate(self.spec.fields)], data)

    def close(self) -> None:
        """Give the port back."""
        self._socket.close()

    def save(self) -> dict[str, Any]:
        """Return nothing: what comes in is not the flight's."""
        return {}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Wait for the next datagram."""
        self._heard, self.is_lost = None, False


class Link:
    """The devices of a link file: ``devices`` for a flight or session; use it in a ``with`` statement.

    >>> from dravik.link import LinkDefinition
    >>> spec = LinkDefinition.model_validate({"format": 1, "send": [
    ...     {"to": "127.0.0.1:50999", "kind": "json", "fields": [{"signal": "altitude", "unit": "ft"}]}]})
    >>> with Link(spec) as link:
    ...     link.devices[0].datagram(0.5, {"altitude": 304.8})
    b'{"dravik":1,"number":1,"time":0.5,"values":{"altitude":1000.0}}'
    """

    def __init__(self, definition: LinkDefinition) -> None:
        self.senders = [Sender(spec) for spec in definition.send]
        self.receivers: list[Receiver] = []
        self.sticks: list[Stick] = []
        try:
            for spec in definition.receive:
                self.receivers.append(Receiver(spec))
            for stick in definition.stick:
                self.sticks.append(Stick(stick))
        except DravikError:
            self.close()
            raise

    @property
    def devices(self) -> list[Any]:
        """What a flight calls: what comes in before what goes out."""
        return [*self.receivers, *self.sticks, *self.senders]

    def learn(self, ranges: Mapping[str, tuple[float, float]]) -> None:
        """Take the ranges of an aircraft's inputs, which sticks need; raises DravikError for an input without one."""
        for stick in self.sticks:
            stick.learn(ranges)

    def close(self) -> None:
        """Give sockets and ports back."""
        for device in self.devices:
            with suppress(OSError):
                device.close()

    def __enter__(self) -> "Link":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
