"""Flights by the clock: pacing on a clock of the test's own, what is done between steps, lateness, the command."""

import json
import socket
import tempfile
import threading
import time
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError, FlightError
from dravik.real_time import LiveFlight, Pacer
from tests.test_cli import run


class Clock:
    """A clock that goes on when it is told to."""

    def __init__(self) -> None:
        self.now = 100.0

    def __call__(self) -> float:
        return self.now

    def sleep(self, seconds: float) -> None:
        self.now += seconds


class PacerTest(unittest.TestCase):
    def setUp(self) -> None:
        self.clock = Clock()
        self.pacer = Pacer(0.01, clock=self.clock, sleep=self.clock.sleep)

    def fly(self, count: int) -> None:
        for _ in range(count):
            self.pacer.flown()

    def test_an_hour_drifts_by_less_than_a_step_and_is_never_ahead(self) -> None:
        rng, flown = np.random.default_rng(1), 0
        begun = self.clock.now
        while self.clock.now - begun < 3600.0:
            self.clock.now += float(rng.uniform(0.0, 0.05))
            due = self.pacer.due()
            self.fly(due)
            flown += due
            ahead = flown * 0.01 - (self.clock.now - begun)
            self.assertLessEqual(ahead, 1e-9)
            self.assertGreater(ahead, -0.01 - 1e-9)
        self.assertEqual(self.pacer.lateness.missed, 0)
        self.assertEqual(self.pacer.lateness.steps, flown)

    def test_lateness_is_what_it_was(self) -> None:
        self.clock.now += 0.034  # three are due, 24, 14 and 4 ms late
        self.assertEqual(self.pacer.due(), 3)
        self.fly(3)
        found = self.pacer.lateness
        self.assertAlmostEqual(found.mean, 0.014, delta=1e-9)
        self.assertAlmostEqual(found.worst, 0.024, delta=1e-9)
        self.assertEqual((found.steps, found.late, found.missed), (3, 2, 0))
        self.assertAlmostEqual(found.on_time, 1 / 3, delta=1e-12)
        self.assertEqual(Pacer(0.01, clock=self.clock).lateness.on_time, 1.0)

    def test_more_than_a_second_is_given_up_and_counted(self) -> None:
        self.clock.now += 3.205
        self.assertEqual(self.pacer.due(), 100)
        self.fly(100)
        self.assertEqual(self.pacer.lateness.missed, 220)
        self.assertLess(self.pacer.lateness.on_time, 0.32)
        self.assertEqual(self.pacer.due(), 0)
        self.clock.now += 0.006  # the beat is the old one: the rest of 5 ms counts
        self.assertEqual(self.pacer.due(), 1)

    def test_speed_and_pauses(self) -> None:
        self.pacer.at_speed(4.0)
        self.clock.now += 0.1001
        self.assertEqual(self.pacer.due(), 40)
        self.clock.now += 50.0
        self.pacer.begin()  # after a pause nothing is due
        self.assertEqual(self.pacer.due(), 0)
        self.pacer.wait()
        self.assertEqual(self.pacer.due(), 1)
        for speed in (0.0, -1.0, float("nan"), 1e9, True):
            with self.assertRaisesRegex(DravikError, "times real time; expected 0.01 to 1000"):
                self.pacer.at_speed(speed)


class LiveFlightTest(unittest.TestCase):
    def setUp(self) -> None:
        self.craft = dv.sample("tarn")
        self.point = dv.trim(self.craft, airspeed="62 m/s", altitude="300 m")
        self.session = dv.Session(self.craft, start=self.point)
        self.live = LiveFlight(self.session, signals=["theta", "pitch_stick"], pilot=["pitch_stick", "roll_stick"])
        self.addCleanup(self.live.stop)

    def test_locked_handed_over_and_back_to_the_trim(self) -> None:
        live = self.live
        self.assertTrue(live.published.is_locked)
        with self.assertRaisesRegex(DravikError, "pitch_stick is locked; try: hand the controls over"):
            live.do(live.set, {"pitch_stick": 0.2})
        live.do(live.set, {"flap_lever": "5 deg"})  # not the pilot's stick
        live.do(live.hand_over)
        live.do(live.set, {"pitch_stick": 0.2})
        self.assertFalse(live.published.is_locked)
        self.assertEqual(live.published.values[1], 0.2)  # seen at once, though it stands still
        self.assertEqual(live.published.values[0], self.point["theta"])
        live.do(live.step_on, 1)
        self.assertEqual(live.published.values[1], 0.2)
        live.do(live.lock)
        self.assertAlmostEqual(self.session["pitch_stick"], 0.2, delta=1e-12)
        live.do(live.to_trim)
        live.do(live.step_on, 1)
        self.assertAlmostEqual(self.session["pitch_stick"], self.point["pitch_stick"], delta=1e-12)
        for values, told in (({"pitch_stik": 1.0}, "pitch_stick"), ({"flap_lever": float("nan")}, "finite")):
            with self.assertRaisesRegex(DravikError, told):
                live.do(live.set, values)

    def test_reset_and_saved_states_to_the_last_bit(self) -> None:
        live = self.live
        start = self.session.state
        live.do(live.hand_over)
        live.do(live.set, {"pitch_stick": 0.3})
        live.do(live.step_on, 150)
        live.do(live.keep, "a")
        kept, time_kept = self.session.state, live.published.time
        live.do(live.step_on, 70)
        live.do(live.go_back, "a")
        np.testing.assert_array_equal(self.session.state, kept)
        self.assertEqual((live.published.step, live.published.time), (150, time_kept))
        live.do(live.reset)
        np.testing.assert_array_equal(self.session.state, start)
        self.assertEqual((live.published.step, live.published.is_locked), (0, True))
        with self.assertRaisesRegex(DravikError, "no saved state 'b'; expected a"):
            live.do(live.go_back, "b")
        for i in range(15):
            live.do(live.keep, f"s{i}")
        with self.assertRaisesRegex(DravikError, "16 states are saved already"):
            live.do(live.keep, "one more")
        for steps in (0, -1, 100_001, True, 1.5):
            with self.assertRaisesRegex(DravikError, "steps cannot be flown"):
                live.do(live.step_on, steps)  # type: ignore[arg-type]

    def test_by_the_clock_it_flies_the_same_steps_and_a_hold_is_told(self) -> None:
        """0.3 s in which the process does something else: late by that, caught up, nothing missed, the same bits."""
        live = self.live
        live.do(live.resume)
        live.start(120)
        time.sleep(0.2)
        live.do(time.sleep, 0.3)
        deadline = time.monotonic() + 20.0
        while live.is_flying and time.monotonic() < deadline:
            time.sleep(0.02)
        found = live.lateness
        self.assertEqual((live.published.step, found.steps, found.missed), (120, 120, 0))
        self.assertGreater(found.worst, 0.28)
        self.assertGreaterEqual(found.late, 25)
        other = dv.Session(self.craft, start=self.point)
        other.step(1.2)
        np.testing.assert_array_equal(self.session.state, other.state)

    def test_pause_speed_and_who_asks_while_it_flies(self) -> None:
        live = self.live
        live.start()
        self.assertEqual(live.published.state, "paused")
        live.do(live.resume)
        live.do(live.at_speed, 50.0)
        time.sleep(0.15)
        live.do(live.pause)
        reached = live.published.step
        self.assertGreater(reached, 100)
        time.sleep(0.1)
        self.assertEqual((live.published.step, live.published.state), (reached, "paused"))
        threads = [threading.Thread(target=lambda: [live.do(live.events) for _ in range(20)]) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertGreaterEqual(live.published.applied, 83)
        live.stop()
        self.assertFalse(live.is_flying)
        for _ in range(1000):
            live.ask(live.pause)
        with self.assertRaisesRegex(DravikError, "1000 commands are waiting"):
            live.ask(live.pause).result(1.0)

    def test_what_ends_the_flight_stops_it_and_is_told(self) -> None:
        low = dv.trim(self.craft, airspeed="62 m/s", altitude="10 m", flight_path="-3 deg")
        with LiveFlight(dv.Session(self.craft, start=low), signals=["altitude"]) as live:
            live.do(live.step_on, 5000)
            self.assertEqual(live.published.state, "ended")
            self.assertIn("sea", live.why)
            with self.assertRaisesRegex(FlightError, "the flight has ended"):
                live.do(live.resume)
            live.do(live.reset)
            self.assertEqual((live.published.state, live.why), ("paused", ""))

    def test_no_such_signal(self) -> None:
        with self.assertRaisesRegex(DravikError, "thta"):
            LiveFlight(self.session, signals=["thta"])


class SessionTest(unittest.TestCase):
    def test_frames_of_uneven_length_fly_the_same_steps(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        frames, whole, drawn = (dv.Session(craft, start=point) for _ in range(3))
        self.assertEqual(sum(frames.advance(1 / 60) for _ in range(300)), 500)
        whole.step(5)
        rng, asked = np.random.default_rng(2), 0.0
        while asked < 5.0 - 1e-9:
            seconds = min(float(rng.uniform(0.0, 0.1)), 5.0 - asked)
            drawn.advance(seconds)
            asked += seconds
        drawn.advance(0)
        np.testing.assert_array_equal(frames.state, whole.state)
        np.testing.assert_array_equal(drawn.state, whole.state)
        drawn.advance(0.008)
        drawn.reset()  # the remainder is gone with the flight that it was of
        self.assertEqual(drawn.advance(0.008), 0)
        self.assertEqual(drawn.advance("4 ms", pitch_stick=0.1), 1)
        for value in (float("nan"), float("inf"), -0.1, True, "3 m"):
            for call in (drawn.step, drawn.advance):
                with self.subTest(value, call=call.__name__), self.assertRaises(DravikError):
                    call(value)
        with self.assertRaisesRegex(DravikError, "no whole number of steps.*session.advance"):
            drawn.step(0.015)
        self.assertEqual(drawn.unit("theta"), "rad")
        self.assertIn("theta", drawn.names)

    def test_a_scenario_as_a_session_flies_what_it_flies(self) -> None:
        """Its histories, turbulence, faults and phases too: not only its aircraft at its start."""
        scenario = dv.load_scenario("night_watch")
        run_ = scenario.fly()
        session = scenario.session()
        session.step(20.0)
        row = int(np.flatnonzero(np.isclose(run_.time, 20.0))[0])
        for name in ("altitude", "north", "theta"):
            if name in run_.names:
                self.assertEqual(session[name], run_[name][row])


class LiveCommandTest(unittest.TestCase):
    def test_with_a_link_and_a_recording(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        listener = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(listener.close)
        listener.bind(("127.0.0.1", 0))
        listener.settimeout(2.0)
        file = folder / "link.toml"
        file.write_text(
            f'format = 1\n[[send]]\nto = "127.0.0.1:{listener.getsockname()[1]}"\nkind = "json"\nrate = "20 Hz"\n'
            'fields = [{ signal = "altitude" }]\n', encoding="utf-8",
        )  # fmt: skip
        at = ["--airspeed", "62 m/s", "--altitude", "300 m", "--duration", "2 s", "--speed", "20"]
        code, out, err = run("live", "tarn", *at, "--link", str(file), "--out", str(folder / "run.csv"), "--json")
        self.assertEqual(code, 0, err)
        told = json.loads(out)
        self.assertEqual((told["flown_s"], told["steps"], told["missed_steps"]), (2.0, 200, 0))
        self.assertEqual(told["links"][0]["good"], 40)
        self.assertEqual(json.loads(listener.recv(2000))["values"]["altitude"], 300.0)
        self.assertEqual(len(dv.read_recording(folder / "run.csv").time), 201)
        code, out, err = run("live", "tarn", *at)
        self.assertEqual(code, 0, err)
        for words in ("2 s flown by the clock", "worst lateness", "on time"):
            self.assertIn(words, out)

    def test_with_the_page_it_flies_just_as_long(self) -> None:
        at = ["--airspeed", "62 m/s", "--altitude", "300 m", "--duration", "1 s", "--speed", "10"]
        code, out, err = run("live", "tarn", *at, "--page", "--port", "0", "--json")
        self.assertEqual(code, 0, err)
        self.assertEqual((json.loads(out)["flown_s"], json.loads(out)["steps"]), (1.0, 100))

    def test_what_cannot_be(self) -> None:
        at = ["--airspeed", "62 m/s", "--altitude", "300 m"]
        for arguments, told in (
            (["tarn", *at, "--speed", "0"], "0.01 to 1000"),
            (["tarn", *at, "--duration", "0 s"], "cannot be flown"),
            (["tarn", *at, "--link", "nowhere.toml"], "no such file"),
            (["nowhere"], "no scenario or aircraft 'nowhere'"),
            (["fire_run", "--airspeed", "60 m/s"], "cannot be given beside a scenario"),
        ):
            code, _, err = run("live", *arguments)
            self.assertEqual(code, 2, err)
            self.assertIn(told, err)


if __name__ == "__main__":
    unittest.main()
