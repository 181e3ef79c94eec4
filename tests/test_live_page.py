"""The server of a live flight and its protocol, by a client of the tests' own; what is hostile; recordings; playback."""

import json
import random
import socket
import struct
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.live_page import Door, LivePage, read_frame
from dravik.live_page import client as limits
from dravik.live_page.messages import COMMANDS, read_message
from dravik.recording import read_recording
from tests.web_socket import Client, RefusedError, fetch

HEAD = "<BBHIIIIIdd"  # of a frame: read here without the package


def session(**options: object) -> dv.Session:
    craft = dv.sample("tarn", laws=["pitch_hold"])
    return dv.Session(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="300 m"), **options)


class Served(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def serve(self, what: object = None, **options: object) -> LivePage:
        return self.enterContext(dv.live(what or session(), folder=self.folder, **options))

    def client(self, page: LivePage, **headers: str) -> Client:
        return self.enterContext(Client(page.address, **headers))

    def pilot(self, page: LivePage) -> Client:
        client = self.client(page)
        self.assertEqual(client.ask("pilot", take=True)["role"], "pilot")
        return client


class ProtocolTest(Served):
    def test_a_pilot_flies_and_frames_are_what_the_flight_is(self) -> None:
        page = self.serve()
        pilot, hello = self.pilot(page), None
        hello = pilot.hello
        self.assertEqual((hello["hello"], hello["aircraft"], hello["loading"]), (1, "Tarn", "loaded"))
        self.assertEqual((hello["signals"]["theta"]["unit"], hello["signals"]["theta"]["shown"]), ("rad", "deg"))
        self.assertEqual(hello["pilot"], ["throttle", "pitch_stick", "roll_stick", "pedal"])
        kinds = {i["name"]: i["kind"] for i in hello["inputs"]}
        told = {"pitch_stick": "stick", "flap_lever": "lever", "wind_up": "air", "fail_left": "fault"}
        self.assertEqual({n: kinds[n] for n in told}, told)
        pilot.ask("watch", signals=["theta", "pitch_stick", "altitude"], rate=100)
        self.assertIn("locked", pilot.ask("set", values={"pitch_stick": 0.3})["error"])
        pilot.ask("hand_over")
        pilot.ask("set", values={"pitch_stick": 0.3, "flap_lever": "5 deg"})
        pilot.ask("step", steps=40)
        twin = session()
        twin.step(0.4, pitch_stick=0.3, flap_lever="5 deg")
        expected = [twin["theta"], 0.3, twin["altitude"]]
        data = pilot.frame()
        version, kind, flags, watched, applied, step, *_, t, _ = struct.unpack_from(HEAD, data)
        self.assertEqual((version, kind, flags, watched, step, t), (1, 1, 0, 1, 40, 0.4))
        self.assertEqual(applied, 4)  # those that the flight was asked, refused ones too
        np.testing.assert_array_equal(np.frombuffer(data, "<f4", offset=40), np.float32(expected))
        self.assertEqual(read_frame(data).flags, frozenset())
        pilot.ask("watch", signals=["q"])
        found = read_frame(pilot.frame())
        self.assertEqual((found.watched, len(found.values)), (2, 1))
        before = session().state
        pilot.ask("reset")
        np.testing.assert_array_equal(page.flight.do(lambda: page.flight.session.state), before)

    def test_what_a_pilot_can_do(self) -> None:
        """Each command changes what it says; the event tells of it."""
        page = self.serve(dv.load_scenario("fire_run").session())
        pilot = self.pilot(page)
        flight = page.flight
        look = lambda name: flight.do(lambda: flight.session[name])  # noqa: E731
        for do, fields, name, value in (
            ("set", {"values": {"vertical": "climb"}}, "vertical", 3.0),
            ("set", {"values": {"altitude_gain": 0.3}}, "altitude_gain", 0.3),
            ("set", {"values": {"fail_left": 1}}, "fail_left", 1.0),
            ("tank", {"name": "water", "mass": 500}, "tank_water", 500.0),
            ("turbulence", {"severity": "none"}, "gust_roll", 0.0),
            ("set", {"values": {"wind_up": 1.5}}, "wind_up", 1.5),
        ):
            with self.subTest(do, **fields):
                answer = pilot.ask(do, **fields)
                self.assertNotIn("error", answer)
                pilot.ask("step", steps=1)
                self.assertAlmostEqual(look(name), value, delta=2.0 if name == "tank_water" else 1e-9)
        # the script's phases read the water, which this loading does not have
        self.assertIn("no signal 'tank_water'", pilot.ask("loading", name="dropped")["error"])
        texts = [e.text for e in flight.do(flight.events)]
        for text in (
            "vertical: climb (set)", "tank water: 3000 to 500 kg (set)", "turbulence: none (set)",
        ):  # fmt: skip
            self.assertIn(text, texts)
        self.assertTrue(any(t.startswith("parameter altitude_gain:") and t.endswith("to 0.3") for t in texts), texts)
        pilot.ask("reset")
        self.assertEqual(
            (look("mass"), look("tank_water")),
            (flight.do(lambda: dv.load_scenario("fire_run").session()["mass"]), 3000.0),
        )
        pilot.ask("keep", name="a")
        pilot.ask("step", steps=100)
        pilot.ask("go_back", name="a")
        self.assertEqual(flight.published.step, 0)
        pilot.ask("speed", times=50)
        pilot.ask("resume")
        deadline = time.monotonic() + 20.0
        while flight.published.step < 500 and time.monotonic() < deadline:
            time.sleep(0.05)
        pilot.ask("pause")
        self.assertGreaterEqual(flight.published.step, 500)
        land = pilot.ask("land", north=0, east=9000, half=2000)["land"]
        self.assertEqual(len(land["height"]), land["count"] ** 2)
        self.assertGreater(max(land["height"]), 600.0)  # the ridge
        self.assertEqual(set(pilot.hello["can"]), set(COMMANDS) - {"go_to"})

    def test_one_pilot_at_a_time_and_viewers_change_nothing(self) -> None:
        page = self.serve()
        pilot, viewer = self.pilot(page), self.client(page)
        self.assertTrue(viewer.hello["pilot_is_there"])
        for do in COMMANDS:
            if not COMMANDS[do].is_for_all:
                fields = {"set": {"values": {"flap_lever": 0.1}}, "speed": {"times": 2}, "keep": {"name": "a"}, "go_back": {"name": "a"}, "record": {"on": True}, "tank": {"name": "water", "mass": 1}, "loading": {"name": "dropped"}, "turbulence": {"severity": "light"}, "go_to": {"time": 1}}  # fmt: skip
                self.assertIn(f"a viewer cannot {do}", viewer.ask(do, **fields.get(do, {}))["error"])
        self.assertIn("a pilot already", viewer.ask("pilot", take=True)["error"])
        pilot.ask("pilot", take=False)
        viewer.wait(lambda d: d.get("pilot_is_there") is False)
        self.assertEqual(viewer.ask("pilot", take=True)["role"], "pilot")
        viewer.line.close()  # a pilot that goes away leaves the seat
        pilot.wait(lambda d: d.get("pilot_is_there") is False)
        self.assertEqual(pilot.ask("pilot", take=True)["role"], "pilot")
        self.assertEqual(pilot.ask("lateness")["clients"], 1)

    def test_a_recording_equals_a_flight_flown_again_from_its_inputs(self) -> None:
        page = self.serve()
        pilot = self.pilot(page)
        pilot.ask("step", steps=30)
        pilot.ask("hand_over")
        file = pilot.ask("record", on=True, kind="parquet")["file"]
        self.assertIn("recorded already", pilot.ask("record", on=True)["error"])
        for k in range(20):
            pilot.ask("set", values={"pitch_stick": 0.02 * k, "roll_stick": -0.01 * k})
            pilot.ask("step", steps=5)
        self.assertEqual(pilot.ask("record", on=False)["file"], file)
        run = read_recording(self.folder / file)
        self.assertEqual((len(run.time), run.time[0]), (101, 0.3))
        craft = dv.sample("tarn", laws=["pitch_hold"])
        again = dv.Session(craft, start=dv.resume(craft, run, at="begin"), record=None)
        for k in range(100):
            again.step(**{n: float(run[n][k]) for n in ("pitch_stick", "roll_stick")})
        again.recording().save(self.folder / "again.parquet")  # in the same units, rounded in the same way
        other = read_recording(self.folder / "again.parquet")
        self.assertEqual(run.names, other.names)
        for name in run.names:
            np.testing.assert_array_equal(run[name], other[name], name)
        # going back ends a recording, and says nothing was lost
        pilot.ask("record", on=True)
        pilot.ask("step", steps=10)
        pilot.ask("reset")
        self.assertEqual(len(list(self.folder.glob("flight-*.csv"))), 1)
        self.assertEqual(pilot.ask("record", on=False)["file"], "")

    def test_a_crash_stops_and_its_mark_stays(self) -> None:
        craft = dv.sample("tarn")
        low = dv.Session(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="10 m", flight_path="-3 deg"))
        pilot = self.pilot(self.serve(low))
        pilot.ask("watch", signals=["altitude"])
        pilot.ask("speed", times=20)
        pilot.ask("resume")
        told = pilot.wait(lambda d: d.get("why"))
        self.assertIn("sea", told["why"])
        time.sleep(0.2)
        self.assertIn("ended", read_frame(pilot.frame()).flags)
        self.assertIn("has ended", pilot.ask("resume")["error"])
        pilot.ask("reset")
        self.assertNotIn("ended", read_frame(pilot.frame()).flags)


class SafetyTest(Served):
    def test_bad_messages_are_answered_counted_and_dropped(self) -> None:
        page = self.serve()
        pilot = self.pilot(page)
        deep = "[" * 5000
        for k, (message, told) in enumerate(
            (
                ("", "no JSON"), ("{", "no JSON"), (deep, "no JSON"), ("[1]", "a message is an object"),
                ('{"do": "set", "values": {"throttle": NaN}}', "no JSON"), ('{"do": "fly"}', "no command 'fly'"),
                ('{"do": 7}', "no command '7'"), ('{"do": "pauze"}', "pause"), ('{"do": "step", "steps": 0}', "1 to 1000"),
                ('{"do": "step", "steps": true}', "a whole number"), ('{"do": "pause", "now": 1}', "takes no 'now'"),
                ('{"do": "set"}', "needs values"), ('{"do": "set", "values": {"throttle": [1]}}', "a number"),
                ('{"do": "set", "values": {"throttle": 1e999}}', "not finite"), ('{"do": "set", "values": {"thrott": 1}}', "throttle"),
                ('{"do": "set", "values": {"flap_lever": "5 m"}}', "flap_lever"), ('{"do": "speed", "times": 0}', "0.01 to 1000"),
                ('{"do": "watch", "signals": ["thta"]}', "no signal 'thta'"), ('{"do": "go_back", "name": "x"}', "no saved state"),
                ('{"do": "record", "on": 1}', "true or false"), ('{"do": "loading", "name": "full"}', "full"),
                ('{"do": "turbulence", "severity": "some"}', "none, light"), ('{"do": "go_to", "time": 1}', "cannot go_to"),
                ('{"do": "speed", "times": 1' + "0" * 400 + "}", "0.01 to 1000"), ('{"do": "set", "values": {"throttle": 1' + "0" * 400 + "}}", "not finite"),
                ('{"do": "keep", "name": ""}', "a text of 1 to 200"), ('{"do": "pause", "id": 1.5}', "a whole number"),
            )
        ):  # fmt: skip
            with self.subTest(message[:60]):
                pilot.send(message)
                self.assertIn(told, pilot.wait(lambda d: "error" in d)["error"])
                self.assertEqual(page.server.dropped, k + 1)
        pilot.send(b"\x00\x01")
        self.assertIn("octets", pilot.wait(lambda d: "error" in d)["error"])
        pilot.send('{"do": "pause", "now": 1, "id": 77}')
        self.assertEqual(pilot.wait(lambda d: "error" in d)["answer"], 77)

    def test_ten_thousand_hostile_messages_change_nothing(self) -> None:
        """Random, truncated, huge, not finite, from a pilot whose messages are all wrong, and from a viewer."""
        rng = random.Random(4)
        good = [
            '{"do": "set", "values": {"pitch_stick": 0.5, "throttle": 0.9}, "id": 3}', '{"do": "step", "steps": 3}',
            '{"do": "tank", "name": "water", "mass": 100}', '{"do": "turbulence", "severity": "severe", "seed": 1}',
            '{"do": "watch", "signals": ["theta"], "rate": 60}', '{"do": "land", "north": 0, "east": 0, "half": 500}',
        ]  # fmt: skip

        def hostile(text: str) -> str:
            kind = rng.randrange(5)
            if kind == 0:
                return text[: rng.randrange(len(text))]
            if kind == 1:
                return "".join(
                    chr(rng.choice((rng.randrange(32, 127), rng.randrange(0x110000 - 0x2800))))
                    for _ in range(rng.randrange(60))
                )
            if kind == 2:
                return text.replace("3", rng.choice(("NaN", "1e400", "-Infinity", "null", "[]", '"x"'))).replace(
                    "0.", "-"
                )
            if kind == 3:
                k = rng.randrange(len(text))
                return text[:k] + rng.choice('{}[]",:\\\0é') + text[k + 1 :]
            return text.replace("do", "did").replace("i", "I" * rng.randrange(1, 2000))

        page = self.serve()
        pilot, viewer = self.pilot(page), self.client(page)
        messages = []
        while len(messages) < 9000:
            text = hostile(rng.choice(good)).encode("utf-8", "ignore").decode()
            try:
                read_message(text)
            except DravikError:
                messages.append(text)
        with mock.patch.object(limits, "MOST_A_SECOND", 1e9):
            for k, text in enumerate(messages):
                pilot.send(text)
                if k % 9 == 0:
                    viewer.send(rng.choice(good[:4]))
                if k % 50 == 0:
                    pilot.wait(lambda d: "error" in d)
            self.assertNotIn("error", pilot.ask("lateness"))
            self.assertNotIn("error", viewer.ask("lateness"))
        self.assertEqual(page.server.dropped, 10_000)
        self.assertEqual(page.flight.published.step, 0)
        np.testing.assert_array_equal(page.flight.do(lambda: page.flight.session.state), session().state)
        pilot.ask("step", steps=50)
        twin = session()
        twin.step(0.5)
        np.testing.assert_array_equal(page.flight.do(lambda: page.flight.session.state), twin.state)

    def test_limits_of_size_rate_and_clients(self) -> None:
        page = self.serve()
        pilot = self.pilot(page)
        others = [self.client(page) for _ in range(7)]
        with self.assertRaises(RefusedError) as found:
            self.client(page)
        self.assertEqual((found.exception.status, found.exception.text), (503, "8 clients are here already"))
        others[0].send("x" * 20_000)
        with self.assertRaisesRegex(ConnectionError, "1009"):
            others[0].wait(lambda d: False)
        with mock.patch.object(limits, "MOST_A_SECOND", 20):  # so that a slow machine sends too many as well
            for _ in range(400):
                pilot.send('{"do": "pause"}')
            self.assertIn("more than 20 messages a second", pilot.wait(lambda d: "error" in d)["error"])
            time.sleep(1.0)
        time.sleep(1.5)
        self.assertGreater(pilot.ask("lateness")["dropped"], 50)

    def test_land_is_worked_out_piece_by_piece_and_a_loading_without_a_signal_goes_on(self) -> None:
        craft = dv.sample("tarn").with_loading("drop_run")
        page = self.serve(dv.Session(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="300 m")))
        pilot = self.pilot(page)
        pilot.send({"do": "land", "north": 0, "east": 0, "half": 500, "id": 90})
        pilot.send({"do": "land", "north": 0, "east": 0, "half": 500, "id": 91})
        self.assertIn("land", pilot.wait(lambda d: d.get("answer") == 90))
        self.assertIn("other land", pilot.wait(lambda d: d.get("answer") == 91)["error"])
        pilot.ask("watch", signals=["tank_water", "altitude"])
        pilot.ask("keep", name="wet")
        self.assertNotIn("error", pilot.ask("loading", name="dropped"))
        pilot.ask("step", steps=5)
        found = read_frame(pilot.frame())
        self.assertTrue(np.isnan(found.values[0]) and abs(found.values[1] - 300.0) < 5.0)
        self.assertEqual(pilot.wait(lambda d: d.get("loading") == "dropped")["loading"], "dropped")
        pilot.ask("go_back", name="wet")
        self.assertEqual(read_frame(pilot.frame()).values[0], 3000.0)

    def test_frames_go_on_after_much_was_asked(self) -> None:
        page = self.serve()
        pilot = self.pilot(page)
        pilot.ask("watch", signals=["theta"], rate=5)
        pilot.ask("resume")
        for k in range(100):  # each is answered by a frame at once, far more than five a second
            pilot.ask("set", values={"flap_lever": 0.001 * k})
        pilot.frames.clear()
        begun = time.monotonic()
        while len(pilot.frames) < 3:
            pilot.receive()
        self.assertLess(time.monotonic() - begun, 5.0)

    def test_a_page_that_hangs_delays_nothing(self) -> None:
        page = self.serve()
        pilot = self.pilot(page)
        hung = self.enterContext(Client(page.address, buffer=4096))
        hung.ask("watch", signals=list(hung.hello["signals"]), rate=200)
        pilot.ask("resume")
        deadline = time.monotonic() + 20.0
        client = page.server._clients[1]
        while not client.lost and time.monotonic() < deadline:
            time.sleep(0.1)
        self.assertGreater(client.lost, 0)
        begun, deadline = page.flight.published.step, time.monotonic() + 20.0
        while page.flight.published.step < begun + 50 and time.monotonic() < deadline:
            self.assertEqual(page.flight.do(lambda: 7), 7)  # it goes on, and answers
            time.sleep(0.05)
        self.assertGreaterEqual(page.flight.published.step, begun + 50)
        self.assertNotIn("error", pilot.ask("lateness"))

    def test_who_may_come_in(self) -> None:
        page = self.serve()
        host = page.address.removeprefix("http://").rstrip("/")
        for headers, told in (
            ({"Origin": "http://elsewhere.example"}, "may not come in"), ({"Host": "elsewhere.example:80"}, "not of this machine"),
            ({"Origin": "null"}, "may not come in"),
        ):  # fmt: skip
            with self.subTest(headers), self.assertRaises(RefusedError) as found:
                self.client(page, **headers)
            self.assertEqual(found.exception.status, 403)
            self.assertIn(told, found.exception.text)
        self.client(page, Origin=f"http://{host}")
        for path, status in (
            ("/", 200), ("/main.js", 200), ("/page.css", 200), ("/../server.py", 404), ("/%2e%2e/server.py", 404),
            ("/server.py", 404), ("/nothing.js", 404), ("/a/b.js", 404), ("/..%2fserver.py", 404),
        ):  # fmt: skip
            self.assertEqual(fetch(page.address, path)[0], status, path)
        self.assertIn("default-src 'self'", fetch(page.address, "/")[1])
        self.assertEqual(fetch(page.address, "/", Host="elsewhere.example")[0], 403)

    def test_beyond_this_machine_a_token_is_needed(self) -> None:
        page = self.serve(door=Door.at("0.0.0.0"))
        self.assertEqual(len(page.server.door.token), 32)
        address = page.address.partition("?")[0]
        for query in ("", "?token=", "?token=0123456789", f"?token={page.server.door.token[:-1]}"):
            with self.assertRaises(RefusedError) as found:
                self.enterContext(Client(address + query))
            self.assertIn("the token is missing or wrong", found.exception.text)
        self.client(page)
        self.assertEqual(Door.at("127.0.0.1").token, "")
        self.assertEqual(Door.at("::1").token, "")
        self.assertNotEqual(Door.at("192.168.1.5").token, Door.at("192.168.1.5").token)
        for arguments, told in ((("127.0.0.1", 70_000), "no port"), (("127.0.0.1", 0, "short"), "8 or more letters")):
            with self.assertRaisesRegex(DravikError, told):
                Door.at(*arguments)

    def test_a_port_that_is_taken(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            with self.assertRaisesRegex(
                DravikError, "the page cannot be served at 127.0.0.1:.*port that is free; try: --port 0"
            ):
                dv.live(session(), door=Door.at(port=taken.getsockname()[1]))
        with self.assertRaisesRegex(DravikError, "aiohttp, which is not installed; try: pip install 'dravik\\[live\\]'"), mock.patch.dict("sys.modules", {"dravik.live_page.server": None}):  # fmt: skip
            dv.live(session())


class PlaybackTest(Served):
    def test_recordings_side_by_side(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        runs = [
            dv.fly(craft, start=point, duration=3, controls={"roll_stick": dv.step(s, at=0.5)}) for s in (0.2, -0.2)
        ]
        page = self.serve(runs)
        pilot = self.pilot(page)
        self.assertEqual(pilot.hello["playback"], {"begin": 0.0, "end": 3.0, "flights": ["Tarn", "Tarn"]})
        pilot.ask("watch", signals=["time", "phi", "phi@2"])
        pilot.ask("go_to", time=2.0)
        found = read_frame(pilot.frame())
        np.testing.assert_array_equal(found.values, np.float32([2.0, runs[0]["phi"][200], runs[1]["phi"][200]]))
        self.assertLess(found.values[1] * found.values[2], 0.0)
        for do in ("record", "set", "hand_over", "keep"):
            fields = {"record": {"on": True}, "set": {"values": {"a": 1}}, "keep": {"name": "a"}}.get(do, {})
            self.assertIn("cannot", pilot.ask(do, **fields)["error"])
        pilot.ask("speed", times=20)
        pilot.ask("resume")
        deadline = time.monotonic() + 10.0
        while (found := read_frame(pilot.frame())).time < 3.0 and time.monotonic() < deadline:
            pass
        found = read_frame(pilot.frame())
        self.assertEqual((found.time, "running" in found.flags), (3.0, False))
        self.assertNotIn("error", pilot.ask("land", north=0, east=0, half=500))
        text = json.dumps(pilot.hello)
        self.assertNotIn("NaN", text)
        with self.assertRaisesRegex(DravikError, "nothing to play back"):
            dv.live([])


if __name__ == "__main__":
    unittest.main()
