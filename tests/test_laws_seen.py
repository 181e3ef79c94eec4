"""What people see of laws: mode logic listed and drawn, modes as bands, targets beside what follows, watched parameters."""

import json
import tempfile
import unittest
from pathlib import Path

import dravik as dv
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.flight.parameter_file import WatchedParameters
from dravik.report.space.overlays import mode_spans
from dravik.validation.scorecards import asked_of, scorecard, targets_of
from tests.test_autopilot import craft
from tests.test_cli import run as command
from tests.test_memory import floating, flown, with_mode_logic


class SeenTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_mode_logic_is_listed_and_drawn(self) -> None:
        figure = self.folder / "logic.png"
        code, text, _ = command("logic", "tarn", "--law", "autopilot", "--figure", str(figure))
        self.assertEqual(code, 0)
        self.assertIn("off, first", text)
        self.assertIn("climb when height > 12 (clear of the ground)", text)
        self.assertGreater(figure.stat().st_size, 20_000)
        code, text, _ = command("logic", "night_watch", "--json")
        found = json.loads(text)["mode_logic"]
        self.assertEqual(list(found), ["place", "height", "phase"])
        self.assertEqual(found["phase"]["transitions"][0]["from"], ["stand"])
        code, _, err = command("logic", "tarn")
        self.assertEqual(code, 2)
        self.assertIn("Tarn has no mode logic", err)
        code, text, _ = command("check", "smoke_column", "--json")
        self.assertEqual((code, json.loads(text)["aircraft"]), (0, "Hail"))

    def test_modes_and_targets_of_a_recording(self) -> None:
        made = with_mode_logic()
        run = flown(made, controls={"ask": dv.step("1", at=1.0)})
        spans = mode_spans(run)["sequencer"]
        self.assertEqual([s[2] for s in spans], ["idle", "out", "back"])
        self.assertAlmostEqual(spans[1][0], 1.01, delta=0.011)
        self.assertAlmostEqual(spans[1][1], 1.51, delta=0.011)
        tarn = craft("tarn", "autopilot", "loaded")
        modes = {"vertical": "altitude", "lateral": "bank", "autothrottle": "airspeed"}
        point = dv.trim(tarn, airspeed=62, altitude=800, inputs=modes)
        names = ["phi", "bank_target", "bank_demand", "theta", "power_left", "power_left_command", "power_added"]
        session = dv.Session(tarn, start=point, record=[*names, "aileron"])
        session.step(1)
        session.set(bank_target="10 deg")
        session.step(19)
        run = session.recording()
        self.assertEqual(targets_of(run), {"bank_target": "phi", "bank_demand": "phi"})
        self.assertEqual((asked_of(run, "phi"), asked_of(run, "theta")), ("bank_demand", ""))
        card = scorecard(run, {"bank_target": "phi"})[0]
        self.assertLess(card.overshoot, 0.15)
        self.assertEqual(sorted(card.activity), ["aileron", "power_left"])  # what moves the aircraft, not the law's own
        self.assertLess(abs(card.steady_error), 0.01)

    def test_a_mode_that_does_not_fit_is_named_with_its_file(self) -> None:
        file = self.folder / "own.toml"
        file.write_text('format = 1\nname = "Own"\n[mode_logic.way.modes]\na = { set = { throtle = 1 } }\nb = {}\n')
        with self.assertRaisesRegex(DravikError, r"own.toml:4: mode_logic.way.modes.a.*throtle.*did you mean throttle"):
            dv.sample("tarn").with_law(*dv.load_law(file))

    def test_a_watched_file_changes_the_flight(self) -> None:
        file = self.folder / "gains.toml"
        file.write_text("gain = 1.5")
        made = floating(parameters={"gain": {"value": 1.0, "range": [0, 2]}}, formulas={"out": "gain*2"})
        watched = WatchedParameters(file, made.configuration.parameters, rate=10.0)
        start = dv.Start(made.state(position=(0, 0, 500), velocity=(10, 0, 0)), made.default_inputs())
        session = dv.Session(made, start=start, devices=[watched], record=["out"])
        session.step(0.5)
        self.assertEqual(session["out"], 3.0)
        for text, out, problem in (
            ("gain = 0.5", 1.0, ""), ("gain = 7", 1.0, "gain = 7 is outside its range; expected 0 to 2"), ("gain = ", 1.0, "not TOML"),
            ("gian = 1", 1.0, "no parameter 'gian'"), ("gain = 2", 4.0, ""),
        ):  # fmt: skip
            file.write_text(text)
            session.step(0.5)
            self.assertEqual(session["out"], out, text)
            self.assertIn(problem, watched.problem)
        texts = [e.text for e in session.events]
        self.assertEqual(texts, ["parameter gain: 1 to 1.5", "parameter gain: 1.5 to 0.5", "parameter gain: 0.5 to 2"])
        file.write_text("gain = -3")
        with self.assertRaisesRegex(DravikError, "gain = -3"):
            WatchedParameters(file, made.configuration.parameters)

    def test_a_shot_begins_with_its_reach_and_a_point_beyond_is_refused(self) -> None:
        code, text, _ = command("fly", "smoke_column")
        self.assertEqual(code, 0)
        self.assertRegex(text, r"reach at 4000 m within 5 m: \d+ m to \d+ m, unguided 16\d\d m")
        scenario = (sample_path("hail") / "scenarios" / "smoke_column.toml").read_text()
        file = self.folder / "far.toml"
        far = scenario.replace('"2300 m"', '"20 km"').replace('aircraft = ".."', 'aircraft = "hail"')
        file.write_text(far.replace('laws = ["homing"]', f'laws = ["{sample_path("hail") / "laws" / "homing"}"]'))
        code, _, err = command("fly", str(file))
        self.assertEqual(code, 2)
        self.assertIn("20002 m away", err)

    def test_a_whole_flight_keeps_its_plan(self) -> None:
        scenario = dv.load_scenario("night_watch")
        self.assertEqual(sorted(scenario.craft.configuration.mode_logic), ["height", "phase", "place"])
        names = [n for n in scenario.craft.signals if n.startswith("place_is_")]
        self.assertEqual(names, ["place_is_off", "place_is_hold", "place_is_go", "place_is_stop"])
