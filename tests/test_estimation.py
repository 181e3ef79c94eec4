"""The inertial filter: Jacobians by differences, its recursion by plain matrices, consistency over seeds, faults."""

import math
import tempfile
import unittest
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.aircraft.description.faults import FrozenSignal, LostControl
from dravik.compiled import compiled
from dravik.estimation import Consistency, estimate, filter_plan
from dravik.estimation import arrays as a
from dravik.estimation.arrays import FilterArrays, empty_arrays
from dravik.estimation.inertial import attitude, corrected, propagate
from dravik.estimation.updates import measure, predicted
from dravik.sensors import Estimator, Sensor

LAW = dv.load_law(sample_path("pika") / "laws" / "attitude_hold.toml")
Floats = np.ndarray[Any, np.dtype[np.float64]]


@compiled
def go_on(f: FilterArrays, z: Floats, t: float) -> None:
    propagate(f, z, t)


@compiled
def expect(f: FilterArrays, row: int, at: Floats, age: float, out: Floats) -> None:
    out[0], out[1], out[2] = predicted(f, row, at, 1, age)


@compiled
def correct(f: FilterArrays, dx: Floats) -> None:
    corrected(f, dx)


@compiled
def take(f: FilterArrays, row: int, z: Floats, count: int, at: Floats) -> None:
    measure(f, row, (z[0], z[1], z[2]), count, at, 1, 0.0)


@compiled
def matrix(x: Floats, out: Floats) -> None:
    m = attitude(x)
    for i in range(9):
        out[i] = m[i]


def some_filter() -> FilterArrays:
    """Return a filter in a banked, climbing flight, with a measurement of each kind."""
    f = empty_arrays(7, 5)
    rng = np.random.default_rng(4)
    x = f.nominal
    x[:4] = [0.9, 0.2, -0.1, 0.35]
    x[:4] /= np.linalg.norm(x[:4])
    x[a.V_ : a.V_ + 3], x[a.P_ : a.P_ + 3] = [12.0, -7.0, -2.0], [100.0, 30.0, -250.0]
    x[a.BG_ : a.BG_ + 3], x[a.BA_ : a.BA_ + 3] = 0.01 * rng.normal(size=3), 0.1 * rng.normal(size=3)
    x[a.W_ : a.W_ + 2], x[a.B_], x[a.PITOT_] = [3.0, 2.0], 1.5, 2.0
    x[a.MAG_ : a.MAG_ + 3] = [1e-7, -2e-7, 3e-7]
    x[a.RATE_ : a.RATE_ + 3], x[a.FORCE_ : a.FORCE_ + 3] = [0.1, -0.2, 0.3], [0.5, -1.0, -10.5]
    x[a.STEPS_], x[a.PHASE_], x[a.T_] = 3.0, 2.0, 0.0
    c = f.constants
    c[a.C_G], c[a.C_EARTH], c[a.C_EARTH + 1], c[a.C_RADIUS] = 9.80665, 5e-5, -5e-5, 6.371e6
    c[a.C_FIELD : a.C_FIELD + 3] = [2.2e-5, 1e-6, 4.2e-5]
    c[a.C_GATE] = 1e9
    for at in (a.C_MOUNT_G, a.C_MOUNT_A):
        c[at : at + 9] = np.eye(3).ravel()
    for row in range(7):
        f.measurements[row, a.M_KIND] = row
        f.measurements[row, a.M_R : a.M_R + 3] = 0.5
        f.measurements[row, a.M_ARM : a.M_ARM + 3] = [0.5, -0.2, 0.3]
    out = np.zeros(9)
    matrix(x, out)
    # the field as it is felt: that which is expected but for the bias, which the Jacobian leaves alone
    x[a.FELT_ : a.FELT_ + 3] = out.reshape(3, 3) @ c[a.C_FIELD : a.C_FIELD + 3]
    return f


def copied(f: FilterArrays) -> FilterArrays:
    return FilterArrays(*(part.copy() for part in f))


def moved(f: FilterArrays, k: int, size: float) -> FilterArrays:
    g, dx = copied(f), np.zeros(a.N)
    dx[k] = size
    correct(g, dx)
    return g


def apart(one: FilterArrays, other: FilterArrays) -> Floats:
    """Return the error of ``other`` from ``one``: what must be added to that."""
    m1, m2 = np.zeros(9), np.zeros(9)
    matrix(one.nominal, m1)
    matrix(other.nominal, m2)
    turn = m1.reshape(3, 3) @ m2.reshape(3, 3).T
    theta = 0.5 * np.array([turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]])
    return np.concatenate([theta, (other.nominal - one.nominal)[a.V_ : a.PITOT_ + 1]])


def row_at(f: FilterArrays) -> Floats:
    """Return the present as a row of the past."""
    return np.concatenate([[0.0], f.nominal[:10], f.nominal[a.RATE_ : a.RATE_ + 3]])


class JacobianTest(unittest.TestCase):
    def test_transition_against_differences(self) -> None:
        f, dt, z = some_filter(), 0.02, np.array([0.15, -0.22, 0.33, 0.6, -1.2, -10.2])
        base = copied(f)
        go_on(base, z, dt)
        phi = base.work[: a.N].copy()
        for k in range(a.N):
            # in units in which the error is of the size that it has in flight
            size = 1e-9 if a.MAG <= k < a.MAG + 3 else 1e-5
            ends = []
            for sign in (1.0, -1.0):
                g = moved(f, k, sign * size)
                go_on(g, z, dt)
                ends.append(apart(base, g))
            found = (ends[0] - ends[1]) / (2.0 * size)
            # the Earth's rate and its curvature are left out of the errors: 1e-4 rad/s times 10 m/s times the step
            np.testing.assert_allclose(phi[:, k], found, atol=3e-5 if k < a.POS else 1e-7, err_msg=str(k))
        c = f.constants
        c[a.C_EARTH], c[a.C_EARTH + 1], c[a.C_RADIUS] = 0.0, 0.0, 0.0
        base = copied(f)
        go_on(base, z, dt)
        for k in range(a.N):
            size = 1e-9 if a.MAG <= k < a.MAG + 3 else 1e-5
            ends = []
            for sign in (1.0, -1.0):
                g = moved(f, k, sign * size)
                go_on(g, z, dt)
                ends.append(apart(base, g))
            np.testing.assert_allclose(base.work[:22, k], (ends[0] - ends[1]) / (2.0 * size), atol=1e-7, err_msg=str(k))

    def test_measurements_against_differences(self) -> None:
        f = some_filter()
        for row in range(7):
            for age in (0.0,):
                out, one, other = np.zeros(3), np.zeros(3), np.zeros(3)
                base = copied(f)
                expect(base, row, row_at(base), age, out)
                count = 3 if row in (a.POSITION, a.VELOCITY, a.FIELD) else 1
                jacobian = base.work[2 * a.N : 2 * a.N + count].copy()
                for k in range(a.N):
                    size = 1e-9 if a.MAG <= k < a.MAG + 3 else 1e-5
                    g, h = moved(f, k, size), moved(f, k, -size)
                    expect(g, row, row_at(g), age, one)
                    expect(h, row, row_at(h), age, other)
                    found = (one - other)[:count] / (2.0 * size)
                    np.testing.assert_allclose(jacobian[:, k], found, atol=1e-7, err_msg=f"{row} {k}")

    def test_the_recursion_is_that_of_plain_matrices(self) -> None:
        f = some_filter()
        rng = np.random.default_rng(1)
        root = rng.normal(size=(a.N, a.N)) * 0.1
        f.covariance[...] = root @ root.T + 1e-3 * np.eye(a.N)
        c = f.constants
        c[: a.C_G] = rng.uniform(1e-6, 1e-3, a.C_G)
        c[a.C_MAG], c[a.C_PITOT] = 1e-4, 1e-3
        plain = f.covariance.copy()
        for step in range(1, 40):
            z = np.array([0.1, -0.2, 0.3, 0.5, -1.0, -10.0]) + 0.01 * rng.normal(size=6)
            go_on(f, z, 0.02 * step)
            phi, dt = f.work[: a.N].copy(), 0.02
            q = np.zeros((a.N, a.N))
            for at, place in ((a.THETA, a.C_GYRO), (a.BG, a.C_BG), (a.BA, a.C_BA), (a.MAG, a.C_MAG)):
                q[at : at + 3, at : at + 3] = c[place] * dt * np.eye(3)
            for i in range(3):
                v, p = a.VEL + i, a.POS + i
                q[v, v], q[p, p] = c[a.C_FORCE] * dt, c[a.C_FORCE] * dt**3 / 3.0
                q[v, p] = q[p, v] = 0.5 * c[a.C_FORCE] * dt**2
            q[a.WIND, a.WIND] = q[a.WIND + 1, a.WIND + 1] = c[a.C_WIND] * dt
            q[a.BARO, a.BARO], q[a.PITOT, a.PITOT] = c[a.C_BARO] * dt, c[a.C_PITOT] * dt
            plain = phi @ plain @ phi.T + q
            np.testing.assert_allclose(f.covariance, plain, rtol=1e-9, atol=1e-12)
            row, out = a.VELOCITY, np.zeros(3)
            expect(f, row, row_at(f), 0.0, out)
            h, r = f.work[2 * a.N : 2 * a.N + 3].copy(), 0.5 * np.eye(3)
            s = h @ plain @ h.T + r
            nu = 0.3 * rng.normal(size=3)
            take(f, row, out + nu, 3, row_at(f))
            plain = plain - plain @ h.T @ np.linalg.solve(s, h @ plain)
            np.testing.assert_allclose(f.covariance, plain, rtol=1e-9, atol=1e-12)
            self.assertAlmostEqual(f.results[row, a.R_NIS] / float(nu @ np.linalg.solve(s, nu)), 1.0, delta=1e-9)


def fitted(sensors: str = "cheap", **changes: Any) -> dv.Aircraft:
    craft = dv.sample("pika").with_law(*LAW).with_environment(wind="5 m/s from 250 deg")
    if changes:
        keys = craft.definition.estimators["navigation"].model_copy(update=changes)
        definition = craft.definition.model_copy(update={"estimators": {"navigation": keys}})
        craft = dv.Aircraft(definition, craft.tables, path=craft.path).with_law(*LAW)
        craft = craft.with_environment(wind="5 m/s from 250 deg")
    return craft.with_sensors(sensors, estimator="navigation")


def flown(craft: dv.Aircraft, seed: int = 0, seconds: float = 60.0, **options: Any) -> dv.Recording:
    point = dv.trim(craft, airspeed="16 m/s", altitude="300 m", heading="30 deg")
    turn = {"phi_command": dv.step("25 deg", at=10)}
    made = craft.with_parameters({"sensor_seed": seed})
    return dv.fly(made, start=point, duration=seconds, **{"controls": turn, **options})


@cache
def several() -> list[tuple[dv.Recording, Any]]:
    craft = fitted()
    runs = [flown(craft, seed) for seed in range(8)]
    return [(run, estimate(run, craft)) for run in runs]


class FlownTest(unittest.TestCase):
    def test_the_same_bits_in_flight_and_afterwards(self) -> None:
        run, found = several()[3]
        for name in found.names:
            np.testing.assert_array_equal(found[name], run[f"estimated_{name}"], err_msg=name)

    def test_errors_are_as_large_as_the_filter_says(self) -> None:
        outside, squares = [], []
        for run, found in several():
            error, covariance = found.errors(run)
            sigma = np.sqrt(np.diagonal(covariance, axis1=1, axis2=2))
            outside.append(np.mean(np.abs(error) > 3.0 * sigma))
            squares.append(found.nees(run).mean)
        self.assertLess(float(np.mean(outside)), 0.01)
        # of 8 flights with 9 errors: chi-square of 72 within 99.9 %, were each flight one number; they are a little
        # less sure, as errors that grow with the rate are taken for the largest
        self.assertTrue(0.45 < float(np.mean(squares)) < 1.4, np.mean(squares))
        for k, name in ((1, "static"), (3, "satellite")):
            judged = [found.consistency[k] for _, found in several()]
            self.assertEqual({c.name for c in judged}, {name})
            # each holds in 99 flights of 100
            self.assertGreaterEqual(sum(c.holds for c in judged), 7)
            self.assertLess(abs(judged[0].whiteness or 0.0), 0.15)

    def test_a_filter_that_is_told_too_little_noise_is_called_too_sure(self) -> None:
        run = several()[0][0]
        craft = fitted(more_noise=0.3)
        verdicts = {c.name: c for c in estimate(run, craft).consistency}
        self.assertFalse(verdicts["satellite"].holds)
        self.assertEqual(verdicts["satellite"].verdict, "too sure of itself")
        loose = {c.name: c for c in estimate(run, fitted(more_noise=3.0)).consistency}
        self.assertEqual(loose["satellite"].verdict, "less sure than it could be")

    def test_the_wind_is_found_after_one_turn(self) -> None:
        for run, found in several():
            for name in ("air_north", "air_east"):
                self.assertLess(abs(float(found[name][-1] - run[name][-1])), 0.5)

    def test_a_satellite_receiver_lost_for_half_a_minute(self) -> None:
        craft = fitted().with_script({"out": LostControl(kind="lost", signal="satellite", when="time > 20"),
                                      "too": LostControl(kind="lost", signal="satellite_speed", when="time > 20")})  # fmt: skip
        run = flown(craft, 2, 50.0)
        found = estimate(run, craft)
        error = np.hypot(found["north"] - run["north"], found["east"] - run["east"])
        sigma = np.hypot(found["position_north_sigma"], found["position_east_sigma"])
        self.assertLess(float(error[-1]), 3.0 * float(sigma[-1]))
        # airspeed and wind keep it: without them the tilt's error alone would be 20 m after 30 s
        self.assertLess(float(error[-1]), 40.0)
        self.assertGreater(float(sigma[-1]), 4.0 * float(sigma[1900]))

    def test_a_frozen_receiver_is_found_by_the_gate(self) -> None:
        craft = fitted().with_script({"ice": FrozenSignal(kind="frozen", signal="satellite", when="time > 20")})
        found = estimate(flown(craft, 1, 40.0), craft)
        times, _, _, taken = found.innovations("satellite")
        self.assertTrue(np.all(taken[times < 20.0]))
        # the altitude stays what it was; north and east are those of the circle once a turn
        self.assertLess(float(taken[times > 22.0][:, :2].mean()), 0.25)
        healthy = {c.name: c.refused for c in several()[1][1].consistency}
        self.assertEqual(healthy["satellite"], 0)

    def test_a_wrong_heading_at_the_start_is_recovered(self) -> None:
        craft = fitted(heading_spread=math.radians(40.0))
        for seed in (1, 2, 3):
            run = flown(craft, seed, 40.0)
            error = np.degrees(run["psi"] - run["estimated_psi"])
            error = (error + 180.0) % 360.0 - 180.0
            self.assertLess(abs(float(error[-1])), 2.0, seed)

    def test_laws_fly_on_estimates(self) -> None:
        craft = fitted().with_sensors("cheap", reads="estimates")
        run = flown(craft, 5, 40.0)
        late = run.time > 30.0
        self.assertAlmostEqual(float(np.degrees(run["phi"][late].mean())), 25.0, delta=1.5)
        self.assertIn("read_phi", run.names)
        np.testing.assert_array_equal(run["read_phi"], run["estimated_phi"])
        with self.assertRaisesRegex(dv.DravikError, "would take them for the truth"):
            dv.linearise(craft, dv.trim(craft, airspeed="16 m/s", altitude="300 m"))

    def test_sessions_save_and_go_on_to_the_last_bit(self) -> None:
        craft = fitted().with_sensors("cheap", reads="estimates")
        point = dv.trim(craft, airspeed="16 m/s", altitude="300 m", heading="30 deg")
        session = dv.Session(craft, start=point)
        session.step(2.0, phi_command=0.3)
        saved = session.save()
        session.step(1.0)
        first = session["estimated_phi"], session["phi"]
        names = ("gyro_x", "satellite_north", "estimated_phi", "read_phi", "phi")
        there = [session[n] for n in names]
        session.restore(saved)
        session.step(1.0)
        self.assertEqual([session[n] for n in names], there)
        # what is read between two steps is what a recording has of that instant
        kept = dv.fly(craft, start=point, duration=1.3, record=[*names])
        fresh = dv.Session(craft, start=point)
        fresh.step(1.25)
        for name in names:
            self.assertEqual(fresh[name], float(kept[name][125]), name)
        self.assertEqual(first, (session["estimated_phi"], session["phi"]))
        run = dv.fly(craft, start=point, duration=2.0)
        on = dv.fly(craft, start=dv.resume(craft, run), duration=1.0)
        whole = dv.fly(craft, start=point, duration=3.0)
        self.assertEqual(float(on["estimated_psi"][-1]), float(whole["estimated_psi"][-1]))

    def test_a_standing_start(self) -> None:
        craft = fitted("good", start="standing", standing_time=4.0)
        craft = craft.with_environment(ground=0.0, wind="0 m/s from 0 deg")
        still = dv.on_ground(craft, heading="70 deg", inputs={"brake": 1.0})
        run = dv.fly(craft, start=still, duration=10.0)
        found = estimate(run, craft)
        for name, within in (("phi", 0.2), ("theta", 0.2), ("psi", 1.0)):
            self.assertLess(abs(math.degrees(float(found[name][-1] - run[name][-1]))), within, name)
        self.assertLess(abs(float(found["ground_speed"][-1])), 0.05)
        self.assertLess(math.hypot(found["north"][-1] - run["north"][-1], found["east"][-1] - run["east"][-1]), 3.0)

    def test_from_the_rail_through_the_speed_of_sound(self) -> None:
        hail = dv.sample("hail")
        keys = hail.definition.estimators["navigation"].model_copy(
            update={"start": "standing", "standing_time": 2.0, "heading": math.radians(20.0), "lift_off": 15.0}
        )
        definition = hail.definition.model_copy(update={"estimators": {"navigation": keys}})
        craft = dv.Aircraft(definition, hail.tables, path=hail.path).with_sensors(estimator="navigation")
        start = dv.on_rail(craft, elevation="80 deg", heading="20 deg")
        for ignition, level in ((4.0, 0.5), (1.0, 3.0)):
            # in the second flight the motor burns before it has aligned: it goes on from the state that was given
            run = dv.fly(craft, start=start, duration=ignition + 6.0, controls={"ignition": dv.step(1, at=ignition)})
            found = estimate(run, craft)
            np.testing.assert_array_equal(found["theta"], run["estimated_theta"])
            self.assertGreater(float(run["mach"].max()), 1.5)
            self.assertLess(abs(math.degrees(found["theta"][-1] - run["theta"][-1])), level)
            self.assertLess(abs(float(found["altitude"][-1] - run["altitude"][-1])), 30.0 * level)
            times = found.innovations("barometer")[0]
            fast = run.time[np.argmax(run["mach"] > 0.7)]
            self.assertLess(float(times.max()), fast + 0.02)
            still = found.innovations("still")[0]
            # it stands from its alignment to the ignition, and is held to have moved within a tenth of a second
            self.assertEqual(len(still) > 0, ignition > 2.0)
            self.assertTrue(len(still) == 0 or float(still.max()) < ignition + 0.2)

    def test_what_is_missing_is_said(self) -> None:
        pika = dv.sample("pika")
        with self.assertRaisesRegex(dv.DravikError, "no estimator 'navigatoin'"):
            pika.with_sensors("cheap", estimator="navigatoin")
        for changes, words in (
            ({"gyro": "giro"}, "rate gyro 'giro'"), ({"measurements": ("pack_voltage",)}, "makes nothing"),
            ({"measurements": ("baro",)}, "no sensor 'baro'"), ({"ignore": {"gyro": "1"}}, "no measurement"),
            ({"rate": 33.0}, "does not fit steps"),
        ):  # fmt: skip
            with self.assertRaisesRegex(dv.DravikError, words):
                flown(fitted(**changes), 0, 1.0)
        with self.assertRaisesRegex(ValueError, "walk"):
            Estimator(wind_walk="1 m/s")
        craft = fitted()
        with self.assertRaisesRegex(dv.DravikError, "does not hold"):
            estimate(
                dv.fly(craft, start=dv.trim(craft, airspeed="16 m/s", altitude="300 m"), duration=1, record=["phi"]),
                craft,
            )
        self.assertIn("gyro_x", filter_plan(craft).reads)

    def test_a_vane_off_the_centre_of_gravity_in_upwash(self) -> None:
        craft = dv.sample("pika")
        own = {**craft.definition.sensors, "vane": Sensor(
            kind="alpha_vane", place=("0.2 m", "1.2 m", "0.1 m"), upwash=1.4, noise="0.3 deg", rate="50 Hz"
        )}  # fmt: skip
        keys = Estimator(measurements=("vane", "satellite", "satellite_speed", "static", "pitot"), sideslip="3 deg")
        changes = {"sensors": own, "sensor_sets": {}, "default_sensors": "", "estimators": {"navigation": keys}}
        made = dv.Aircraft(craft.definition.model_copy(update=changes), craft.tables, path=craft.path).with_law(*LAW)
        run = flown(made.with_sensors("all", estimator="navigation"), 3, 40.0)
        judged = {c.name: c for c in estimate(run, made.with_sensors("all")).consistency}["vane"]
        self.assertTrue(judged.holds, judged)
        self.assertLess(float(np.degrees(run["estimated_alpha"] - run["alpha"])[2000:].std()), 0.3)

    def test_what_is_no_number_is_not_judged(self) -> None:
        self.assertEqual(Consistency("x", 5, math.nan, 0.5, 1.5, 5, 0).verdict, "nothing to judge")
        self.assertFalse(Consistency("x", 5, math.nan, 0.5, 1.5, 5, 0).holds)

    def test_a_flight_goes_on_from_a_file(self) -> None:
        craft = fitted()
        point = dv.trim(craft, airspeed="16 m/s", altitude="300 m", heading="30 deg")
        with tempfile.TemporaryDirectory() as folder:
            dv.fly(craft, start=point, duration=0.1, save=f"{folder}/run.csv")
            text = (Path(folder) / "run.json").read_text() if (Path(folder) / "run.json").exists() else ""
            self.assertNotIn("Infinity", text)
            on = dv.fly(craft, start=dv.resume(craft, dv.read_recording(f"{folder}/run.csv")), duration=0.1)
        whole = dv.fly(craft, start=point, duration=0.2)
        self.assertEqual(float(on["estimated_psi"][-1]), float(whole["estimated_psi"][-1]))

    def test_what_cannot_be_seen_is_named(self) -> None:
        run = several()[0][0]
        self.assertEqual(several()[0][1].unseen, [])
        kinds = ("static", "magnetometer", "satellite", "satellite_speed")
        for measurements, wind, unseen in (
            (kinds, True, {"wind_north", "wind_east"}),
            (("static", "magnetometer", "pitot"), False, {"position_north", "position_east"}),
        ):
            found = set(estimate(run, fitted(measurements=measurements, sideslip=0.0)).unseen)
            self.assertLessEqual(unseen, found)
            self.assertEqual(wind, "position_north" not in found)

    def test_a_measurement_that_is_ignored(self) -> None:
        craft = fitted(ignore={"static": "time > 5"})
        found = estimate(flown(craft, 0, 10.0), craft)
        self.assertLess(float(found.innovations("static")[0].max()), 5.1)


if __name__ == "__main__":
    unittest.main()
