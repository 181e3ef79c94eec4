"""Sensors against closed forms: errors, kinematics at their place, samples, delays, faults, and who reads them."""

import math
import unittest
from functools import cache
from typing import Any

import numpy as np
from scipy import special, stats

import dravik as dv
from dravik.aircraft.description.faults import BiasedSignal, DelayedSignal, FrozenSignal, LostControl, NoisySignal
from dravik.kernel.random_numbers import normal, stream_of
from dravik.linear import linearise
from dravik.linear.sampled_laws import late_sensors, linearise_as_run
from dravik.sensors import Sensor, allan_deviation, dipole_field, error_budget, error_terms, expected_allan
from dravik.sensors.magnetism import G10, G11, H11, RADIUS
from dravik.surroundings.earth import ROTATION
from dravik.validation.standing_still import still_errors

G0 = 9.80665
PLACE = ("0.4 m", "0.7 m", "0.3 m")


def fitted(sensors: dict[str, Any], base: str = "pika", **more: Any) -> dv.Aircraft:
    """Return an aircraft with these sensors alone, on board."""
    craft = dv.sample(base)
    own = {n: Sensor(**keys) if isinstance(keys, dict) else keys for n, keys in sensors.items()}
    definition = craft.definition.model_copy(update={"sensors": own, "sensor_sets": {}, "default_sensors": ""})
    made = dv.Aircraft(definition, craft.tables, path=craft.path)
    if "environment" in more:
        made = made.with_environment(**more.pop("environment"))
    faults = more.pop("faults", {})
    made = made.with_sensors("all", **more)
    return made.with_script(faults) if faults else made


def flown(craft: dv.Aircraft, seconds: float = 20.0, seed: int = 0, **options: Any) -> dv.Recording:
    point = dv.trim(craft, airspeed="16 m/s", altitude="300 m")
    return dv.fly(craft.with_parameters({"sensor_seed": seed}), start=point, duration=seconds, **options)


@cache
def wild() -> dv.Recording:
    """Return a flight with large rates and sensors off the centre of gravity, turned."""
    craft = fitted(
        {
            "acc": {"kind": "accelerometer", "place": PLACE},
            "turned": {"kind": "accelerometer", "place": PLACE, "orientation": ("10 deg", "-20 deg", "70 deg")},
            "gyro": {"kind": "rate_gyro", "orientation": ("180 deg", "0 deg", "90 deg")},
            "sat": {"kind": "satellite_position", "place": PLACE},
            "speed": {"kind": "satellite_velocity", "place": PLACE},
            "vane": {"kind": "alpha_vane", "place": PLACE, "upwash": 1.3},
        }
    )
    moves = {
        "roll_stick": dv.doublet(0.8, at=0.5, width=1.0),
        "pedal": dv.doublet(0.8, at=0.8, width=0.7),
        "pitch_stick": dv.doublet(0.5, at=0.3, width=0.6),
    }
    return flown(craft, 3.0, controls=moves, dt=0.001)


class RandomTest(unittest.TestCase):
    def test_numbers_are_normal_and_depend_on_seed_stream_and_place_alone(self) -> None:
        own = np.array([normal(3, 77, k) for k in range(20000)])
        self.assertGreater(stats.kstest(own, "norm").pvalue, 1e-3)
        self.assertLess(abs(np.corrcoef(own[1:], own[:-1])[0, 1]), 4.0 / math.sqrt(len(own)))
        other = np.array([normal(4, 77, k) for k in range(20000)])
        self.assertLess(abs(np.corrcoef(own, other)[0, 1]), 4.0 / math.sqrt(len(own)))
        self.assertEqual(own[5], normal(3, 77, 5))

    def test_the_bits_are_those_of_the_published_mixing(self) -> None:
        mask, step = (1 << 64) - 1, 0x9E3779B97F4A7C15

        def mixed(z: int) -> int:
            z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & mask
            z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & mask
            return z ^ (z >> 31)

        for seed, stream, place in ((0, 0, 0), (9, stream_of("gyro_x noise"), 123456), (1, 5, -1)):
            z = mixed((seed + step) & mask)
            z = mixed(((z ^ stream) + step) & mask)
            z = mixed(((z ^ (place & mask)) + step) & mask)
            self.assertAlmostEqual(
                normal(seed, stream, place), float(special.ndtri(((z >> 11) + 0.5) * 2.0**-53)), delta=1e-14
            )
        self.assertLess(stream_of("x"), 2**53)


class ErrorTermsTest(unittest.TestCase):
    def test_noise_by_density_and_by_a_sample(self) -> None:
        cases = (
            ("0.02 deg/s/sqrt(Hz)", "one-sided", 0.02 * math.sqrt(50.0)),
            ("0.02 deg/s/sqrt(Hz)", "two-sided", 0.02 * math.sqrt(100.0)),
            ("0.3 deg/s", "one-sided", 0.3),
        )
        for noise, sides, sigma in cases:
            craft = fitted({"gyro": {"kind": "rate_gyro", "noise": noise, "noise_density": sides}})
            run = flown(craft, 60.0, record=["gyro_x", "gyro_x_ideal"])
            error = np.degrees(run["gyro_x"] - run["gyro_x_ideal"])
            # the standard deviation of 6000 samples is known to 1 %: four times that
            self.assertAlmostEqual(error.std() / sigma, 1.0, delta=0.04, msg=noise + sides)

    def test_random_walk_grows_with_time_and_instability_is_flat(self) -> None:
        craft = fitted({"gyro": {"kind": "rate_gyro", "random_walk": "0.01 deg/s/sqrt(s)", "rate": "10 Hz"}})
        ends = []
        for seed in range(24):
            run = flown(craft, 20.0, seed, record=["gyro_x", "gyro_y", "gyro_z", "gyro_x_ideal"], dt=0.02)
            ends += [np.degrees(run[f"gyro_{a}"][-1] - run[f"gyro_{a}"][0]) for a in "xyz"]
        grown = np.std(ends) / (0.01 * math.sqrt(20.0))
        self.assertAlmostEqual(grown, 1.0, delta=0.3)  # 72 numbers: 8 % for one standard deviation

    def test_bias_instability_has_the_allan_deviation_of_the_standard(self) -> None:
        # IEEE Std 952-1997, C.1.3: the flat part is sqrt(2 ln 2/pi) B. The draws are those of the kernel's cells
        craft = fitted({"s": {"kind": "signal", "signal": "east", "bias_instability": "1 m", "rate": "1 Hz",
                              "correlation_time": "1000 s"}})  # fmt: skip
        found = []
        for seed in range(6):
            run = flown(craft, 4000.0, seed, record=["s", "s_ideal"], dt=0.05, record_every="1 s")
            error = run["s"] - run["s_ideal"]
            for m in (16, 32, 64):
                means = error[: len(error) // m * m].reshape(-1, m).mean(axis=1)
                found.append(math.sqrt(0.5 * np.mean(np.diff(means) ** 2)))
        flat = math.sqrt(2.0 * math.log(2.0) / math.pi)
        self.assertAlmostEqual(float(np.mean(found)) / flat, 1.0, delta=0.12)

    def test_turn_on_bias_resolution_range_and_scale(self) -> None:
        # of a ramp: distance north, 16 m/s
        cases: tuple[tuple[dict[str, Any], Any], ...] = (
            ({"resolution": "0.5 m"}, lambda x, y: (np.abs(y - np.round(x / 0.5) * 0.5).max() < 1e-9)
             and abs((y - x).std() * math.sqrt(12.0) / 0.5 - 1.0) < 0.05),
            ({"range": "100 m"}, lambda x, y: np.allclose(y, np.clip(x, -100.0, 100.0))),
            ({"range": ("50 m", "70 m")}, lambda x, y: np.allclose(y, np.clip(x, 50.0, 70.0))),
            ({"scale_factor": 0.02}, lambda x, y: np.allclose(y, 1.02 * x)),
            ({"bias": "3 m"}, lambda x, y: np.allclose(y, x + 3.0)),
        )  # fmt: skip
        for keys, holds in cases:
            run = flown(fitted({"s": {"kind": "signal", "signal": "north", **keys}}), 10.0, record=["s", "s_ideal"])
            self.assertTrue(holds(run["s_ideal"], run["s"]), keys)
        craft = fitted({"s": {"kind": "signal", "signal": "north", "turn_on_bias": "2 m"}})
        drawn = [flown(craft, 0.1, seed)["s"] for seed in range(40)]
        self.assertTrue(all(np.ptp(s - s[0] - 16.0 * np.arange(len(s)) * 0.01) < 1e-3 for s in drawn))
        self.assertAlmostEqual(float(np.std([s[0] for s in drawn])), 2.0, delta=0.9)

    def test_samples_delay_and_dropouts_are_exact_at_any_step(self) -> None:
        for dt, rate, delay in ((0.01, 5.0, 0.34), (0.02, 5.0, 0.2), (0.005, 20.0, 0.0), (0.01, 5.0, 1.0)):
            keys = {"kind": "signal", "signal": "time", "rate": f"{rate} Hz", "delay": f"{delay} s"}
            run = flown(fitted({"s": keys}), 4.0, dt=dt, record=["s", "s_samples"])
            n, late, period = np.arange(len(run.time)), round(delay / dt), round(1.0 / rate / dt)
            taken = (n - late) // period
            expected = np.maximum(taken * period, 0) * dt
            np.testing.assert_allclose(run["s"], expected, atol=1e-9, err_msg=str((dt, rate, delay)))
            np.testing.assert_allclose(run["s_samples"], np.maximum(taken + 1, 0), atol=1e-12)
        run = flown(fitted({"s": {"kind": "signal", "signal": "time", "dropouts": 0.3, "rate": "100 Hz"}}), 30.0)
        self.assertAlmostEqual(1.0 - run["s_samples"][-1] / 3001.0, 0.3, delta=0.035)
        self.assertTrue(np.all(np.diff(run["s"]) >= 0.0))

    def test_jitter_is_an_error_of_time(self) -> None:
        run = flown(fitted({"s": {"kind": "signal", "signal": "north", "jitter": "2 ms"}}), 30.0)
        late = (run["s"] - run["s_ideal"])[200:] / 16.0
        self.assertAlmostEqual(float(late.std()), 0.002, delta=1e-4)

    def test_errors_do_not_depend_on_the_step(self) -> None:
        keys = {"kind": "signal", "signal": "phi", "noise": "1 deg", "random_walk": "0.1 deg/sqrt(s)", "rate": "10 Hz"}
        runs = [flown(fitted({"s": keys}), 5.0, 7, dt=dt) for dt in (0.01, 0.02)]
        errors = [r["s"] - r["s_ideal"] for r in runs]
        np.testing.assert_allclose(errors[0][::2], errors[1], atol=1e-7)

    def test_limits_of_a_thermometer_are_temperatures(self) -> None:
        terms = error_terms(
            Sensor(kind="temperature", range=("-40 degC", "60 degC"), bias="2 K"), "temperature difference", 1
        )
        np.testing.assert_allclose([terms.low[0], terms.high[0], terms.bias[0]], [233.15, 333.15, 2.0])

    def test_misalignment_and_cross_axis(self) -> None:
        terms = error_terms(Sensor(kind="rate_gyro", misalignment=("0 deg", "0 deg", "90 deg")), "angular rate", 3)
        # turned about z by 90 deg, the x axis points along nominal y
        np.testing.assert_allclose(terms.matrix @ [1.0, 2.0, 3.0], [2.0, -1.0, 3.0], atol=1e-12)
        terms = error_terms(
            Sensor(kind="rate_gyro", cross_axis=((0.0, 0.1, 0.0), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0))), "angular rate", 3
        )
        np.testing.assert_allclose(terms.matrix @ [1.0, 2.0, 3.0], [1.2, 2.0, 3.0])

    def test_what_cannot_be_is_refused_with_the_key(self) -> None:
        cases: tuple[tuple[dict[str, Any], str], ...] = (
            ({"kind": "rate_gyro", "noise": "-1 deg/s"}, "below zero"),
            ({"kind": "rate_gyro", "noise": 0.1}, "noise"),
            ({"kind": "rate_gyro", "noise": "1 m/s"}, "angular rate"),
            ({"kind": "rate_gyro", "random_walk": "1 deg/s"}, r"sqrt\(s\)"),
            ({"kind": "rate_gyro", "misalignment": ((1, 0, 0), (0, 1, 0), (0, 0.1, 1))}, "no rotation"),
            ({"kind": "rate_gyro", "misalignment": ((1, 0, 0), (0, 1, 0), (0, 0, -1))}, "no rotation"),
            ({"kind": "rate_gyro", "cross_axis": ((1, 0, 0), (0, 0, 0), (0, 0, 0))}, "diagonal"),
            ({"kind": "rate_gyro", "range": ("5 deg/s", "-5 deg/s")}, "does not rise"),
            ({"kind": "rate_gyro", "bias": ("1 deg/s", "1 deg/s")}, "2 values for 3"),
            ({"kind": "static_pressure", "misalignment": ("1 deg", "0 deg", "0 deg")}, "three axes"),
            ({"kind": "static_pressure", "acceleration_sensitivity": "1 deg/s/g"}, "has no acceleration_sensitivity"),
            ({"kind": "shaft_speed"}, "engine"),
            ({"kind": "rate_gyro", "battery": "main"}, "has no battery"),
            ({"kind": "alpha_vane", "dropouts": 1.0}, "less than 1"),
        )
        for keys, words in cases:
            with self.assertRaisesRegex(ValueError, words, msg=str(keys)):
                Sensor(**keys)
        with self.assertRaisesRegex(dv.DravikError, r"no signal 'alhpa'.*alpha"):
            fitted({"s": {"kind": "signal", "signal": "alhpa"}}).compiled()
        with self.assertRaisesRegex(dv.DravikError, "no whole number of steps"):
            flown(fitted({"s": {"kind": "signal", "signal": "phi", "rate": "200 Hz", "noise": "1 deg"}}), 1.0)
        with self.assertRaisesRegex(dv.DravikError, "already"):
            fitted({"phi": {"kind": "signal", "signal": "theta"}}).compiled()


class BudgetTest(unittest.TestCase):
    def test_the_allan_deviation_of_each_error_on_the_bench(self) -> None:
        # each alone; an averaging time of which there are 200 means is known to 5 %
        cases: tuple[tuple[dict[str, Any], float, float], ...] = (
            ({"noise": "0.2 deg/s/sqrt(Hz)", "noise_density": "two-sided"}, 4.0, 0.2 / 2.0),
            ({"random_walk": "0.03 deg/s/sqrt(s)"}, 12.0, 0.03 * math.sqrt(4.0)),
            ({"bias_instability": "1 deg/s", "correlation_time": "100 s"}, 16.0, 0.664),
        )
        for keys, time, stated in cases:
            craft = fitted({"gyro": {"kind": "rate_gyro", "rate": "10 Hz", **keys}})
            errors = [np.degrees(still_errors(craft.with_parameters({"sensor_seed": s}), 2000.0)[f"gyro_{a}"][1])
                      for s in (1, 2) for a in "xyz"]  # fmt: skip
            found = math.sqrt(float(np.mean([allan_deviation(e, 0.1, [time])[0] ** 2 for e in errors])))
            self.assertAlmostEqual(found / stated, 1.0, delta=0.12, msg=str(keys))
            terms = error_terms(craft.configuration.sensors["gyro"], "angular rate", 3)
            self.assertAlmostEqual(math.degrees(float(expected_allan(terms, [time])[0])) / stated, 1.0, delta=0.05)
        row = error_budget(dv.sample("pika").with_sensors("cheap").configuration.sensors, {})[0]
        self.assertAlmostEqual(math.degrees(row.noise), 0.012 * math.sqrt(50.0), delta=1e-9)
        self.assertAlmostEqual(math.degrees(row.walked), 0.0004 * 60.0, delta=1e-9)

    def test_slopes_of_an_allan_deviation_of_pure_noise_and_a_ramp(self) -> None:
        ramp = allan_deviation(0.5 * np.arange(1000.0), 1.0, [1.0, 10.0])
        np.testing.assert_allclose(ramp, 0.5 * np.array([1.0, 10.0]) / math.sqrt(2.0), rtol=1e-9)
        self.assertTrue(math.isnan(float(allan_deviation(np.arange(5.0), 1.0, [3.0])[0])))
        with self.assertRaisesRegex(dv.DravikError, "above zero"):
            allan_deviation([1.0, 2.0], 0.0, [1.0])

    def test_what_laws_read_is_told(self) -> None:
        craft = dv.sample("pika", laws=["attitude_hold"]).with_sensors("cheap", reads="sensors")
        self.assertEqual((craft.sources["r"], craft.sources["phi"]), ("sensor", "truth"))
        self.assertFalse(dv.sample("pika", laws=["attitude_hold"]).with_sensors("cheap").sources)
        run = flown(craft, 0.1)
        self.assertTrue(any("truth of phi, theta" in e.text for e in run.events))


class KinematicsTest(unittest.TestCase):
    def test_specific_force_off_the_centre_of_gravity(self) -> None:
        run = wild()
        craft = dv.sample("pika")
        arm = np.array([craft.loading.cg[0] - 0.4, 0.7, craft.loading.cg[2] - 0.3])
        rates, turning = (np.stack([run[n + e] for n in "pqr"], axis=1) for e in ("", "_dot"))
        centre = G0 * np.stack([run["nx"], run["ny"], -run["nz"]], axis=1)
        expected = centre + np.cross(turning, arm) + np.cross(rates, np.cross(rates, arm))
        found = np.stack([run[f"acc_{a}"] for a in "xyz"], axis=1)
        np.testing.assert_allclose(found, expected, atol=1e-10)
        self.assertGreater(float(np.abs(found - centre).max()), 1.0)

    def test_place_velocity_and_force_of_an_antenna_are_each_others_derivatives(self) -> None:
        run, dt = wild(), 0.001
        for place, speed, sign in (("sat_north", "speed_north_speed", 1), ("sat_altitude", "speed_climb", 1)):
            moved = (run[place][2:] - run[place][:-2]) / (2.0 * dt)
            np.testing.assert_allclose(moved, sign * run[speed][1:-1], atol=2e-4)
        # the specific force in local axes is the antenna's acceleration less gravity
        from dravik.frames import dcm_from_euler

        local = np.swapaxes(np.asarray(dcm_from_euler(run["phi"], run["theta"], run["psi"])), 1, 2)
        force = np.einsum("nij,nj->ni", local, np.stack([run[f"acc_{a}"] for a in "xyz"], axis=1))
        climb = (run["speed_climb"][2:] - run["speed_climb"][:-2]) / (2.0 * dt)
        # but for the instants at which a control jumps
        self.assertLess(float(np.quantile(np.abs(-force[1:-1, 2] - climb - G0), 0.995)), 2e-3)

    def test_a_sensor_turned_in_the_body(self) -> None:
        from dravik.frames import dcm_from_euler

        run = wild()
        axes = np.asarray(dcm_from_euler(*np.radians([10.0, -20.0, 70.0])))
        plain, turned = (np.stack([run[f"{n}_{a}"] for a in "xyz"], axis=1) for n in ("acc", "turned"))
        np.testing.assert_allclose(turned, plain @ axes.T, atol=1e-9)
        # on its back, its nose to the right: its x axis is body y, its y axis body x, its z axis up
        for axis, body, sign in (("x", "q", 1.0), ("y", "p", 1.0), ("z", "r", -1.0)):
            np.testing.assert_allclose(run[f"gyro_{axis}"], sign * run[body], atol=1e-12)

    def test_a_vane_in_a_turning_flow(self) -> None:
        run, craft = wild(), dv.sample("pika")
        x, y = craft.loading.cg[0] - 0.4, 0.7
        w, u = run["w_air"] + run["p"] * y - run["q"] * x, run["u_air"] + run["q"] * (craft.loading.cg[2] - 0.3)
        u -= run["r"] * y
        np.testing.assert_allclose(run["vane"], 1.3 * np.arctan2(w, u), atol=1e-9)

    def test_in_a_coordinated_turn_and_at_rest_on_the_turning_earth(self) -> None:
        keys = {"gyro": {"kind": "rate_gyro"}, "acc": {"kind": "accelerometer"}, "mag": {"kind": "magnetometer"}}
        craft = fitted(keys)
        point = dv.trim(craft, airspeed="16 m/s", altitude="300 m", turn="15 deg")
        force = np.array([point[f"acc_{a}"] for a in "xyz"])
        self.assertAlmostEqual(float(np.linalg.norm(force)), G0 / math.cos(math.radians(15.0)), delta=0.01)
        self.assertAlmostEqual(force[1], 0.0, delta=0.05)
        turn = G0 * math.tan(math.radians(15.0)) / 16.0
        self.assertAlmostEqual(point["gyro_y"], turn * math.sin(math.radians(15.0)), delta=1e-3)
        self.assertAlmostEqual(point["gyro_z"], turn * math.cos(math.radians(15.0)), delta=2e-3)
        north, east, down = dipole_field(0.0, 0.0, 300.0)
        self.assertAlmostEqual(
            math.hypot(*(point[f"mag_{a}"] for a in "xyz")), math.hypot(north, east, down), delta=1e-12
        )
        world = {"earth": "wgs84", "latitude": "46 deg", "longitude": "10 deg", "ground": 620.0}
        still = dv.on_ground(fitted(keys, environment=world), heading="20 deg")
        rate = np.array([still[f"gyro_{a}"] for a in "xyz"])
        self.assertAlmostEqual(float(np.linalg.norm(rate)) / ROTATION, 1.0, delta=1e-9)
        force = np.array([still[f"acc_{a}"] for a in "xyz"])
        self.assertAlmostEqual(float(np.linalg.norm(force)), 9.805, delta=0.005)
        # the part of the rate along the vertical is that of the latitude
        self.assertAlmostEqual(float(rate @ force / np.linalg.norm(force)) / ROTATION, math.sin(math.radians(46.0)), 3)

    def test_the_dipole_is_the_gradient_of_its_potential(self) -> None:
        def potential(latitude: float, longitude: float, radius: float) -> float:
            along = G11 * math.cos(longitude) + H11 * math.sin(longitude)
            return RADIUS**3 / radius**2 * (G10 * math.sin(latitude) + along * math.cos(latitude))

        at, r, d = (0.8, 0.2), RADIUS + 1000.0, 1e-5
        north = -(potential(at[0] + d, at[1], r) - potential(at[0] - d, at[1], r)) / (2.0 * d * r)
        east = -(potential(at[0], at[1] + d, r) - potential(at[0], at[1] - d, r)) / (2.0 * d * r * math.cos(at[0]))
        down = (potential(*at, r + 50.0) - potential(*at, r - 50.0)) / 100.0
        np.testing.assert_allclose(dipole_field(*at, 1000.0), [north, east, down], rtol=1e-6)


class ReadingTest(unittest.TestCase):
    def test_air_data_of_ideal_pressures_are_the_truth(self) -> None:
        keys = {
            "static": {"kind": "static_pressure"}, "pitot": {"kind": "differential_pressure"},
            "gyro": {"kind": "rate_gyro"}, "acc": {"kind": "accelerometer"}, "vane": {"kind": "alpha_vane"},
        }  # fmt: skip
        names = ("altitude", "airspeed", "mach", "calibrated_airspeed", "equivalent_airspeed", "dynamic_pressure", "q",
                 "nz", "alpha")  # fmt: skip
        law = dv.aircraft.LawDefinition(
            format=1, name="Reader", add={"elevator": " + ".join(f"0*{n}" for n in names)}
        )  # fmt: skip
        craft = fitted(keys).with_law(law).with_sensors("all", reads="sensors")
        point = dv.trim(craft, airspeed="18 m/s", altitude="1200 m")
        for name in names:
            self.assertAlmostEqual(point[f"read_{name}"], point[name], delta=1e-9 * abs(point[name]) + 1e-12, msg=name)

    def test_laws_read_what_the_switch_says(self) -> None:
        keys = {"gyro": {"kind": "rate_gyro", "bias": "3 deg/s"}}
        law = dv.aircraft.LawDefinition(format=1, name="Damper", add={"elevator": "0.1*q", "aileron": "-0.1*p"})
        craft = fitted(keys).with_law(law)
        for reads, q, p in (
            ("truth", 0.0, 0.0), ("sensors", 3.0, 3.0), ("q=sensors", 3.0, 0.0), ("sensors, q=truth", 0.0, 3.0),
        ):  # fmt: skip
            made = craft.with_sensors("all", reads=reads)
            point = dv.trim(made, airspeed="16 m/s", altitude="300 m")
            base = dv.trim(craft.with_sensors("none"), airspeed="16 m/s", altitude="300 m")
            moved = [math.degrees(made.values(base.state if len(base.state) == len(point.state) else point.state,
                                              base.inputs, [f"{n}_command"])[f"{n}_command"]) -
                     math.degrees(base[f"{n}_command"]) for n in ("elevator", "aileron")]  # fmt: skip
            self.assertAlmostEqual(moved[0], 0.1 * q, delta=1e-6, msg=reads)
            self.assertAlmostEqual(moved[1], -0.1 * p, delta=1e-6, msg=reads)
        for reads, words in (
            ("radar", "truth, sensors or estimates"), ("airspeed=sensors", "no law reads airspeed"),
            ("tehta=sensors", "no signal"), ("q=sensors,q=truth", "said twice"),
        ):  # fmt: skip
            with self.assertRaisesRegex(dv.DravikError, words):
                craft.with_sensors("all", reads=reads).compiled()

    def test_sets(self) -> None:
        pika = dv.sample("pika")
        bias = [
            dv.trim(pika.with_sensors(name), airspeed="16 m/s", altitude="300 m")
            .craft.configuration.sensors["gyro"]
            .noise
            for name in ("cheap", "good", "ideal")
        ]
        self.assertEqual(bias, ["0.012 deg/s/sqrt(Hz)", "0.003 deg/s/sqrt(Hz)", None])
        self.assertFalse(pika.with_sensors("good").with_sensors("none").configuration.sensing)
        for name, words in (("goood", "good"), ("", "")):
            if words:
                with self.assertRaisesRegex(dv.DravikError, words):
                    pika.with_sensors(name)
        with self.assertRaisesRegex(dv.DravikError, "has no sensors"):
            dv.sample("tarn").with_sensors()
        with self.assertRaisesRegex(dv.DravikError, "no sensors are on board"):
            pika.with_sensors("none", reads="sensors")

    def test_faults_of_sensors_concern_all_their_outputs(self) -> None:
        faults: dict[str, Any] = {
            "still": FrozenSignal(kind="frozen", signal="s", when="time > 2"),
            "off": BiasedSignal(kind="biased", signal="s", by="10 m", when="time > 2"),
            "away": LostControl(kind="lost", signal="s", when="time > 2"),
            "rough": NoisySignal(kind="noisy", signal="s", by="3 m", when="time > 2"),
            "slow": DelayedSignal(kind="delayed", signal="s", delay="0.5 s", when="time > 2"),
        }
        for name, fault in faults.items():
            keys = {"kind": "satellite_position", "rate": "50 Hz"}
            run = flown(
                fitted({"s": keys}, faults={name: fault}), 6.0, record=["s_north", "s_east", "s_samples", "north"]
            )
            before, after = run.time < 2.0, run.time > 2.6
            error = run["s_north"] - run["north"]
            self.assertLess(np.abs(error[before]).max(), 16.0 * 0.02 + 1e-6, name)
            match name:
                case "still" | "away":
                    self.assertLess(np.ptp(run["s_north"][after]), 1e-9, name)
                    self.assertEqual(name == "away", run["s_samples"][-1] < 110.0)
                case "off":
                    np.testing.assert_allclose(run["s_east"][after], 10.0, atol=0.2)
                case "rough":
                    self.assertAlmostEqual(float(run["s_east"][after].std()), 3.0, delta=0.8)
                    self.assertLess(abs(np.corrcoef(error[after][::2], run["s_east"][after][::2])[0, 1]), 0.3)
                case "slow":
                    np.testing.assert_allclose(error[after], -8.0, atol=0.4)
        lost = LostControl(kind="lost", signal="s", when="time > 1")
        run = flown(fitted({"s": {"kind": "satellite_position"}}, faults={"x": lost}), 3.0)
        self.assertLess(np.ptp(run["s_north"][run.time > 1.1]), 1e-9)
        one = LostControl(kind="lost", signal="s_north", when="time > 1")
        with self.assertRaisesRegex(dv.DravikError, "one output of s"):
            fitted({"s": {"kind": "satellite_position"}}, faults={"x": one}).compiled()
        with self.assertRaisesRegex(dv.DravikError, "no sensor"):
            dv.sample("pika").with_script({"x": LostControl(kind="lost", signal="q", when="time > 1")}).compiled()

    def test_readings_from_outside(self) -> None:
        craft = fitted({"s": {"kind": "satellite_position"}, "t": {"kind": "static_pressure"}}, fed=["s"])
        point = dv.trim(craft, airspeed="16 m/s", altitude="300 m")
        session = dv.Session(craft, start=point)
        session.step(0.1, s_north_added=5.0)
        self.assertAlmostEqual(session["s_north"] - session["north"], 5.0, delta=1e-9)
        session.step(0.1, s_replaced=1.0, s_north_given=77.0)
        self.assertEqual(session["s_north"], 77.0)
        craft = fitted({"e": {"kind": "control_position", "control": "elevator"}}, fed=["e"])
        self.assertEqual((craft.inputs["e_given"].unit, craft.signals["e_added"].unit), ("rad", "rad"))
        with self.assertRaisesRegex(dv.DravikError, "no sensor 'x' to feed"):
            fitted({"s": {"kind": "satellite_position"}}, fed=["x"]).compiled()


class LinearTest(unittest.TestCase):
    def test_lag_and_lateness_count_in_linear_models(self) -> None:
        law = dv.aircraft.LawDefinition(format=1, name="Damper", add={"elevator": "0.1*q"})
        keys = {"gyro": {"kind": "rate_gyro", "lag": "0.02 s", "rate": "50 Hz", "delay": "0.03 s", "noise": "1 deg/s"}}
        craft = fitted(keys).with_law(law).with_sensors("all", reads="sensors")
        self.assertEqual(late_sensors(craft), {"gyro_y": 0.03 + 0.01})
        point = dv.trim(craft, airspeed="16 m/s", altitude="300 m")
        plain, late = (
            make(craft, point, cut=["elevator_command"], outputs=["elevator_command", "q"])
            for make in (linearise, linearise_as_run)
        )
        for w in (2.0, 10.0):
            ratio = []
            for model in (plain, late):
                h = model.frequency_response([w])[0]
                column = model.inputs.index("elevator_command_injected")
                ratio.append(
                    complex(h[model.outputs.index("elevator_command"), column] / h[model.outputs.index("q"), column])
                )
            self.assertAlmostEqual(ratio[0] / 0.1, 1.0 / (1.0 + 0.02j * w), delta=1e-6)
            self.assertAlmostEqual(ratio[1] / ratio[0], np.exp(-0.04j * w), delta=1e-4)


if __name__ == "__main__":
    unittest.main()
