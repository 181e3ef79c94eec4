import json
import math
import tempfile
import tracemalloc
import unittest
from collections.abc import Mapping
from pathlib import Path
from unittest import mock

import numpy as np
from numpy.typing import NDArray
from threadpoolctl import threadpool_info

from dravik.aircraft import Aircraft, LawDefinition, load_law, sample, sample_path
from dravik.aircraft.description.schema import Event
from dravik.errors import DravikError, FlightError
from dravik.flight import (
    Session,
    Start,
    doublet,
    fly,
    from_csv,
    gust,
    parse_history,
    pulses_3211,
    ramp,
    sine,
    step,
    sweep,
)
from dravik.plants import plant
from dravik.recording import read_recording
from dravik.recording.parquet import ParquetGroups
from dravik.recording.writing import RecordingWriter
from dravik.tables import Axis, Table
from dravik.trimming import trim
from dravik.validation import prove_linear, prove_trim  # fmt: skip
from tests.support import DEG, craft

TARN = sample("tarn")
POINT = trim(TARN, airspeed="62 m/s", altitude="300 m")


class HistoryTest(unittest.TestCase):
    def test_shapes(self) -> None:
        t = np.array([0.0, 1.0, 1.5, 2.0, 2.5, 3.0, 9.0])
        for history, expected in (
            (step(2.0, at=1), [0, 2, 2, 2, 2, 2, 2]),
            (doublet(2.0, at=1, width=1), [0, 2, 2, -2, -2, 0, 0]),
            (pulses_3211(1.0, at=0, width=0.5), [1, 1, -1, -1, 1, -1, 0]),
            (gust(4.0, at=1, width=2), [0, 0, 2, 4, 2, 0, 0]),
            (ramp(4.0, at=1, width=2), [0, 0, 1, 2, 3, 4, 4]),
            (sine(3.0, frequency=0.5, at=1), [0, 0, 3, 0, -3, 0, 0]),
        ):
            np.testing.assert_allclose(history(t), expected, atol=1e-12, err_msg=history.text)
        chirp = sweep(1.0, low=0.1, high=2.0, at=0, width=20)
        fine = np.linspace(0, 20, 200001)
        crossings = fine[1:][np.diff(np.sign(chirp(fine))) != 0]
        for first, second in (crossings[:2], crossings[-2:]):
            self.assertAlmostEqual(0.5 / (second - first), 0.1 * 20 ** (0.5 * (first + second) / 20), delta=0.02)

    def test_units_and_text(self) -> None:
        history = parse_history("doublet(2 deg, at=500 ms, width=2 s)")
        self.assertAlmostEqual(float(history(np.array(1.0))), 2 * DEG)
        self.assertEqual((history.unit, history.corners), ("rad", (0.5, 2.5, 4.5)))
        for text, words in (
            ("doublet 2 deg", "is no control history"),
            ("dublet(2 deg)", "no control history 'dublet'.*did you mean doublet"),
            ("step(2 deg, when=3)", "unexpected keyword argument 'when'"),
            ("step(2 deg, at=3 m)", "'m' does not measure time"),
            ("step(deg)", "does not begin with a number"),
            ("doublet(1, width=0)", "expected a time above zero"),
            ("sweep(1, low=2, high=1)", "expected 0 < low < high"),
            ("step()", "missing 1 required positional argument"),
        ):
            with self.subTest(text), self.assertRaisesRegex(DravikError, words):
                parse_history(text)

    def test_wrong_inputs_are_refused(self) -> None:
        for name, history, words in (
            ("elevator", step(2.0), "no unit; expected an angle"),
            ("throttle", step("2 deg"), "has the unit rad; expected no unit"),
            ("elevatr", step("2 deg"), "no input 'elevatr'.*did you mean elevator"),
        ):
            with self.subTest(name), self.assertRaisesRegex(DravikError, words):
                fly(TARN, start=POINT, duration=1, controls={name: history})

    def test_measured_values(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "stick.csv"
            path.write_text("time [s], pull\n0,0\n1,0.5\n2,0\n")
            history = from_csv(path)
            np.testing.assert_allclose(history(np.array([0.5, 1.5, 3.0])), [0.25, 0.25, 0.0])
            run = fly(TARN, start=POINT, duration=2, controls={"pitch_stick": history}, record=["pitch_stick"])
            self.assertAlmostEqual(run["pitch_stick"][100], 0.5, places=5)


class FlyTest(unittest.TestCase):
    def test_actuators(self) -> None:
        # a large step meets the rate limit, then the stop; the slope and the end are known
        surface = {"range": ["-20 deg", "20 deg"], "rate": "40 deg/s", "lag": "0.02 s", "command": "50*deg*x"}
        body = craft(environment={"gravity": 0.0}, inputs={"x": {}}, controls={"s": surface})
        start = Start(body.state(position=(0, 0, 1000), velocity=(10, 0, 0)), body.default_inputs())
        run = fly(body, start=start, duration=1.0, dt=0.005, controls={"x": step(1.0, at=0.1)})
        s, t = run["s"], run.time
        i = int(np.searchsorted(t, 0.3))
        self.assertAlmostEqual((s[i + 10] - s[i]) / (t[i + 10] - t[i]), 40 * DEG, places=6)
        self.assertAlmostEqual(s[-1], 20 * DEG, places=9)
        self.assertLessEqual(float(s.max()), 20 * DEG + 1e-12)
        self.assertEqual([(e.text, round(e.time, 3)) for e in run.events], [("s is commanded beyond its stop", 0.1)])

    def test_second_order_actuator(self) -> None:
        surface = {"frequency": "20 rad/s", "damping": 0.5, "command": "x"}
        body = craft(environment={"gravity": 0.0}, inputs={"x": {"kind": "angle"}}, controls={"s": surface})
        start = Start(body.state(position=(0, 0, 1000), velocity=(10, 0, 0)), body.default_inputs())
        run = fly(body, start=start, duration=1.0, dt=0.002, controls={"x": step("1 rad", at=0.0)})
        w, z = 20.0, 0.5
        d = w * np.sqrt(1 - z * z)
        exact = 1 - np.exp(-z * w * run.time) * (np.cos(d * run.time) + z * w / d * np.sin(d * run.time))
        np.testing.assert_allclose(run["s"], exact, atol=1e-6)

    def test_controller_in_python_at_its_own_rate(self) -> None:
        calls: list[float] = []

        class PitchHold:
            rate = 50.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                calls.append(t)
                error = POINT["theta"] + 2 * DEG - signals["theta"]
                return {"elevator": -(2.0 * error - 1.0 * signals["q"])}

        run = fly(TARN, start=POINT, duration=8, devices=[PitchHold()])
        self.assertEqual(len(calls), 400)
        self.assertAlmostEqual(calls[7], 0.14)
        # proportional only: an offset stays, but the attitude is near and steady
        self.assertAlmostEqual(run["theta"][-1], POINT["theta"] + 2 * DEG, delta=0.5 * DEG)
        # the same law as formulas, at an infinite rate, flies nearly the same
        same = sample_law("-(2.0*(theta_command - theta) - 1.0*q)")
        start = trim(same, airspeed="62 m/s", altitude="300 m")
        law = fly(same, start=start, duration=8, controls={"theta_command": step("2 deg", at=0)})
        self.assertLess(float(np.max(np.abs(law["theta"] - run["theta"]))), 0.05 * DEG)
        PitchHold.rate = 33.0
        with self.assertRaisesRegex(DravikError, "33 Hz does not fit steps of 0.01 s"):
            fly(TARN, start=POINT, duration=1, devices=[PitchHold()])

    def test_controller_that_returns_nonsense(self) -> None:
        class Broken:
            rate = 10.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {"elevator": float("nan")}

        with self.assertRaisesRegex(DravikError, "Broken set elevator to nan at 0 s"):
            fly(TARN, start=POINT, duration=1, devices=[Broken()])

    def test_recorded_every_few_steps_in_chunks_of_any_size(self) -> None:
        full = fly(TARN, start=POINT, duration=12, controls={"elevator": doublet("1 deg")})
        part = fly(
            TARN, start=POINT, duration=12, controls={"elevator": doublet("1 deg")}, record_every=7, record=["q"]
        )
        self.assertEqual(part.names, ["time", "q"])
        np.testing.assert_array_equal(part["q"], full["q"][::7])
        self.assertEqual(len(full.time), 1201)

    def test_wrong_settings(self) -> None:
        for options, words in (
            ({"duration": "0 s"}, "a duration above the step"),
            ({"duration": 1, "dt": 2}, "a duration above the step"),
            ({"duration": 1, "method": "euler"}, "'rk4' or 'adaptive'"),
            ({"duration": 1, "record": ["alhpa"]}, "did you mean alpha"),
            ({"duration": 1, "record_every": 0}, "expected 1 or more"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                fly(TARN, start=POINT, **options)  # type: ignore[arg-type]
        with self.assertRaisesRegex(DravikError, "trim the aircraft that is flown"):
            fly(sample_law("0*q"), start=POINT, duration=1)

    def test_a_value_that_is_not_finite_stops_the_run_with_its_formula(self) -> None:
        body = craft(
            environment={"gravity": 0.0},
            inputs={"x": {"default": 1.0}},
            formulas={"f": "2/(x - time)", "g": "integral(f)"},
        )
        start = Start(body.state(position=(0, 0, 1000), velocity=(10, 0, 0)), body.default_inputs())
        with self.assertRaisesRegex(FlightError, r"at 1 s .* is inf: it arises in f\n  2/\(x - time\)\n +\^") as caught:
            fly(body, start=start, duration=3, dt=0.125)
        self.assertEqual(len(caught.exception.recording.time), 8)  # type: ignore[attr-defined]
        # also when it arises only at the very last moment
        end = craft(
            environment={"gravity": 0.0},
            formulas={"f": "if_else(time > 0.9999, log(-1 - 0*time), 1)", "g": "integral(f)"},
        )
        start = Start(end.state(position=(0, 0, 1000), velocity=(10, 0, 0)), end.default_inputs())
        with self.assertRaisesRegex(FlightError, r"at 1 s .* is nan: it arises in f"):
            fly(end, start=start, duration=1, dt=0.125)

    def test_a_rate_that_is_not_finite_after_the_last_step_alone(self) -> None:
        # of a step of 1 s from y = 1 the stages see 1, 0.5, 0.75 and 0.25; it ends at 0.375
        rate = "if_else(y > 0.3 and y < 0.4, log(-1 - y), -y)"
        body = craft(environment={"gravity": 0.0}, formulas={"y": f"integral({rate}, initial=1)"})
        start = Start(body.state(position=(0, 0, 1000), velocity=(10, 0, 0)), body.default_inputs())

        def rates(t: float, x: NDArray[np.float64], u: NDArray[np.float64]) -> list[float]:
            return [math.nan if 0.3 < x[0] < 0.4 else -x[0]]

        for what, begin in ((body, start), (plant(rates, states=["y"]), Start(np.ones(1), np.zeros(0)))):
            session = Session(what, start=begin, dt=1.0)
            with self.assertRaisesRegex(FlightError, "at 1 s .*(nan|not finite)"):
                session.step()

    def test_leaving_a_table(self) -> None:
        axis = (Axis("time", np.array([0.0, 1.0]), "s"),)
        for outside, expected in (("error", None), ("hold", ("t", "time", 50, 1.01, 1.5))):
            table = Table("t", axis, np.array([0.0, 1.0]), outside=outside)
            body = craft(
                environment={"gravity": 0.0}, with_tables={"t": table}, formulas={"f": "t(time)", "g": "integral(f)"}
            )
            start = Start(body.state(position=(0, 0, 1000), velocity=(10, 0, 0)), body.default_inputs())
            if expected is None:
                with self.assertRaisesRegex(
                    FlightError, r"at 1 s time = 1.005 s is outside table t, which covers 0 to 1 s"
                ):
                    fly(body, start=start, duration=1.5)
            else:
                run = fly(body, start=start, duration=1.5)
                self.assertEqual(run.outside[0][:3], expected[:3])
                np.testing.assert_allclose(run.outside[0][3:], expected[3:])

    def test_events(self) -> None:
        body = craft(events={"low": {"when": "altitude < 80"}, "fast": {"when": "airspeed > 30", "stop": True}})
        start = Start(body.state(position=(0, 0, 100), velocity=(0, 0, 0)), body.default_inputs())
        run = fly(body, start=start, duration=10)
        self.assertEqual([e.text for e in run.events], ["low", "fast"])
        # found within the step, not at its end; a run that an event ends, ends there
        self.assertAlmostEqual(run.events[0].time, (2 * 20 / 9.80665) ** 0.5, delta=1e-6)
        self.assertAlmostEqual(run.events[1].time, 30 / 9.80665, delta=1e-6)
        self.assertAlmostEqual(run.time[-1], 30 / 9.80665, delta=1e-6)
        self.assertAlmostEqual(run["airspeed"][-1], 30.0, delta=1e-5)
        later = {"soon": {"when": "airspeed > 30.2"}, "fast": {"when": "airspeed > 30", "stop": True}}
        ended = fly(craft(events=later), start=start, duration=10, dt=0.1)
        self.assertEqual([e.text for e in ended.events], ["fast"])  # what would have come later in the step did not
        for dt in (0.1, 0.05):
            again = fly(body, start=start, duration=10, dt=dt)
            self.assertAlmostEqual(again.events[0].time, (2 * 20 / 9.80665) ** 0.5, delta=1e-6)
        ground = fly(craft(), start=start, duration=10)
        self.assertEqual(ground.events[-1].text, "the centre of gravity is below sea level")

    def test_an_input_beyond_its_range_is_held_and_said(self) -> None:
        run = fly(TARN, start=POINT, duration=3, controls={"pitch_stick": step(2.0, at=1), "throttle": step(0.1, at=2)})
        self.assertAlmostEqual(float(run["pitch_stick"].max()), 1.0)
        self.assertEqual(
            [(e.text, e.time) for e in run.events], [("pitch_stick is asked beyond its range, and held", 1.0)]
        )

    def test_wind_carries_the_aircraft_along(self) -> None:
        still = fly(TARN, start=POINT, duration=10, record=["north", "east"])
        x, u = POINT.state.copy(), POINT.inputs.copy()
        u[:3] = [3.0, -2.0, 0.0]
        from dravik.frames import dcm_from_quaternion

        x[3:6] += dcm_from_quaternion(x[6:10]) @ [3.0, -2.0, 0.0]
        blown = fly(TARN, start=Start(x, u), duration=10, record=["north", "east", "airspeed"])
        np.testing.assert_allclose(blown["north"] - still["north"], 3.0 * still.time, atol=1e-6)
        np.testing.assert_allclose(blown["east"], -2.0 * still.time, atol=1e-6)

    def test_proofs_at_the_sea_and_in_a_climb(self) -> None:
        sea = trim(TARN, airspeed="62 m/s", altitude="0 m")
        held = prove_trim(sea)
        self.assertTrue(held.holds and held.is_complete)
        self.assertAlmostEqual(held.recording.flown, 60.0)
        self.assertAlmostEqual(fly(TARN, start=sea, duration=20).flown, 20.0)  # on the sea, but not below it
        overlay = prove_linear(sea)
        self.assertTrue(overlay.is_complete and overlay.worst < 0.01)
        for path in ("4 deg", "-4 deg"):
            # the drift of the undisturbed flight is no error of the model
            self.assertLess(prove_linear(trim(TARN, airspeed=62, altitude=1000, flight_path=path)).worst, 0.02)
        ended = Aircraft(
            TARN.definition.model_copy(update={"events": {"soon": Event(when="time > 2", stop=True)}}), TARN.tables
        )
        short = prove_trim(trim(ended, airspeed=62, altitude=300))
        self.assertFalse(short.holds or short.is_complete)
        self.assertRegex(
            short.title, "flown hands off, disturbed a little, for 2 s of 60 s, which proves nothing: soon"
        )

    def test_a_run_that_ends_early_says_so(self) -> None:
        diving = trim(TARN, airspeed=62, altitude=100, flight_path="-4 deg")
        run = fly(TARN, start=diving, duration=60)
        self.assertTrue(run.is_broken_off)
        summary = run.summary()
        self.assertEqual((summary["asked_s"], summary["ended_by"]), (60.0, "the centre of gravity is below sea level"))
        self.assertLess(summary["duration_s"], 30.0)
        self.assertEqual(fly(TARN, start=diving, duration=3).summary()["ended_by"], None)

    def test_proofs(self) -> None:
        self.assertTrue(prove_trim(POINT, duration=10).holds)
        self.assertLess(prove_linear(POINT, control="throttle", signals=["airspeed"]).worst, 0.02)
        with self.assertRaisesRegex(DravikError, "no signal 'alhpa'"):
            prove_linear(POINT, signals=["alhpa"])


def sample_law(formula: str) -> Aircraft:
    inputs = {"theta_command": {"kind": "angle", "follows": "theta"}}
    data = {"format": 1, "name": "law", "inputs": inputs, "add": {"elevator": formula}}
    return TARN.with_law(LawDefinition.model_validate(data))


class LawTest(unittest.TestCase):
    def test_pitch_hold_and_yaw_damper_do_what_they_are_for(self) -> None:
        folder = sample_path("tarn") / "laws"
        held = TARN.with_law(*load_law(folder / "pitch_hold.toml"))
        # what a law adds is part of what was flown, and so of its fingerprint
        prints = set()
        for formula in ("0*q", "0.1*q"):
            law = sample_law(formula)
            flown = fly(law, start=trim(law, airspeed=62, altitude=300, flight_path=0), duration=0.1)
            prints.add(flown.metadata["definition_sha256"])
        self.assertEqual(len(prints), 2)
        start = trim(held, airspeed="62 m/s", altitude="300 m")
        run = fly(held, start=start, duration=20, controls={"theta_command": step("2 deg", at=1)})
        self.assertAlmostEqual(run["theta"][-1] - run["theta"][0], 2 * DEG, delta=0.1 * DEG)
        damped = TARN.with_law(*load_law(folder / "yaw_damper.toml"))
        from dravik.linear import linearise

        rolls = [
            linearise(c, trim(c, airspeed="62 m/s", altitude="300 m")).modes().named("Dutch roll")
            for c in (TARN, damped)
        ]
        assert rolls[0] is not None and rolls[1] is not None
        self.assertGreater(rolls[1].damping, rolls[0].damping + 0.05)
        # the damper's washout joins the lateral motion: the spiral is the slow root that bank leads, and the only one
        modes = linearise(damped, trim(damped, airspeed="62 m/s", altitude="300 m")).modes()
        spiral = modes.named("spiral")
        assert spiral is not None
        self.assertEqual(next(iter(spiral.participation)), "phi")
        self.assertIsNotNone(modes.named("yaw_damper_washout"))
        self.assertIsNone(modes.named("spiral 2"))


class RecordingTest(unittest.TestCase):
    def test_files_come_back(self) -> None:
        run = fly(TARN, start=POINT, duration=2, controls={"elevator": step("40 deg", at=0.5)})
        self.assertTrue(run.events)
        with tempfile.TemporaryDirectory() as folder:
            for name, tolerance in (("run.csv", 1e-9), ("run.parquet", 0.0)):
                path = run.save(Path(folder) / name)
                back = read_recording(path)
                self.assertEqual((back.names, back.units, back.events), (run.names, run.units, run.events))
                np.testing.assert_allclose(back.values, run.values, rtol=tolerance + 1e-15, atol=1e-12)
            side = json.loads((Path(folder) / "run.csv.json").read_text())
            self.assertEqual(side["columns"]["alpha_deg"], {"signal": "alpha", "si_unit": "rad"})
            self.assertEqual(side["aircraft"], "Tarn")
            self.assertRegex(side["definition_sha256"], "^[0-9a-f]{64}$")
            run.save(Path(folder) / "two.csv", signals=["alpha"])
            self.assertEqual((Path(folder) / "two.csv").read_text().splitlines()[0], "time_s,alpha_deg")
            (Path(folder) / "run.csv").write_text("time_s,alpha_deg\n1,x\n")
            with self.assertRaisesRegex(DravikError, "no recording of a flight"):
                read_recording(Path(folder) / "run.csv")
            self.assertEqual(side["start_inputs"]["throttle"], POINT["throttle"])
            with self.assertRaisesRegex(DravikError, "cannot be written"):
                run.save(Path(folder) / "nowhere" / "run.csv")
        with self.assertRaisesRegex(DravikError, "no such recording"):
            read_recording("nothing.csv")
        self.assertAlmostEqual(float(run.frame["theta_deg"].iloc[0]), POINT["theta"] / DEG)

    def test_a_thread_writes_in_order_and_says_what_went_wrong(self) -> None:
        class Full:
            def write(self, data: bytes) -> None:
                raise OSError(28, "No space left on device")

            def close(self) -> None:
                """Nothing to close."""

        begun = {i["num_threads"] for i in threadpool_info() if i["user_api"] == "blas"}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.csv"
            writer = RecordingWriter(path, ["time", "u"], {"time": "s", "u": "m/s"}, {}, {})
            flown = np.outer(np.arange(300), [1.0, 0.5])
            for k in range(300):
                writer.write(flown[: k + 1], {"time_s": float(k)}, [])
                if k % 3 == 0:
                    writer.flush()
            writer.flush(side=False)
            self.assertLess(json.loads((Path(folder) / "a.csv.json").read_text())["end"]["time_s"], 299.0)
            writer.flush()
            writer.flush()  # waits for the one before
            rows = np.loadtxt(path, delimiter=",", skiprows=1)
            np.testing.assert_array_equal(rows, flown)
            self.assertEqual(json.loads((Path(folder) / "a.csv.json").read_text())["end"], {"time_s": 299.0})
            # a Parquet file that cannot be written leaves all rows in its stream
            before = Path(folder) / "b.parquet.part.arrow.json"
            before.write_text("of a run that was killed")
            stream = RecordingWriter(Path(folder) / "b.parquet", ["time", "u"], {"time": "s", "u": "m/s"}, {}, {})
            stream._settle()
            self.assertFalse(before.exists())
            stream.write(np.array([[1.0, 2.0]]), {"time_s": 1.0}, [])
            whole = fly(TARN, start=POINT, duration=0.1)
            full = mock.patch.object(ParquetGroups, "save", side_effect=OSError(28, "No space left on device"))
            with full, self.assertRaisesRegex(DravikError, "No space left on device"):
                stream.close(whole)
            self.assertFalse(list(Path(folder).glob("b.parquet*t")))  # neither the file nor its part
            np.testing.assert_array_equal(read_recording(Path(folder) / "b.parquet.part.arrow").values, [[1.0, 2.0]])
            writer._file.close()
            writer._file = Full()  # type: ignore[assignment]
            with self.assertRaisesRegex(
                DravikError, "cannot be written .No space left on device.*rows up to 299 s are in it"
            ):
                # the error comes with the block after the one that could not be written
                writer.write(np.zeros((302, 2)), {}, [])
                writer.flush()
                writer.flush()
            # one whose end cannot be written leaves the matrix libraries to others again
            with self.assertRaisesRegex(DravikError, "No space left on device"):
                writer.write(np.zeros((304, 2)), {}, [])
                writer.close(whole)
        self.assertEqual({i["num_threads"] for i in threadpool_info() if i["user_api"] == "blas"}, begun)


class SessionTest(unittest.TestCase):
    def test_steps_are_the_flight(self) -> None:
        run = fly(TARN, start=POINT, duration=3, record=["alpha", "theta", "altitude"])
        session = Session(TARN, start=POINT)
        for k in range(300):
            session.step()
            if k % 50 == 0:
                self.assertEqual(session["theta"], run["theta"][k + 1])
        self.assertAlmostEqual(session.time, 3.0)
        np.testing.assert_array_equal([session[n] for n in ("alpha", "theta", "altitude")], run.values[-1, 1:])

    def test_a_step_leaves_nothing_in_memory(self) -> None:
        session = Session(TARN, start=POINT, dt=0.001)
        look = session.reader("alpha", "airspeed")

        def loop(count: int) -> None:
            for _ in range(count):
                session.step(pitch_stick=0.01 * float(look()[0]))

        loop(100)
        tracemalloc.start()
        try:
            loop(300)  # fills what Python itself keeps for reuse
            before = tracemalloc.get_traced_memory()[0]
            tracemalloc.reset_peak()
            loop(1000)
            after, peak = tracemalloc.get_traced_memory()
        finally:
            tracemalloc.stop()
        self.assertLess(after - before, 200)
        self.assertLess(peak - before, 1500)  # numbers and views of the instant; one array of states would take 300

    def test_save_restore_and_reset_are_exact(self) -> None:
        def fly_on(session: Session) -> list[float]:
            trace = []
            for k in range(80):
                session.step(0.02, pitch_stick=0.2 * (k % 3), elevator=0.01)
                trace.append(session["alpha"])
            return trace

        one, other = Session(TARN, start=POINT), Session(TARN, start=POINT)
        first = fly_on(one)
        saved = one.save()
        rest = fly_on(one)
        other.step(1.0, roll_stick=0.5)  # flies its own way beside it
        one.restore(saved)
        self.assertEqual(fly_on(one), rest)
        other.restore(saved)
        self.assertEqual(fly_on(other), rest)
        other.reset()
        self.assertEqual(fly_on(other), first)
        # inputs that stayed the same are not those of a flight that has gone on from there
        one.step(0.02, pitch_stick=0.1)
        saved = one.save()
        other.restore(saved)
        other.step(0.02, pitch_stick=0.1)
        one.step(0.02, pitch_stick=0.5)
        one.restore(saved)
        one.step(0.02, pitch_stick=0.1)
        self.assertEqual(one["alpha"], other["alpha"])
        with self.assertRaisesRegex(DravikError, "the same aircraft, loading"):
            Session(
                TARN.with_loading("dropped"), start=trim(TARN.with_loading("dropped"), airspeed=62, altitude=300)
            ).restore(saved)

    def test_ends_and_refusals(self) -> None:
        body = craft(events={"low": {"when": "altitude < 99", "stop": True}})
        session = Session(
            body, start=Start(body.state(position=(0, 0, 100), velocity=(0, 0, 0)), body.default_inputs()), dt=0.05
        )
        while not session.ended:
            session.step()
        self.assertEqual([e.text for e in session.events], ["low"])
        self.assertAlmostEqual(session.events[0].time, (2 / 9.80665) ** 0.5, delta=1e-6)
        self.assertAlmostEqual(session["altitude"], 99.0, delta=1e-5)
        for call, words in (
            (lambda: session.step(), "the flight has ended"),
            (lambda: session.step(0.12), "a whole number of steps"),
            (lambda: session.set(wind_nort=1.0), "did you mean wind_north"),
            (lambda: session.set(wind_north=float("nan")), "a finite number"),
            (lambda: session["altitud"], "did you mean altitude"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                call()
        pilot = Session(TARN, start=POINT)
        pilot.step(throttle=7.0)
        self.assertEqual(pilot["throttle"], 1.0)


if __name__ == "__main__":
    unittest.main()
