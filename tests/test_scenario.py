"""Scenarios, faults, phases, and recordings that outlive their program."""

import dataclasses
import inspect
import json
import math
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock
from xml.etree import ElementTree

import numpy as np
import pyarrow.parquet

import dravik as dv
from dravik.aircraft.description.faults import EngineFailure
from dravik.aircraft.samples import sample_path
from dravik.errors import DravikError, FlightError
from dravik.flight import resume
from dravik.flight.aircraft_body import AircraftBody
from dravik.guidance import RouteGuidance
from dravik.mode_logic.modes import Phase
from dravik.recording import read_recording, write_track
from dravik.recording.writing import RecordingWriter
from dravik.scenarios import is_scenario, load_scenario, scenario_names
from dravik.scenarios.definition import RouteKeys, TurbulenceKeys
from dravik.surroundings.discrete_gusts import DiscreteGust
from dravik.trimming import on_ground
from tests.support import DEG, craft
from tests.test_contact import body

TARN = dv.sample("tarn")
WORLD = {"latitude": "46 deg", "longitude": "10 deg"}


def held(**more: Any) -> Any:
    """Return a body in space whose surface turns it and whose law reads its rate."""
    return craft(
        environment={"gravity": 0.0},
        inputs={"stick": {"range": [-1, 1]}, "aim": {"kind": "angle"}},
        controls={
            "fin": {"range": ["-20 deg", "20 deg"], "rate": "40 deg/s", "lag": "0.02 s", "command": "20*deg*stick"}
        },
        laws={"hold": {"seen": "theta + 0", "wish": "aim - theta"}},
        formulas={"turn": "fin*1"},
        **more,
    )


def fault(entry: dict[str, Any]) -> Any:
    from dravik.scenarios.definition import ScenarioDefinition

    text = {
        "format": 1, "name": "x", "aircraft": "tarn", "duration": 1.0, "faults": {"it": entry},
        "start": {"kind": "trimmed", "airspeed": 60.0, "altitude": 100.0},
    }  # fmt: skip
    return ScenarioDefinition.model_validate(text).faults["it"]


def floating(made: Any, **controls: Any) -> dv.Recording:
    start = dv.Start(made.state(position=(0, 0, 500), velocity=(10, 0, 0)), made.default_inputs())
    return dv.fly(made, start=start, duration=3, controls=controls)


class FaultTest(unittest.TestCase):
    def test_controls_and_sensors(self) -> None:
        move = {"stick": dv.sine(1.0, frequency=0.5)}
        healthy = floating(held(), **move)
        at = {"at": "1.3 s"}
        cases: list[tuple[dict[str, Any], str, Any]] = [
            ({"kind": "stuck", "control": "fin"}, "fin", lambda t, h: float(np.interp(1.3, h.time, h["fin"]))),
            ({"kind": "stuck", "control": "fin", "position": "-4 deg"}, "fin", lambda t, h: -4 * DEG),
            ({"kind": "lost", "control": "fin"}, "fin", lambda t, h: 0.0),
            ({"kind": "frozen", "signal": "theta"}, "seen", lambda t, h: 0.0),
            ({"kind": "biased", "signal": "theta", "by": "2 deg"}, "seen", lambda t, h: 2 * DEG),
            ({"kind": "biased", "signal": "theta", "by": "2 deg"}, "wish", lambda t, h: -2 * DEG),
            ({"kind": "biased", "signal": "theta", "by": "2 deg"}, "theta", lambda t, h: 0.0),
        ]
        for entry, name, wanted in cases:
            with self.subTest(entry["kind"], signal=name):
                run = floating(held().with_script({"it": fault({**entry, **at})}), **move)
                before, after = run.time < 1.295, run.time > 1.305
                np.testing.assert_array_equal(run[name][before], healthy[name][before])
                np.testing.assert_allclose(run[name][after], wanted(run.time[after], healthy), atol=1e-12)
                self.assertEqual([(round(e.time, 6), e.text) for e in run.events], [(1.3, "fault: it")])
        made = craft(
            environment={"gravity": 0.0},
            inputs={"stick": {"range": [-1, 1]}},
            controls={"tab": {"range": ["-20 deg", "20 deg"], "command": "20*deg*stick"}},
        )
        run = floating(made.with_script({"it": fault({"kind": "stuck", "control": "tab", **at})}), **move)
        np.testing.assert_allclose(
            run["tab"][131:], 20 * DEG * math.sin(math.pi * 1.3), atol=1e-6
        )  # what it stood at then
        free = {"kind": "floating", "control": "fin", "position": "-5*deg", "lag": "0.1 s", "at": 1.3}
        run = floating(held().with_script({"it": fault(free)}), **move)
        self.assertAlmostEqual(float(run["fin"][-1]), -5 * DEG, delta=1e-6)
        slow = floating(
            held().with_script({"it": fault({"kind": "slow", "control": "fin", "rate": "3 deg/s", **at})}), **move
        )
        rates = np.abs(np.diff(slow["fin"]) / 0.01)
        self.assertAlmostEqual(float(rates[135:].max()), 3 * DEG, delta=1e-9)
        self.assertGreater(float(rates[:120].max()), 20 * DEG)

    def test_conditions_engines_gusts_and_masses(self) -> None:
        scenario = load_scenario("fire_run")
        quick = scenario.craft.configuration.script.faults["right_engine_fails"]
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        out = TARN.with_script({"fails": quick.model_copy(update={"when": "altitude > 301"})})
        run = dv.fly(out, start=point, duration=20, controls={"pitch_stick": dv.step(0.05, at=1)})
        moment = next(e.time for e in run.events if e.text == "fault: fails")
        self.assertAlmostEqual(float(np.interp(moment, run.time, run["altitude"])), 301.0, delta=1e-4)
        self.assertEqual(float(run["fail_right"][run.time < moment].max()), 0.0)
        self.assertEqual(float(run["fail_right"][run.time > moment + 0.01].min()), 1.0)
        self.assertLess(float(run["thrust_right"][-1]), 0.0)
        loaded = TARN.with_loading("drop_run")
        start = dv.trim(loaded, airspeed="62 m/s", altitude="600 m")
        dropped = loaded.with_script(
            {"it": fault({"kind": "mass_dropped", "tank": "water", "left": "500 kg", "at": 2.0})}
        )
        run = dv.fly(dropped, start=start, duration=4, record=["tank_water", "mass", "nz"])
        self.assertAlmostEqual(float(run["tank_water"][-1]), 500.0, places=6)
        self.assertGreater(float(run["nz"][-100]), 1.2)  # the lift of 9.5 t carries 7
        gust = TARN.with_script(gusts={"it": DiscreteGust(axis="wind_up", size="6 m/s", width="2 s", at=1.0)})
        run = dv.fly(gust, start=point, duration=4)
        np.testing.assert_allclose(run["air_up"], dv.gust("6 m/s", at=1.0, width=2.0)(run.time), atol=1e-6)

    def test_faults_from_the_beginning_and_refusals(self) -> None:
        run = floating(
            held().with_script({"it": fault({"kind": "stuck", "control": "fin", "position": "3 deg", "at": 0})})
        )
        self.assertAlmostEqual(float(run["fin"][0]), 3 * DEG)
        for entry, words in (
            ({"kind": "stuck", "control": "fen", "at": 1}, "did you mean fin"),
            ({"kind": "engine_out", "engine": "left", "at": 1}, "there is no engine"),
            ({"kind": "frozen", "signal": "tetha", "at": 1}, "or theta"),
            ({"kind": "lost", "control": "fin"}, "neither at nor when"),
            ({"kind": "biased", "signal": "theta", "by": "2 m", "at": 1}, "angle"),
            ({"kind": "stuck", "control": "fin", "position": 3, "at": 1}, "has no unit"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                held().with_script({"it": fault(entry)})
        with self.assertRaisesRegex(ValueError, "gusts.it.size: .*speed"):
            held().with_script(gusts={"it": DiscreteGust(axis="wind_up", size="6 m", at=1)})

    def test_phases_in_a_flight_and_in_a_session(self) -> None:
        plan = (
            Phase(name="one", set={"stick": 0.5}, until="time >= 1"),
            Phase(name="two", set={"stick": -0.5}, until="fin < -0.1"),
            Phase(name="already over", set={"aim": "3 deg"}, until="time > 0.5"),
            Phase(name="last", until="time > 2.5"),
        )
        made = held().with_script(phases=plan)
        run = floating(made)
        names = [e.text.removeprefix("phase: ") for e in run.events]
        self.assertEqual(names, ["one", "two", "already over", "last", "last is over"])
        self.assertAlmostEqual(run.time[-1], 2.5, delta=1e-6)
        self.assertAlmostEqual(run.events[1].time, 1.0, delta=1e-6)
        self.assertEqual(float(run["stick"][50]), 0.5)
        self.assertEqual(sorted(set(run["phase"].tolist())), [1.0, 2.0, 4.0])
        self.assertEqual(float(run["aim"][-1]), 3 * DEG)
        session = dv.Session(
            made, start=dv.Start(made.state(position=(0, 0, 500), velocity=(10, 0, 0)), made.default_inputs())
        )
        for _ in range(60):
            session.step(0.05) if not session.ended else None
        self.assertEqual([(e.time, e.text) for e in session.events], [(e.time, e.text) for e in run.events])
        beats = []

        class Counting:
            rate = 10.0

            def update(self, t: float, signals: Any) -> dict[str, float]:
                beats.append(t)
                return {}

        begun = dv.Start(made.state(position=(0, 0, 500), velocity=(10, 0, 0)), made.default_inputs())
        dv.fly(made, start=begun, duration=2, devices=[Counting()])
        np.testing.assert_allclose(beats, np.arange(20) / 10)  # the pause at 1 s is no second beat
        both = held(events={"over": {"when": "time > 1", "stop": True}}).with_script(phases=plan)
        self.assertAlmostEqual(floating(both).time[-1], 1.0, delta=1e-6)  # an end and a pause at once: it ends
        with self.assertRaisesRegex(DravikError, "outside its range"):
            floating(held().with_script(phases=(Phase(name="one", set={"stick": 2.0}),)))


class GroundTest(unittest.TestCase):
    def test_a_slope_lets_it_roll_and_brakes_hold_it(self) -> None:
        steep = math.atan(0.06)
        for heading, along in ((0.0, "north"), (90.0, "east")):
            tilted = body(environment={"ground": f"100 - 0.06*{along}"})
            start = on_ground(tilted, heading=f"{heading} deg")
            self.assertAlmostEqual(tilted.values(start.state, start.inputs)["theta"], -steep, delta=0.02)
            run = dv.fly(tilted, start=start, duration=6)
            # downhill: g (sin - rolling friction cos), once the tyres have given way
            gained = (float(run["u"][-1]) - float(run["u"][200])) / 4.0
            self.assertAlmostEqual(gained / (9.80665 * (math.sin(steep) - 0.02 * math.cos(steep))), 1.0, delta=0.01)
            stopped = dv.fly(
                tilted, start=on_ground(tilted, heading=f"{heading} deg", inputs={"brake": 1.0}), duration=10
            )
            self.assertLess(float(np.ptp(stopped[along][700:])), 1e-5)
        banked = body(environment={"ground": "0.05*east"})
        at = on_ground(banked)
        self.assertAlmostEqual(
            banked.values(at.state, at.inputs)["phi"], -math.atan(0.05), delta=0.02
        )  # uphill wing up

    def test_far_from_the_ground_legs_are_nothing(self) -> None:
        on, off = body(), body(environment={"ground": None})
        session = dv.Session(on, start=on_ground(on))
        session.step(0.5)
        self.assertGreater(session["normal_nose"], 1e3)
        high = dv.Session(
            on,
            start=dv.Start(
                on.state(position=(0, 0, 40), velocity=(30, 1, 2), rates=(0.1, 0.2, 0.3)), on.default_inputs()
            ),
        )
        free = dv.Session(
            off,
            start=dv.Start(
                off.state(position=(0, 0, 40), velocity=(30, 1, 2), rates=(0.1, 0.2, 0.3)), off.default_inputs()
            ),
        )
        for _ in range(10):
            high.step(0.1)
            free.step(0.1)
        np.testing.assert_array_equal(high.state[: len(free.state)][:13], free.state[:13])
        self.assertEqual((high["normal_nose"], high["tyre_left"], high["near_ground"]), (0.0, 0.0, 0.0))

    def test_the_tarn_rests_and_crashes(self) -> None:
        still = TARN.with_environment(ground=480.0)
        start = on_ground(still)
        for dt in (0.001, 0.02):
            run = dv.fly(still, start=start, duration=60.0 if dt > 0.01 else 6.0, dt=dt)
            for name in ("north", "east", "altitude", "theta", "phi", "psi"):
                self.assertLess(float(np.ptp(run[name])), 1e-9, name)
        x = start.state
        for change, words in (
            ({5: 4.5, 2: x[2] + 0.5}, "faster than 3.8"), ({10: 1.2, 2: 1.5 + x[2]}, "banked|float"), ({2: x[2] + 0.5, 5: 2.0}, ""),
        ):  # fmt: skip
            state = x.copy()
            for i, value in change.items():
                state[i] = value
            run = dv.fly(still, start=dv.Start(state, start.inputs), duration=4)
            crashes = [e.text for e in run.events if e.text.startswith("crash")]
            self.assertEqual(bool(crashes), bool(words))
            if words:
                self.assertRegex(crashes[0], words)
                self.assertLess(run.time[-1], 3.9)

    def test_the_samples_take_off_and_land(self) -> None:
        for name, lift_off, heavy, step in (
            ("fire_run", "phase: climb", 2.3, 0.01),
            ("meadow_circuit", "phase: climb", 0.3, 0.004),
            ("meadow_circuit", "phase: climb", 0.3, 0.02),
        ):
            scenario = load_scenario(name)
            run = dataclasses.replace(scenario, definition=scenario.definition.model_copy(update={"step": step})).fly()
            texts = [e.text for e in run.events]
            self.assertEqual(texts[-1], "landing run is over")
            self.assertFalse([t for t in texts if t.startswith("crash")])
            self.assertIn(lift_off, texts)
            self.assertGreater(float(run["height"].max()), 20 * heavy)
            self.assertLess(abs(float(run["right_of_track"][-1])), 3.0 if heavy > 1 else 1.0)
            # the take-off run against V^2/2a with the mean acceleration: from the run's own speed, not its distance
            rolling = (run["height"] < heavy) & (run.time < run.time[-1] / 2)
            speed, gone = run["ground_speed"][rolling], np.hypot(run["north"], run["east"])[rolling]
            begun = int(np.argmax(speed > 0.5))
            distance = float(gone[-1] - gone[begun])
            # v dv/ds: the distance is the integral of v over the time
            self.assertAlmostEqual(
                distance / float(np.trapezoid(speed[begun:], run.time[rolling][begun:])), 1.0, delta=0.01
            )


class RecordingTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_read_back_and_flown_on_it_is_the_same_flight(self) -> None:
        law = dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml")
        made = TARN.with_law(*law).with_environment(**WORLD)
        point = dv.trim(made, airspeed="62 m/s", altitude="300 m")
        common: dict[str, Any] = {
            "controls": {"theta_command": dv.step("2 deg", at=12)}, "turbulence": dv.Turbulence("moderate", seed=3),
        }  # fmt: skip
        whole = dv.fly(made, start=point, duration=20, **common)
        for suffix in (".csv", ".parquet"):
            dv.fly(made, start=point, duration=10, save=self.folder / f"half{suffix}", **common)
            half = read_recording(self.folder / f"half{suffix}")
            rest = dv.fly(made, start=resume(made, half), duration=10, **common)
            self.assertEqual(rest.time[0], 10.0)
            for name in ("north", "altitude", "theta", "q", "elevator", "air_up"):
                np.testing.assert_array_equal(rest[name], whole[name][1000:], name)

        # an interrupt while the kernel flies leaves the rows before, and state and events at their end
        steps, late = AircraftBody.steps, [1200]

        def interrupted(body: AircraftBody, x: Any, clock: tuple[float, float, int], *others: Any) -> tuple[int, int]:
            done = steps(body, x, clock, *others)
            if clock[2] >= late[-1]:
                raise KeyboardInterrupt
            return done

        point_of_tarn = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        never_due = mock.patch.object(RecordingWriter, "is_due", return_value=False)
        with never_due, mock.patch.object(AircraftBody, "steps", interrupted), self.assertRaises(KeyboardInterrupt):
            dv.fly(made, start=point, duration=20, save=self.folder / "cut.csv", **common)
        cut = read_recording(self.folder / "cut.csv")
        rest = dv.fly(made, start=resume(made, cut), duration=5, **common)
        self.assertEqual(len(cut.time), round(float(rest.time[0]) / 0.01))
        self.assertGreaterEqual(len(cut.time), 1200)
        np.testing.assert_array_equal(rest["q"], whole["q"][len(cut.time) :][:501])

        late.append(50)
        rising = craft(environment={"gravity": 0.0}, events={"high": {"when": "altitude > 193"}})
        begun = dv.Start(rising.state(position=(0, 0, 190), velocity=(50, 0, -2)), rising.default_inputs())
        with never_due, mock.patch.object(AircraftBody, "steps", interrupted), self.assertRaises(KeyboardInterrupt):
            dv.fly(rising, start=begun, duration=20, save=self.folder / "cut.csv")
        cut = read_recording(self.folder / "cut.csv")
        self.assertEqual((len(cut.time), cut.events), (50, []))

        # one in a device's own code: it is called anew for that moment
        class Climbing:
            rate, sets = 10.0, ("called",)

            def __init__(self) -> None:
                self.calls = 0

            def update(self, t: float, signals: Any) -> dict[str, float]:
                self.calls += 1
                if t > last[-1]:
                    raise KeyboardInterrupt
                return {"called": self.calls}

        last = [9.0]
        ordered = dv.fly(TARN, start=point_of_tarn, duration=3, devices=[Climbing()])
        last.append(1.45)
        with never_due, self.assertRaises(KeyboardInterrupt):
            dv.fly(TARN, start=point_of_tarn, duration=3, devices=[Climbing()], save=self.folder / "cut.csv")
        last.append(9.0)
        rest = dv.fly(
            TARN, start=resume(TARN, read_recording(self.folder / "cut.csv")), duration=1, devices=[Climbing()]
        )
        np.testing.assert_array_equal(rest["called"][:100], ordered["called"][150:250])
        with self.assertRaisesRegex(DravikError, "other states"):
            resume(TARN, half)
        # with gusts that follow the flight, phases, and a gust that has begun
        scenario = load_scenario("meadow_circuit")
        gusts = {"lift": DiscreteGust(axis="wind_up", size="2 m/s", width="4 s", when="east > 40")}
        flown = scenario.craft.with_script(phases=scenario.definition.phases, gusts=gusts)
        windy = dataclasses.replace(scenario, craft=flown)
        whole = windy.fly()
        blown = next(e.time for e in whole.events if e.text == "gust: lift")
        d = scenario.definition
        for end in (5.36, round(blown, 2) + 1.5):  # where a phase begins; in the gust
            short = d.model_copy(update={"duration": end})
            dataclasses.replace(windy, definition=short).fly(save=self.folder / "part.csv")
            rest = windy.fly(start=resume(windy.craft, read_recording(self.folder / "part.csv")))
            np.testing.assert_array_equal(rest.values, whole.values[-len(rest.time) :])
            later = [e.text for e in whole.events if "phase" in e.text and e.time > end]
            self.assertEqual([e.text for e in rest.events if "phase" in e.text], later)

    def test_what_is_written_as_it_flies_is_what_was_flown(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        for name, tolerance in (("a.csv", 1e-9), ("a.parquet", 1e-15)):
            with mock.patch("dravik.recording.writing.GROUP", 20):  # many groups of rows, the last of them a rest
                run = dv.fly(
                    TARN, start=point, duration=12, record=["altitude", "psi", "nz"], record_every=5,
                    turbulence=dv.Turbulence("moderate", seed=2), save=self.folder / name,
                )  # fmt: skip
            back = read_recording(self.folder / name)
            self.assertEqual((back.names, back.units, back.metadata["complete"]), (run.names, run.units, True))
            np.testing.assert_allclose(back.values, run.values, rtol=tolerance, atol=1e-12)
        self.assertGreater(pyarrow.parquet.ParquetFile(self.folder / "a.parquet").num_row_groups, 2)
        self.assertFalse(list(self.folder.glob("*.part*")))
        with dv.Session(TARN, start=point, save=self.folder / "s.parquet") as session:
            session.step(0.05)
        slow = dv.fly(TARN, start=point, duration=0.05, method="adaptive", save=self.folder / "slow.csv")
        for name in ("s.parquet", "slow.csv"):
            back = read_recording(self.folder / name)
            self.assertEqual((len(back.time), back.names), (6, slow.names))
        nothing = dv.fly(TARN, start=point, duration=1, record=[], save=self.folder / "n.csv")
        self.assertEqual((len(nothing.values), len(read_recording(self.folder / "n.csv").values)), (0, 0))

    def test_a_killed_run_can_be_read_and_flown_on(self) -> None:
        for name, left in (("k.csv", "k.csv"), ("k.parquet", "k.parquet.part.arrow")):
            program = (
                "import dravik as dv; t = dv.sample('tarn'); p = dv.trim(t, airspeed=62, altitude='300 m');"
                f"dv.fly(t, start=p, duration=100000, record=['altitude'], save=r'{self.folder / name}')"
            )
            child = subprocess.Popen([sys.executable, "-c", program])
            part, deadline = self.folder / left, time.monotonic() + 90.0
            while time.monotonic() < deadline and not (part.exists() and part.stat().st_size > 100_000):
                time.sleep(0.1)
            os.kill(child.pid, signal.SIGKILL)
            child.wait()
            with part.open("ab") as file:
                file.write(b"12.3,4")  # half a line, as a kill may leave it
            run = read_recording(part)
            self.assertFalse(run.metadata["complete"])
            self.assertGreater(len(run.time), 500)
            np.testing.assert_allclose(np.diff(run.time), 0.01, atol=1e-6)
            on = dv.fly(TARN, start=resume(TARN, run), duration=2)
            self.assertAlmostEqual(float(on["altitude"][0]), 300.0, places=6)
        with self.assertRaisesRegex(DravikError, "did not come to its end.*part.arrow"):
            read_recording(self.folder / "k.parquet")

    def test_a_disk_that_fills_and_a_folder_that_is_closed(self) -> None:
        target = self.folder / "full.csv"
        # a limit on the size of files is what a full disk looks like from inside
        program = (
            "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN);"
            "import sys; from dravik.cli import main; import dravik as dv; t = dv.sample('tarn');"
            "dv.trim(t, airspeed=62, altitude=300); resource.setrlimit(resource.RLIMIT_FSIZE, (200000, 200000));"
            f"sys.argv = ['dravik', 'fly', 'tarn', '--airspeed', '62 m/s', '--altitude', '300 m', '--record', 'altitude',"
            f"'--duration', '900 s', '--out', r'{target}']; sys.exit(main())"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertIn("cannot be written", done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        kept = read_recording(target)
        self.assertGreater(kept.time[-1], 50.0)
        with self.assertRaisesRegex(DravikError, "cannot be written"):
            load_scenario("meadow_circuit").fly(save="/proc/nowhere/run.csv")
        (self.folder / "a.parquet").mkdir()
        with self.assertRaisesRegex(DravikError, "a.parquet: .*it is a folder"):
            dv.fly(TARN, start=dv.trim(TARN, airspeed=62, altitude=300), duration=1, save=self.folder / "a.parquet")
        self.assertFalse(list(self.folder.glob("a.parquet.*")))

    def test_what_stops_a_run_is_told_and_nothing_before_it_is_lost(self) -> None:
        table = dv.Table(
            "t", (dv.tables.Axis("altitude", np.array([0.0, 200.0]), "m"),), np.array([1.0, 1.0]), outside="error"
        )
        for formulas, words in (
            ({"x": "sqrt(t(altitude))"}, "altitude = .* is outside table t, which covers 0 to 200 m"),
            ({"x": "sqrt(60 - u)"}, "x is nan: it arises in x"),
        ):
            made = craft(
                formulas=formulas,
                with_tables={"t": table},
                environment={"gravity": 0.0},
                engines={"push": {"position": [0, 0, 0], "thrust": "10 + 0*x"}},
            )
            start = dv.Start(made.state(position=(0, 0, 190), velocity=(50, 0, -2)), made.default_inputs())
            target = self.folder / "stop.csv"
            with self.assertRaisesRegex(FlightError, words) as caught:
                dv.fly(made, start=start, duration=20, save=target, record=["altitude", "u"])
            kept, run = read_recording(target), caught.exception.recording
            assert isinstance(run, dv.Recording)
            np.testing.assert_allclose(kept["altitude"], run["altitude"], rtol=1e-9)
            self.assertGreater(len(kept.time), 190)

    def test_resampled_and_exported(self) -> None:
        made = TARN.with_environment(earth="wgs84", **WORLD)
        point = dv.trim(made, airspeed="62 m/s", altitude="300 m", heading="178 deg")
        run = dv.fly(made, start=point, duration=20, record_every=7, controls={"aileron": dv.doublet("4 deg", at=1)})
        even = run.resampled("4 Hz")
        np.testing.assert_allclose(np.diff(even.time), 0.25, atol=1e-12)
        turned = np.interp(even.time, run.time, np.unwrap(run["psi"]))
        self.assertEqual(even.resampled("3 Hz").names, run.names)
        stepped = dv.Recording(
            ["time", "phase"], {"time": "s", "phase": ""}, np.array([[0.0, 1.0], [0.4, 2.0], [1.0, 3.0]])
        )
        self.assertEqual(stepped.resampled("5 Hz")["phase"].tolist(), [1.0, 1.0, 2.0, 2.0, 2.0, 3.0])
        np.testing.assert_allclose(np.exp(1j * even["psi"]), np.exp(1j * turned), atol=1e-12)
        places = {}
        for suffix in (".gpx", ".kml", ".geojson"):
            target = write_track(run, self.folder / f"t{suffix}", rate="1 Hz")
            if suffix == ".geojson":
                line = json.loads(target.read_text())["features"][0]["geometry"]["coordinates"]
                places[suffix] = np.array(line)
                continue
            root = ElementTree.parse(target).getroot()
            if suffix == ".gpx":
                points = [p for p in root.iter() if p.tag.endswith("trkpt")]
                places[suffix] = np.array(
                    [[float(p.get("lon")), float(p.get("lat")), float(p[0].text)] for p in points]
                )
            else:
                text = next(e.text for e in root.iter() if e.tag.endswith("coordinates"))
                places[suffix] = np.array([[float(v) for v in p.split(",")] for p in text.split()])
        wanted = np.column_stack(
            [np.interp(np.arange(20.0), run.time, run[n]) for n in ("longitude", "latitude", "altitude")]
        )
        wanted[:, :2] = np.degrees(wanted[:, :2])
        for found in places.values():
            np.testing.assert_allclose((found[:20] - wanted) / [2e-8, 2e-8, 6e-3], 0.0, atol=1.0)
        # a recording that begins later, and a fault with its time and place
        late = dv.fly(
            made.with_script(faults={"left": EngineFailure(kind="engine_out", engine="left", at="1.5 s")}),
            start=dv.trim(made, airspeed="62 m/s", altitude="300 m"), duration=3,
        )  # fmt: skip
        later = dv.Recording(late.names, late.units, late.values + (np.array(late.names) == "time") * 10.0)
        self.assertEqual(len(later.resampled("2 Hz").time), 7)
        begins = datetime(2031, 8, 14, 14, 5, tzinfo=UTC)
        text = write_track(late, self.folder / "f.geojson", begins=begins).read_text()
        marks = [f for f in json.loads(text)["features"] if f["geometry"]["type"] == "Point"]
        self.assertEqual(len(marks), 1)
        self.assertIn("2031-08-14T14:05:01.500Z", json.dumps(marks[0]))
        np.testing.assert_allclose(
            marks[0]["geometry"]["coordinates"][:2],
            [math.degrees(np.interp(1.5, late.time, late[n])) for n in ("longitude", "latitude")], atol=1e-7,
        )  # fmt: skip
        with self.assertRaisesRegex(DravikError, "no place on the Earth"):
            write_track(dv.fly(TARN, start=dv.trim(TARN, airspeed=62, altitude=300), duration=1), self.folder / "t.gpx")


class ScenarioFileTest(unittest.TestCase):
    def test_what_goes_without_saying_is_the_same_in_a_file_and_in_python(self) -> None:
        in_file, made = TurbulenceKeys(), dv.Turbulence()
        for key in TurbulenceKeys.model_fields:
            self.assertEqual(getattr(in_file, key), getattr(made, key), key)
        route = inspect.signature(RouteGuidance).parameters
        keys = RouteKeys(file="r")
        self.assertEqual((keys.rate, keys.course_gain), (route["rate"].default, route["course_gain"].default))

    def test_what_is_a_scenario_and_histories_that_do_not_add_up(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "broken.toml").write_bytes(b"\xff\xfe aircraft = 1")
        (folder / "no.toml").write_text("aircraft = 'tarn'\n")
        (folder / "run.csv").write_text("aircraft, start\n")
        yes = scenario_names()["fire_run"]
        self.assertEqual(
            [is_scenario(p) for p in (yes, *(folder / n for n in ("broken.toml", "no.toml", "run.csv", "not.toml")))],
            [True, False, False, False, False],
        )
        text = (
            'format = 1\nname = "x"\naircraft = "tarn"\nduration = "2 s"\n[start]\nkind = "trimmed"\n'
            'airspeed = "62 m/s"\naltitude = "300 m"\n[controls]\nelevator = ["step(1 deg, at=0.5 s)", {}]\n'
        )
        target = folder / "sum.toml"
        target.write_text(text.replace("{}", '"step(2 deg, at=1 s)"'))
        run = dv.load_scenario(target).fly()
        moved = np.degrees(run["elevator_command"][[0, 60, 150]])
        np.testing.assert_allclose(moved - moved[0], [0.0, 1.0, 3.0], atol=1e-9)
        target.write_text(text.replace("{}", '"step(0.1, at=1 s)"'))
        with self.assertRaisesRegex(DravikError, "do not add up"):
            dv.load_scenario(target)

    def test_starts_controls_and_errors(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        text = (
            'format = 1\nname = "s"\naircraft = "tarn"\nduration = "3 s"\n[start]\nkind = "trimmed"\nairspeed = "62 m/s"\n'
            'altitude = "300 m"\nnorth = "50 m"\n[controls]\nelevator = ["step(1 deg, at=1 s)", "step(-1 deg, at=2 s)"]\n'
            '[record]\nevery = "0.1 s"\nsignals = ["elevator_increment", "north"]\n'
        )
        file = folder / "s.toml"
        file.write_text(text)
        run = load_scenario(file).fly()
        self.assertEqual(len(run.time), 31)
        self.assertEqual([round(v / DEG, 9) for v in run["elevator_increment"][[5, 15, 25]]], [0.0, 1.0, 0.0])
        self.assertEqual(float(run["north"][0]), 50.0)
        for old, new, words in (
            ('"tarn"', '"tarm"', r"s.toml:3: aircraft: there is no aircraft 'tarm'.*did you mean tarn"),
            (
                '"trimmed"',
                '"trimed"',
                r"s.toml:6: start.kind: there is no kind 'trimed'; expected one of trimmed, .*did you mean trimmed",
            ),
            ('"62 m/s"', '"62 m"', r"s.toml:7: start.airspeed"),
            ("step(1 deg", "stap(1 deg", r"s.toml:11: controls.elevator: there is no control history 'stap'"),
            ("every", "evry", r"s.toml:13: record.evry: there is no such key; did you mean every"),
            ('"north"]', '"norht"]', r"s.toml:14: record.signals: Tarn has no signal 'norht'; try: did you mean north"),
            (
                "[record]",
                '[faults.x]\nkind = "engine_out"\nengine = "lefft"\nat = 1\n[record]',
                r"s.toml:\d+: faults.x.engine: there is no engine",
            ),
            (
                "[record]",
                '[faults.x]\nkind = "engine_out"\nengine = "left"\nwhen = "altitud > 3"\n[record]',
                r"s.toml:\d+: faults.x.when: there is no signal",
            ),
            (
                "[record]",
                '[[phases]]\nname = "a"\nset = { flap_lever = 3 }\n[record]',
                r"s.toml:12: phases.0.set.flap_lever: 3.0 has no unit",
            ),
            ("[record]", '[[phases]]\nname = "a"\nset = { brake = 3 }\n[record]', "outside its range; expected 0 to 1"),
            (
                "[record]",
                '[environment.wind]\nup = "0.1*alpha"\n[record]',
                r"s.toml:\d+: environment.wind: the wind and the air cannot depend on alpha",
            ),
            ("duration", "durations", "the key 'duration' is missing"),
        ):
            with self.subTest(new):
                file.write_text(text.replace(old, new, 1))
                with self.assertRaisesRegex(DravikError, words):
                    load_scenario(file)
        states = (
            text[: text.index("[start]")]
            + '[start]\nkind = "states"\nposition = [0, 0, "90 m"]\nvelocity = [60, 0, 1]\nattitude = [0, "3 deg", 0]\n'
        )
        file.write_text(states)
        at = load_scenario(file).start()
        self.assertEqual(at.state[2:6].tolist()[:4], [90.0, 60.0, 0.0, 1.0])


if __name__ == "__main__":
    unittest.main()
