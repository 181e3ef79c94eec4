"""Parameters: set without compiling anew, with the same bits as if the number had stood in the file."""

import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.mode_logic.modes import Phase
from tests.support import DEG, craft

LAW = dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml")
HELD = dv.sample("tarn").with_law(*LAW)
POINT = dv.trim(HELD, airspeed="62 m/s", altitude="300 m")
ASKED: dict[str, Any] = {"controls": {"theta_command": dv.step("2 deg", at=0.2)}}


def written(gain: float) -> dv.Aircraft:
    """Return the Tarn whose law has the gain as a number."""
    law = LAW[0].model_copy(
        update={
            "parameters": {n: p for n, p in LAW[0].parameters.items() if n != "pitch_hold_gain"},
            "formulas": {
                n: e.model_copy(update={"formula": str(e.formula).replace("pitch_hold_gain", repr(gain))})
                for n, e in LAW[0].formulas.items()
            },
        }
    )
    return dv.sample("tarn").with_law(law, *LAW[1:])


class ValueTest(unittest.TestCase):
    def test_the_same_bits_as_a_number_and_nothing_compiled(self) -> None:
        for gain in (2.0, 1.3):
            made, file = HELD.with_parameters({"pitch_hold_gain": gain}), written(gain)
            self.assertIs(made.program.numbers, HELD.program.numbers)
            runs = [dv.fly(c, start=dv.trim(c, airspeed=62, altitude=300), duration=6, **ASKED) for c in (made, file)]
            np.testing.assert_array_equal(runs[0]["theta"], runs[1]["theta"])
            models = [dv.linearise(c, dv.trim(c, airspeed=62, altitude=300)) for c in (made, file)]
            np.testing.assert_array_equal(models[0].A, models[1].A)
        self.assertEqual((HELD.parameters["pitch_hold_gain"], made.parameters["pitch_hold_gain"]), (2.0, 1.3))
        # copies keep what was set, also those that are compiled anew
        for other in (made.with_loading("dropped"), made.with_environment(ground=0.0), made.with_script({})):
            self.assertEqual(other.parameters["pitch_hold_gain"], 1.3)
            self.assertEqual(float(other.workspace().registers[other.tape.names["pitch_hold_gain"]]), 1.3)

    def test_units_ranges_and_short_forms(self) -> None:
        made = craft(
            parameters={"k": 2.0, "t": {"value": "50 ms", "range": ["10 ms", "1 s"]}, "a": "3 deg"},
            formulas={"out": "k*a + lag(t, t)"},
        )
        self.assertEqual(made.parameters, {"k": 2.0, "t": 0.05, "a": 3 * DEG})
        self.assertEqual((made.signals["a"].unit, made.signals["t"].unit), ("rad", "s"))
        again = made.with_parameters({"a": "1 deg", "t": "0.2 s"})
        x, u = again.state(velocity=(10, 0, 0)), again.default_inputs()
        self.assertAlmostEqual(again.values(x, u, ["out"])["out"], 2.0 * DEG, places=15)
        for values, words in (
            ({"t": "2 s"}, r"'2 s' is outside its range.*0.01 to 1 s"),
            ({"t": "3 deg"}, "does not measure time|expected.*time"),
            ({"kk": 1.0}, "no parameter 'kk'.*did you mean k"),
            ({"k": float("nan")}, "a finite number"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                made.with_parameters(values)
        for entries, words in (
            ({"t": {"value": "2 s", "range": ["10 ms", "1 s"]}}, "outside its range"),
            ({"t": {"value": "2 s", "range": ["10 ms"]}}, "no range"),
            ({"t": {"value": "2 blorb"}}, "blorb"),
            ({"t": {"val": 2}}, "val"),
            ({"alpha": 2}, "taken by a signal"),
        ):
            with self.subTest(words), self.assertRaisesRegex((DravikError, ValueError), words):
                craft(parameters=entries)
        with self.assertRaisesRegex(DravikError, "initial value of integral must be a constant"):
            craft(parameters={"k": 2.0}, formulas={"out": "integral(1, k)"})

    def test_tables_are_scaled_and_shifted(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "lift.csv").write_text("alpha [deg],CL\n-10,-1\n10,1\n", encoding="utf-8")
            text = (
                'format = 1\nname = "Plate"\n[reference]\narea = "1 m^2"\nchord = "1 m"\nspan = "1 m"\n'
                'moment_point = ["0 m", "0 m", "0 m"]\n[loadings.one]\nmass = "1 kg"\ncg = ["0 m", "0 m", "0 m"]\n'
                'Ixx = "1 kg*m^2"\nIyy = "1 kg*m^2"\nIzz = "1 kg*m^2"\n[parameters]\nmore = 1.1\nup = 0.02\n'
                '[tables]\nlift = { file = "lift.csv", scale = "more", shift = "2*up" }\n'
                '[formulas]\nCL_found = "lift(alpha)"\n'
            )
            path = Path(folder) / "plate.toml"
            path.write_text(text, encoding="utf-8")
            plate = dv.load(path)
            for values, expected in (({}, 0.55 + 0.04), ({"more": 2.0, "up": -0.5}, 1.0 - 1.0)):
                made = plate.with_parameters(values)
                x = made.state(velocity=(np.cos(5 * DEG), 0.0, np.sin(5 * DEG)))
                self.assertAlmostEqual(
                    made.values(x, made.default_inputs(), ["CL_found"])["CL_found"], expected, places=12
                )
            law = Path(folder) / "law.toml"
            law.write_text(
                'format = 1\nname = "law"\n[parameters]\nweight = 3\n[tables]\nown = { file = "lift.csv", scale = "weight" }\n'
                '[formulas]\nCL_demand = "own(alpha)"\n',
                encoding="utf-8",
            )
            made = plate.with_law(*dv.load_law(law))
            x = made.state(velocity=(np.cos(5 * DEG), 0.0, np.sin(5 * DEG)))
            self.assertAlmostEqual(made.values(x, made.default_inputs(), ["CL_demand"])["CL_demand"], 1.5, places=12)
            second = dv.load_law(law)
            second = (second[0].model_copy(update={"name": "two", "parameters": {}, "formulas": {}}), *second[1:])
            with self.assertRaisesRegex(DravikError, "tables.own of law 'two' is there already"):
                made.with_law(*second)
            path.write_text(text.replace('"2*up"', '"2*alpha"'), encoding="utf-8")
            with self.assertRaisesRegex(DravikError, "shift of a table reads 'alpha'.*numbers and parameters"):
                dv.load(path)


class FlightTest(unittest.TestCase):
    def test_changed_in_flight_and_logged(self) -> None:
        class Softer:
            rate, sets = 1.0, ("pitch_hold_gain",)

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {"pitch_hold_gain": 2.0 if t < 1.5 else 0.7}

        record = ["theta", "pitch_hold_gain"]
        run = dv.fly(HELD, start=POINT, duration=4, devices=[Softer()], record=record, **ASKED)
        self.assertEqual([(e.time, e.text) for e in run.events], [(2.0, "parameter pitch_hold_gain: 2 to 0.7")])
        self.assertEqual(run["pitch_hold_gain"][[0, 199, 200]].tolist(), [2.0, 2.0, 0.7])
        self.assertEqual(run.metadata["parameters"]["pitch_hold_gain"], 2.0)
        self.assertEqual(run.metadata["end"]["parameters"]["pitch_hold_gain"], 0.7)

        session = dv.Session(HELD, start=POINT, record=record, **ASKED)
        session.step(2.0)
        saved = session.save()
        session.step(2.0, pitch_hold_gain=0.7)
        np.testing.assert_array_equal(session.recording().values, run.values)
        session.restore(saved)
        self.assertEqual(session["pitch_hold_gain"], 2.0)
        with self.assertRaisesRegex(DravikError, "outside its range"):
            session.set(pitch_hold_gain=60.0)

        on = dv.fly(HELD, start=dv.resume(HELD, run), duration=1, devices=[Softer()], record=record, **ASKED)
        self.assertEqual(on["pitch_hold_gain"][0], 0.7)
        self.assertEqual(HELD.parameters["pitch_hold_gain"], 2.0)  # the aircraft itself is as it was

    def test_a_phase_and_a_scenario_set_them(self) -> None:
        planned = HELD.with_script(
            phases=(Phase(name="firm", until="time > 1"), Phase(name="soft", set={"pitch_hold_gain": 0.5}))
        )
        run = dv.fly(planned, start=dv.trim(planned, airspeed=62, altitude=300), duration=2, record=["pitch_hold_gain"])
        self.assertEqual(sorted(set(run["pitch_hold_gain"].tolist())), [0.5, 2.0])
        scenario = dv.load_scenario("fire_run")
        self.assertEqual(scenario.with_parameters({"track_gain": 0.2}).craft.parameters["track_gain"], 0.2)
        with self.assertRaisesRegex(DravikError, "no parameter 'track_gian'.*track_gain"):
            scenario.with_parameters({"track_gian": 0.2})


if __name__ == "__main__":
    unittest.main()
