"""What is changed in a flight that goes on, sticks of the machine, the pose, and the shape that the page draws."""

import json
import os
import socket
import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.link import Stick, still_pose, what_is_seen
from dravik.link.stick import StickAxis, StickDefinition, shaped
from dravik.live_page.describe import describe, land_around, stall_angle
from dravik.live_page.solid import solid
from dravik.real_time import Replay
from dravik.recording import read_recording
from dravik.surroundings.turbulence import Turbulence
from tests.test_cli import run


class ChangesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.craft = dv.sample("tarn")
        self.point = dv.trim(self.craft, airspeed="62 m/s", altitude="300 m")

    def test_a_part_that_is_recorded_changes_nothing_and_can_be_flown_again(self) -> None:
        session, twin = (dv.Session(self.craft, start=self.point) for _ in range(2))
        with self.assertRaisesRegex(DravikError, "nothing is recorded"):
            session.end_recording()
        session.step(0.5, pitch_stick=0.1)
        saved = session.save()
        session.begin_recording(self.folder / "a.csv", signals=["theta", "pitch_stick"], every="20 ms")
        self.assertTrue(session.is_recording)
        for value in (0.2, -0.1):
            session.step(0.5, pitch_stick=value)
        with self.assertRaisesRegex(DravikError, "is recorded already"):
            session.begin_recording(self.folder / "b.csv")
        with self.assertRaisesRegex(DravikError, "cannot go back"):
            session.restore(saved)
        run_ = session.end_recording()
        self.assertEqual(
            (run_.names, len(run_.time), run_.time[0], run_.time[-1]), (["time", "theta", "pitch_stick"], 51, 0.5, 1.5)
        )
        twin.step(0.5, pitch_stick=0.1)
        twin.step(0.5, pitch_stick=0.2)
        twin.step(0.5, pitch_stick=-0.1)
        np.testing.assert_array_equal(session.state, twin.state)
        again = dv.Session(self.craft, start=dv.resume(self.craft, read_recording(self.folder / "a.csv"), at="begin"))
        again.step(0.5, pitch_stick=0.2)
        again.step(0.5, pitch_stick=-0.1)
        np.testing.assert_array_equal(again.state, twin.state)
        session.restore(saved)
        self.assertEqual(session.time, 0.5)
        for at, told in (("begin", "where it began"), ("middle", "has no 'middle'")):
            with self.assertRaisesRegex(DravikError, told):
                dv.resume(self.craft, dv.fly(self.craft, start=self.point, duration=0.1), at=at)  # type: ignore[arg-type]
        with self.assertRaisesRegex(DravikError, "thta"):
            session.begin_recording(self.folder / "c.csv", signals=["thta"])

    def test_a_tank_filled_at_once_moves_only_the_centre(self) -> None:
        """What remains goes on as it did: its datum has the same velocity before and after."""
        session = dv.load_scenario("fire_run").session()
        session.step(60.0)

        def datum() -> np.ndarray:
            cg = np.array([session[n] for n in ("cg_x", "cg_y", "cg_z")])
            arm = body_from_station(np.zeros(3), cg)
            rate = np.array([session[n] for n in "pqr"])
            return np.array([session[n] for n in "uvw"]) + np.cross(rate, arm)

        before, mass = datum(), session["mass"]
        session.fill_tank("water", "500 kg")
        self.assertAlmostEqual(session["mass"], mass - 2500.0, delta=1e-6)
        np.testing.assert_allclose(datum(), before, atol=1e-9)
        self.assertEqual(session.events[-1].text, "tank water: 3000 to 500 kg (set)")
        for name, value, told in (("water", -1, "0 to"), ("water", 1e9, "0 to"), ("oil", 1, "no tank 'oil'")):
            with self.assertRaisesRegex(DravikError, told):
                session.fill_tank(name, value)

    def test_another_loading_goes_on_from_here(self) -> None:
        session = dv.Session(self.craft, start=self.point)
        session.step(1.0, pitch_stick=0.1)
        other = session.in_loading("dropped")
        self.assertEqual(other.time, 1.0)
        self.assertEqual(other["mass"], self.craft.with_loading("dropped").loading.mass)
        for name in ("phi", "theta", "psi", "p", "q", "r", "elevator", "pitch_stick"):
            self.assertEqual(other[name], session[name], name)
        shift = body_from_station(self.craft.with_loading("dropped").loading.cg, self.craft.loading.cg)
        # pitched by theta, heading north: the centre moves with the body
        north = shift[0] * np.cos(session["theta"]) + shift[2] * np.sin(session["theta"])
        self.assertAlmostEqual(other["north"] - session["north"], north, delta=1e-9)
        self.assertAlmostEqual(other["w"] - session["w"], -session["q"] * shift[0], delta=1e-12)
        session.step(1.0)
        self.assertEqual(other.time, 1.0)  # each on its own
        wet = session.in_loading("drop_run")  # whose tanks flow: full, as at its start
        start = dv.trim(self.craft.with_loading("drop_run"), airspeed="62 m/s", altitude="300 m")
        self.assertEqual((wet["tank_water"], wet["mass"]), (3000.0, start["mass"]))
        wet.fill_tank("water", 200)
        back = wet.in_loading("loaded")
        shift = body_from_station(self.craft.loading.cg, [wet[n] for n in ("cg_x", "cg_y", "cg_z")])
        self.assertGreater(abs(shift[0]), 1e-3)
        self.assertAlmostEqual(back["w"] - wet["w"], -wet["q"] * shift[0], delta=1e-12)
        self.assertAlmostEqual(back["u"] - wet["u"], wet["q"] * shift[2], delta=1e-12)
        self.assertEqual(session.in_loading(self.craft.with_loading("dropped")).time, 2.0)
        with self.assertRaisesRegex(DravikError, "full"):
            session.in_loading("full")

    def test_turbulence_begins_and_ends_in_flight_and_is_that_of_its_seed(self) -> None:
        calm, rough, same = (dv.Session(self.craft, start=self.point) for _ in range(3))
        for s in (rough, same):
            s.step(0.5)
            s.set_turbulence(Turbulence(severity="severe", seed=3))
            s.step(2.0)
        calm.step(2.5)
        self.assertNotEqual(rough["wind_up"], 0.0)
        np.testing.assert_array_equal(rough.state, same.state)
        self.assertGreater(abs(rough["theta"] - calm["theta"]), 1e-4)
        rough.set_turbulence(None)
        rough.step()
        self.assertEqual(rough["wind_up"], 0.0)
        self.assertEqual([e.text for e in rough.events], ["turbulence: severe, seed 3 (set)", "turbulence: none (set)"])

    def test_what_devices_set_is_read_too_and_a_look_moves_nothing(self) -> None:
        session = dv.load_scenario("fire_edge").session()
        session.step(1.0)
        look = session.reader("route_point", "theta")
        self.assertEqual(look().tolist(), [session["route_point"], session["theta"]])
        self.assertIn("route_point", session.names)
        self.assertEqual(session.unit("cross_track"), "m")
        twin = dv.load_scenario("fire_edge").session()
        twin.step(1.0)
        session.set(throttle=0.9)
        session.refresh()
        self.assertEqual(session["throttle"], 0.9)
        twin.set(throttle=0.9)
        session.step(1.0)
        twin.step(1.0)
        np.testing.assert_array_equal(session.state, twin.state)
        self.assertEqual(session.event_count, len(session.events))


class StickTest(unittest.TestCase):
    def test_events_of_the_machine_move_inputs(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        device = folder / "js0"
        os.mkfifo(device)
        spec = StickDefinition(
            device=str(device),
            axes=(
                StickAxis(input="roll_stick", axis=0, curve=0.0, dead_zone=0.1),
                StickAxis(input="throttle", axis=2, reversed=True, share=1.0, curve=0.0, dead_zone=0.0),
                StickAxis(input="brake", button=1, share=1.0, curve=0.0),
            ),
        )
        stick = Stick(spec)
        self.addCleanup(stick.close)
        stick.learn({"roll_stick": (-1.0, 1.0), "throttle": (0.0, 1.0), "brake": (0.0, 1.0)})
        writer = os.open(device, os.O_WRONLY)
        self.addCleanup(os.close, writer)
        begun = {"roll_stick": 0.1, "throttle": 0.3, "brake": 0.0}

        def event(value: int, kind: int, number: int) -> bytes:
            return struct.pack("<IhBB", 7, value, kind, number)

        self.assertEqual(stick.update(0.0, begun), {})
        os.write(writer, event(20_000, 0x82, 0) + event(-32767, 0x82, 2))  # how it lay at the start: no jump
        self.assertEqual(stick.update(0.0, begun), {})
        os.write(writer, event(32767, 2, 0))
        self.assertAlmostEqual(stick.update(0.0, begun)["roll_stick"], 0.5, delta=1e-12)
        os.write(writer, event(3000, 2, 0))  # within the dead zone: back to where it was
        self.assertAlmostEqual(stick.update(0.0, begun)["roll_stick"], 0.1, delta=1e-12)
        os.write(writer, event(-32767, 2, 2)[:5])
        self.assertEqual(stick.update(0.0, begun), {})
        os.write(writer, event(-32767, 2, 2)[5:] + event(1, 1, 1) + event(9, 2, 9) + os.urandom(64)[:0])
        self.assertEqual(stick.update(0.0, begun), {"throttle": 0.8, "brake": 0.5})
        rng = np.random.default_rng(1)
        for _ in range(200):
            os.write(writer, rng.integers(0, 256, 64).astype(np.uint8).tobytes())
            for name, value in stick.update(0.0, begun).items():
                self.assertTrue(-1.0 <= value <= 1.0, name)

    def test_shape_of_an_axis(self) -> None:
        axis = StickAxis(input="a", axis=0, dead_zone=0.2, centre=0.1, curve=0.5)
        for raw, value in ((0.1, 0.0), (0.27, 0.0), (1.0, 1.0), (-1.0, -1.0), (5.0, 1.0)):
            self.assertAlmostEqual(shaped(raw, axis), value, delta=1e-12)
        self.assertAlmostEqual(shaped(0.64, axis), 0.5 * 0.5 + 0.5 * 0.5**3, delta=1e-12)
        usual = StickAxis(input="a", axis=0, dead_zone=0.0)
        self.assertAlmostEqual(shaped(0.5, usual), 0.7 * 0.5 + 0.3 * 0.125, delta=1e-12)
        self.assertEqual(shaped(0.64, axis), -shaped(0.64, axis.model_copy(update={"reversed": True})))

    def test_what_cannot_be(self) -> None:
        with self.assertRaisesRegex(DravikError, "/nowhere cannot be read .*; expected a device"):
            Stick(StickDefinition(device="/nowhere", axes=(StickAxis(input="a", axis=0),)))
        with self.assertRaisesRegex(DravikError, "an axis or a button"):
            Stick(StickDefinition(device="/dev/null", axes=(StickAxis(input="a"),)))
        stick = Stick(StickDefinition(device="/dev/null", axes=(StickAxis(input="wind_up", axis=0),)))
        self.addCleanup(stick.close)
        with self.assertRaisesRegex(DravikError, "wind_up has no range"):
            stick.learn({"wind_up": (-np.inf, np.inf)})


class PoseTest(unittest.TestCase):
    def test_the_pose_is_sent_and_told(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        listener = self.enterContext(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
        listener.bind(("127.0.0.1", 0))
        listener.settimeout(2.0)
        file = folder / "link.toml"
        file.write_text(
            f'format = 1\n[[send]]\nto = "127.0.0.1:{listener.getsockname()[1]}"\nkind = "json"\n'
            'fields = [{ signal = "phi", unit = "deg" }, { signal = "psi", unit = "deg" }, { signal = "rudder", unit = "deg" }, { signal = "q" }]\n',
            encoding="utf-8",
        )
        at = ["live", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--duration", "0.1 s"]
        code, out, err = run(*at, "--link", str(file), "--pose", "--json")
        self.assertEqual(code, 0, err)
        values = json.loads(listener.recv(2000))["values"]
        self.assertEqual([round(values[n], 6) for n in ("phi", "psi", "rudder", "q")], [30.0, 90.0, 12.5, 0.0])
        self.assertEqual(json.loads(out)["pose"]["rudder"], "trailing edge left, 12.5 deg")
        self.assertGreater(json.loads(out)["sent"], 1)
        code, _, err = run(*at, "--pose")
        self.assertEqual(code, 2)
        self.assertIn("--pose needs an aircraft and a link that sends", err)
        self.assertEqual(still_pose({"u": 5.0, "mass": 3.0}, {})["u"], 0.0)
        self.assertIn(("right wing", "30 deg down"), what_is_seen({}, []))


class PageOfAnAircraftTest(unittest.TestCase):
    def test_controls_turn_the_way_of_the_conventions(self) -> None:
        """A positive elevator's trailing edge goes down, a positive aileron's goes up on the right, a rudder's left."""
        parts = [p for p in solid(dv.sample("tarn")) if p["kind"] == "control"]
        seen = set()
        for part in parts:
            points = np.array(part["points"]).reshape(-1, 3)
            a, b = (np.array(p) for p in part["hinge"])
            axis = (b - a) / np.linalg.norm(b - a)
            tail = points[np.argmin(points[:, 0])]
            moved = np.cross(axis, tail - a) * part["sign"]  # of the trailing edge, for a small positive deflection
            right = tail[1] > 0.0
            seen.add((part["signal"], bool(right) if part["signal"] == "aileron" else None))
            if part["signal"] in ("elevator", "flap"):
                self.assertGreater(moved[2], 0.0)
            elif part["signal"] == "aileron":
                self.assertGreater(moved[2] * (-1.0 if right else 1.0), 0.0)
            else:
                self.assertLess(moved[1], 0.0)
        self.assertEqual(
            seen, {("elevator", None), ("flap", None), ("rudder", None), ("aileron", True), ("aileron", False)}
        )

    def test_every_sample_has_a_shape_within_its_size(self) -> None:
        for name in ("tarn", "pika", "merle", "hail"):
            craft = dv.sample(name)
            parts = solid(craft)
            points = np.concatenate([np.array(p["points"]).reshape(-1, 3) for p in parts])
            self.assertTrue(np.isfinite(points).all(), name)
            for p in parts:
                self.assertLess(max(p["triangles"], default=-1), len(p["points"]) / 3)
            # about the datum of the station axes: x of the centre of gravity is ahead of the tail and behind the nose
            self.assertTrue(points[:, 0].min() < -craft.loading.cg[0] < points[:, 0].max(), name)
            np.testing.assert_allclose(points[:, 1].max(), -points[:, 1].min(), atol=1e-3)
        discs = [p for p in solid(dv.sample("merle")) if p["kind"] == "disc"]
        self.assertEqual(
            {d["signal"] for d in discs}, {f"thrust_{n}" for n in ("one", "two", "three", "four", "five", "six")}
        )
        np.testing.assert_allclose([d["axis"] for d in discs], [[0.0, 0.0, -1.0]] * 6)

    def test_the_stall_is_where_the_lift_is_greatest(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        found = stall_angle(craft, point.state, point.inputs)
        at = [dv.trim(craft, airspeed="62 m/s", altitude="300 m")["alpha"], np.radians(25.0)]
        self.assertTrue(at[0] < found < at[1])
        # the sample's own margin to the stall, 13.5 deg less the share of the flap, is an engineer's reading of the curve
        self.assertAlmostEqual(np.degrees(found), 13.5, delta=1.5)
        merle = dv.sample("merle")
        self.assertIsNone(stall_angle(merle, merle.state(velocity=(5, 0, 0)), merle.default_inputs()))

    def test_what_is_told_fits_into_json(self) -> None:
        for name in ("fire_run", "fire_edge", "night_watch", "smoke_column"):
            scenario = dv.load_scenario(name)
            start = scenario.start()
            told = describe(scenario.craft, start.state, start.inputs)
            json.dumps(told, allow_nan=False)
            kinds = {i["name"]: i["kind"] for i in told["inputs"]}
            self.assertTrue(set(told["modes"]) <= {n for n, k in kinds.items() if k == "mode"})
        told = describe(dv.load_scenario("fire_run").craft, start := dv.load_scenario("fire_run").start().state, dv.load_scenario("fire_run").start().inputs)  # fmt: skip
        slopes = {c["name"]: c["sticks"] for c in told["controls"]}
        self.assertAlmostEqual(slopes["elevator"]["pitch_stick"], np.radians(-18.0), delta=1e-9)
        self.assertAlmostEqual(slopes["rudder"]["pedal"], np.radians(-22.0), delta=1e-9)
        self.assertEqual([t["name"] for t in told["tanks"]], ["fuel_left", "fuel_right", "water"])
        scenario = dv.load_scenario("fire_run")
        land = land_around(scenario.craft, scenario.start().state, scenario.start().inputs, (0.0, 9000.0), 3200.0)
        session = scenario.session()
        self.assertEqual(land["cell"], 100.0)
        other = land_around(
            scenario.craft, scenario.start().state, scenario.start().inputs, (session["north"], session["east"]), 3200.0
        )
        self.assertAlmostEqual(other["height"][32 * 65 + 32], session["ground_height"], delta=0.01)

    def test_angles_of_a_playback_turn_the_shorter_way(self) -> None:
        craft = dv.sample("tarn")
        run_ = dv.fly(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="300 m", heading="180 deg"), duration=2, controls={"pedal": dv.doublet(0.3, at=0.2, width=0.5)}, record=["psi", "altitude"], record_every=10)  # fmt: skip
        self.assertGreater(np.ptp(run_["psi"]), 6.0)  # it goes through half a turn
        with Replay([run_]) as replay:
            for t in np.arange(0.0, 2.0, 0.03):
                replay.do(replay.go_to, float(t))
                shown = abs(replay.published.values[1])
                self.assertTrue(2.9 < shown < 3.4, (t, shown))


if __name__ == "__main__":
    unittest.main()
