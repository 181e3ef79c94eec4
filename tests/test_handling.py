"""Handling qualities: responses and their criteria against closed forms, flights, and their own boundaries."""

import itertools
import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from scipy.signal import argrelmax, argrelmin

import dravik as dv
from dravik.constants import KNOT
from dravik.errors import DravikError
from dravik.handling import (
    PitchForce,
    Ride,
    bandwidth,
    c_star,
    compare_handling,
    discomfort,
    dropback,
    fit_equivalent,
    fly_task,
    handling_map,
    handling_qualities,
    mismatch_envelopes,
    pitch_step,
    ride,
    ride_flown,
    sensitivities_of_level,
    time_to_bank,
    tracking_pilot,
)
from dravik.handling.agility import _large, _quickness, attitude_changes
from dravik.handling.comfort import felt
from dravik.handling.forces import force_limits
from dravik.handling.limits import along, boundaries
from dravik.handling.pilot import _reversals
from dravik.handling.pitch_steps import c_star_criterion
from dravik.handling.responses import _tracking, rate_limit_onset
from dravik.handling.rolling import roll_oscillation
from dravik.handling.sideslip_and_failure import engine_failure, steady_sideslip
from dravik.handling.static import static_criteria
from dravik.performance import minimum_control_speeds, static_stability
from dravik.surroundings.atmosphere import air_at
from dravik.systems import TimeResponse, time_response
from dravik.trimming import stall_speed
from tests.support import craft, light_aircraft
from tests.test_cli import run
from tests.test_limits import AREA, DRAG, INDUCED, MASS, SLOPE, jet

TARN = dv.sample("tarn")
POINT = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
W = np.geomspace(0.05, 60.0, 3000)
S = 1j * W


class ResponseTest(unittest.TestCase):
    def test_equivalent_systems_come_back(self) -> None:
        w = np.geomspace(0.1, 10.0, 25)
        s = 1j * w

        def pair(damping: float, frequency: float) -> Any:
            return s**2 + 2.0 * damping * frequency * s + frequency**2

        for form, response, wanted in (
            ("pitch", 4.0 * (s + 0.9) / pair(0.6, 2.7) * np.exp(-0.11 * s), {"gain": 4.0, "lead": 0.9, "damping": 0.6, "frequency": 2.7, "delay": 0.11}),
            ("pitch", -0.3 * (s + 1.6) / pair(1.4, 5.0) * np.exp(-0.02 * s), {"gain": -0.3, "lead": 1.6, "damping": 1.4, "frequency": 5.0, "delay": 0.02}),
            ("roll", -7.0 * pair(0.2, 1.8) / pair(0.1, 1.6) / (s + 2.5) * np.exp(-0.15 * s),
             {"gain": -7.0, "time_constant": 0.4, "zero_damping": 0.2, "zero_frequency": 1.8, "damping": 0.1, "frequency": 1.6, "delay": 0.15}),
            ("lag", 3.0 / (s + 1.25) * np.exp(-0.2 * s), {"gain": 3.0, "time_constant": 0.8, "delay": 0.2}),
            ("sideslip", 2.0 / pair(0.15, 1.7) * np.exp(-0.07 * s), {"gain": 2.0, "damping": 0.15, "frequency": 1.7, "delay": 0.07}),
        ):  # fmt: skip
            with self.subTest(form, **wanted):
                fit = fit_equivalent(w, response, form=form)  # type: ignore[arg-type]
                for name, value in wanted.items():
                    self.assertAlmostEqual(getattr(fit, name) / value, 1.0, delta=0.01, msg=name)
                self.assertLess(fit.cost, 1e-6)
                self.assertEqual(fit.noticed, 0.0)
                np.testing.assert_allclose(fit.response(w), response, rtol=1e-4)
        # an actuator and a computing delay look like delay: the sum of their lags, to a tenth
        late = 4.0 * (s + 0.9) / pair(0.6, 2.7) * np.exp(-0.03 * s) / (1.0 + 0.05 * s) / (1.0 + 0.02 * s)
        fit = fit_equivalent(w, late)
        self.assertAlmostEqual(fit.delay, 0.1, delta=0.01)
        self.assertTrue(fit.is_close)
        # the zero held where it is not: a worse fit, and the cost says so
        self.assertGreater(fit_equivalent(w, late, lead=3.0).cost, 50.0 * fit.cost)
        for bad, words in (
            ((w[:3], late[:3]), "3 usable"), ((w, np.zeros(25)), "none zero"), ((w, late[:4]), "as many of both"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                fit_equivalent(*bad)
        with self.assertRaisesRegex(DravikError, "form cannot be 'yaw'"):
            fit_equivalent(w, late, form="yaw")  # type: ignore[arg-type]

    def test_envelopes_of_what_is_not_noticed(self) -> None:
        up, down, lead, lag = mismatch_envelopes(W)
        self.assertTrue(np.all(up > 0.0) and np.all(down < 0.0) and np.all(lead > 0.0) and np.all(lag < 0.0))
        # narrowest about the short period
        for bound in (up, -down, lead, -lag):
            self.assertTrue(0.3 < W[int(np.argmin(bound))] < 5.0)

    def test_bandwidth_by_closed_forms(self) -> None:
        # K e^(-tau s)/s: -135 deg where w tau is a quarter of pi, -180 deg where it is a half, and the delay is tau
        for tau in (0.06, 0.2, 0.5):
            found = bandwidth(W, 3.0 * np.exp(-tau * S) / S)
            self.assertAlmostEqual(found.by_phase, 0.25 * math.pi / tau, delta=1e-3 / tau)
            self.assertAlmostEqual(found.neutral, 0.5 * math.pi / tau, delta=1e-3 / tau)
            # the phase falls by tau w beyond -90 deg: 90 deg more at the double frequency
            self.assertAlmostEqual(found.phase_delay, 0.5 * math.pi / (2.0 * found.neutral), delta=1e-3 * tau)
            self.assertAlmostEqual(found.phase_rate, tau, delta=2e-3 * tau)
            # the gain of an integral is 6 dB higher at half the frequency
            self.assertAlmostEqual(found.by_gain * 10 ** (6 / 20), found.neutral, delta=1e-3 * found.neutral)
            self.assertEqual(found.value, min(found.by_phase, found.by_gain))
        quick = bandwidth(W, 1.0 / S / (1.0 + 0.1 * S))
        self.assertTrue(math.isinf(quick.neutral) and quick.phase_delay == 0.0)
        self.assertAlmostEqual(quick.value, 10.0, delta=0.01)
        # two integrals never leave 45 deg: there is none, and that is no level 1
        self.assertTrue(all(math.isnan(v) for v in bandwidth(W, np.exp(-0.1 * S) / S**2)))
        # a slow mode whose phase dips below -135 deg and comes back: the highest frequency with 45 deg left counts
        dip = (S**2 + 0.26 * S + 0.1521) / (S**2 + 0.16 * S + 0.0625) * np.exp(-0.08 * S) / (S * (S / 3.5 + 1))
        found = bandwidth(W, dip)
        left = [math.pi + float(np.angle(np.interp(found.by_phase * k, W, dip))) for k in (0.99, 1.0, 1.01)]
        self.assertTrue(left[0] > math.pi / 4 > left[2] and abs(left[1] - math.pi / 4) < 1e-3)
        self.assertGreater(found.by_phase, 1.5)
        # two roots that grow: the phase looks 360 deg better than it is
        grows = 0.9 * (S + 0.02) / ((S + 0.9) * (S**2 - 0.3 * S + 0.25)) * np.exp(-0.06 * S)
        self.assertTrue(math.isnan(bandwidth(W, grows).value))
        steady = 9.0 * (S + 1.0) ** 2 / ((S + 9.0) * (S**2 - 0.3 * S + 0.25)) * np.exp(-0.02 * S)
        found = bandwidth(W, steady)
        gain = 1.0 / abs(np.interp(found.by_phase, W, steady))
        top = np.polymul([9.0], np.polymul([1.0, 1.0], [1.0, 1.0]))
        roots = np.roots(np.polyadd(gain * top, np.polymul([1.0, 9.0], [1.0, -0.3, 0.25])))
        self.assertTrue(np.all(roots.real < 0.0) and found.by_phase > 5.0)
        with self.assertRaisesRegex(DravikError, "that rise"):
            bandwidth(W[::-1], 1.0 / S)
        with self.assertRaisesRegex(DravikError, "expected up to"):
            bandwidth(W[W < 8.0], np.exp(-0.3 * S[W < 8.0]) / S[W < 8.0])

    def test_dropback_in_time_and_frequency(self) -> None:
        # Gibson: dropback over the steady rate is T2 - 2 damping/frequency of the same system in the frequency domain
        for time, damping, frequency in ((1.0, 0.7, 2.0), (0.4, 0.6, 3.0), (2.5, 0.5, 1.5)):
            rate = dv.LinearSystem.filtered(
                "q", "stick", [frequency**2 * time, frequency**2], [1.0, 2.0 * damping * frequency, frequency**2]
            )
            found = dropback(time_response(rate, "q", "stick", duration=25.0))
            fit = fit_equivalent(W, rate.frequency_response(W)[:, 0, 0])
            self.assertAlmostEqual(found.value, 1.0 / fit.lead - 2.0 * fit.damping / fit.frequency, delta=2e-3)
        with self.assertRaisesRegex(DravikError, "does not become steady"):
            dropback(time_response(dv.LinearSystem.filtered("q", "s", [1.0], [1.0, 0.0]), "q", "s"))

    def test_the_pilot_who_tracks(self) -> None:
        for response in (
            1.0 / S,
            2.0 * (S + 1.0) / S / (S**2 + 5.0 * S + 12.0),
            np.exp(-0.1 * S) / S / (0.2 * S + 1.0),
        ):
            pilot = tracking_pilot(W, response, bandwidth=2.5)
            loop = response * pilot.gain * np.exp(-0.3 * S) * (1.0 + pilot.lead * S) / (1.0 + pilot.lag * S)
            closed = loop / (1.0 + loop)
            at = int(np.searchsorted(W, 2.5))
            self.assertAlmostEqual(math.degrees(np.angle(closed[at])), -90.0, delta=0.5)
            self.assertGreaterEqual(20.0 * math.log10(np.abs(closed[W <= 2.5]).min()), -3.01)
            self.assertAlmostEqual(20.0 * math.log10(np.abs(closed).max()), pilot.resonance, places=6)
            self.assertAlmostEqual(
                math.degrees(math.atan(2.5 * pilot.lead) - math.atan(2.5 * pilot.lag)), pilot.compensation, places=6
            )
        # the later the aircraft, the more lead and resonance
        slow = [tracking_pilot(W, np.exp(-t * S) / S / (0.2 * S + 1.0), bandwidth=3.0) for t in (0.0, 0.1, 0.2)]
        self.assertTrue(all(b.resonance > a.resonance - 0.05 for a, b in itertools.pairwise(slow)))
        self.assertTrue(all(b.compensation > a.compensation + 5.0 for a, b in itertools.pairwise(slow)))
        with self.assertRaisesRegex(DravikError, "no pilot closes"):
            tracking_pilot(W, np.exp(-1.5 * S) / S**2, bandwidth=6.0)

    def test_a_step_in_time_says_what_the_roots_say(self) -> None:
        # whatever the zero, extremes of a decaying pair lie half a period apart: undershoot over overshoot is
        # exp(-damping pi/sqrt(1 - damping^2)), and the level 1 limit of 0.30 is the damping of 0.36 of 3.2.2.1.2
        for damping, lead in ((0.25, 0.4), (0.36, 1.0), (0.6, 0.2)):
            rate = dv.LinearSystem.filtered("q", "stick", [9.0 * lead, 9.0], [1.0, 6.0 * damping, 9.0])
            wanted = math.exp(-damping * math.pi / math.sqrt(1.0 - damping**2))
            self.assertAlmostEqual(
                pitch_step(time_response(rate, "q", "stick", duration=30.0)).ratio, wanted, delta=5e-3
            )
        # 1 - exp(-t/T) after a delay: the tangent leaves zero at the delay and is steady T later, nothing undershoots
        t = np.linspace(0.0, 20.0, 8001)
        lagged = np.where(t > 0.15, 1.0 - np.exp(-(t - 0.15) / 0.5), 0.0)
        found = pitch_step(TimeResponse("q", "stick", "step", t, 3.0 * lagged, 3.0))
        self.assertAlmostEqual(found.delay, 0.15, delta=0.01)
        self.assertAlmostEqual(found.rise, 0.5, delta=0.01)
        self.assertEqual(found.ratio, 0.0)
        # nz = V/g q here, so that C* is q V/g (1 + 121.92/V) and its share of the end is that of q, whatever V
        rate = dv.LinearSystem.filtered("q", "stick", [16.0], [1.0, 5.6, 16.0])
        for speed in (60.0, 200.0):
            c = np.vstack([speed / 9.80665 * rate.C, rate.C])
            model = dv.LinearModel.of(rate.A, rate.B, C=c, states=["a", "b"], inputs=["stick"], outputs=["nz", "q"])
            time, values = c_star(model, "stick")
            np.testing.assert_allclose(values, time_response(rate, "q", "stick", duration=30.0).values, atol=1e-6)
        self.assertEqual(c_star_criterion(time, values).level, 1)
        self.assertEqual(c_star_criterion(time, values * (1.0 + 1.5 * np.exp(-time))).level, 2)
        self.assertEqual(c_star_criterion(time, values * (1.0 - 1.2 * np.exp(-time))).level, 2)
        with self.assertRaisesRegex(DravikError, "does not become steady"):
            pitch_step(time_response(dv.LinearSystem.filtered("q", "s", [1.0], [1.0, 0.0]), "q", "s"))

    def test_the_tracking_pilot_and_what_pilots_said(self) -> None:
        """Neal and Smith, AFFDL-TR-70-74: configurations and their ratings, both from memory."""
        levels = {}
        for name, frequency, damping, lag, rated in (
            ("1D", 2.2, 0.69, 0.0, 4.0), ("1E", 2.2, 0.69, 5.0, 6.0), ("1F", 2.2, 0.69, 2.0, 8.0), ("1G", 2.2, 0.69, 0.5, 8.5),
            ("2D", 4.9, 0.70, 0.0, 2.75), ("2J", 4.9, 0.70, 0.5, 6.0),
        ):  # fmt: skip
            path = (S / 1.25 + 1.0) / S / ((S / frequency) ** 2 + 2.0 * damping * S / frequency + 1.0)
            path = path / ((S / 75.0) ** 2 + 1.4 * S / 75.0 + 1.0) / (1.0 + S / lag if lag else 1.0)
            lines = _tracking(W, path, "A", {})
            levels[name] = (rated, lines[0].level or 4, lines[0].value)
        order = sorted(levels, key=lambda n: levels[n][0])
        self.assertEqual([levels[n][1] for n in order], sorted(levels[n][1] for n in order))
        self.assertLessEqual(levels["2D"][1], 2)
        self.assertGreaterEqual(levels["1G"][1], 3)

    def test_how_people_feel_an_acceleration(self) -> None:
        """ISO 2631-1:1997, table 3: weightings by frequency (Hz), from memory."""
        for direction, rows in (
            ("vertical", ((0.5, 0.418), (1.0, 0.482), (2.0, 0.531), (4.0, 0.967), (6.3, 1.054), (8.0, 1.036), (16.0, 0.768))),
            ("horizontal", ((0.5, 0.853), (1.0, 1.011), (2.0, 0.890), (4.0, 0.512), (8.0, 0.253), (16.0, 0.125))),
        ):  # fmt: skip
            for frequency, weight in rows:
                self.assertAlmostEqual(float(felt(2.0 * math.pi * frequency, direction)), weight, delta=2e-3)
        # a narrow spectrum at 1 Hz of 0.1 g root mean square is felt as 0.482 of it
        w = np.linspace(2.0 * math.pi * 0.99, 2.0 * math.pi * 1.01, 50)
        line = np.full(50, 0.01 / (w[-1] - w[0]))
        found = discomfort(Ride((0.0, 0.0, 0.0), 0.1, 0.0, w, line, 0.0 * line))
        self.assertAlmostEqual(found.total, 0.482 * 0.1 * 9.80665, delta=1e-3)
        self.assertEqual(found.lateral, 0.0)

    def test_force_per_g(self) -> None:
        pound = 4.4482216
        # 240 over n/alpha between its bounds: 56 over nL - 1, and 28; the least is 21 over nL - 1 or 3
        for text, n_alpha, low, high in (
            ("pull, stick, 8", 20.0, 3.0, 12.0), ("pull, stick, 8", 60.0, 3.0, 8.0), ("pull, stick, 4", 5.0, 7.0, 28.0),
            ("pull, wheel, 3.5", 8.0, 14.0, 62.5), ("pull, wheel, 2.5", 2.0, 35.0 / 1.5, 120.0),
        ):  # fmt: skip
            lows, highs = force_limits(PitchForce.of(text), n_alpha)
            self.assertAlmostEqual(lows[0], low * pound, places=4)
            self.assertAlmostEqual(highs[0], high * pound, places=4)
        # a pull of -400 N/rad of elevator: force per g is that of the elevator per g
        body = jet(pull="-400*elevator")
        point = dv.trim(body, airspeed=60.0, altitude=0.0)
        found = handling_qualities(body, point, sets=["static"], force="pull, stick, 4")
        stability = static_stability(body, airspeed=60.0, altitude=0.0)
        line = next(c for c in found.criteria if c.name == "pull per g")
        self.assertAlmostEqual(line.value / (-400.0 * stability.control_per_g), 1.0, places=6)
        for bad, words in (
            ("pull, yoke", "a controller cannot be 'yoke'"),
            ("pull, stick, heavy", "limit load factor"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                PitchForce.of(bad)

    def test_corners_of_boundaries(self) -> None:
        data = boundaries("responses")
        for section, keys in (("bandwidth", "ABC"), ("hover_bandwidth", ("pitch", "roll"))):
            for key in keys:
                for level, curve in enumerate(data[section][key]):
                    for place, limit in curve:
                        self.assertAlmostEqual(along(data[section][key], place)[level] or 0.0, limit, places=9)
                    # beyond the last corner the boundary goes on rising
                    self.assertGreaterEqual(along(data[section][key], curve[-1][0] + 0.1)[level] or 0.0, curve[-1][1])
        for section in data.values():
            # level 1 asks at least what level 2 does, and so on
            for key, sign in (("max", 1.0), ("min", -1.0), ("resonance_max", 1.0)):
                numbers = [
                    v for v in (section.get(key) or [] if isinstance(section, dict) else []) if not isinstance(v, str)
                ]
                self.assertEqual([sign * v for v in numbers], sorted(sign * v for v in numbers))


class TaskTest(unittest.TestCase):
    def test_a_tracking_task_as_the_linear_loop_does_it(self) -> None:
        # the same pilot around the sampled linear model, step by step: a loop written out by hand
        flown = fly_task(TARN, POINT, "bank", size="1 deg", duration=12.0)
        model = dv.linearise(TARN, POINT, outputs=["phi"])
        fast = model.part(
            states=[n for n in model.states if n not in ("north", "east", "altitude", "psi")], inputs=["roll_stick"]
        )
        sampled, pilot = fast.discretised(0.01), flown.pilot
        x, arm, seen, before, filtered, phi = np.zeros(len(sampled.states)), 0.0, [0.0] * 20, 0.0, 0.0, []
        for asked in flown.run["tracked_command"]:
            now = float((sampled.C @ x)[0])
            phi.append(now)
            seen.append(float(asked) - now)
            late = seen.pop(0)
            led, before = late + pilot.lead * (late - before) / 0.01, late
            share = 1.0 if pilot.lag == 0.0 else 1.0 - math.exp(-0.01 / pilot.lag)
            filtered += share * (led - filtered)
            arm += (1.0 - math.exp(-0.1)) * (filtered - arm)
            x = sampled.A @ x + sampled.B[:, 0] * pilot.gain * arm
        self.assertLess(float(np.max(np.abs(flown.run["tracked"] - phi))), 0.02 * math.radians(1.0))

    def test_figures_and_what_they_depend_on(self) -> None:
        there, back = (fly_task(TARN, POINT, "pitch", size=s, duration=20.0) for s in ("1 deg", "-1 deg"))
        np.testing.assert_allclose(there.run["tracked"], -back.run["tracked"], atol=math.radians(0.05))
        late = fly_task(TARN, POINT, "pitch", size="1 deg", duration=20.0, delay=0.5, bandwidth=1.5)
        self.assertGreater(late.error, there.error)
        for task, end in (("altitude", 20.0), ("offset", 15.0)):
            flown = fly_task(TARN, POINT, task, duration=60.0)
            self.assertAlmostEqual(float(flown.run["tracked"][-1]) / end, 1.0, delta=0.1)
            self.assertTrue(0.5 < flown.desired < 1.0)
            shown = {name: value for name, value, _ in flown.rows()}
            self.assertAlmostEqual(shown["time within a fifth of the size"], 100.0 * flown.desired, places=9)
            self.assertAlmostEqual(shown["error, root mean square"], flown.error, places=9)
        # a sine of n periods turns back twice in each, and a ripple below a fiftieth does not count
        for periods in (1, 4):
            t = np.linspace(0.0, periods, 400 * periods)
            moved = 0.5 * np.sin(2.0 * np.pi * t) + 0.004 * np.sin(60.0 * np.pi * t)
            self.assertEqual(_reversals(moved), 2 * periods)
        hard = fly_task(TARN, POINT, "bank", size="60 deg", duration=20.0)
        self.assertGreater(hard.at_stop, 0.02)
        self.assertLessEqual(float(np.max(np.abs(hard.run["roll_stick"]))), 1.0)
        for task, asked, words in (
            ("yaw", {}, "a task cannot be 'yaw'"), ("pitch", {"size": 0.0}, "not zero"), ("pitch", {"bandwidth": 9.0}, "no pilot closes"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                fly_task(TARN, POINT, task, **asked)  # type: ignore[arg-type]
        code, text, _ = run("task", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--task", "offset", "--json")
        self.assertEqual((code, json.loads(text)["figures"]["size of the task"]["value"]), (0, 15.0))


class AircraftTest(unittest.TestCase):
    def test_time_to_bank_by_its_closed_form(self) -> None:
        # a pure roll: p' = (p_steady - p)/T, so the bank is p_steady (t - T (1 - exp(-t/T)))
        body = jet(Cl="-0.4*p_hat + 0.1*aileron", CY="0", Cn="0")
        point = dv.trim(body, airspeed=60.0, altitude=0.0)
        pressure = 0.5 * float(air_at(0.0).density) * 60.0**2 * AREA * 11.0
        lag = 900.0 / (pressure * 0.4 * 11.0 / 120.0)
        steady = 0.1 * math.radians(50.0) / 0.4 * 120.0 / 11.0
        time, flown = time_to_bank(body, point, "aileron_command", math.radians(30.0))
        # along the body's axis at the angle of attack, so within its cosine
        self.assertAlmostEqual(steady * (time - lag * (1.0 - math.exp(-time / lag))), math.radians(30.0), delta=0.01)
        self.assertGreater(abs(float(flown["phi"][-1])), 0.5)
        # the change of bank counts, from wherever it begins
        banked = dv.trim(TARN, airspeed="62 m/s", altitude="300 m", turn="20 deg")
        level, turning = (time_to_bank(TARN, p, "roll_stick", "30 deg")[0] for p in (POINT, banked))
        self.assertAlmostEqual(turning / level, 1.0, delta=0.15)
        # sideslip of a roll, over how much further it goes in level 1's time than it has to
        found = {c.name: c for c in handling_qualities(TARN, POINT, category="C", sets=["roll"]).criteria}
        _, flown = time_to_bank(TARN, POINT, "roll_stick", "30 deg")
        further = abs(float(np.interp(1.8, flown.time, flown["phi"]))) / math.radians(30.0)
        until = flown.time <= 1.8
        slipped = math.degrees(float(np.max(np.abs(flown["beta"][until]))))
        self.assertAlmostEqual(found["sideslip of a roll"].value / (slipped / further), 1.0, delta=0.01)

    def test_roll_oscillation_and_the_onset_of_rate_limiting(self) -> None:
        # p' = -p/T + k beta-like pair: minimum over peak of a step through (s^2 + 2 z w s + w^2)/((s^2 + 2 d w s + w^2)(T s + 1))
        step = dv.LinearSystem.filtered("p", "stick", [1.0, 0.4, 4.0], [0.3, 1.0 + 0.3 * 0.2, 0.2 + 0.3 * 4.0, 4.0])
        model = dv.LinearModel.of(
            step.A, step.B, C=step.C, D=step.D, states=list("abc"), inputs=["stick"], outputs=["p"]
        )
        rate = time_response(step, "p", "stick", duration=10.0).values
        peak = int(argrelmax(rate)[0][0])
        lowest = int(argrelmin(rate)[0][0])
        self.assertLess(peak, lowest)
        self.assertAlmostEqual(roll_oscillation(model, "stick", "A").value, float(rate[lowest] / rate[peak]), places=6)
        flat = dv.LinearModel.of([[-2.0]], [[1.0]], states=["x"], inputs=["stick"], outputs=["p"], C=[[1.0]])
        self.assertEqual(roll_oscillation(flat, "stick", "A").value, 1.0)
        # a quarter of a turn a second at the amplitude of the whole stick: rate over amplitude
        body = craft(
            inputs={"stick": {"range": [-1, 1], "trim": True}},
            controls={"elevator": {"command": "-0.4*stick", "range": ["-30 deg", "30 deg"], "rate": "60 deg/s", "lag": "0.02 s"}},
            aero={"axes": "body", **dict.fromkeys(("CX", "CY", "CZ", "Cl", "Cn"), "0"), "Cm": "-elevator"},
        )  # fmt: skip
        there = dv.OperatingInstant.of(
            body, body.state(position=(0, 0, 100), velocity=(40, 0, 0)), body.default_inputs()
        )
        whole = dv.linearise(body, there, outputs=["elevator"])
        onset = rate_limit_onset(body, whole, "stick")
        assert onset is not None
        self.assertEqual(onset[0], "elevator")
        self.assertAlmostEqual(onset[1] / (math.radians(60.0) / 0.4), 1.0, delta=0.03)

    def test_flight_path_by_speed(self) -> None:
        # at constant thrust the slope of the path is -dD/dV over the weight: D = q S (CD0 + k CL^2)
        body = jet()
        for speed in (32.0, 40.0, 60.0):
            point = dv.trim(body, airspeed=speed, altitude=0.0)
            lines = {c.name: c for c in static_criteria(body, point, "elevator_command", "C")}
            weight = MASS * 9.80665
            density = float(air_at(0.0).density)

            def drag(v: float, weight: float = weight, density: float = density) -> float:
                pressure = 0.5 * density * v**2 * AREA
                return pressure * DRAG + INDUCED * weight**2 / pressure

            slope = -(drag(speed * 1.02) - drag(speed * 0.98)) / (0.04 * speed) / weight
            found = lines["flight-path stability"]
            self.assertAlmostEqual(found.value, math.degrees(slope) * KNOT, delta=0.006)
            # more speed wants less pull: down elevator is positive, so its gradient by speed is turned about
            self.assertLess(lines["elevator_command by airspeed"].value, 0.0)
        self.assertGreater(SLOPE, 0.0)

    def test_straight_sideslips_and_engine_failures(self) -> None:
        # right pedal yaws to the right by 0.06 of the rudder, to the left when positive; Cn_beta 0.05, Cl_beta -0.05
        body = jet(CL="5*alpha", Cn="0.05*beta - 0.1*r_hat - 0.06*rudder")
        point = dv.trim(body, airspeed=60.0, altitude=0.0)
        lines = {c.name: c for c in steady_sideslip(body, point, "rudder_command", "aileron_command")}
        # no yawing moment: 0.05 beta = 0.06 rudder; no rolling moment: 0.05 beta = 0.1 aileron
        # the input is the rudder itself, positive to the left: what it does is measured, so that it counts as a pedal
        self.assertAlmostEqual(lines["rudder_command by sideslip"].value, -math.radians(0.05 / 0.06), places=4)
        self.assertAlmostEqual(lines["aileron_command by sideslip"].value, math.radians(0.5), places=4)
        # the side force -0.3 beta q S is carried by the bank
        pressure = 0.5 * float(air_at(0.0).density) * 60.0**2 * AREA
        self.assertAlmostEqual(lines["bank by sideslip"].value, 0.3 * pressure / (MASS * 9.80665), delta=0.01)
        self.assertEqual(lines["rudder_command by sideslip"].level, 1)
        reversed_ = jet(CL="5*alpha", Cn="-0.05*beta - 0.1*r_hat - 0.06*rudder")
        lines = {c.name: c for c in steady_sideslip(reversed_, point, "rudder_command", "aileron_command")}
        self.assertEqual(lines["rudder_command by sideslip"].level, 4)
        self.assertEqual(lines["bank by sideslip"].level, 1)
        lost = engine_failure(TARN, POINT)
        self.assertEqual(len(lost), 2)
        self.assertAlmostEqual(lost[0].value, lost[1].value, places=4)
        slowest = minimum_control_speeds(TARN, failed="left", altitude="300 m", banks=["5 deg"])[0].speed
        self.assertAlmostEqual(lost[0].value, slowest / stall_speed(TARN, 300.0), places=4)
        self.assertIn("no second engine", engine_failure(jet(), dv.trim(jet(), airspeed=50, altitude=0))[0].note)
        found = handling_qualities(TARN, POINT, category="C", sets=["static", "engine_out"])
        self.assertEqual({c.name: c.level for c in found.criteria}["pedal by sideslip"], 1)

    def test_ride_by_spectrum_and_by_half_an_hour_of_flight(self) -> None:
        light = light_aircraft()
        point = dv.trim(light, airspeed=176 * 0.3048, altitude=600.0)
        turbulence = dv.Turbulence("light", seed=5)
        for station in (None, ("-2 m", "0 m", "0 m")):
            by_spectrum = ride(light, point, turbulence=turbulence, station=station)
            flown = ride_flown(light, point, turbulence=turbulence, station=station)
            self.assertAlmostEqual(flown.vertical / by_spectrum.vertical, 1.0, delta=0.05)
            self.assertAlmostEqual(flown.lateral / by_spectrum.lateral, 1.0, delta=0.08)
            # the spectrum's integral is the variance
            integral = math.sqrt(float(np.trapezoid(by_spectrum.vertical_spectrum, by_spectrum.omega)))
            self.assertAlmostEqual(integral / by_spectrum.vertical, 1.0, delta=0.02)
        # twice the intensity, twice the ride; and it does not depend on the heading
        strong = ride(light, point, turbulence=dv.Turbulence(wind_20ft="60 kt", aloft="10 m/s"))
        weak = ride(light, point, turbulence=dv.Turbulence(wind_20ft="30 kt", aloft="5 m/s"))
        self.assertAlmostEqual(strong.vertical / weak.vertical, 2.0, places=6)
        turned = dv.trim(light, airspeed=176 * 0.3048, altitude=600.0, heading="70 deg")
        self.assertAlmostEqual(
            ride(light, turned, turbulence=turbulence).lateral / ride(light, point, turbulence=turbulence).lateral,
            1.0,
            places=5,
        )
        with self.assertRaisesRegex(DravikError, "60 s or more"):
            ride_flown(light, point, duration=5.0)

    def test_all_sets_of_the_tarn(self) -> None:
        found = handling_qualities(TARN, POINT, category="C", sets=["modal", "responses", "static", "roll"])
        by_name = {c.name: c for c in found.criteria}
        # the equivalent system is that of the modes, whose short period the actuators hardly touch
        modes = found.details["modes"].named("short period")
        self.assertAlmostEqual(found.details["pitch"].frequency / modes.frequency, 1.0, delta=0.03)
        self.assertAlmostEqual(by_name["pitch, equivalent damping"].value, modes.damping, delta=0.06)
        self.assertAlmostEqual(
            by_name["roll, equivalent time constant"].value / by_name["roll mode time constant"].value, 1.0, delta=0.2
        )
        self.assertIn("MIL-STD-1797A 4.2.1.2", found.remembered)
        self.assertEqual(found.level, max(c.level or 0 for c in found.criteria))
        self.assertEqual(found.limiting[0].level, found.level)
        # the mirror image of the input says the same
        other = handling_qualities(
            TARN, POINT, category="C", sets=["responses"], sticks={"pitch": "elevator", "roll": "aileron"}
        )
        self.assertAlmostEqual(
            next(c.value for c in other.criteria if c.name == "pitch, bandwidth"),
            by_name["pitch, bandwidth"].value,
            places=2,
        )

    def test_what_does_not_apply_says_so(self) -> None:
        gliding = handling_qualities(TARN, POINT, sets=["hover"])
        self.assertIsNone(gliding.level)
        self.assertIn("a requirement for rotorcraft", gliding.unjudged[0])
        unstable = light_aircraft(Cm="0.683*alpha - 4.36*alpha_dot_hat - 9.96*q_hat - 0.923*elevator")
        found = handling_qualities(
            unstable, dv.trim(unstable, airspeed=176 * 0.3048, altitude=0.0), category="A", sets=["modal", "responses"]
        )
        self.assertEqual(found.level, 4)
        # stability is asked first: no criterion of the pitch response has a value that could be praised
        pitching = [c for c in found.criteria if c.name.startswith(("pitch", "C*"))]
        self.assertGreater(len(pitching), 4)
        for c in pitching:
            self.assertEqual((c.level, math.isnan(c.value), c.note[:10]), (4, True, "not stable"), c.name)
        stickless = jet()
        with self.assertRaisesRegex(DravikError, "one of modal, responses"):
            handling_qualities(TARN, POINT, sets=["modes"])
        with self.assertRaisesRegex(DravikError, "a stick's axis cannot be 'heave'"):
            handling_qualities(TARN, POINT, sticks={"heave": "throttle"})
        with self.assertRaisesRegex(DravikError, "the model has no nz"):
            handling_qualities(TARN, POINT, model=dv.linearise(TARN, POINT, outputs=["alpha"]))
        point = dv.trim(stickless, airspeed=50.0, altitude=0.0)
        # controls without inputs that trims move
        self.assertEqual(handling_qualities(stickless, point, sets=["roll"]).criteria[0].unit, "s")
        merle = dv.sample("merle")
        hover = handling_qualities(merle, dv.trim(merle, airspeed=0, altitude=300), sets=["hover"])
        self.assertEqual(
            [c.name for c in hover.criteria][:2], ["pitch, bandwidth in hover", "roll, bandwidth in hover"]
        )
        self.assertEqual(hover.level, 1)

    def test_changes_of_attitude_by_their_closed_forms(self) -> None:
        # a pure roll, p' = (k stick - p)/T: a pulse of h leaves k h, and its largest rate is k (1 - exp(-h/T))
        body = jet(Cl="-0.4*p_hat + 0.1*aileron", CY="0", Cn="0")
        point = dv.trim(body, airspeed=60.0, altitude=0.0)
        pressure = 0.5 * float(air_at(0.0).density) * 60.0**2 * AREA * 11.0
        lag, per = 900.0 / (pressure * 0.4 * 11.0 / 120.0), 0.1 / 0.4 * 120.0 / 11.0
        changes = attitude_changes(body, point, "roll", "aileron_command")
        self.assertEqual(len(changes), 6)
        for change in changes:
            self.assertAlmostEqual(
                change.rate / (per * change.moved * (1.0 - math.exp(-change.held / lag))), 1.0, delta=0.02
            )
            self.assertAlmostEqual(change.largest / (per * change.moved * change.held), 1.0, delta=0.02)
        # where an attitude follows the stick: the target is what is reached
        merle = dv.sample("merle")
        hover = dv.trim(merle, airspeed=0, altitude=300)
        followed = attitude_changes(merle, hover, "roll", "bank_target")
        self.assertEqual(len(followed), 8)
        for change in followed:
            self.assertTrue(change.moved * 0.95 < change.largest < 1.3 * change.moved)
        # the right side mirrors the left, and the slower side is what counts
        for left, right in zip(followed[:4], followed[4:], strict=True):
            self.assertAlmostEqual(left.quickness / right.quickness, 1.0, delta=0.02)
        self.assertEqual(_large("roll", followed, "limited").level, 1)
        self.assertEqual(_large("roll", followed, "moderate").level, 2)
        self.assertEqual(_quickness("roll", followed).level, 1)
        self.assertIsNone(_quickness("roll", followed[:0]).level)

    def test_maps_levers_and_comparisons(self) -> None:
        sweep = dv.trim_sweep(TARN, {"altitude": "0:3000:2 m", "airspeed": "48:80:3 m/s"})
        told: list[float] = []
        found = handling_map(sweep, category="A", told=told.append)
        self.assertEqual(told[-1], 1.0)
        for k, point in enumerate(sweep.points):
            if point is not None:
                alone = handling_qualities(point.craft, point, category="A")
                self.assertEqual(found.levels.ravel()[k], alone.level)
                worst = max((c for c in alone.criteria), key=lambda c: (c.level or 0, -(c.margin or 0.0)))
                self.assertEqual(found.limiting()[k], worst.name if alone.level != 1 else "")
        self.assertEqual(found.values("Dutch roll damping").shape, (2, 3))
        with self.assertRaisesRegex(DravikError, "no criterion 'bandwidth'"):
            found.values("bandwidth")
        self.assertEqual(len(found.rows()), 6)
        # along a sweep headings are zero but for what the search leaves
        whole = handling_map(dv.trim_sweep(TARN, {"airspeed": "50:90:8 m/s"}, altitude="1200 m"), sets=["static"])
        self.assertEqual(set(whole.levels.tolist()), {1.0})
        # what a throttle says is what happens: the damper's gain set to the value that is to bring the criterion to its limit
        damped = TARN.with_law(
            *dv.load_law(Path(dv.__file__).parent / "samples/tarn/laws/yaw_damper.toml")
        ).with_parameters({"yaw_damper_gain": "0.02 s"})
        slow = dv.trim(damped, airspeed="52 m/s", altitude="3000 m")
        before = handling_qualities(damped, slow, category="A")
        throttle = next(
            m for m in sensitivities_of_level(slow, before, most=50) if m.of == "Cn_r" and "times" in m.criterion
        )
        self.assertGreater(abs(throttle.change), 0.01)
        self.assertEqual(throttle.wanted, next(c for c in before.criteria if c.name == throttle.criterion).lows[0])
        after = handling_qualities(
            damped.with_parameters({"yaw_damper_gain": "0.6 s"}),
            dv.trim(damped.with_parameters({"yaw_damper_gain": "0.6 s"}), airspeed="52 m/s", altitude="3000 m"),
            category="A",
        )
        rows = {r["requirement"]: r for r in compare_handling(before, after)}
        self.assertEqual(rows["Dutch roll damping times frequency"]["change"], "better")
        self.assertEqual(rows["phugoid damping"]["change"], "the same level")

    def test_command(self) -> None:
        at = ("--airspeed", "62 m/s", "--altitude", "300 m")
        with tempfile.TemporaryDirectory() as folder:
            charts, picture = str(Path(folder) / "c.png"), str(Path(folder) / "m.png")
            code, text, _ = run(
                "handling", "tarn", *at, "--category", "C", "--criteria", "all", "--figure", charts, "--sensitivities", "--against",
                "loading=dropped", "--level", "2", "--json",
            )  # fmt: skip
            found = json.loads(text)
            self.assertEqual((code, found["level"]), (0, 2))
            self.assertTrue(found["from_memory"] and found["compared"])
            code, text, _ = run(
                "handling",
                "tarn",
                "--sweep",
                "altitude=0:3000:3 m",
                "--sweep",
                "airspeed=44:80:4 m/s",
                "--figure",
                picture,
            )
            self.assertIn("not held", text)
            for file in (charts, picture):
                self.assertGreater(Path(file).stat().st_size, 20_000)
        self.assertEqual(run("handling", "merle", "--airspeed", "0", "--altitude", "300 m")[0], 0)
        self.assertEqual(run("handling", "tarn", *at, "--criteria", "hover")[0], 1)
        self.assertEqual(run("handling", "tarn", *at, "--sweep", "airspeed=50:60:2 m/s", "--sensitivities")[0], 2)
