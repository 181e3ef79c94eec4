"""Datagrams: entity states read field by field, dead reckoning, pictures' axes, the plain format, inputs that come in."""

import json
import math
import socket
import struct
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.link import (
    EntityState,
    Link,
    LinkDefinition,
    decode,
    encode,
    entity_state,
    extrapolated,
    pose_in_axes,
    read_link,
)
from dravik.link.entity_state import READS
from dravik.link.plain_format import pack, pack_json, unpack, unpack_json

LOCAL = "127.0.0.1"


def motion(**changes: float) -> dict[str, float]:
    """Return the signals of a state, level and still at latitude and longitude zero unless changed."""
    return {**dict.fromkeys(READS, 0.0), **changes}


def link(**sections: Any) -> LinkDefinition:
    return LinkDefinition.model_validate({"format": 1, **sections})


class EntityStateTest(unittest.TestCase):
    def test_field_by_field_as_the_standard_lays_them_out(self) -> None:
        """Read by octet offsets of IEEE 1278.1, table of the entity state, and not by what wrote them."""
        signals = motion(u=100.0, p=0.1, q=0.2, r=0.3, u_dot=2.0, altitude=1000.0, elevator=0.05)
        parts = [(4096 + 13, signals["elevator"]), (1024 + 13, -0.1)]
        state = entity_state(signals, parts=parts, identity=(11, 12, 13), kind=(1, 2, 71, 3, 4, 5, 6), force=2, exercise=9,
                             marking="TARN", time=1800.0)  # fmt: skip
        data = encode(state)
        self.assertEqual(len(data), 144 + 2 * 16)

        def at(place: int, code: str) -> tuple[Any, ...]:
            return struct.unpack_from(">" + code, data, place)

        for place, code, wanted in (
            (0, "B", (7,)), (1, "B", (9,)), (2, "B", (1,)), (3, "B", (1,)), (8, "H", (176,)),
            (12, "HHH", (11, 12, 13)), (18, "B", (2,)), (19, "B", (2,)), (20, "BBHBBBB", (1, 2, 71, 3, 4, 5, 6)),
            (88, "B", (4,)), (128, "B", (1,)), (129, "4s", (b"TARN",)), (144, "BBHI", (0, 0, 0, 4109)), (164, "I", (1037,)),
        ):  # fmt: skip
            self.assertEqual(at(place, code), wanted, f"octet {place}")
        # half past the hour, in units of an hour over 2^31, the lowest bit 0: relative
        self.assertEqual(at(4, "I"), (2**30 << 1,))
        # at latitude and longitude zero: x is up, y east, z north; the velocity is to the north
        np.testing.assert_allclose(at(48, "ddd"), (6378137.0 + 1000.0, 0.0, 0.0), atol=1e-6)
        np.testing.assert_allclose(at(36, "fff"), (0.0, 0.0, 100.0), atol=1e-5)
        # u_dot along the body, and the turning of the velocity: r u to the right (east), q u upwards
        np.testing.assert_allclose(at(104, "fff"), (0.2 * 100.0, 0.3 * 100.0, 2.0), atol=1e-5)
        np.testing.assert_allclose(at(116, "fff"), (0.1, 0.2, 0.3), atol=1e-7)
        np.testing.assert_allclose(at(152, "f"), (0.05,), atol=1e-8)

    def test_euler_angles_against_a_closed_case(self) -> None:
        """Level and heading north at the equator: the nose along z, the right wing along y, so theta is -90 deg; heading
        east at longitude L: the nose along (-sin L, cos L, 0), level, so psi = 90 deg + L, theta = 0, phi = -90 deg."""
        for longitude in (0.0, 0.4, -1.2):
            psi, theta, phi = entity_state(motion(psi=math.pi / 2, longitude=longitude)).orientation
            self.assertAlmostEqual(math.remainder(psi - math.pi / 2 - longitude, 2 * math.pi), 0.0, delta=1e-9)
            self.assertAlmostEqual(theta, 0.0, delta=1e-9)
            self.assertAlmostEqual(phi, -math.pi / 2, delta=1e-9)
        # any attitude: the matrix of the angles is the chain of local and body rotations, written out
        latitude, longitude, phi, theta, psi = 0.8, 0.2, 0.3, -0.4, 2.0
        found = entity_state(motion(latitude=latitude, longitude=longitude, phi=phi, theta=theta, psi=psi)).orientation

        def turn(axis: int, angle: float) -> Any:
            c, s = math.cos(angle), math.sin(angle)
            return np.array(
                [
                    [[1, 0, 0], [0, c, s], [0, -s, c]],
                    [[c, 0, -s], [0, 1, 0], [s, 0, c]],
                    [[c, s, 0], [-s, c, 0], [0, 0, 1]],
                ][axis]
            )

        chain = turn(0, phi) @ turn(1, theta) @ turn(2, psi) @ turn(1, -latitude - math.pi / 2) @ turn(2, longitude)
        angles = turn(0, found[2]) @ turn(1, found[1]) @ turn(2, found[0])
        np.testing.assert_allclose(angles, chain, atol=1e-12)

    def test_back_again_and_what_is_none(self) -> None:
        state = entity_state(motion(u=50.0, latitude=0.5, phi=0.2), parts=[(1037, 0.25)], marking="PIKA", time=12.5)
        again = decode(encode(state))
        np.testing.assert_allclose(again.location, state.location, atol=1e-6)
        np.testing.assert_allclose(again.orientation, state.orientation, atol=1e-6)
        self.assertEqual((again.marking, again.parts, again.identity), ("PIKA", ((1037, 0.25),), (1, 1, 1)))
        self.assertAlmostEqual(again.time, 12.5, delta=1e-5)
        good = encode(state)
        for bad in (b"", good[:143], good[:-1], good + b"x", b"\x05" + good[1:], good[:2] + b"\x02" + good[3:],
                    good[:48] + struct.pack(">d", math.nan) + good[56:], good[:19] + b"\x02" + good[20:]):  # fmt: skip
            with self.assertRaises(DravikError):
                decode(bad)
        with self.assertRaisesRegex(DravikError, "not finite"):
            encode(entity_state(motion(u=math.nan)))

    def test_dead_reckoning_turns_the_way_the_rates_say(self) -> None:
        """From angles of zero each rate alone turns its own angle; place and velocity by hand."""
        for rates, angles in (
            ((0.2, 0.0, 0.0), (0, 0, 0.3)),
            ((0.0, 0.2, 0.0), (0, 0.3, 0)),
            ((0.0, 0.0, 0.2), (0.3, 0, 0)),
        ):
            state = EntityState((1.0, 2.0, 3.0), velocity=(4.0, 0.0, 0.0), acceleration=(0.0, 2.0, 0.0), rates=rates)
            place, found = extrapolated(state, 1.5)
            np.testing.assert_allclose(found, angles, atol=1e-12)
            np.testing.assert_allclose(place, (1.0 + 6.0, 2.0 + 2.25, 3.0), atol=1e-12)

    def test_a_part_that_moves_is_sent_beyond_its_threshold_alone(self) -> None:
        spec = link(
            send=[
                {
                    "to": f"{LOCAL}:50996",
                    "kind": "entity_state",
                    "threshold": "1 m",
                    "parts": [{"signal": "rudder", "part": 1037}],
                }
            ]
        )
        with Link(spec) as found:
            sender = found.senders[0]
            sent = [
                sender.datagram(0.02 * i, motion(rudder=r)) is not None
                for i, r in enumerate((0.0, 0.03, -0.04, 0.06, 0.06))
            ]
        self.assertEqual(sent, [True, False, False, True, False])

    def test_dead_reckoning_keeps_the_threshold(self) -> None:
        """A receiver that extrapolates what was sent is never off by more than the stated threshold."""
        craft = dv.sample("tarn").with_environment(latitude="46 deg", longitude="10 deg")
        point = dv.trim(craft, airspeed="62 m/s", altitude="600 m", turn="25 deg")
        spec = link(send=[{"to": f"{LOCAL}:50998", "kind": "entity_state", "rate": "50 Hz", "threshold": "0.5 m"}])
        states, last, worst, sent = [], None, 0.0, 0
        with Link(spec) as found:
            sender = found.senders[0]

            class Watch:
                rate = 50.0

                def update(self, t: float, signals: Any) -> dict[str, float]:
                    states.append((t, {n: float(signals[n]) for n in READS}, sender.datagram(t, signals)))
                    return {}

            dv.fly(
                craft,
                start=point,
                duration=20,
                controls={"elevator": dv.doublet("1.5 deg", at=5, width=2)},
                devices=[Watch()],
            )
        for t, signals, data in states:
            if data is not None:
                last, sent = decode(data), sent + 1
                begun = t
            assert last is not None
            place, _ = extrapolated(last, t - begun)
            worst = max(worst, float(np.linalg.norm(place - np.array(entity_state(signals).location))))
        self.assertLess(worst, 0.5)
        self.assertGreater(worst, 0.2)
        self.assertLess(sent, 0.5 * len(states))
        self.assertGreaterEqual(sent, 4)


class PlainFormatTest(unittest.TestCase):
    LAYOUT = (("alpha", "float32"), ("place", "float64"), ("count", "int32"), ("on", "uint8"))

    def test_octets_and_back(self) -> None:
        values = {"alpha": 0.25, "place": 1e7 + 0.125, "count": -3.4, "on": 300.0}
        data = pack(self.LAYOUT, values, 7, 1.5)  # type: ignore[arg-type]
        self.assertEqual(data[:20], b"DRVK" + struct.pack("<HHId", 1, 4, 7, 1.5))
        self.assertEqual(data[20:], struct.pack("<fdiB", 0.25, 1e7 + 0.125, -3, 255))
        found = unpack(self.LAYOUT, data)  # type: ignore[arg-type]
        self.assertEqual(
            (found.number, found.time, found.values["place"], found.values["on"]), (7, 1.5, 1e7 + 0.125, 255.0)
        )
        self.assertEqual(unpack_json(["a"], pack_json({"a": 2.0, "b": 3.0}, 4, 0.5)).values, {"a": 2.0})

    def test_hostile_datagrams_are_refused_and_stop_nothing(self) -> None:
        """Ten thousand of them: random, cut, huge, not finite, of another version."""
        rng = np.random.default_rng(3)
        good = [pack(self.LAYOUT, {"alpha": 0.1, "place": 1.0, "count": 2.0, "on": 1.0}, 1, 0.0), pack_json({"alpha": 0.1}, 1, 0.0), encode(entity_state(motion()))]  # type: ignore[arg-type]  # fmt: skip
        readers = (lambda d: unpack(self.LAYOUT, d), lambda d: unpack_json(["alpha"], d), decode)  # type: ignore[arg-type]
        taken = 0
        for i in range(10_000):
            base = good[i % 3]
            kind = i % 5
            if kind == 0:
                data = rng.bytes(int(rng.integers(0, 300)))
            elif kind == 1:
                data = base[: int(rng.integers(0, len(base)))]
            elif kind == 2:
                spoilt = bytearray(base)
                spoilt[int(rng.integers(0, len(base)))] ^= int(rng.integers(1, 256))
                data = bytes(spoilt)
            elif kind == 3:
                data = base + rng.bytes(int(rng.integers(1, 20_000)))
            else:
                data = json.dumps(
                    {"dravik": 1, "values": {"alpha": [math.inf, math.nan, "x", True, [], None, 1e999][i % 7]}}
                ).encode()
            try:
                found = readers[i % 3](data)
                taken += 1
                values = found.values.values() if hasattr(found, "values") else found.location  # type: ignore[union-attr]
                self.assertTrue(all(math.isfinite(v) for v in values))
            except DravikError:
                pass
        self.assertLess(taken, 3_000)


class LinkTest(unittest.TestCase):
    def test_pictures_axes(self) -> None:
        """Each direction of a left-handed picture (x right, y up, z forward) from what turned it."""
        axes = ["east", "up", "north"], ["right", "up", "forward"]
        for attitude, forward in (
            ((0, 0, 0), (0, 0, 1)),
            ((0, 0, math.pi / 2), (1, 0, 0)),
            ((0, math.pi / 2, 0), (0, 1, 0)),
            ((0.7, 0, math.pi), (0, 0, -1)),
        ):
            _, (w, x, y, z) = pose_in_axes((0, 0, 0), attitude, *axes)
            ahead = (
                2 * (x * z + w * y),
                2 * (y * z - w * x),
                1 - 2 * (x * x + y * y),
            )  # the third column of the rotation
            np.testing.assert_allclose(ahead, forward, atol=1e-12)
        _, (w, x, y, z) = pose_in_axes((0, 0, 0), (0.5, 0, 0), *axes)  # right wing down
        self.assertLess(2 * (x * y + w * z), 0.0)  # the right wing's height
        with self.assertRaisesRegex(DravikError, "different handedness"):
            pose_in_axes((0, 0, 0), (0, 0, 0), ["east", "up", "north"], ["forward", "right", "down"])
        with self.assertRaisesRegex(DravikError, "no direction 'nort'.*north"):
            pose_in_axes((0, 0, 0), (0, 0, 0), ["east", "up", "nort"], axes[1])
        with self.assertRaisesRegex(DravikError, "no three axes"):
            pose_in_axes((0, 0, 0), (0, 0, 0), ["east", "up", "west"], axes[1])

    def test_a_flight_is_sent_and_flown_by_datagrams(self) -> None:
        listener = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(listener.close)
        listener.bind((LOCAL, 0))
        listener.settimeout(2.0)
        free = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        free.bind((LOCAL, 0))
        port = free.getsockname()[1]
        free.close()
        spec = link(
            send=[{"to": f"{LOCAL}:{listener.getsockname()[1]}", "kind": "binary", "rate": "10 Hz", "world": ["east", "up", "north"],
                   "body": ["right", "up", "forward"], "fields": [
                       {"signal": "altitude", "unit": "ft", "type": "float64"}, {"signal": "place_2"}, {"signal": "turn_w"},
                       {"name": "lights", "value": 1, "type": "uint8"}, {"signal": "temperature", "unit": "degC", "scale": 10, "offset": 1}]}],
            receive=[{"at": f"{LOCAL}:{port}", "kind": "json", "fields": [{"name": "stick", "input": "pitch_stick", "scale": 0.5},
                                                                            {"name": "flap", "input": "flap_lever", "unit": "deg"}]}],
        )  # fmt: skip
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        with Link(spec) as found:
            session = dv.Session(craft, start=point, devices=found.devices)
            session.step(0.02)
            layout = [
                ("altitude", "float64"),
                ("place_2", "float32"),
                ("turn_w", "float32"),
                ("lights", "uint8"),
                ("t", "float32"),
            ]
            first = unpack(layout, listener.recv(1000))  # type: ignore[arg-type]
            self.assertAlmostEqual(first.values["altitude"], 300.0 / 0.3048, delta=1e-6)
            self.assertAlmostEqual(first.values["place_2"], 300.0, delta=1e-3)
            self.assertAlmostEqual(first.values["turn_w"], math.cos(point["theta"] / 2), delta=1e-6)
            self.assertAlmostEqual(first.values["t"], (point["temperature"] - 273.15) * 10 + 1, delta=1e-3)
            self.assertEqual(first.values["lights"], 1.0)
            out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self.addCleanup(out.close)
            for data in (
                b"nonsense",
                pack_json({"stick": 0.2, "flap": 10.0}, 1, 0.0),
                pack_json({"stick": 0.4, "flap": 5.0}, 2, 0.0),
            ):
                out.sendto(data, (LOCAL, port))
            session.step(0.05)
            self.assertAlmostEqual(session["pitch_stick"], 0.2, delta=1e-12)
            self.assertAlmostEqual(session["flap_lever"], math.radians(5.0), delta=1e-12)
            receiver = found.receivers[0]
            self.assertEqual((receiver.taken, receiver.refused, receiver.is_lost), (2, 1, False))
            self.assertIn("no plain one", receiver.last_error)
            session.step(1.0)
            self.assertTrue(receiver.is_lost)
            self.assertAlmostEqual(session["pitch_stick"], 0.2, delta=1e-12)  # held
            saved = session.save()
            session.restore(saved)

    def test_a_lost_sender_gives_the_stick_back(self) -> None:
        spec = link(
            receive=[
                {
                    "at": f"{LOCAL}:50997",
                    "kind": "json",
                    "when_lost": "start",
                    "fields": [{"input": "pitch_stick"}, {"input": "elevator"}],
                }
            ]
        )
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(out.close)
        with Link(spec) as found:
            session = dv.Session(craft, start=point, devices=found.devices)
            session.step(0.01)
            out.sendto(pack_json({"pitch_stick": 0.5, "elevator": 0.02}, 1, 0.0), (LOCAL, 50997))
            session.step(0.1)
            self.assertEqual(session["pitch_stick"], 0.5)
            session.step(1.0)
            self.assertEqual(session["pitch_stick"], point["pitch_stick"])
            with self.assertRaisesRegex(DravikError, "nothing can be received at 127.0.0.1:50997.*a port that is free"):
                Link(spec)

    def test_a_file_with_slips(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        good = '[[send]]\nto = "127.0.0.1:5005"\nkind = "json"\nfields = [{ signal = "altitude" }]\n'
        for text, told in (
            (good.replace("127.0.0.1:5005", "5005"), "is no address.*127.0.0.1:5005"),
            (good.replace(":5005", ":70000"), "is no address"),
            (good.replace('"json"', '"jsn"'), "'entity_state', 'binary' or 'json'"),
            (good.replace('signal = "altitude"', 'signal = "altitude", value = 1.0'), "a signal or a value"),
            (good.replace('signal = "altitude"', "value = 1.0"), "needs a name"),
            (good.replace("[{ signal", '[{ signal = "altitude" }, { signal'), "two fields have one name"),
            (good.replace('"altitude"', '"altitude", unit = "banana"'), "banana"),
            (good.replace('fields = [{ signal = "altitude" }]', ""), "needs fields"),
            (good.replace('"json"', '"entity_state"'), "no fields of its own"),
            (good + 'world = ["east", "up", "north"]\n', "different handedness"),
            (good.replace("signal", "singal"), "did you mean signal"),
        ):
            with self.subTest(told):
                (folder / "l.toml").write_text(f"format = 1\n{text}", encoding="utf-8")
                with self.assertRaisesRegex(DravikError, told):
                    read_link(folder / "l.toml")
        (folder / "l.toml").write_text(f"format = 1\n{good}", encoding="utf-8")
        self.assertEqual(read_link(folder / "l.toml").send[0].to, (LOCAL, 5005))


if __name__ == "__main__":
    unittest.main()
