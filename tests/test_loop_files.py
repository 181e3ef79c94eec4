"""Loops from files: closed in their order, made a law, and flown; limit cycles predicted and simulated."""

import json
import math
import tempfile
import tomllib
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import LawDefinition
from dravik.errors import DravikError
from dravik.loops import (
    LoopPlan,
    Nonlinearity,
    cut_loop,
    law_of,
    limit_cycles,
    locus_over_parameter,
    margins,
    read_loops,
    schedule_gains,
    study_loops,
)
from dravik.validation import engaged, fly_loop
from tests.test_cli import run
from tests.test_loops import loop

TARN = dv.sample("tarn")
FILE = dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml"
STUDY = study_loops(TARN, read_loops(FILE))


def plan(*loops: dict[str, Any], **more: Any) -> LoopPlan:
    at = {"airspeed": "62 m/s", "altitude": "300 m"}
    return LoopPlan(**{"condition": at, "hold": ("airspeed", "altitude"), "loop": list(loops), **more})


class StudyTest(unittest.TestCase):
    def test_the_law_is_what_was_studied(self) -> None:
        craft, point = engaged(STUDY)
        damper, hold = STUDY.loops
        # broken at the effector on the compiled aircraft with its law, both loops at once
        open_loop = cut_loop(craft, point, "elevator_command")
        # by hand from the plan's gains: elevator = P1 (P2 (c - theta) + I/s ... - q) on the bare model
        bare = dv.linearise(TARN, STUDY.point, outputs=["q", "theta"]).part(inputs=["elevator_increment"])
        w = np.array([0.5, 2.0, 8.0])
        g = bare.frequency_response(w)[:, :, 0]
        s = 1j * w
        back = -damper.pid.proportional * (-(hold.pid.proportional + hold.pid.integral / s) * g[:, 1] - g[:, 0])
        np.testing.assert_allclose(open_loop.frequency_response(w)[:, 0, 0], back, rtol=1e-5)
        self.assertTrue(margins(open_loop).is_stable)
        # each loop's margins against its own, made by hand without the study: delay exact
        rate = dv.LinearSystem.filtered("e", "q", [-damper.pid.proportional], [1.0])
        plain = dv.linearise(TARN, STUDY.point, outputs=["q"]).part(inputs=["elevator_increment"])
        plain = plain.part(states=[n for n in plain.states if n not in STUDY.plan.hold])
        alone = dv.LinearSystem(plain.A, plain.B, plain.C, plain.D, plain.states, ["u"], ["q"]).followed_by(rate)
        own = margins(alone.with_facts(C=-alone.C), delay=0.02)
        self.assertAlmostEqual(own.gain_up / damper.margins.gain_up, 1.0, places=6)
        self.assertAlmostEqual(own.disc, damper.margins.disc, places=6)

    def test_roots_over_a_parameter_of_a_law(self) -> None:
        craft = TARN.with_law(*dv.load_law(dv.aircraft.sample_path("tarn") / "laws" / "yaw_damper.toml"))
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        (c,) = locus_over_parameter(craft, point, "yaw_damper_gain", np.linspace(0.0, 1.0, 21).tolist()).crossings(0.4)
        # with that gain the model has that root
        there = craft.with_parameters({"yaw_damper_gain": c.gain})
        roots = np.linalg.eigvals(dv.linearise(there, dv.trim(there, airspeed="62 m/s", altitude="300 m")).A)
        self.assertLess(float(np.abs(roots - c.root).min()), 1e-6)
        self.assertAlmostEqual(-c.root.real / abs(c.root), 0.4, places=9)
        self.assertFalse(c.worse)
        at = ("--airspeed", "62 m/s", "--altitude", "300 m", "--law", "yaw_damper")
        code, text, _ = run("loop", "tarn", *at, "--locus", "yaw_damper_gain=0:1:21", "--damping", "0.4", "--json")
        self.assertAlmostEqual(json.loads(text)["crossings"][0]["yaw_damper_gain"], c.gain, places=6)
        for given, words in (
            ("yaw_damper_gain=0:1", "FROM:TO:COUNT"),
            ("yaw_damper_gian=0:1:9", "no parameter"),
            ("yaw_damper_gain=1:0:9", "rising"),
        ):
            code, _, told = run("loop", "tarn", *at, "--locus", given)
            self.assertEqual(code, 2)
            self.assertIn(words, told)

    def test_disturbances_and_how_far_effectors_go(self) -> None:
        # of a step at the elevator the attitude hold leaves nothing, the damper alone what the bare aircraft turns to
        damper, hold = STUDY.loops
        self.assertLess(abs(float(hold.disturbance.values[-1])), 0.02 * float(np.abs(hold.disturbance.values).max()))
        self.assertGreater(abs(float(damper.disturbance.values[-1])), 0.1)
        # the flown step of 1 deg moves the elevator as far as the study says
        truth = fly_loop(STUDY, ["1 deg"], duration=3.0).steps[0]
        moved = np.abs(truth.run["elevator"] - truth.run["elevator"][0]).max()
        self.assertAlmostEqual(float(moved) / math.radians(1.0) / hold.use[0], 1.0, delta=0.05)
        rate = np.abs(np.gradient(truth.run["elevator"], truth.run.time)).max()
        self.assertAlmostEqual(float(rate) / math.radians(1.0) / hold.use[1], 1.0, delta=0.25)

    def test_what_is_wished_is_there(self) -> None:
        damper, hold = STUDY.loops
        self.assertAlmostEqual(
            max(c.frequency for c in hold.margins.crossings if c.kind == "gain") / 1.2, 1.0, delta=0.02
        )
        # the damper's mode: its closed loop has the damping asked for
        closed = STUDY.closed.without("hold").system()
        pairs = [p for p in closed.poles() if 1.0 < p.imag < 6.0]
        self.assertLess(min(abs(-p.real / abs(p) - 0.9) for p in pairs), 2e-3)
        self.assertAlmostEqual(hold.pid.integral / hold.pid.proportional, 0.15, places=9)
        self.assertEqual(hold.steady.type, 2)
        self.assertTrue(STUDY.met)
        slow = study_loops(
            TARN,
            read_loops(FILE.with_name("attitude.toml")).model_copy(
                update={"condition": {"airspeed": "50 m/s", "altitude": "300 m"}}
            ),
        )
        bank = slow.loop("bank_hold")
        # its spiral grows there: less gain has a limit too
        self.assertGreater(bank.margins.gain_down, 0.0)
        self.assertAlmostEqual(10.0 ** (bank.row()["gain_down_dB"] / 20.0), bank.margins.gain_down, places=9)
        self.assertEqual(
            [c.name for c in hold.checks],
            ["gain margin", "phase margin", "bandwidth", "overshoot", "steady-state error"],
        )
        quick = study_loops(TARN, STUDY.plan.changed({"hold.crossover": "5 rad/s"}))
        self.assertLess(quick.loop("hold").margins.phase, hold.margins.phase)
        self.assertFalse(quick.met)
        # a sampled damper has less than its continuous look-alike
        slow = study_loops(
            TARN, STUDY.plan.changed({"damper.rate": 10.0, "damper.proportional": damper.pid.proportional})
        )
        self.assertLess(slow.loops[0].margins.gain_up, damper.margins.gain_up)
        self.assertEqual(slow.loops[0].open_loop.sample_time, 0.1)

    def test_elements_and_signs(self) -> None:
        base = {"name": "a", "measures": "theta", "moves": "elevator", "crossover": "1.5 rad/s"}
        plain = study_loops(TARN, plan(base)).loops[0]
        led = study_loops(TARN, plan({**base, "element": [{"lead": "40 deg", "at": "1.5 rad/s"}]})).loops[0]
        # at the crossover itself: the lead brings other crossings beside
        there = [
            min((c for c in f.margins.crossings if c.kind == "gain"), key=lambda c: abs(c.frequency - 1.5))
            for f in (plain, led)
        ]
        self.assertAlmostEqual(math.degrees(there[1].phase - there[0].phase), 40.0, delta=0.1)
        # elevator down is positive: the gain comes out negative by itself
        self.assertLess(plain.pid.proportional, 0.0)
        text = law_of(study_loops(TARN, plan({**base, "element": [{"lead": "40 deg", "at": "1.5 rad/s"}]})))
        craft = TARN.with_law(LawDefinition.model_validate(tomllib.loads(text)))
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        w = [1.5, 4.0, 12.0]
        open_loop = cut_loop(craft, point, "elevator_command").frequency_response(w)[:, 0, 0]
        np.testing.assert_allclose(open_loop / led.open_loop.frequency_response(w)[:, 0, 0], 1.0, atol=0.02)
        # a lag at rest and far above, in the law as in the study
        slow = study_loops(TARN, plan({**base, "element": [{"lag": 4.0, "at": "0.2 rad/s"}]}))
        craft, point = engaged(slow)
        law = cut_loop(craft, point, "elevator_command").frequency_response([1.5, 6.0])[:, 0, 0]
        np.testing.assert_allclose(
            law / slow.loops[0].open_loop.frequency_response([1.5, 6.0])[:, 0, 0], 1.0, atol=0.02
        )
        # an integral stops where its effector does, from where that is trimmed, through the damper's gain and its sign
        gain, trimmed = STUDY.loops[0].pid.proportional, STUDY.point["elevator"]
        ends = sorted((end - trimmed) / gain for end in TARN.definition.controls["elevator"].range or ())
        self.assertIn(f"low={ends[0]:.4g}, high={ends[1]:.4g}", law_of(STUDY))
        self.assertNotAlmostEqual(-ends[0], ends[1], places=1)
        for changed, words in (
            ({**base, "moves": "elevatr"}, "moves 'elevatr'"), ({"name": "a", "measures": "q", "moves": "elevator"}, "has no gain"),
            ({**base, "proportional": 1.0}, "has gains and crossover too"), ({**base, "controller": "PI", "phase_margin": "170 deg"}, "phase margin at 1.5 rad/s"),
            ({**base, "element": [{"at": "1 rad/s"}]}, "the element has no key"), ({**base, "measures": "nonsense"}, "nonsense"),
            ({**base, "damping": 0.5}, "the gain of the loop 'a' cannot give crossover and damping"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                study_loops(TARN, plan(changed))
        with self.assertRaisesRegex(DravikError, "no state 'airsped'"):
            study_loops(TARN, plan(base, hold=("airsped",)))
        with self.assertRaisesRegex(DravikError, "two loops have one name"):
            study_loops(TARN, plan(base, base))
        with self.assertRaisesRegex(DravikError, "a notch cannot be written as a formula of a law"):
            law_of(study_loops(TARN, plan({**base, "element": [{"notch": True, "at": "20 rad/s"}]})))

    def test_flown_against_linear(self) -> None:
        truth = fly_loop(STUDY, ["0.5 deg", "10 deg"], duration=6.0)
        small, large = truth.steps
        self.assertTrue(math.isinf(small.parts) and small.why == "")
        self.assertLess(truth.rows()[0]["largest_difference"], 0.01)
        self.assertTrue(large.parts < 1.0 and "elevator at its greatest rate" in large.why)
        # throttles of engines have limits as effectors have
        base = dv.aircraft.sample_path("tarn")
        held = TARN.with_law(*dv.load_law(base / "laws" / "attitude_hold.toml"))
        (quick,) = fly_loop(
            study_loops(held, read_loops(base / "loops" / "speed.toml")), ["10 m/s"], duration=8.0
        ).steps
        self.assertIn("power_left at its greatest rate", quick.why)
        # the mirror image: steps down part as those up do, nearly
        down = fly_loop(STUDY, ["-0.5 deg"], duration=6.0).steps[0]
        np.testing.assert_allclose(down.values, small.values, atol=0.01)
        with self.assertRaisesRegex(DravikError, "no command 'phi_command'"):
            fly_loop(STUDY, [1.0], command="phi_command")
        with self.assertRaisesRegex(DravikError, "other than zero"):
            fly_loop(STUDY, [0.0])

    def test_a_rotorcraft_with_a_battery(self) -> None:
        rows = [
            {
                "name": "climb",
                "measures": "climb_rate",
                "moves": "throttle",
                "controller": "PI",
                "crossover": "2 rad/s",
                "phase_margin": "60 deg",
            },
            {
                "name": "level",
                "measures": "altitude",
                "moves": "climb_command",
                "crossover": "0.6 rad/s",
                "require": {"overshoot": 0.1},
            },
        ]
        made = LoopPlan.model_validate(
            {"condition": {"airspeed": 0, "altitude": "100 m"}, "hold": ["north", "east"], "loop": rows}
        )
        found = study_loops(dv.sample("merle"), made)
        # the battery drains all the while, and the step of the altitude has an end nevertheless
        self.assertTrue(found.met)
        self.assertAlmostEqual(found.loops[1].figures.end, 1.0, delta=0.01)

    def test_flown_at_samples_with_a_delay(self) -> None:
        craft, point = engaged(STUDY)
        bears = margins(cut_loop(craft, point, "elevator_command")).delay
        rate = 25.0
        for share, stable in ((0.75, True), (1.3, False)):
            # a hold is half a sample of delay by itself
            late = round((share * bears - 0.5 / rate) * rate) / rate
            flown = fly_loop(STUDY, ["0.5 deg"], duration=25.0, rate=rate, delay=late).steps[0]
            swing = [float(np.ptp(flown.values[(flown.time > a) & (flown.time < a + 6.0)])) for a in (7.0, 19.0)]
            self.assertEqual(swing[1] < swing[0], stable, f"{share} {swing}")
        # at a high rate it is the continuous law; sensors and drives that are not ideal make it part
        quick = fly_loop(STUDY, ["1 deg"], duration=8.0, rate=100.0)
        self.assertLess(quick.rows()[0]["largest_difference"], 0.01)
        loose = fly_loop(
            STUDY, ["1 deg"], duration=8.0, rate=50.0, through={"elevator": Nonlinearity("backlash", math.radians(0.2))}
        )
        coarse = fly_loop(
            STUDY, ["1 deg"], duration=8.0, rate=50.0, through={"theta": Nonlinearity("steps", math.radians(0.2))}
        )
        for found in (loose, coarse):
            self.assertTrue(found.steps[0].parts < 8.0 and "no effector at a limit" in found.steps[0].why)
        for asked, words in (
            ({"delay": 0.1}, "needs a rate"), ({"rate": 50.0, "delay": 0.013}, "whole number"), ({"rate": -5.0}, "above zero"),
            ({"rate": 50.0, "through": {"theta": 3.0}}, "Nonlinearity"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                fly_loop(STUDY, ["1 deg"], duration=2.0, **asked)  # type: ignore[arg-type]

    def test_the_command(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            page, flown, law = (str(Path(folder) / n) for n in ("p.png", "f.png", "law.toml"))
            code, text, _ = run(
                "loop",
                "tarn",
                "--plan",
                "pitch",
                "--fly",
                "1 deg",
                "--figure",
                page,
                "--flown",
                flown,
                "--out",
                law,
                "--json",
            )
            found = json.loads(text)
            self.assertEqual((code, found["met"], len(found["loops"])), (0, True, 2))
            self.assertEqual(found["law"], Path(law).read_text())
            for file in (page, flown):
                self.assertGreater(Path(file).stat().st_size, 20_000)
            # the law that was written is engaged as any other
            code, text, _ = run("loop", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--law", law, "--json")
            self.assertEqual((code, json.loads(text)["stable"]), (0, True))
        self.assertEqual(run("loop", str(FILE), "--set", "hold.crossover=5 rad/s")[0], 1)
        # options of the condition, a loading and inputs take the place of the plan's; what would do nothing is refused
        other = ("--airspeed", "80 m/s", "--loading", "dropped", "--set", "flap_lever=5 deg", "--json")
        there = json.loads(run("loop", str(FILE), *other)[1])
        moved = dv.trim(
            dv.load(dv.aircraft.sample_path("tarn"), loading="dropped"),
            airspeed="80 m/s",
            altitude="300 m",
            inputs={"flap_lever": "5 deg"},
        )
        self.assertAlmostEqual(
            there["loops"][0]["P"],
            study_loops(moved.craft, STUDY.plan, point=moved).loops[0].pid.proportional,
            places=9,
        )
        at = ("tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--law", "pitch_hold")
        for wrong, words in (
            ((str(FILE), "--at", "elevator_command"), "--at cannot be given with loops from a file"), ((*at, "--fly", "1 deg"), "--fly cannot be given without loops from a file"),
            ((str(FILE), "--schedule", "airspeed=55, 75 m/s", "--figure", "x.png"), "--figure cannot be given with --schedule"),
        ):  # fmt: skip
            code, _, told = run("loop", *wrong)
            self.assertEqual(code, 2)
            self.assertIn(words, " ".join(told.split()))
        sampled = (
            "--set",
            "damper.rate=25",
            "--set",
            "hold.rate=25",
            "--set",
            "damper.delay=40 ms",
            "--set",
            "hold.delay=40 ms",
            "--fly",
            "1 deg",
            "--json",
        )
        # a late law is flown late: it parts from the step of the continuous one
        late = json.loads(run("loop", str(FILE), *sampled)[1])["flown"][0]["largest_difference"]
        self.assertGreater(late, 3.0 * found["flown"][0]["largest_difference"])
        beside = json.loads(run("loop", str(FILE), "--beside", "hold.crossover=2 rad/s", "--json")[1])["beside"]
        self.assertGreater(
            beside["hold.crossover=2 rad/s"][-1]["bandwidth_rad_s"], found["loops"][-1]["bandwidth_rad_s"]
        )
        for given, words in (
            ("hold.crossover=5", "no unit"),
            ("hold.gain=2", "no value of a loop"),
            ("roll.crossover=1 rad/s", "no value"),
        ):
            code, _, told = run("loop", str(FILE), "--set", given)
            self.assertEqual(code, 2)
            self.assertIn(words, told)


def simulated(system: dv.LinearSystem, of: Nonlinearity, start: float, duration: float) -> tuple[float, float]:
    """Return amplitude and frequency of what goes into a nonlinearity in a loop, at the end of a simulation."""
    dt = 2e-3
    step = system.discretised(dt)
    x = np.zeros(len(step.states))
    x[:] = start * np.linalg.pinv(step.C)[:, 0]
    seen, held = [], 0.0
    for _ in range(int(duration / dt)):
        e = -float((step.C @ x)[0])
        seen.append(e)
        held = min(max(held, e - of.size), e + of.size) if of.kind == "backlash" else float(of.values(np.array([e]))[0])
        x = step.A @ x + step.B[:, 0] * held
    late = np.array(seen[int(0.7 * len(seen)) :])
    t = np.arange(len(late)) * dt
    up = np.flatnonzero((late[:-1] < 0.0) & (late[1:] >= 0.0))
    # the fundamental
    w = 2.0 * math.pi * (len(up) - 1) / (t[up[-1]] - t[up[0]])
    whole = slice(up[0], up[-1])
    fit = np.linalg.lstsq(np.stack([np.sin(w * t[whole]), np.cos(w * t[whole])], 1), late[whole], rcond=None)[0]
    return float(np.hypot(*fit)), w


class ScheduleTest(unittest.TestCase):
    def test_gains_between_and_the_law_of_them(self) -> None:
        found = schedule_gains(TARN, STUDY.plan, {"airspeed": "55, 75 m/s"})
        self.assertTrue(found.met and found.unmet() == [])
        middle = found.between[0]
        for name, least in found.least().items():
            own = [row for row in found.rows() if row["loop"] == name]
            self.assertEqual(least["disc"], min(row["disc"] for row in own))
            self.assertEqual(least["phase_deg"], min(row["phase_margin_deg"] for row in own))
        self.assertAlmostEqual(middle.point["airspeed"], 65.0, places=6)
        for loop_ in middle.loops:
            own = found.gains[f"{loop_.entry.name}_proportional"]
            self.assertAlmostEqual(loop_.pid.proportional, 0.5 * float(own.sum()), places=12)
        with tempfile.TemporaryDirectory() as folder:
            for name, text in found.files("own").items():
                (Path(folder) / name).write_text(text)
            craft = TARN.with_law(*dv.load_law(Path(folder) / "own.toml"))
            # the law at a speed between has the loop that was judged there
            point = dv.trim(craft, airspeed="65 m/s", altitude="300 m")
            law = cut_loop(craft, point, "elevator_command").frequency_response([1.0])[0, 0, 0]
            self.assertAlmostEqual(point["damper_proportional"], middle.loop("damper").pid.proportional, places=5)
            damper, hold = (middle.loop(n).pid for n in ("damper", "hold"))
            g = dv.linearise(TARN, middle.point, outputs=["q", "theta"]).part(inputs=["elevator_increment"])
            r = g.frequency_response([1.0])[0, :, 0]
            by_hand = damper.proportional * ((hold.proportional + hold.integral / 1j) * r[1] + r[0])
            self.assertAlmostEqual(abs(law / by_hand - 1.0), 0.0, delta=1e-4)
            code, text, _ = run(
                "loop", str(FILE), "--schedule", "airspeed=55, 75 m/s", "--out", str(Path(folder) / "x.toml"), "--json"
            )
            self.assertEqual((code, json.loads(text)["unmet"]), (0, []))
            self.assertTrue((Path(folder) / "x_gains.csv").exists())
        for over, words in (
            ({}, "run over 0 axes"), ({"loading": ["loaded", "dropped"]}, "a schedule cannot run over loading"), ({"airspeed": "20, 60 m/s"}, "airspeed 20 is not held"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                schedule_gains(TARN, STUDY.plan, over)  # type: ignore[arg-type]

    def test_the_samples_laws_are_what_their_plans_give(self) -> None:
        for name, speeds in (("tarn", "50, 65, 90 m/s"), ("pika", "12, 16, 25 m/s")):
            base = dv.aircraft.sample_path(name)
            craft = dv.load(base)
            for of in ("attitude", "speed"):
                plan = read_loops(base / "loops" / f"{of}.toml")
                engaged_before = craft
                for law in plan.laws:
                    engaged_before = engaged_before.with_law(*dv.load_law(base / "laws" / f"{law}.toml"))
                files = schedule_gains(engaged_before, plan, {"airspeed": speeds}).files(f"{of}_hold")
                self.assertEqual(set(files), {f"{of}_hold.toml", f"{of}_hold_gains.csv"})
                shipped = (base / "laws" / f"{of}_hold_gains.csv").read_text().splitlines()
                for ours, theirs in zip(files[f"{of}_hold_gains.csv"].splitlines()[1:], shipped[1:], strict=True):
                    np.testing.assert_allclose(*([float(v) for v in t.split(",")] for t in (ours, theirs)), rtol=1e-4)

    def test_margins_of_the_samples_laws_over_the_envelope(self) -> None:
        """6 dB and 45 deg at every loop, with all of them engaged on the compiled aircraft."""
        for name, loadings, places in (
            ("tarn", ("loaded", "dropped"), ((0.0, 46.0), (0.0, 62.0), (0.0, 95.0), (2000.0, 55.0), (4500.0, 62.0), (4500.0, 80.0))),
            ("pika", ("",), ((0.0, 12.0), (0.0, 16.0), (0.0, 21.0), (3000.0, 12.0))),
        ):  # fmt: skip
            base = dv.aircraft.sample_path(name)
            for loading in loadings:
                craft = dv.load(base, loading=loading)
                for law in ("attitude_hold", "speed_hold"):
                    craft = craft.with_law(*dv.load_law(base / "laws" / f"{law}.toml"))
                for altitude, airspeed in places:
                    point = dv.trim(craft, airspeed=airspeed, altitude=altitude)
                    for at in ("elevator_command", "aileron_command", "rudder_command", "speed_hold"):
                        with self.subTest(name, loading=loading, altitude=altitude, airspeed=airspeed, at=at):
                            found = margins(cut_loop(craft, point, at))
                            self.assertTrue(found.is_stable)
                            self.assertGreater(20.0 * math.log10(found.gain_up), 6.0)
                            self.assertLess(found.gain_down, 0.5)
                            self.assertGreater(math.degrees(found.phase), 45.0)

    def test_flown_in_severe_turbulence_and_without_an_engine(self) -> None:
        for name, speed, fails in (("tarn", 62.0, {"fail_left": dv.step("1", at=20)}), ("pika", 16.0, {})):
            base = dv.aircraft.sample_path(name)
            craft = dv.load(base)
            for law in ("attitude_hold", "speed_hold"):
                craft = craft.with_law(*dv.load_law(base / "laws" / f"{law}.toml"))
            point = dv.trim(craft, airspeed=speed, altitude=1200.0)
            flown = dv.fly(
                craft,
                start=point,
                duration=60,
                turbulence=dv.Turbulence("severe", seed=1),
                record=["phi", "theta", "airspeed"],
                controls=fails,
            )
            self.assertAlmostEqual(flown.time[-1], 60.0, places=6)
            self.assertLess(math.degrees(float(np.abs(flown["phi"]).max())), 45.0)
            late = flown.time > 40.0
            # held on the average: bank and attitude within some degrees of what they were
            self.assertLess(abs(math.degrees(float(flown["phi"][late].mean()))), 8.0)
            self.assertLess(abs(math.degrees(float((flown["theta"][late] - point["theta"]).mean()))), 4.0)
            self.assertLess(abs(float(flown["airspeed"][late].mean()) / speed - 1.0), 0.12)


class LimitCycleTest(unittest.TestCase):
    def test_gains_are_those_of_the_fundamental(self) -> None:
        angle = np.linspace(0.0, 4.0 * math.pi, 80001)
        late = angle >= 2.0 * math.pi
        for kind in ("limit", "dead zone", "backlash", "steps", "relay"):
            for amplitude in (0.7, 1.3, 4.0):
                n = Nonlinearity(kind, 1.0)  # type: ignore[arg-type]
                out = n.values(amplitude * np.sin(angle))[late]
                s, c = (2.0 * float(np.mean(out * f(angle[late]))) for f in (np.sin, np.cos))
                self.assertAlmostEqual(
                    abs(complex(s, c) / amplitude - n.gain(amplitude)), 0.0, delta=2e-3, msg=f"{kind} {amplitude}"
                )

    def test_predicted_and_simulated(self) -> None:
        for name, system, of, stable in (
            # a conditionally stable loop with a limit: quiet when small, an unstable cycle beyond
            ("relay", loop([4.0], [1, 3, 2, 0]), Nonlinearity("relay", 1.0), True),
            ("limit", loop([12.0], [1, 3, 2, 0]), Nonlinearity("limit", 1.0), True),
            ("backlash", loop([1.5], [1, 1.6, 1, 0, 0][:4]), Nonlinearity("backlash", 0.1), True),
        ):
            with self.subTest(name):
                cycles = [c for c in limit_cycles(system, of) if c.is_stable == stable]
                self.assertTrue(cycles)
                cycle = cycles[-1]
                amplitude, w = simulated(system, of, 1.2 * cycle.amplitude, 120.0)
                # the loop is no perfect filter: harmonics change a few per cent
                self.assertAlmostEqual(w / cycle.frequency, 1.0, delta=0.05)
                self.assertAlmostEqual(amplitude / cycle.amplitude, 1.0, delta=0.1)
        # stable at any gain: a limit makes none; conditionally stable: one that does not keep itself up
        self.assertEqual(limit_cycles(loop([2.0], [1, 3, 2]), Nonlinearity("limit", 1.0)), [])
        (edge,) = limit_cycles(loop([3.0, 6.0, 3.0], [1, 0, 0, 0]), Nonlinearity("limit", 1.0))
        self.assertFalse(edge.is_stable)
        # flown: a hold of nine times the gain, with delay, against a limit of 2 deg of elevator
        hot = study_loops(TARN, STUDY.plan.changed({"hold.proportional": 40.0}))
        craft, point = engaged(hot)
        stop, late, rate = Nonlinearity("limit", math.radians(2.0)), 0.04, 100.0
        # a hold is half a sample of delay
        (cycle,) = limit_cycles(cut_loop(craft, point, "elevator_command"), stop, delay=late + 0.5 / rate)
        flown = (
            fly_loop(hot, ["0.5 deg"], duration=25.0, rate=rate, delay=late, through={"elevator": stop}).steps[0].run
        )
        theta = flown["theta"][flown.time > 15.0] - flown["theta"][flown.time > 15.0].mean()
        up = np.flatnonzero((theta[:-1] < 0.0) & (theta[1:] >= 0.0))
        w = 2.0 * math.pi * (len(up) - 1) / (0.01 * (up[-1] - up[0]))
        self.assertAlmostEqual(w / cycle.frequency, 1.0, delta=0.06)
        path = dv.linearise(TARN, hot.point, outputs=["theta"]).part(inputs=["elevator_increment"])
        pitch = (
            abs(complex(path.frequency_response([cycle.frequency])[0, 0, 0]) * stop.gain(cycle.amplitude))
            * cycle.amplitude
        )
        self.assertAlmostEqual(float(np.ptp(theta)) / 2.0 / pitch, 1.0, delta=0.06)
        with self.assertRaisesRegex(DravikError, "a nonlinearity cannot be 'friction'"):
            Nonlinearity("friction", 1.0)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
