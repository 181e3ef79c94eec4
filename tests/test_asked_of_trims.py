"""What trims, proofs and sensitivities promise, held against closed forms and against what holds beside it."""

import dataclasses
import itertools
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.handling import handling_qualities, sensitivities_of_level
from dravik.loops import cut_loop, margins
from tests.test_cli import run

OWN = Path(__file__).parent / "aircraft"


def changed(name: str, *pairs: tuple[str, str]) -> dv.Aircraft:
    """Return an aircraft of this folder with pieces of its text replaced."""
    text = (OWN / name / "aircraft.toml").read_text(encoding="utf-8")
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "aircraft.toml").write_text(text, encoding="utf-8")
        return dv.load(folder)


class FreedomTest(unittest.TestCase):
    def test_what_a_condition_does_not_need_rests(self) -> None:
        # at a standstill the lift of 12 kg is 200 N times the throttle; pusher, sticks and pedal have nothing to do
        for free in ("true", "false"):
            craft = changed("liftwing", ("throttle = { range = [0, 1], trim = false }",
                                         f"throttle = {{ range = [0, 1], trim = {free} }}"))  # fmt: skip
            found = dv.trim(craft, airspeed=0, altitude=15)
            self.assertAlmostEqual(found["lift"], 12.0 * 9.80665 / 200.0, places=9)
            for name in ("throttle", "pitch_stick", "roll_stick", "pedal", "theta"):
                self.assertAlmostEqual(found[name], 0.0, places=9, msg=name)

    def test_two_inputs_on_one_axis_share_by_a_rule_from_any_start(self) -> None:
        craft = changed("lom", *TWO_ELEVATORS)
        found = [dv.trim(craft, airspeed=80, altitude=500, guess=g) for g in ({}, {"second": 0.8}, {"second": -0.9})]
        for a, b in itertools.pairwise(found):
            np.testing.assert_allclose(a.inputs, b.inputs, atol=1e-7)
        # what the condition does not need rests at its neutral value, and is named
        rests = [n for n in ("second", "pitch_stick") if abs(found[0][n]) < 1e-9]
        self.assertEqual(len(rests), 1)
        self.assertIn(rests[0], str(found[0].spare))

    def test_load_factors_are_normal_to_the_path(self) -> None:
        craft = dv.load(OWN / "lom")
        for n in (1.0, 1.1, 1.3):
            point = dv.trim(craft, airspeed=36, altitude=0, turn=str(n))
            self.assertGreater(point["alpha"], math.radians(12.0))
            # bank about the path, whose sine the attitude has: sin(phi) cos(theta), in level flight without sideslip
            bank = math.asin(math.sin(point["phi"]) * math.cos(point["theta"]) / math.cos(point["beta"]))
            self.assertAlmostEqual(bank, math.acos(1.0 / n), delta=3e-3)
            # the turn that belongs to it: tan(bank) = V omega/g
            self.assertAlmostEqual(point.turning, 9.80665 * math.sqrt(n**2 - 1.0) / 36.0, delta=2e-3)

    def test_over_a_point_and_sideways(self) -> None:
        merle = dv.sample("merle").with_environment(wind={"speed": "7 m/s", "blows_from": "20 deg"})
        for speed in (6.9999, 7.0, 7.0001):
            point = dv.trim(merle, airspeed=speed, altitude=100, heading="20 deg")
            self.assertAlmostEqual(point["ground_speed"], abs(speed - 7.0), delta=1e-6)
        calm = dv.sample("merle")
        by_angle = dv.trim(calm, airspeed=4, altitude=100, sideslip="90 deg")
        by_track = dv.trim(calm, airspeed=4, altitude=100, heading="90 deg", track="0 deg")
        # banked, so that the air comes a little from below: across the nose over the ground
        for name in ("phi", "beta", "alpha", "w", *(n for n in calm.input_names if n.endswith("stick"))):
            self.assertAlmostEqual(abs(by_angle[name]), abs(by_track[name]), places=6, msg=name)
        self.assertAlmostEqual(abs(by_track["v"]), 4.0, delta=5e-3)
        with self.assertRaisesRegex(dv.DravikError, "sideslip"):
            dv.trim(calm, airspeed=4, altitude=100, sideslip="170 deg")

    def test_no_refusal_names_an_edge_beyond_which_more_holds(self) -> None:
        merle = dv.sample("merle")
        for speed in (3.0, 6.0):
            for angle in (60, 80, 85, 90):
                self.assertTrue(dv.trim(merle, airspeed=speed, altitude=100, sideslip=f"{angle} deg").reached)

    def test_tables_that_were_left_are_told(self) -> None:
        folder = OWN / "skarv"
        point = dv.trim(dv.load(folder), airspeed=25, altitude=3000)
        self.assertGreater(point["alpha"], math.radians(46.0))
        told = [str(left) for left in point.outside]
        self.assertTrue(told and all("alpha" in text for text in told))
        at = ("--airspeed", "25 m/s", "--altitude", "3000 m")
        code, text, _ = run("trim", str(folder), *at)
        self.assertIn("alpha", text)
        self.assertRegex(" ".join(text.split()), "outside|beyond|left")
        self.assertEqual(dv.trim(dv.load(folder), airspeed=230, altitude=4000).outside, [])

    def test_sweeps_name_roots_as_models_do(self) -> None:
        craft = dv.load(OWN / "lom")
        speeds = (60.0, 75.0, 90.0)
        found = dv.root_sweep(dv.trim_sweep(craft, {"airspeed": "60:90:3 m/s"}, altitude=1500.0))
        for name in ("spiral", "roll"):
            own = [dv.linearise(craft, dv.trim(craft, airspeed=v, altitude=1500)).modes().named(name) for v in speeds]
            for branch, mode in zip(found.branch(name), own, strict=True):
                assert mode is not None
                self.assertAlmostEqual(branch.real, mode.eigenvalue.real, places=6)


#: A second surface of the same effect and range as the elevator of the file, moved by an input of its own.
TWO_ELEVATORS = (
    ("0.42*elevator", "0.42*(elevator + tab)"), ("cme*elevator", "cme*(elevator + tab)"),
    ("[controls.aileron]",
     '[controls.tab]\nrange = ["-25 deg", "20 deg"]\nlag = "40 ms"\ncommand = "-20*deg*second"\n[controls.aileron]'),
    ("[inputs]\n", "[inputs]\nsecond = { range = [-1, 1], trim = true }\n"),
)  # fmt: skip


class ProofTest(unittest.TestCase):
    def test_an_unstable_trim_is_disturbed_and_says_that_it_doubles(self) -> None:
        craft = dv.load(OWN / "skarv")
        point = dv.trim(craft, airspeed=230, altitude=4000)
        growth = max(m.eigenvalue.real for m in dv.linearise(craft, point).modes())
        proof = dv.prove_trim(point)
        self.assertAlmostEqual(proof.doubles, math.log(2.0) / growth, delta=1e-6)
        self.assertTrue(proof.holds and proof.asked < 10.0)
        self.assertTrue(all(math.isfinite(v) for v in proof.limits.values()))
        code, text, _ = run("linearise", str(OWN / "skarv"), "--airspeed", "230 m/s", "--altitude", "4000 m",
                            "--prove", "pitch_elevon")  # fmt: skip
        self.assertEqual(code, 0)
        self.assertNotIn("300311", text)

    def test_with_a_battery_a_wrong_trim_does_not_hold(self) -> None:
        pika = dv.sample("pika")
        point = dv.trim(pika, airspeed=17, altitude=350)
        self.assertTrue(dv.prove_trim(point, duration=10).holds)
        state = point.state.copy()
        state[3] += 2.5
        wrong = dv.prove_trim(dataclasses.replace(point, state=state), duration=10)
        self.assertFalse(wrong.holds)
        self.assertTrue(all(math.isfinite(v) for v in wrong.limits.values()))

    def test_a_turn_whose_target_turns_goes_on(self) -> None:
        merle = dv.sample("merle")
        point = dv.trim(merle, airspeed=6, altitude=300, turn="100 m")
        flown = dv.fly(merle, start=point, duration=2.0, dt=0.002)
        self.assertAlmostEqual(float(flown["r"][-1]), float(flown["r"][0]), delta=1e-4)


class JudgedTest(unittest.TestCase):
    def test_a_laws_roots_are_not_the_aircrafts(self) -> None:
        folder = OWN / "skarv"
        craft = dv.load(folder).with_law(*dv.load_law(folder / "laws" / "cstar_lq.toml"))
        point = dv.trim(craft, airspeed=230, altitude=4000)
        names = [m.name for m in dv.linearise(craft, point).modes()]
        self.assertEqual(sum(n.startswith("phugoid") for n in names), 2)
        self.assertEqual(sum(n.startswith("short period") for n in names), 2)
        found = handling_qualities(
            craft, point, category="A", sets=["modal", "responses"], sticks={"pitch": "cstar_command"}
        )
        lines = {c.name: c for c in found.criteria}
        by_roots, fitted = lines["short-period frequency^2 / (n/alpha)"], lines["pitch, control anticipation"]
        self.assertAlmostEqual(by_roots.value / fitted.value, 1.0, places=6)
        self.assertIn("equivalent", by_roots.note)

    def test_each_lever_does_what_it_says(self) -> None:
        text = (("0.22 + 5.1*alpha", "0.22 + 5.1*alpha"), ('cg = ["3.05 m"', 'cg = ["3.1 m"'))

        def judged(slope: float = 5.1, about: float = 0.0) -> tuple[Any, Any]:
            lift = f"0.22 + 5.1*alpha + {slope - 5.1!r}*(alpha - {about!r})"
            craft = changed("lom", text[1], ("0.22 + 5.1*alpha", lift)).with_parameters({"cma": -0.08, "cmq": -3.0})
            point = dv.trim(craft, airspeed=90, altitude=1500)
            return point, handling_qualities(craft, point, aircraft_class="I", category="A")

        def value(found: Any, name: str) -> float:
            return float(next(c.value for c in found.criteria if c.name == name))

        point, found = judged()
        sensitivities = sensitivities_of_level(point, found, most=50)
        moved = {m.of: m for m in sensitivities if "n/alpha" in m.criterion}
        throttle = moved["CL_alpha"]
        _, after = judged(5.1 * (1.0 + throttle.change), point["alpha"])
        self.assertAlmostEqual(value(after, throttle.criterion), throttle.wanted, delta=1e-3)
        for name in ("cma", "cmq"):
            if name in moved:
                craft = point.craft.with_parameters({name: moved[name].value * (1.0 + moved[name].change)})
                again = handling_qualities(
                    craft, dv.trim(craft, airspeed=90, altitude=1500), aircraft_class="I", category="A"
                )
                self.assertAlmostEqual(value(again, throttle.criterion), moved[name].wanted, delta=1e-5)
        self.assertTrue({"cma", "cmq"} & set(moved))

    def test_a_wind_carries_along_and_a_pedal_is_what_yaws(self) -> None:
        lom = dv.load(OWN / "lom")
        values = []
        for wind in ({"speed": 0.0, "blows_from": 0.0}, {"speed": "15 m/s", "blows_from": "0 deg"},
                     {"speed": "15 m/s", "blows_from": "90 deg"}):  # fmt: skip
            craft = lom.with_environment(wind=wind)
            point = dv.trim(craft, airspeed=52, altitude=500, heading=0)
            found = handling_qualities(craft, point, aircraft_class="I", category="C", sets=["static"])
            values.append(next(c.value for c in found.criteria if c.name == "flight-path stability"))
        np.testing.assert_allclose(values, values[0], atol=1e-6)
        bare = changed(
            "lom", ('command = "-22*deg*pedal"', "trim = true"), ("pedal = { range = [-1, 1], trim = true }\n", "")
        )
        found = handling_qualities(bare, dv.trim(bare, airspeed=90, altitude=1500), aircraft_class="I", sets=["static"])
        self.assertEqual(next(c.level for c in found.criteria if c.name == "rudder_command by sideslip"), 1)

    def test_a_law_with_a_rate_is_judged_as_it_runs(self) -> None:
        lom = dv.load(OWN / "lom")
        law = (
            'format = 1\nname = "t"\n{}[inputs.theta_command]\nkind = "angle"\nfollows = "theta"\n[formulas]\nmove = '
            '{{ formula = "{}*(theta_command - theta) + {}*q", unit = "rad" }}\n[add]\nelevator = "move"\n'
        )
        for head, gain, rate, holds in (
            ("", -2.2, 0.55, True),
            ('rate = "5 Hz"\ndelay = "200 ms"\n', -1.2, 0.3, False),
        ):
            with tempfile.TemporaryDirectory() as folder:
                file = Path(folder) / "law.toml"
                file.write_text(law.format(head, gain, rate))
                craft = lom.with_law(*dv.load_law(file))
            point = dv.trim(craft, airspeed=90, altitude=1500)
            found = margins(cut_loop(craft, point, "elevator_command"))
            flown = dv.fly(
                craft, start=point, duration=20, dt=0.01, controls={"theta_command": dv.step("0.5 deg", at=1)}
            )
            swings = float(np.ptp(np.degrees(flown["theta"][flown.time > 16])))
            self.assertEqual((found.is_stable, found.phase > 0.0, swings < 0.1), (holds,) * 3, head)


class SweepTest(unittest.TestCase):
    def test_rows_say_which_tables_were_left(self) -> None:
        skarv = dv.load(OWN / "skarv")
        rows = dv.trim_sweep(skarv, {"airspeed": "25:200:3 m/s"}, altitude=3000).rows(["alpha"])
        self.assertIn("34.8 deg beyond", rows[0]["outside"])
        self.assertEqual([row["outside"] for row in rows[1:]], ["", ""])
        inside = dv.trim_sweep(skarv, {"airspeed": "150:200:2 m/s"}, altitude=3000)
        self.assertTrue(all("outside" not in row for row in inside.rows(["alpha"])))
