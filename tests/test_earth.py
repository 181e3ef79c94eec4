"""The round Earth and the wind by place: closed forms, an inertial integration, the flat Earth as the near limit."""

import math
import unittest

import numpy as np

from dravik import fly, linearise, sample, trim
from dravik.aircraft import Aircraft
from dravik.errors import DravikError, FormulaError
from dravik.flight import Start
from dravik.surroundings import earth
from dravik.trimming import on_ground
from tests.support import DEG, craft
from tests.test_contact import body


def ball(latitude: float = 0.0, **more: object) -> Aircraft:
    """Return a body without any aerodynamics on the round Earth."""
    return craft(environment={"earth": "wgs84", "latitude": f"{latitude} deg", **more}, loading={"mass": 10.0})


def start(of: Aircraft, altitude: float, velocity: tuple[float, float, float] = (0, 0, 0), psi: float = 0.0) -> Start:
    return Start(
        of.state(position=(0, 0, altitude), velocity=velocity, attitude=(0, 0, psi)), of.default_inputs()
    )  # fmt: skip


def inertial(latitude: float, altitude: float, velocity_ned: np.ndarray, seconds: float) -> np.ndarray:
    """Return the Earth-fixed place after a flight integrated in inertial axes, with the same gravitation."""
    from scipy.integrate import solve_ivp

    place = earth.ecef_from_geodetic(latitude, 0.0, altitude)
    s, c = math.sin(latitude), math.cos(latitude)
    fixed = np.array([[-s, 0, -c], [0, 1, 0], [c, 0, -s]]) @ velocity_ned
    turning = np.array([0.0, 0.0, earth.ROTATION])

    def rates(_: float, y: np.ndarray) -> np.ndarray:
        d = float(np.linalg.norm(y[:3]))
        bulge, polar = 1.5 * earth.J2 * (earth.SEMI_MAJOR / d) ** 2, 5.0 * (y[2] / d) ** 2
        pull = -earth.MU / d**3 * y[:3] * (1.0 + bulge * (np.array([1.0, 1.0, 3.0]) - polar))
        return np.concatenate([y[3:], pull])

    first = np.concatenate([place, fixed + np.cross(turning, place)])
    end = solve_ivp(rates, (0, seconds), first, method="DOP853", rtol=1e-12, atol=1e-6).y[:3, -1]
    angle = earth.ROTATION * seconds
    back = np.array([[math.cos(angle), math.sin(angle), 0], [-math.sin(angle), math.cos(angle), 0], [0, 0, 1]])
    return np.asarray(back @ end)


class EllipsoidTest(unittest.TestCase):
    def test_gravity_between_equator_and_pole(self) -> None:
        for latitude in (20.0, 45.0, 70.0):
            s2 = math.sin(latitude * DEG) ** 2
            closed = 9.7803253359 * (1 + 0.00193185265241 * s2) / math.sqrt(1 - 0.00669437999014 * s2)
            north, down = earth.gravity_components(latitude * DEG, 0.0)
            self.assertAlmostEqual(down, closed, delta=6e-5)
            self.assertLess(abs(north), 7e-5)  # the ellipsoid is level

    def test_places_go_both_ways(self) -> None:
        lat, lon = np.array([-1.5, -0.3, 0.0, 0.8, 1.57]), np.array([3.0, -2.0, 0.0, 1.0, 0.5])
        for height in (-100.0, 0.0, 1e4, 4e5):
            back = earth.geodetic_from_ecef(earth.ecef_from_geodetic(lat, lon, height))
            for found, given in zip(back, (lat, lon, np.full(5, height)), strict=True):
                np.testing.assert_allclose(found, given, atol=3e-9)
        along, across = earth.curvature_radii(0.8)
        step = 1e-6
        ahead = earth.ecef_from_geodetic([0.8 + step, 0.8, 0.8], [0.0, step, 0.0], 0.0)
        self.assertAlmostEqual(float(np.linalg.norm(ahead[0] - ahead[2])) / (step * along), 1.0, places=6)
        self.assertAlmostEqual(
            float(np.linalg.norm(ahead[1] - ahead[2])) / (step * across * math.cos(0.8)), 1.0, places=6
        )


class RoundEarthTest(unittest.TestCase):
    def test_a_body_that_does_not_turn_in_space(self) -> None:
        # a gyro's axis moves against the ground with the Earth's rate, and its momentum stays
        still = ball(90 * 0.5)
        at = still.values(*_pair(start(still, 1e4)))
        rates = tuple(-at[f"earth_rate_{a}"] for a in "xyz")
        x = still.state(position=(0, 0, 1e4), velocity=(0, 0, 0), rates=rates)
        run = fly(
            still,
            start=Start(x, still.default_inputs()),
            duration=40,
            record=["p", "earth_rate_x", "r", "earth_rate_z"],
        )
        for rate, turning in (("p", "earth_rate_x"), ("r", "earth_rate_z")):
            self.assertLess(float(np.abs(run[rate] + run[turning]).max()), 1e-10)

    def test_flat_and_round_agree_as_far_as_the_curvature_says(self) -> None:
        tarn = sample("tarn")
        ends = {}
        for name, world in (("flat", tarn), ("round", tarn.with_environment(earth="wgs84", latitude="46 deg"))):
            flown = world if name == "round" else tarn.with_environment(gravity=9.8058, latitude="46 deg")
            point = trim(flown, airspeed="62 m/s", altitude="300 m", heading="90 deg")
            run = fly(flown, start=point, duration=60)
            self.assertLess(float(np.ptp(run["airspeed"])), 2e-3)
            ends[name] = run
        one, two = ends["flat"], ends["round"]
        # the trimmed pilot follows the parallel on both; the round one's metres are counted at the ellipsoid
        lifted = float(one["east"][-1]) * (1 - 300.0 / 6.38e6)
        self.assertAlmostEqual(float(two["east"][-1]), lifted, delta=0.05)
        self.assertAlmostEqual(float(two["altitude"][-1]), 300.0, delta=0.02)
        self.assertLess(abs(float(two["latitude"][-1]) - 46 * DEG) * 6.37e6, 0.25)
        for place in ("latitude", "longitude"):
            self.assertAlmostEqual(float(one[place][-1]), float(two[place][-1]), delta=5e-8)
        # let go level and without lift, the ground falls away under a straight line: half s^2/R less the drop
        thrown = ball(0.0)
        run = fly(thrown, start=start(thrown, 1000.0, (200.0, 0, 0)), duration=10)
        fall = 0.5 * float(thrown.values(*_pair(start(thrown, 1000.0)))["gravity_z"]) * 100.0
        self.assertAlmostEqual(float(run["altitude"][-1]) - (1000.0 - fall), 2000.0**2 / 2 / 6.36e6, delta=0.02)

    def test_the_modes_are_those_of_the_flat_earth(self) -> None:
        tarn = sample("tarn")
        roots = []
        for world in ({}, {"earth": "wgs84", "latitude": "46 deg"}):
            made = tarn.with_environment(**world)
            point = trim(made, airspeed="62 m/s", altitude="300 m", heading="60 deg")
            roots.append([m.eigenvalue for m in linearise(made, point).modes() if abs(m.eigenvalue) > 1e-3])
        np.testing.assert_allclose(roots[1], roots[0], rtol=3e-3, atol=2e-4)

    def test_altitudes_count_from_a_sea_level_above_the_ellipsoid(self) -> None:
        # 1000 m above a sea that stands 400 m above the ellipsoid is 1400 m above the ellipsoid: gravity and way over it
        world = {"earth": "wgs84", "latitude": "45 deg"}
        raised, plain = (body(environment={**world, "geoid": g}) for g in ("400 m", "0 m"))
        low, high = (fly(c, start=start(c, h, (90.0, 60.0, 0)), duration=5) for c, h in ((raised, 1e3), (plain, 1.4e3)))
        for name in ("gravity_z", "transport_rate_x", "transport_rate_y", "latitude", "longitude", "north", "east"):
            np.testing.assert_allclose(low[name][:2], high[name][:2], rtol=1e-12, atol=1e-15, err_msg=name)
        self.assertGreater(float(high["gravity_z"][0] - plain.values(*_pair(start(plain, 1.8e3)))["gravity_z"]), 1e-3)

    def test_resting_on_the_turning_earth(self) -> None:
        resting = body(environment={"earth": "wgs84", "latitude": "60 deg", "geoid": "40 m"})
        run = fly(resting, start=on_ground(resting, heading="35 deg"), duration=30)
        for name in ("north", "east", "altitude", "psi", "p"):
            self.assertLess(float(np.ptp(run[name][1000:])), 3e-9, name)  # once the tyres have bent

    def test_refusals(self) -> None:
        for world, words in (
            ({"earth": "wgs84", "gravity": 9.8}, "gravity is given beside the round Earth"),
            ({"latitude": "90 deg"}, "the origin is at a pole"),
            ({"earth": "cube"}, "flat"),
            ({"wind": {"layers": [{"altitude": 0.0, "speed": 3.0, "blows_from": 0}]}}, "two or more"),
            ({"wind": {"speed": 3.0, "roughness": 0.1, "exponent": 0.2}}, "one law"),
            ({"wind": {"spede": 3.0}}, "did you mean speed"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                craft().with_environment(**world)
        with self.assertRaisesRegex(FormulaError, "the wind and the air cannot depend on airspeed"):
            craft().with_environment(wind={"up": "0.1*airspeed"})


class WindTest(unittest.TestCase):
    def test_profiles_and_layers(self) -> None:
        def air(world: dict[str, object], altitude: float, north: float = 0.0) -> dict[str, float]:
            made = craft(environment=world)
            return made.values(made.state(position=(north, 0, altitude), velocity=(0, 0, 0)), made.default_inputs())

        west = {"speed": "10 m/s", "blows_from": "270 deg"}
        self.assertAlmostEqual(air({"wind": west}, 500.0)["air_east"], 10.0)  # it blows to where it does not come from
        for extra, height, share in (
            ({"roughness": "0.1 m"}, 10.0, 1.0),
            ({"roughness": "0.1 m"}, 100.0, math.log(1001) / math.log(101)),
            ({"exponent": 0.2}, 320.0, 2.0),
            ({"exponent": 0.2, "height": "20 m"}, 20.0, 1.0),
        ):
            found = air({"ground": 300.0, "wind": {**west, **extra}}, 300.0 + height)
            self.assertAlmostEqual(found["air_east"], 10.0 * share, places=9)
        layers = [
            {"altitude": 0.0, "speed": 4.0, "blows_from": "0 deg"},
            {"altitude": 1000.0, "speed": 8.0, "blows_from": "90 deg"},
        ]
        found = air({"wind": {"layers": layers, "up": "2*exp(-(north/100)**2)"}}, 500.0, 100.0)
        self.assertAlmostEqual(found["air_north"], -2.0)
        self.assertAlmostEqual(found["air_east"], -4.0)
        self.assertAlmostEqual(found["air_up"], 2.0 * math.exp(-1.0))
        self.assertAlmostEqual(found["airspeed"], math.sqrt(4 + 16 + 4 * math.exp(-2.0)))

    def test_the_airspeed_changes_with_the_wind_of_the_place(self) -> None:
        wind = {
            "speed": "9 m/s",
            "blows_from": "40 deg",
            "exponent": 0.2,
            "up": "3*sin(north/300)*cos(east/200) + 0.2*time",
        }
        for earth_shape in ("flat", "wgs84"):
            windy = sample("tarn").with_environment(earth=earth_shape, wind=wind)
            point = trim(windy, airspeed="62 m/s", altitude="150 m", flight_path="4 deg", heading="20 deg")
            run = fly(windy, start=point, duration=8, dt=0.005)
            for name, rate in (
                ("airspeed", "airspeed_dot"),
                ("alpha", "alpha_dot"),
                ("beta", "beta_dot"),
                ("air_up", "air_up_dot"),
            ):
                measured = np.gradient(run[name], run.time)[2:-2]
                np.testing.assert_allclose(run[rate][2:-2], measured, atol=2e-4 * max(1.0, float(np.ptp(run[name]))))
                self.assertGreater(float(np.ptp(measured)), 2e-5)

    def test_trims_fly_in_the_wind_of_the_place(self) -> None:
        windy = sample("tarn").with_environment(wind={"speed": "12 m/s", "blows_from": "0 deg", "exponent": 0.15})
        point = trim(windy, airspeed="62 m/s", altitude="300 m")
        share = 30.0**0.15
        self.assertAlmostEqual(point.signals["ground_speed"], 62.0 - 12.0 * share, places=6)
        held = fly(windy, start=point, duration=10)
        self.assertLess(float(np.ptp(held["airspeed"])), 1e-9)


def _pair(at: Start) -> tuple[np.ndarray, np.ndarray]:
    return at.state, at.inputs


if __name__ == "__main__":
    unittest.main()
