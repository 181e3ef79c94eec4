"""Single lines that whole answers hardly show: each against a closed form, an invariance or a second way."""

import dataclasses
import math
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np
from scipy.linalg import solve_continuous_are

import dravik as dv
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.guidance import aiming
from dravik.guidance.aiming import check_reach, reachable_band, shoot
from dravik.guidance.route_log import route_log
from dravik.handling import handling_qualities, modal
from dravik.handling.comfort import felt
from dravik.handling.equivalent import fit_equivalent
from dravik.handling.responses import doubling
from dravik.handling.ride import _at_station
from dravik.linear.approximations import short_forms
from dravik.loops import margins, optimal_states, several_margins
from dravik.performance import minimum_control_speeds, performance, static_stability, take_off
from dravik.performance.bench import engine_points, throttle_inputs
from dravik.performance.limits import usual_speeds
from dravik.recording.closest import closest_pass
from dravik.recording.recording import Event
from dravik.report.axes import figure_axes
from dravik.surroundings.gusts import add_in_level_axes
from dravik.trimming import stall_speed
from dravik.validation import model_proofs as model_proof
from dravik.validation.flown_loops import BEGINS, _why
from tests.test_asked_of_trims import OWN, TWO_ELEVATORS, changed
from tests.test_cli import run

G = 9.80665
LOM = dv.load(OWN / "lom")
PIKA = dv.sample("pika")
JET = """kind = "jet"
position = ["2 m", "{y} m", "0 m"]
thrust = "5200*spool_{n}"
fuel_flow = "0.06*spool_{n}"
spool_time = "2.0"
failed_thrust = "-0.01*dynamic_pressure"
command = "throttle"
"""


def twin_jet() -> dv.Aircraft:
    """Return the Lom with two jets beside the fuselage in place of its engine."""
    nose = '[engines.nose]\nposition = ["0.2 m","0 m","0 m"]\nthrust = "9000*power_nose"\ncommand = "throttle"'
    jets = "".join(f"[engines.{n}]\n{JET.format(n=n, y=y)}" for n, y in (("left", -2.5), ("right", 2.5)))
    return changed("lom", (nose, jets))


class LoopsTest(unittest.TestCase):
    def test_optimal_gains_of_an_output_that_the_input_moves_at_once(self) -> None:
        # the load factor of a short period: the elevator moves it at once, which leaves a cross term in the cost
        a = np.array([[-1.3, 0.98], [-6.0, -1.9]])
        b, c, d = np.array([[-0.12], [-9.0]]), np.array([[8.4, 0.0]]), np.array([[-0.9]])
        system = dv.LinearSystem.of(a, b, C=c, D=d, states=["alpha", "q"], inputs=["elevator"], outputs=["nz"])
        found = optimal_states(system, worst={"nz": 0.5, "q": 0.2}, use={"elevator": 0.1})
        rows, gain = np.vstack([c, [[0.0, 1.0]]]), np.vstack([d, [[0.0]]])
        weight = np.diag([1.0 / 0.5**2, 1.0 / 0.2**2])
        q, r, s = rows.T @ weight @ rows, gain.T @ weight @ gain + 1.0 / 0.1**2, rows.T @ weight @ gain
        p = solve_continuous_are(a, b, q, r, s=s)
        np.testing.assert_allclose(found.gains, np.linalg.solve(r, b.T @ p + s.T), rtol=1e-9)

    def test_words_of_praise_turn_false(self) -> None:
        def loop(poles: list[float], gain: float) -> dv.LinearSystem:
            return dv.LinearSystem.filtered("y", "u", [gain], np.poly(poles).tolist())

        # closes: one over its gain margin of 8 (three equal lags), one that passes through -1, and one beside a hidden
        # root: e^t does not, e^(t/600) may, since a loop does not answer for what it does not touch
        slow = [
            loop([-1.0, -1.0, -1.0], 4.0)
            .beside(dv.LinearSystem.filtered("z", "v", [1.0], [1.0, -r]))
            .part(inputs=["u"], outputs=["y"])
            for r in (1.0, 1.0 / 1200.0)
        ]
        for system, closes in (
            (loop([-1.0, -1.0, -1.0], 4.0), True), (loop([-1.0, -1.0, -1.0], 8.0), False),
            (loop([-1.0, -1.0, -1.0], 9.0), False), (slow[0], False), (slow[1], True),
        ):  # fmt: skip
            found = margins(system)
            self.assertEqual(found.closes, closes, system)
            self.assertEqual(found.is_stable, closes and system is not slow[1])
            self.assertTrue(found.agree or not closes)
            self.assertEqual(any(g.is_hidden for g in found.growing), system is slow[0] or system is slow[1])
        self.assertFalse(dataclasses.replace(margins(slow[0]), unstable_count=0).agree)
        # a fit of one pair to two of them is none to be judged by
        w = np.geomspace(0.1, 10.0, 60)
        s = 1j * w
        pair = (s + 0.7) / (s**2 + 2.5 * s + 6.25)
        self.assertTrue(fit_equivalent(w, pair).is_close)
        self.assertFalse(fit_equivalent(w, pair * (s**2 + 0.02 * s + 1.0) / (s**2 + 0.02 * s + 9.0)).is_close)
        # an aircraft that ran into the ground broke off; one that ran its time did not
        ground = PIKA.with_environment(ground=0.0)
        start = dv.Start(ground.state(position=(0, 0, 20), velocity=(15, 0, 6)), ground.default_inputs())
        self.assertTrue(dv.fly(ground, start=start, duration=20).is_broken_off)
        self.assertFalse(dv.fly(ground, start=start, duration=0.5).is_broken_off)

    def test_several_loops_that_are_one(self) -> None:
        loop = dv.LinearSystem.filtered("a", "u", [3.0, 1.0], [1.0, 1.2, 0.4, 0.1])
        both, one = several_margins(loop), margins(loop)
        for name in ("gain_up", "phase", "disc", "delay"):
            self.assertAlmostEqual(getattr(both.each["a"], name), getattr(one, name), places=9)
        self.assertAlmostEqual(both.disc, one.disc, delta=1e-3)
        self.assertEqual(both.is_stable, one.is_stable)
        hidden = several_margins(loop.beside(dv.LinearSystem.filtered("b", "v", [-3.0], [1.0, 1.0])))
        self.assertFalse(hidden.is_stable)

    def test_a_parting_is_explained_by_what_went_before_it(self) -> None:
        # the elevator is at its rate at once, the stall comes just before the parting: the stall it is, and else none
        craft = SimpleNamespace(
            definition=SimpleNamespace(controls={"elevator": SimpleNamespace(rate=1.0)}, engines={}),
            signals={"elevator": None}, limits={"elevator": (-0.4, 0.4)},
        )  # fmt: skip
        time = np.arange(0.0, 15.0, 0.01)
        moved = np.where(time > BEGINS, np.minimum(time - BEGINS, 0.1), 0.0)
        events = [Event(BEGINS + 11.7, "stall")]
        flown: Any = SimpleNamespace(time=time, events=events, __getitem__=None)
        recorded = mock.MagicMock(wraps=flown, time=time, events=events)
        recorded.__getitem__.side_effect = {"elevator": moved}.__getitem__
        self.assertRegex(_why(craft, recorded, BEGINS + 11.9), "^stall at 11.70 s")  # type: ignore[arg-type]
        self.assertRegex(_why(craft, recorded, BEGINS + 0.1), "elevator at its greatest rate")  # type: ignore[arg-type]
        self.assertNotIn("stall", _why(craft, recorded, BEGINS + 5.0))  # type: ignore[arg-type]
        self.assertEqual(_why(craft, recorded, math.inf), "")  # type: ignore[arg-type]


class CriteriaTest(unittest.TestCase):
    def test_control_anticipation_of_the_equivalent_system(self) -> None:
        point = dv.trim(LOM, airspeed=90, altitude=1500)
        found = handling_qualities(LOM, point, aircraft_class="I", category="A", sets=["modal", "responses"])
        value = {c.name: c.value for c in found.criteria}["pitch, control anticipation"]
        model = dv.linearise(LOM, point, outputs=["nz"])
        mode = model.modes().named("short period")
        assert mode is not None
        # n/alpha in the short period: g's for each radian, alpha held, as the trims of a pull give it
        n_alpha = 0.5 * point["density"] * 90.0**2 * 20.5 * 5.1 / (2450.0 * G)
        self.assertAlmostEqual(value / (mode.frequency**2 / n_alpha), 1.0, delta=0.1)
        self.assertGreater(mode.frequency, 2.0)  # so that another power of it would show

    def test_a_spiral_does_not_decide_the_pitch_of_an_aircraft_that_is_not_quite_symmetrical(self) -> None:
        for coupled, counts in (("0.002", False), ("0.002", True)):
            craft = changed(
                "lom", ('Cn = "0.075*beta', f'Cn = "{coupled}*q_hat + 0.075*beta'), ("0.12*r_hat", "0.5*r_hat")
            )
            model = dv.linearise(craft, dv.trim(craft, airspeed=60, altitude=500), outputs=["nz", "q", "theta", "phi"])
            spiral = model.modes().named("spiral")
            assert spiral is not None
            self.assertTrue(0.0 < spiral.time_to_double < 60.0)
            found = doubling(model, "phi" if counts else "theta", "roll_stick" if counts else "pitch_stick")
            if counts:
                self.assertAlmostEqual(found / spiral.time_to_double, 1.0, places=6)
            else:
                self.assertEqual(found, math.inf)

    def test_a_stick_in_any_units_is_judged_the_same(self) -> None:
        found = []
        for low, high, gain in (("-1", "1", "20"), ("-40", "40", "0.5")):
            craft = changed(
                "lom", ('command = "-20*deg*pitch_stick"', f'command = "-{gain}*deg*pitch_stick"'),
                ("pitch_stick = { range = [-1, 1]", f"pitch_stick = {{ range = [{low}, {high}]"),
            )  # fmt: skip
            point = dv.trim(craft, airspeed=90, altitude=1500)
            found.append(handling_qualities(craft, point, aircraft_class="I", category="A"))
        for one, other in zip(found[0].criteria, found[1].criteria, strict=True):
            with self.subTest(one.name):
                self.assertEqual((one.level, one.unit), (other.level, other.unit))
                np.testing.assert_allclose(one.value, other.value, rtol=2e-4)

    def test_limits_that_were_quoted_from_memory_are_marked(self) -> None:
        model = dv.linearise(LOM, dv.trim(LOM, airspeed=90, altitude=1500), outputs=["nz"])
        data = modal._data()
        for told in (True, False):
            with mock.patch.object(modal, "_data", lambda told=told: {**data, "remembered": told}):
                found = modal.modal_criteria(model, "I", "A")
            self.assertTrue(any(c.judged for c in found))
            self.assertTrue(all(c.remembered == (told and c.judged) for c in found))

    def test_a_pitch_that_diverges_is_told_as_it_is_and_its_right_model_holds(self) -> None:
        craft = LOM.with_parameters({"cma": 0.2, "cmq": -8.0})
        point = dv.trim(craft, airspeed=60, altitude=500)
        model = dv.linearise(craft, point, outputs=["nz", "q", "theta"])
        doubles = math.log(2.0) / max(model.poles().real)
        self.assertLess(doubles, 6.0)
        found = handling_qualities(craft, point, aircraft_class="I", category="C", sets=["responses"])
        told = next(c.note for c in found.criteria if c.name == "pitch, bandwidth")
        self.assertIn(f"doubles in {doubles:.3g} s", told)
        # a small doublet grows by its end: the model holds for a smaller one, a wrong one for none
        proof = dv.prove_model(craft, point, controls=["elevator"])
        self.assertTrue(proof.holds, proof.checks)
        model, bad = proof.model, proof.model.A.copy()
        bad[model.states.index("q"), model.states.index("alpha")] *= 1.2
        self.assertFalse(model_proof._doublet(craft, point, dataclasses.replace(model, A=bad), "elevator").holds)

    def test_a_second_pitch_input_leaves_the_neutral_point_where_it_is(self) -> None:
        alone = static_stability(LOM, airspeed=70, altitude=500)
        both = static_stability(changed("lom", *TWO_ELEVATORS), airspeed=70, altitude=500)
        self.assertIn((both.control, both.stick), (("elevator", "pitch_stick"), ("tab", "second")))
        for name in ("static_margin", "manoeuvre_margin", "control_per_g"):
            self.assertAlmostEqual(getattr(both, name), getattr(alone, name), places=6)
        # of two alike the one stays free whose range is the longer: a pull takes less of it
        longer = (TWO_ELEVATORS[3][0], TWO_ELEVATORS[3][1].replace("[-1, 1]", "[-8, 0.5]"))
        wide = static_stability(changed("lom", *TWO_ELEVATORS[:3], longer), airspeed=70, altitude=500)
        self.assertEqual(wide.stick, "second")
        # stick fixed and without a slipstream: -Cm_alpha/CL_alpha, the moment point 0.05 m behind the centre
        self.assertAlmostEqual(alone.static_margin, 0.62 / 5.1 + 0.05 / 1.9, delta=0.03)

    def test_what_a_phugoids_short_form_settles(self) -> None:
        model = dv.linearise(LOM, dv.trim(LOM, airspeed=60, altitude=500))
        form = next(f for f in short_forms(model, model.modes()) if f.mode == "phugoid")
        self.assertEqual((form.kept, form.settled), (("airspeed", "theta"), ("alpha", "q")))
        at = [model.states.index(n) for n in ("airspeed", "theta", "alpha", "q")]
        a = model.A[np.ix_(at, at)]
        slow = a[:2, :2] - a[:2, 2:] @ np.linalg.solve(a[2:, 2:], a[2:, :2])
        roots = np.linalg.eigvals(slow)
        self.assertLess(min(abs(roots - form.root)), 1e-9 * abs(form.root))

    def test_acceleration_ahead_of_the_centre_of_gravity(self) -> None:
        # the station lies ahead where station x is less: nose up lifts it, nose right carries it to the right
        point = dv.trim(LOM, airspeed=60, altitude=500)
        (_, here), (_, ahead) = (_at_station(LOM, point, (3.05 - way, 0.0, 0.0)) for way in (0.0, 2.0))
        rows = [here.states.index(n) for n in ("q", "r")]
        np.testing.assert_allclose(ahead.C - here.C, 2.0 / G * here.A[rows], atol=1e-12)
        np.testing.assert_allclose(ahead.D - here.D, 2.0 / G * here.B[rows], atol=1e-12)

    def test_frequencies_that_nobody_feels_are_refused(self) -> None:
        for bad in (0.0, -1.0):
            with self.assertRaisesRegex(DravikError, "frequency is zero or less"):
                felt([1.0, bad], "vertical")


class TrimsTest(unittest.TestCase):
    def test_stops_are_in_force_in_what_is_reported(self) -> None:
        # no lag, and a command far beyond the stop: the search looks through the stop, the answer must not
        craft = changed(
            "lom", ('[controls.elevator]\nrange = ["-25 deg","20 deg"]\nlag = "40 ms"\ncommand = "-20*deg*pitch_stick"',
                    '[controls.elevator]\nrange = ["-5 deg","5 deg"]\ncommand = "-40*deg*pitch_stick"'),
        )  # fmt: skip
        held = []
        for speed in range(40, 121, 5):
            point = dv.trim(craft, airspeed=speed, altitude=500, strict=False)
            wanted = dv.trim(LOM, airspeed=speed, altitude=500, strict=False)
            within = wanted.reached and abs(math.degrees(wanted["elevator"])) <= 5.0
            self.assertEqual(point.reached, within, speed)
            held.append(point.reached)
        self.assertTrue(any(held) and not all(held))

    def test_four_stiff_legs_stand_and_give_less_the_stiffer_they_are(self) -> None:
        gear = "".join(
            f'[gear.{n}]\nposition = ["{x} m", "{y} m", "-1 m"]\nstiffness = "STIFF"\ndamping = "8 kN*s/m"\nstroke = "400 mm"\ntyre = "2 MN/m"\nrolling = 0.02\nsliding = 0.6\n'
            for n, x, y in (("a", 2.2, -0.9), ("b", 2.2, 0.9), ("c", 3.9, -0.9), ("d", 3.9, 0.9))
        )
        given = []
        for stiff in (90.0, 300.0):
            text = gear.replace("STIFF", f"{stiff:g} kN/m")
            craft = changed("lom", ("[inputs]", f"{text}[inputs]")).with_environment(ground=200.0)
            found = dv.on_ground(craft)
            given.append(stiff * 1e3 * (200.0 + 1.0 - found["altitude"]))
            self.assertAlmostEqual(sum(found[f"normal_{n}"] for n in "abcd"), 2450.0 * G, delta=1.0)
        # deeper in by weight over the sum of the legs (they stand on 4 k; a degree of pitch more or less)
        np.testing.assert_allclose(given, 2450.0 * G / 4.0, rtol=0.3)


class EnginesTest(unittest.TestCase):
    def test_least_control_speed_of_jets(self) -> None:
        craft = twin_jet()
        (found,) = minimum_control_speeds(craft, failed="right", altitude="300 m", banks=[0.0])
        self.assertTrue(math.isfinite(found.speed), found)
        for share, holds in ((1.02, True), (0.97, False)):
            given = {"throttle": 1.0, "fail_right": 1.0}
            point = dv.trim(
                craft, airspeed=share * found.speed, altitude=300, flight_path=None, bank="0 deg", inputs=given,
                strict=False,
            )  # fmt: skip
            self.assertEqual(point.reached, holds, share)

    def test_a_direction_of_any_length_pushes_the_same(self) -> None:
        pushes = []
        for direction in ("[1, 0, 0.2]", "[5, 0, 1.0]", "[0.01, 0, 0.002]"):
            craft = changed(
                "lom",
                ('position = ["0.2 m","0 m","0 m"]', f'position = ["0.2 m","0 m","0 m"]\ndirection = {direction}'),
            )
            x = craft.state(position=(0.0, 0.0, 500.0), velocity=(60.0, 0.0, 2.0))
            u = craft.with_inputs({"throttle": 1.0})
            pushes.append([craft.values(x, u, [n])[n] for n in ("u_dot", "w_dot", "q_dot")])
        np.testing.assert_allclose(pushes[1:], [pushes[0]] * 2, rtol=1e-12)

    def test_without_engines_and_with_mixers(self) -> None:
        nose = '[engines.nose]\nposition = ["0.2 m","0 m","0 m"]\nthrust = "9000*power_nose"\ncommand = "throttle"'
        speeds = '[envelope]\nairspeed = ["50 m/s", "140 m/s"]\naltitude = ["0 m", "5000 m"]\n'
        glider = changed("lom", (nose, ""), (speeds, ""))
        with self.assertRaisesRegex(DravikError, "no engine for level flight"):
            usual_speeds(glider)
        for ask in (lambda: throttle_inputs(glider), lambda: engine_points(glider, airspeeds=[50])):
            with self.assertRaisesRegex(DravikError, "no input that commands its engines"):
                ask()
        rows = performance(dv.sample("merle"), airspeeds=[5.0, 10.0], altitude=100).points
        for row in rows:  # its throttles carry it: the climb at full power is not that of a wing's level flight
            self.assertTrue(math.isnan(row.climb_rate) and math.isnan(row.thrust_available), row)
            self.assertGreater(row.power_required, 0.0)

    def test_a_runway_above_the_speed_at_which_the_wing_carries(self) -> None:
        # the roll has an end where the wing carries all; the wind is that at the height of a wing over the ground
        tarn = dv.sample("tarn", loading="dropped")
        given = {"flap_lever": "15 deg"}
        calm = take_off(tarn, altitude="480 m", inputs=given)
        fast = take_off(
            tarn, altitude="480 m", inputs=given, rules=dv.performance.RunwayRules(lift_off=1.6, climb_out=1.7)
        )
        self.assertAlmostEqual(fast.lift_off / calm.lift_off, 1.6 / 1.1, places=6)
        self.assertGreater(fast.roll, calm.roll)
        stall = stall_speed(tarn, 480.0, tarn.inputs_in_si(given))
        self.assertAlmostEqual(calm.stall / stall, 1.0, delta=5e-3)
        rough = tarn.with_environment(wind={"speed": "8 m/s", "blows_from": "0 deg", "roughness": "0.05 m"})
        # the profile's logarithm at two metres, not at ten and not on the ground
        there = 8.0 * math.log(2.0 / 0.05) / math.log(10.0 / 0.05)
        blown = take_off(rough, altitude="480 m", inputs=given)
        even = take_off(
            tarn.with_environment(wind={"speed": there, "blows_from": "0 deg"}), altitude="480 m", inputs=given
        )
        self.assertAlmostEqual(blown.rotation / even.rotation, 1.0, delta=0.01)
        self.assertAlmostEqual(blown.roll / even.roll, 1.0, delta=0.05)


class FlightsTest(unittest.TestCase):
    def test_bands_have_gaps(self) -> None:
        # two stretches are met: between them, before and behind nothing is
        parts = ((210.0, 480.0), (730.0, 990.0))

        def flown(_: object, *, north: float, **more: object) -> aiming.Shot:
            return aiming.Shot(1.0 if any(a <= north <= b for a, b in parts) else 50.0, 1.0, 1.0)

        craft = mock.Mock()
        with (
            mock.patch.object(aiming, "_check_aims"), mock.patch.object(aiming, "shoot", flown),
            mock.patch.object(aiming, "_unguided", lambda *a: (400.0, 900.0)),
        ):  # fmt: skip
            band = reachable_band(craft, altitude=300, elevation="60 deg")
        np.testing.assert_allclose(band.parts, parts, atol=0.004 * 400.0)
        for reach, refused in (
            (300, ""),
            (100, "a steeper rail"),
            (600, "m to 480 m and 73. m"),
            (1100, "flatter"),
        ):
            if refused:
                with self.assertRaisesRegex(DravikError, refused):
                    check_reach(band, float(reach), 0.0)
            else:
                check_reach(band, float(reach), 0.0)

    def test_a_turn_of_more_than_a_quarter_turns_the_gusts_the_short_way(self) -> None:
        # from 170 deg to -80 deg: 110 deg to the right through south, in a second; along the nose blows 3 m/s
        samples = np.zeros((6, 50))
        samples[0] = 3.0
        times = np.array([0.0, 0.5, 1.0, 2.0])
        u, places = np.zeros((3, 2, 6)), np.array([0.1, 0.0])
        before, after = math.radians(170.0), math.radians(-80.0)
        turn = math.remainder(after - before, 2.0 * math.pi)
        add_in_level_axes(u, np.arange(6), times, samples, places, np.array([before, turn, 0.0]))
        for heading, (north, east) in (
            (170.0, u[0, 0, :2]), (225.0, u[0, 1, :2]), (280.0, u[1, 1, :2]), (280.0, u[2, 1, :2]),
        ):  # fmt: skip
            angle = math.radians(heading)
            np.testing.assert_allclose((north, east), (3.0 * math.cos(angle), 3.0 * math.sin(angle)), atol=1e-9)

    def test_devices_list_what_they_can_read(self) -> None:
        seen: list[list[str]] = []

        class Lists:
            rate = 10.0
            sets, units = ("mine",), {"mine": "m"}

            def update(self, t: float, signals: Any) -> dict[str, float]:
                seen.append(list(signals))
                assert len(signals) == len(seen[-1]) and "alpha" in signals and "nope" not in signals
                return {"mine": 1.0}

        dv.fly(PIKA, start=dv.trim(PIKA, airspeed=16, altitude=300), duration=0.2, devices=[Lists()])
        self.assertEqual(set(seen[-1]), {*PIKA.signals, "mine"})

    def test_a_routes_log_weighs_the_aircraft_at_each_point(self) -> None:
        scenario = dv.load_scenario("fire_edge")
        assert scenario.course is not None
        flown = scenario.fly()
        log = route_log(flown, scenario.course)
        masses = np.interp(log.time_s, flown.time, flown["mass"])
        np.testing.assert_allclose(log.mass_kg, masses, rtol=1e-9)
        self.assertTrue(np.isfinite(masses).all())

    def test_shots_into_the_band_meet_and_beyond_it_miss(self) -> None:
        hail = dv.sample("hail").with_law(*dv.load_law(sample_path("hail") / "laws" / "homing.toml"))
        asked: dict[str, Any] = {"altitude": 3000.0, "elevation": "65 deg"}
        band = reachable_band(hail, **asked)
        for reach in (band.least + 30.0, band.middle, band.greatest - 30.0):
            self.assertLess(shoot(hail, north=reach, east=0.0, **asked).miss, 10.0)
        self.assertGreater(shoot(hail, north=band.greatest + 60.0, east=0.0, **asked).miss, 10.0)

    def test_a_pass_between_rows(self) -> None:
        # a straight way, 3 m beside the point: rows, rows that repeat a law's last value, and a flight that ends early
        for time in (np.arange(0.0, 3.0, 0.25), np.array([0.0, 0.1, 1.0, 1.3, 2.0]), np.array([0.0, 0.7, 1.39, 1.8])):
            miss, when = closest_pass(time, np.hypot(500.0 * (time - 1.4), 3.0))
            self.assertAlmostEqual(miss, 3.0, places=6)
            self.assertAlmostEqual(when, 1.4, places=9)
        time = np.arange(0.0, 1.45, 0.01)
        held = np.hypot(500.0 * (np.floor(time / 0.1 + 1e-9) * 0.1 - 1.38), 3.0)
        miss, when = closest_pass(time, held)
        self.assertAlmostEqual(when, 1.38, places=6)
        self.assertAlmostEqual(miss, 3.0, places=6)
        early = np.arange(0.0, 1.3, 0.1)
        self.assertEqual(closest_pass(early, np.hypot(500.0 * (early - 1.4), 3.0))[1], early[-1])


class ViewsTest(unittest.TestCase):
    def test_axes_warn_of_a_vertical_pitch_and_of_no_other(self) -> None:
        for pitch, warns in ((80.5, True), (89.5, True), (99.0, True), (-91.0, True), (135.0, False), (180.0, False),
                             (0.0, False), (-79.0, False), (269.0, True)):  # fmt: skip
            figure = figure_axes(0.0, math.radians(pitch), 0.0)
            words = [t.get_text() for a in figure.axes for t in a.texts] + [t.get_text() for t in figure.texts]
            self.assertEqual(any("of the vertical" in w for w in words), warns, pitch)

    def test_a_plan_over_mach_has_a_mach_axis_or_is_refused(self) -> None:
        drawing = next((sample_path("pika")).rglob("geometry.toml"))
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "geometry.toml"
            text = drawing.read_text(encoding="utf-8")
            head = "[table_grid]\n" if "[table_grid]" in text else ""
            more = "mach = [0.1, 0.3, 0.6]\n"
            place.write_text(
                text.replace(head, head + more) if head else f"{text}\n[table_grid]\n{more}", encoding="utf-8"
            )
            code, out, err = run("tables", "build", str(place), "--out", str(Path(folder) / "aero"))
        self.assertTrue(code == 0 and "alpha, beta, mach" in out, (code, out, err))

    def test_proofs_know_how_slow_an_actuator_is(self) -> None:
        for rate in ("0.5 deg/s", "50 deg/s"):
            with tempfile.TemporaryDirectory() as folder:
                source = (OWN / "lom" / "aircraft.toml").read_text(encoding="utf-8")
                old = 'range = ["-25 deg","20 deg"]'
                (Path(folder) / "aircraft.toml").write_text(source.replace(old, f'{old}\nrate = "{rate}"'))
                code, out, err = run(
                    "linearise", folder, "--airspeed", "80 m/s", "--altitude", "500 m", "--prove", "all"
                )
            self.assertEqual(code, 0, (rate, out, err))
            self.assertRegex(out, r"second method +\S+ +\S+ +yes")
            self.assertNotRegex(out, r" no +(of the peak|differences|Euler)")

    def test_idle_rotors_are_held_wherever_a_walk_holds(self) -> None:
        craft = changed(
            "liftwing", ("throttle = { range = [0, 1], trim = false }", "throttle = { range = [0, 1], trim = true }")
        )
        given = {"lift": 0.0}
        walk = dv.trim_sweep(craft, {"airspeed": "30:14:17 m/s"}, altitude=0, inputs=given)
        held = [p["airspeed"] for p in walk.points if p is not None and p.reached]
        self.assertGreater(len(held), 3)
        for speed in held:
            self.assertTrue(dv.trim(craft, airspeed=speed, altitude=0, inputs=given, strict=False).reached, speed)
