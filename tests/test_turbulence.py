"""Turbulence: filters against the standard's spectra, samples against the filters, gusts against the aircraft."""

import math
import unittest

import numpy as np
from scipy.integrate import quad

from dravik import Turbulence, fly, on_rail, sample, trim
from dravik.errors import DravikError
from dravik.flight.body import body_of
from dravik.flight.schedule import Schedule
from dravik.surroundings.gusts import GustStream
from dravik.surroundings.turbulence import (
    COMPONENTS,
    gust_filter,
    intensities,
    sampled_noise,
    scale_lengths,
    spectrum,
    steady_root,
)

FOOT = 0.3048
CASES = [
    {"airspeed": v, "height": h, "span": b, "wind_20ft": 15.4, "aloft": 3.05}
    for v, h, b in ((62.0, 150.0, 22.0), (15.0, 40.0, 3.2), (120.0, 450.0, 22.0), (200.0, 3000.0, 30.0))
]


class FilterTest(unittest.TestCase):
    def test_dryden_filters_have_the_standards_spectra(self) -> None:
        omega = np.geomspace(1e-3, 1e3, 120)
        for case in CASES:
            found = gust_filter(**case).spectra(omega)  # type: ignore[arg-type]
            for i, name in enumerate(COMPONENTS):
                np.testing.assert_allclose(found[i] / spectrum(name, omega, **case), 1.0, atol=1e-9, err_msg=name)  # type: ignore[arg-type]

    def test_variances(self) -> None:
        for case in CASES:
            sigmas = intensities(case["height"], case["wind_20ft"], case["aloft"])
            for model, share in (("dryden", 1.0), ("von_karman", 0.968)):
                variance = np.diag(gust_filter(**case, model=model).covariance())  # type: ignore[arg-type]
                np.testing.assert_allclose(variance[:3] / np.square(sigmas), share, atol=0.007 if share < 1 else 1e-9)
                for k in range(3):
                    # the formula itself holds the variance
                    whole = quad(
                        lambda w, k=k, c=case, m=model: float(spectrum("uvw"[k], w, **c, model=m)), 0, np.inf, limit=400
                    )[0]  # type: ignore[arg-type, misc]
                    self.assertAlmostEqual(whole / sigmas[k] ** 2, 1.0, delta=2e-3)

    def test_von_karmans_fit(self) -> None:
        case = CASES[0]
        for axis, name in enumerate("uvw"):
            length = scale_lengths(case["height"], "von_karman")[axis]
            for reach, error in ((15.0, 0.05), (60.0, 0.36)):
                omega = np.geomspace(0.01, reach, 60) * case["airspeed"] / length
                found = gust_filter(**case, model="von_karman").spectra(omega)[axis]  # type: ignore[arg-type]
                self.assertLess(np.max(np.abs(found / spectrum(name, omega, **case, model="von_karman") - 1.0)), error)  # type: ignore[arg-type]

    def test_discretisation_keeps_the_variance_at_any_interval(self) -> None:
        for case in CASES[:2]:
            filter_ = gust_filter(**case)  # type: ignore[arg-type]
            steady = steady_root(filter_) @ steady_root(filter_).T
            size = np.sqrt(np.outer(np.diag(steady), np.diag(steady))) + 1e-12
            for interval in (0.001, 0.02, 0.5, 60.0):
                transition, root = sampled_noise(filter_, interval)
                kept = transition @ steady @ transition.T + root @ root.T
                np.testing.assert_allclose((kept - steady) / size, 0.0, atol=1e-9)

    def test_scale_lengths_and_intensities(self) -> None:
        # MIL-F-8785C, 3.7.3.2: at 100 ft Lu = 100/(0.177 + 0.0823)^1.2 ft; sigma w a tenth of the wind at 20 ft
        self.assertAlmostEqual(scale_lengths(100 * FOOT)[0] / FOOT, 100 / 0.2593**1.2, places=9)
        self.assertAlmostEqual(scale_lengths(100 * FOOT)[2] / FOOT, 100.0)
        self.assertEqual(scale_lengths(5000.0), (1750 * FOOT,) * 3)
        self.assertAlmostEqual(scale_lengths(1500 * FOOT)[2] / FOOT, 0.5 * (1000 + 1750))
        self.assertAlmostEqual(scale_lengths(1000 * FOOT)[0] / FOOT, 1000.0, delta=1.0)  # isotropic at 1000 ft
        self.assertAlmostEqual(intensities(100 * FOOT, 15.0, 3.0)[0], 1.5 / 0.2593**0.4)
        self.assertEqual(intensities(1000.0, 15.0, 3.0), (3.0, 3.0, 3.0))


class SampleTest(unittest.TestCase):
    def test_air_turns_with_its_own_velocities(self) -> None:
        # a frozen field flown through at V turns at -dw/dx about body y and at +dv/dx about body z (x = V t); spectra
        # are blind to the sign. Below the span filter's corner the rotation is that slope; roll is independent of all
        case = CASES[0]
        interval = 0.02
        for model in ("dryden", "von_karman"):
            turbulence = Turbulence(
                seed=3,
                wind_20ft=case["wind_20ft"],
                aloft=case["aloft"],
                interval=interval,
                model=model,  # type: ignore[arg-type]
            )
            found = dict(
                zip(
                    COMPONENTS,
                    GustStream(turbulence, case["span"])(case["airspeed"], case["height"], np.arange(60000) * interval),
                    strict=True,
                )
            )
            slow = np.hanning(301) / np.hanning(301).sum()  # 6 s: well below the corner at pi V / 4 b = 2.2 rad/s
            smooth = {n: np.convolve(v, slow, mode="same") for n, v in found.items()}
            ahead = {n: np.gradient(v, interval) / case["airspeed"] for n, v in smooth.items()}
            for rotation, expected in (("q", -ahead["w"]), ("r", ahead["v"])):
                correlation = float(np.corrcoef(smooth[rotation], expected)[0, 1])
                self.assertGreater(correlation, 0.8, f"{model} {rotation}")
                size = float(np.std(smooth[rotation]) / np.std(expected))
                self.assertTrue(0.6 < size <= 1.05, f"{model} {rotation} {size}")
            for other in "uvw":
                self.assertLess(abs(float(np.corrcoef(found["p"], found[other])[0, 1])), 0.1, f"{model} {other}")

    def test_samples_have_the_variance_and_the_spectrum(self) -> None:
        for case, interval in ((CASES[0], 0.01), (CASES[0], 0.1), (CASES[2], 0.05)):
            turbulence = Turbulence(seed=11, wind_20ft=case["wind_20ft"], aloft=case["aloft"], interval=interval)
            stream = GustStream(turbulence, case["span"])
            count = 1 << 17
            found = stream(case["airspeed"], case["height"], np.arange(count) * interval)
            wanted = gust_filter(**case).covariance()  # type: ignore[arg-type]
            length = max(scale_lengths(case["height"]))
            # about so many independent values there are in so long a flight
            independent = count * interval * case["airspeed"] / (2.0 * length)
            for i, name in enumerate(COMPONENTS):
                share = float(np.var(found[i])) / wanted[i, i]
                self.assertLess(abs(share - 1.0), 5.0 * math.sqrt(2.0 / independent), f"{name} {interval}")
            segments = found[2].reshape(64, -1) * np.hanning(count // 64)
            power = (
                np.mean(np.abs(np.fft.rfft(segments, axis=1)) ** 2, axis=0)
                * interval
                / (math.pi * 0.375 * (count // 64))
            )
            omega = 2.0 * math.pi * np.fft.rfftfreq(count // 64, interval)
            for low, high in ((0.3, 0.9), (0.9, 2.7)):
                band = (omega > low) & (omega < high)
                ratio = power[band].mean() / spectrum("w", omega[band], **case).mean()  # type: ignore[arg-type]
                self.assertLess(abs(ratio - 1.0), 5.0 / math.sqrt(64 * band.sum()) + 0.05)

    def test_same_seed_same_gusts(self) -> None:
        tarn = sample("tarn")
        point = trim(tarn, airspeed=62, altitude=150)
        names = ("wind_north", "wind_up", "gust_roll", "gust_yaw")
        one, coarse, other = (
            fly(tarn, start=point, duration=12, dt=dt, turbulence=Turbulence(seed=s, follow=False))
            for dt, s in ((0.01, 5), (0.02, 5), (0.01, 6))
        )
        for name in names:
            np.testing.assert_allclose(one[name][::2], coarse[name], atol=1e-12)
            self.assertGreater(float(np.abs(one[name] - other[name]).max()), 1e-3)
        self.assertEqual(one.metadata["turbulence"]["seed"], 5)
        self.assertTrue(0.02 < float(np.std(one["nz"])) < 0.4)
        turned = fly(
            tarn,
            start=trim(tarn, airspeed=62, altitude=150, heading="90 deg"),
            duration=2,
            turbulence=Turbulence(seed=5, follow=False),
        )
        np.testing.assert_allclose(
            turned["wind_east"], one["wind_north"][:201], atol=1e-9
        )  # along the flight, whatever its heading

    def test_slow_aircraft_meet_gusts_as_at_five_metres_a_second(self) -> None:
        times = np.arange(0.0, 4.0, 0.05)
        slow, least, faster = (GustStream(Turbulence(seed=4), 3.0)(v, 100.0, times) for v in (0.0, 5.0, 6.0))
        np.testing.assert_array_equal(slow, least)
        self.assertGreater(float(np.abs(faster - least).max()), 1e-3)

    def test_following_gusts_are_joined_without_a_jump(self) -> None:
        # an aircraft that turns and slows down: every second other filters and another heading
        stream = GustStream(Turbulence(seed=4), 22.0)
        rows = []
        for k in range(20):
            times = np.arange(100 * k, 100 * (k + 1)) * 0.01
            rows.append(stream(20.0 + 4.0 * k, 40.0 + 20.0 * k, times))
        whole = np.concatenate(rows, axis=1)
        steps = np.abs(np.diff(whole, axis=1))
        for component in range(6):
            usual = np.quantile(steps[component], 0.999)
            joints = steps[component, 100::100]
            self.assertLess(float(joints.max()), 3.0 * usual, COMPONENTS[component])
        # as between quite other conditions every second: the joints are no rougher than what lies between them
        stream = GustStream(Turbulence(seed=4), 22.0)
        rows = [
            stream(20.0 + 60.0 * (k % 2), 40.0 + 360.0 * (k % 2), np.arange(100 * k, 100 * (k + 1)) * 0.01)
            for k in range(60)
        ]
        steps = np.diff(np.concatenate(rows, axis=1), axis=1)
        for component in range(6):
            rough, usual = (float(np.sqrt(np.mean(x[component] ** 2))) for x in (steps[:, 100::100], steps))
            self.assertLess(rough, 1.5 * usual, COMPONENTS[component])
        # a start at standstill does not keep the gusts of standstill: a rocket in light air is not spun
        hail = sample("hail")
        run = fly(
            hail,
            start=on_rail(hail, elevation="85 deg", inputs={"ignition": 1}),
            duration=12,
            turbulence=Turbulence("light"),
        )
        self.assertLess(float(np.degrees(np.abs(run["p"])).max()), 90.0)

    def test_gusts_lie_along_and_across_the_heading(self) -> None:
        tarn = sample("tarn")
        point = trim(tarn, airspeed=62, altitude=150, heading=math.radians(30))
        turbulence = Turbulence(seed=2, follow=False)
        run = fly(tarn, start=point, duration=2, turbulence=turbulence)
        gusts = GustStream(turbulence, tarn.definition.reference.span)(62.0, 150.0, run.time)
        c, k = math.cos(math.radians(30)), math.sin(math.radians(30))
        for name, wanted in (
            ("wind_north", gusts[0] * c - gusts[1] * k), ("wind_east", gusts[0] * k + gusts[1] * c),
            ("wind_up", -gusts[2]), ("gust_roll", gusts[3]), ("gust_pitch", gusts[4]), ("gust_yaw", gusts[5]),
        ):  # fmt: skip
            np.testing.assert_allclose(run[name], wanted, atol=1e-9, err_msg=name)
        # in a turn across south the axes go the short way round, within the second
        schedule = Schedule(body_of(tarn), np.array(point.inputs), {}, Turbulence(seed=2), 0.01, 0.0)
        schedule.gusts_for = (62.0, 150.0, 3.1, -3.1, 0.0)
        u = schedule.steps(50, 1, np.array(point.state))[0, 0]
        along, right = GustStream(Turbulence(seed=2), tarn.definition.reference.span)(
            62.0, 150.0, np.array([0.5, 0.51])
        )[:2, 0]
        middle = -3.1 + 0.5 * (6.2 - 2.0 * math.pi)
        self.assertAlmostEqual(
            u[tarn.input_index("wind_north")], along * math.cos(middle) - right * math.sin(middle), places=9
        )

    def test_the_air_that_turns_acts_as_a_rate_against_it(self) -> None:
        tarn = sample("tarn")
        point = trim(tarn, airspeed=62, altitude=150)
        at = {n: tarn.input_index(n) for n in ("gust_roll", "gust_pitch", "gust_yaw")}
        for name, rate, accel in (
            ("gust_roll", "p", "p_dot"),
            ("gust_pitch", "q", "q_dot"),
            ("gust_yaw", "r", "r_dot"),
        ):
            u = np.array(point.inputs)
            u[at[name]] = 0.05
            gust = tarn.values(point.state, u)
            moved = point.state.copy()
            moved[tarn.state_names.index(rate)] -= 0.05
            still = tarn.values(moved, np.array(point.inputs))
            if rate != "q":  # a real pitch rate brings alpha_dot with it
                self.assertAlmostEqual(gust[accel], still[accel], delta=2e-3)
            self.assertTrue(0.5 * still[accel] < gust[accel] <= 1.02 * still[accel])

    def test_refusals(self) -> None:
        for options, words in (
            ({"severity": "mild"}, "light, moderate, severe"),
            ({"model": "karman"}, "dryden or von_karman"),
            ({"interval": 0.0}, "above zero"),
            ({"wind_20ft": "3 m"}, "wind_20ft"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                Turbulence(**options)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
