import random
import shutil
import tempfile
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import dravik as dv
from dravik.aircraft import Aircraft, load, load_law, sample, sample_path
from dravik.checks import audit
from dravik.definition.effectors import Effector
from dravik.errors import DravikError
from tests.support import craft, light_aircraft, piston_aircraft

TEXT = (sample_path("tarn") / "aircraft.toml").read_text(encoding="utf-8")
AERO = (sample_path("tarn") / "aero" / "aero.toml").read_text(encoding="utf-8")
MASS = (sample_path("tarn") / "mass.toml").read_text(encoding="utf-8")


def numbers(**changed: str) -> str:
    """Return a loading in numbers, ahead of the next section."""
    good = {"mass": '"9500 kg"', "cg": '["9.16 m", "0 m", "0.95 m"]', "Ixx": '"78000 kg*m^2"', "Iyy": '"66000 kg*m^2"',
            "Izz": '"135000 kg*m^2"', "Ixz": '"3600 kg*m^2"'}  # fmt: skip
    return "\n".join(["[loadings.bad]", *(f"{k} = {v}" for k, v in {**good, **changed}.items()), "[envelope]"])


class FolderTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "tarn"
        shutil.copytree(sample_path("tarn"), self.folder)
        self.file = self.folder / "aircraft.toml"

    def edit(self, old: str, new: str, count: int = -1) -> tuple[Path, str]:
        """Edit the Tarn's file, or one that it includes; return which, and its text before."""
        files = {self.file: TEXT, self.folder / "aero" / "aero.toml": AERO, self.folder / "mass.toml": MASS}
        for path, text in files.items():
            path.write_text(text, encoding="utf-8")
        chosen = next((path for path, text in files.items() if old in text), None)
        assert chosen is not None, old
        chosen.write_text(files[chosen].replace(old, new, count), encoding="utf-8")
        return chosen, files[chosen]

    def refused(self) -> str:
        with self.assertRaises(DravikError) as caught:
            load(self.file)
        return str(caught.exception)


class DefinitionTest(FolderTest):
    def test_errors_name_line_key_and_way_out(self) -> None:
        for old, new, line, words in (
            (
                'area = "54 m^2"',
                'area = "54 m"',
                "area",
                "reference.area: '54 m': 'm' does not measure area; expected an area",
            ),
            ('area = "54 m^2"', 'aera = "54 m^2"', "area", "reference.aera: there is no such key; did you mean area?"),
            ('rate = "60 deg/s"', "rate = 60", "rate", "controls.elevator.rate: 60 has no unit"),
            (
                'range = ["-25 deg", "15 deg"]',
                "range = [-25, 15]",
                'range = ["-25 deg", "15 deg"]',
                "degrees from radians",
            ),
            ('mass = "1180 kg"', 'mass = "-1180 kg"', "wing", "parts.wing.mass: Input should be greater than 0"),
            ("[envelope]", numbers(mass='"-9500 kg"'), "[envelope]", "loadings.bad.mass: '-9500 kg' is not above zero"),
            (
                'water = "3000 kg"',
                'water = "3100 kg"',
                "tanks = ",
                "cannot hold 3100 kg; expected at most the 3036 kg",
            ),
            ('chord = "2.5 m"\n', "", "[reference]", "reference: the key 'chord' is missing"),
            ("format = 1", "format = 2", "format", "format: Input should be 1"),
            (
                'axes = "stability"',
                'axes = "earth"',
                "axes",
                "aero.axes: Input should be 'body', 'stability' or 'wind'",
            ),
            ('default_loading = "loaded"', 'default_loading = "laoded"', "default", "did you mean loaded?"),
            ('lag = "0.05 s"', 'lag = "0.05 s"\nfrequency = "3 rad/s"', "lag", "both lag and frequency"),
            ("flap.csv", "falp.csv", "CL_flap", "there is no such table file"),
            (
                'column = "CD", over = ["alpha", "fl',
                'column = "CX", over = ["alpha", "fl',
                "CD_flap",
                "there is no column 'CX'",
            ),
            (
                "Cm_q(alpha_point)*q_hat",
                "Cm_q(alpha_point)*q_hta",
                "Cm =",
                "there is no signal 'q_hta'; try: did you mean q_hat",
            ),
            (
                "Cm_q(alpha_point)*q_hat",
                "Cm_q(alpha_point)*Cm",
                "Cm =",
                "need each other at the same instant: Cm -> Cm",
            ),
            (
                "Cm_q(alpha_point)*q_hat",
                "Cm_q(alpha_point)*q_dot",
                "Cm =",
                "Cm needs an acceleration, which in turn needs Cm",
            ),
            ("Cm_alpha_dot(alpha_point)*alpha_dot_hat", "alpha_dot_hat**2", "Cm =", "Cm is not linear in alpha_dot"),
            ('command = "flap_lever"', 'command = "flap_level"', 'command = "flap_lever"', "did you mean flap_lever"),
            ("[formulas]\nlift", "[formulas]\nalpha = 1\nlift", "[formulas]", "the name 'alpha' is taken by a signal"),
            ("[formulas]\nlift", "[formulas\nlift", "", "this is not TOML"),
        ):
            with self.subTest(new):
                file, before = self.edit(old, new, 1)
                text = self.refused()
                self.assertIn(words, text)
                self.assertIn(str(file), text)
                if line:
                    near = next(i for i, row in enumerate(before.splitlines(), 1) if row.startswith(line))
                    self.assertTrue(any(f"{file.name}:{n}" in text for n in (near, near + 1)), f"line {near}: {text}")

    def test_several_problems_at_once(self) -> None:
        self.edit('chord = "2.5 m"\nspan = "22 m"', 'chord = "2.5 kg"\nspan = "-22 m"')
        self.assertEqual(len(self.refused().splitlines()), 2)

    def test_included_files(self) -> None:
        for old, new, words in (
            ('"aero/aero.toml"', '"aero/areo.toml"', r"aircraft.toml:\d+: include: .*areo.toml: there is no such file"),
            ('["aero/aero.toml", "mass.toml", "gear.toml"]', '"aero/aero.toml"', "is no list of files"),
            (
                "[formulas]\nlift",
                "[aero]\nCL = '0'\n[formulas]\nlift",
                r"aero.toml:\d+: aero.CL: this key also stands in .*aircraft.toml:\d+",
            ),
        ):
            with self.subTest(new):
                self.edit(old, new)
                self.assertRegex(self.refused(), words)

    def test_a_table_in_the_wrong_unit(self) -> None:
        table = self.folder / "aero" / "flap.csv"
        table.write_text(table.read_text().replace("alpha [deg]", "alpha"))
        with self.assertRaisesRegex(
            DravikError, r"column alpha is in no unit, the signal in rad; try: .*alpha \[deg\]"
        ):
            load(self.file)

    def test_missing_and_unreadable_files(self) -> None:
        with self.assertRaisesRegex(DravikError, "there is no such file; try: dravik new"):
            load(self.folder / "nothing.toml")
        self.file.write_bytes(b"\xff\xfe\x00")
        with self.assertRaisesRegex(DravikError, "cannot be read"):
            load(self.file)
        with self.assertRaisesRegex(DravikError, "no loading 'ferry'; expected one of loaded, dropped"):
            sample("tarn", loading="ferry")
        with self.assertRaisesRegex(DravikError, "there is no sample 'tran'; expected one of hail, merle, pika, tarn"):
            sample("tran")

    @settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.integers(0, 2**31), st.integers(1, 6), st.text(max_size=6))
    def test_random_edits_bring_only_clean_errors(self, seed: int, count: int, inserted: str) -> None:
        rng = random.Random(seed)
        text = TEXT
        for _ in range(count):
            at = rng.randrange(len(text))
            cut = rng.choice([0, 0, 1, 3, 20])
            piece = rng.choice([inserted, "", "[", "]", '"', "=", "\n", "0", "-", "*", "alpha", text[at : at + 15]])
            text = text[:at] + piece + text[at + cut :]
        self.file.write_text(text, encoding="utf-8", errors="replace")
        try:
            load(self.file)
        except DravikError as error:
            self.assertNotIn("Traceback", str(error))


class AuditTest(FolderTest):
    def findings(self, old: str, new: str) -> list[str]:
        self.edit(old, new)
        return [f"{f.severity} {f.place} {f.what} {f.do}" for f in audit(load(self.file))]

    def test_the_tarn_is_clean(self) -> None:
        self.assertEqual(audit(sample("tarn")), [])

    def test_each_fault_is_found(self) -> None:
        for old, new, severity, words in (
            ("[envelope]", numbers(Izz='"235000 kg*m^2"'), "error", "exceeds the sum of the others"),
            ("[envelope]", numbers(Ixz='"190000 kg*m^2"'), "error", "a principal moment of inertia is"),
            ("[envelope]", numbers(Iyy='"66 kg*m^2"'), "error", "exceeds the sum"),
            ("[envelope]", numbers(cg='["10.6 m", "0 m", "0.95 m"]'), "warning", "Cm_alpha has the wrong sign"),
            (
                "Cl_static(alpha_point, beta_point)",
                "-Cl_static(alpha_point, beta_point)",
                "warning",
                "Cl_beta has the wrong sign",
            ),
            (
                "Cn_static(alpha_point, beta_point)",
                "-Cn_static(alpha_point, beta_point)",
                "warning",
                "Cn_beta has the wrong sign",
            ),
            ("+ Cm_q(alpha_point)", "- 2*Cm_q(alpha_point)", "error", "Cm_q has the wrong sign"),
            ("Cl_roll_rate(alpha_point, ", "-Cl_roll_rate(alpha_point, ", "error", "Cl_p has the wrong sign"),
            ("Cn_r(alpha_point)", "-Cn_r(alpha_point)", "error", "Cn_r has the wrong sign"),
            (
                "Cm_elevator(alpha_point, elevator)",
                "-Cm_elevator(alpha_point, elevator)",
                "error",
                "Cm_elevator has the wrong sign",
            ),
            (
                "Cl_aileron(alpha_point, aileron)",
                "-Cl_aileron(alpha_point, aileron)",
                "error",
                "Cl_aileron has the wrong sign",
            ),
            (
                "Cn_rudder(alpha_point, rudder)",
                "-Cn_rudder(alpha_point, rudder)",
                "error",
                "Cn_rudder has the wrong sign",
            ),
            (
                'altitude = ["0 m", "4500 m"]',
                'altitude = ["0 m", "6500 m"]',
                "warning",
                "it is needed from 0 to 6500 m",
            ),
            (
                'range = ["0 deg", "35 deg"]\nrate',
                'range = ["0 deg", "45 deg"]\nrate',
                "warning",
                "needed from 0 to 45 deg",
            ),
            ('["45 m/s", "95 m/s"]', '["25 m/s", "95 m/s"]', "warning", "is not carried at 25 m/s"),
            ('range = ["-20 deg", "20 deg"]', 'range = ["-20 rad", "20 rad"]', "error", "look like degrees"),
            ('area = "54 m^2"', 'area = "54 ft^2"', "warning", "mass over area is 1.89e+03"),
            ('span = "22 m"', 'span = "22 ft"', "warning", "radius of gyration"),
            ('["7.40 m", "-3.40 m", "1.70 m"]', '["740 m", "-3.40 m", "1.70 m"]', "warning", "the engine is"),
            ("CL_static(alpha_point, beta_point)", "0.4 + 0.1*alpha", "warning", "value per degree"),
            ("Cl_r(alpha_point)*r_hat", "0.2*r_hat", "note", "no formula uses table Cl_r"),
            ("[envelope]", 'centre_limits = ["9.3 m", "9.6 m"]\n[envelope]', "error", "m ahead of its limits"),
            ('area = "54 m^2"', 'area = "30 m^2"', "warning", "the reference area is 30 m^2, the drawn wing has"),
            ('CD = "CD_static', 'CD = "0.1*CD_static', "warning", "the best lift over drag is"),
            ('CD = "CD_static', 'CD = "-CD_static', "error", "the air pushes"),
            ('span = "22 m"', 'span = "12 m"', "warning", "the polar means a span efficiency of"),
        ):
            with self.subTest(new):
                found = self.findings(old, new)
                self.assertTrue(any(f.startswith(severity) and words in f for f in found), found)

    def test_controls_without_dynamics_and_without_an_envelope(self) -> None:
        # the very controls whose sign is wrong most easily: nothing between command and surface, no envelope stated
        for control, wrong in (("elevator", "Cm"), ("aileron", "Cl"), ("rudder", "Cn")):
            for surface in ({}, {"command": "0*deg"}):
                good = light_aircraft()
                flipped = good.definition.aero.formulas[wrong].formula  # type: ignore[union-attr]
                for sign in ("-0.923*e", "+ 0.1342*a", "- 0.0717*r"):
                    other = {"-": "+ ", "+": "- "}[sign[0]] + sign[1:].strip(" ")
                    flipped = str(flipped).replace(sign, other).replace(sign.replace("-", "- "), other)
                controls = {n: Effector.model_validate(surface) for n in good.definition.controls}
                aero = good.definition.aero.model_dump() | {wrong: flipped}  # type: ignore[union-attr]
                changed = good.definition.model_copy(
                    update={"aero": type(good.definition.aero).model_validate(aero), "controls": controls}
                )
                found = [f.what for f in audit(Aircraft(changed))]
                self.assertTrue(
                    any(f"{wrong}_{control} has the wrong sign" in f for f in found), (control, flipped, found)
                )
                self.assertTrue(any("signs are looked at in level flight" in f for f in found), found)

    def test_shafts_and_areas(self) -> None:
        with self.assertRaisesRegex(ValueError, "is not above zero"):
            craft(reference={"area": "-54 m^2", "chord": 1.0, "span": 1.0, "moment_point": [0, 0, 0]})
        entries = piston_aircraft()
        self.assertFalse([f for f in audit(craft(**entries)) if "rpm" in f.what])
        entries["engines"]["one"]["governor"]["speed"] = "2400 + 0*time"  # rpm meant, rad/s read
        found = [f.what for f in audit(craft(**entries))]
        self.assertTrue(
            any("governor holds 2400 rad/s, 22918 rpm; its propeller is rated for 2400 rpm" in f for f in found), found
        )
        self.assertTrue(any("it is rated 150 kW at 2400 rpm" in f for f in found), found)
        entries["engines"]["one"]["governor"]["speed"] = {"formula": "2000 + 400*power_one", "unit": "rpm"}
        self.assertFalse([f for f in audit(craft(**entries)) if "rpm" in f.what])
        for bare in (2400, "2400"):
            entries["engines"]["one"]["governor"]["speed"] = bare
            with self.assertRaisesRegex(ValueError, "has no unit"):
                craft(**entries)

    def test_degrees_given_as_radians_in_a_table(self) -> None:
        table = self.folder / "aero" / "flap.csv"
        table.write_text(table.read_text().replace("alpha [deg]", "alpha [rad]"))
        found = [f.what + f.do for f in audit(load(self.file))]
        self.assertTrue(
            any("alpha runs from -180 to 180 rad" in f and "these look like degrees" in f for f in found), found
        )


class CopyTest(unittest.TestCase):
    def test_laws(self) -> None:
        tarn = sample("tarn")
        law, tables, places = load_law(sample_path("tarn") / "laws" / "pitch_hold.toml")
        held = tarn.with_law(law, tables, places)
        self.assertIn("theta_command", held.inputs)
        self.assertNotIn("theta_command", tarn.inputs)
        with self.assertRaisesRegex(DravikError, "is there already"):
            held.with_law(law, tables, places)
        both = held.with_law(*load_law(sample_path("tarn") / "laws" / "yaw_damper.toml"))
        self.assertIn("yaw_damper_washout", both.state_names)
        # what was engaged first is listed first
        self.assertEqual(list(both.parameters)[: len(held.parameters)], list(held.parameters))
        self.assertGreater(len(both.parameters), len(held.parameters))

    def test_law_that_does_not_fit(self) -> None:
        from dravik.aircraft import LawDefinition

        law = LawDefinition.model_validate({"format": 1, "name": "wrong", "add": {"elevatr": "q"}})
        with self.assertRaisesRegex(DravikError, "there is no control 'elevatr'; try: did you mean elevator"):
            sample("tarn").with_law(law)

    def test_one_aircraft_twice_does_not_touch_itself(self) -> None:
        body = craft(inputs={"x": {}}, formulas={"f": "2*x"})
        one, two = body.workspace(), body.workspace()
        state = body.state(position=(0, 0, 0), velocity=(1, 0, 0))
        u = body.default_inputs()
        u[body.input_index("x")] = 5.0
        body.registers(state, u, workspace=one)
        self.assertEqual(one.registers[body.tape.names["f"]], 10.0)
        self.assertEqual(two.registers[body.tape.names["f"]], 0.0)

    def test_names_of_signals_and_inputs(self) -> None:
        tarn = dv.sample("tarn")
        self.assertEqual(tarn.input_names[tarn.input_index("elevator")], "elevator_increment")
        self.assertEqual(tarn.input_names[tarn.input_index("throttle")], "throttle")
        with self.assertRaisesRegex(DravikError, "no input 'elevatr'"):
            tarn.input_index("elevatr")
        with self.assertRaisesRegex(DravikError, "no signal 'alhpa'; try: did you mean alpha"):
            tarn.signal("alhpa")


if __name__ == "__main__":
    unittest.main()
