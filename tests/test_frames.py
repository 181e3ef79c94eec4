import math
import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from dravik import frames
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import air_at, density_altitude


class FramesTest(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(3)
        self.angles = np.stack(
            [rng.uniform(-math.pi, math.pi, 40), rng.uniform(-1.5, 1.5, 40), rng.uniform(-math.pi, math.pi, 40)], axis=1
        )

    def test_against_an_independent_library(self) -> None:
        matrices = frames.dcm_from_euler(*self.angles.T)
        # SciPy's intrinsic z-y'-x'' rotation takes body components to local ones: the transpose
        expected = Rotation.from_euler("ZYX", self.angles[:, ::-1]).as_matrix().transpose(0, 2, 1)
        np.testing.assert_allclose(matrices, expected, atol=1e-14)

    def test_round_trips(self) -> None:
        quaternions = frames.quaternion_from_euler(*self.angles.T)
        np.testing.assert_allclose(frames.euler_from_quaternion(quaternions), self.angles, atol=1e-12)
        np.testing.assert_allclose(np.linalg.norm(quaternions, axis=1), 1.0, atol=1e-15)
        for q in quaternions:
            back = frames.quaternion_from_dcm(frames.dcm_from_quaternion(q))
            np.testing.assert_allclose(back, q * np.sign(q[0]), atol=1e-14)

    def test_every_branch_of_the_quaternion_from_a_matrix(self) -> None:
        for axis in np.vstack([np.eye(3), -np.eye(3)]):
            q = np.array([1e-9, *axis])
            q /= np.linalg.norm(q)
            np.testing.assert_allclose(frames.quaternion_from_dcm(frames.dcm_from_quaternion(q)), q, atol=1e-14)

    def test_signs_of_the_three_angles(self) -> None:
        # nose up: gravity (down) shows along -x; right wing down: along +y; nose right: north shows along -y
        down, north = np.array([0, 0, 1.0]), np.array([1.0, 0, 0])
        self.assertLess((frames.dcm_from_euler(0, 0.1, 0) @ down)[0], -0.05)
        self.assertGreater((frames.dcm_from_euler(0.1, 0, 0) @ down)[1], 0.05)
        self.assertLess((frames.dcm_from_euler(0, 0, 0.1) @ north)[1], -0.05)

    def test_straight_up_and_down_keep_the_attitude(self) -> None:
        for theta in (math.pi / 2, -math.pi / 2):
            for phi, psi in ((0.0, 0.7), (0.4, 0.0), (0.4, 0.7), (-2.0, 1.0)):
                q = frames.quaternion_from_euler(phi, theta, psi)
                angles = frames.euler_from_quaternion(q)
                self.assertEqual(angles[2], 0.0)
                self.assertAlmostEqual(angles[1], theta, delta=1e-7)
                np.testing.assert_allclose(frames.dcm_from_euler(*angles), frames.dcm_from_quaternion(q), atol=2e-8)

    def test_turning_one_after_the_other(self) -> None:
        a, b = frames.quaternion_from_euler(0.3, -0.2, 1.0), frames.quaternion_from_euler(-0.5, 0.4, 0.1)
        both = frames.dcm_from_quaternion(frames.quaternion_multiply(a, b))
        np.testing.assert_allclose(both, frames.dcm_from_quaternion(b) @ frames.dcm_from_quaternion(a), atol=1e-15)
        none = frames.quaternion_multiply(a, frames.rotation_inverse(a))
        np.testing.assert_allclose(none, [1, 0, 0, 0], atol=1e-15)

    def test_station_axes(self) -> None:
        # a point 2 m aft, 3 m right and 1 m above the origin is behind, right of and above it in body axes
        np.testing.assert_array_equal(frames.body_from_station([9, 3, 2], (7, 0, 1)), [-2, 3, -1])
        np.testing.assert_array_equal(frames.station_from_body([-2, 3, -1], (7, 0, 1)), [9, 3, 2])


class AtmosphereTest(unittest.TestCase):
    def test_offset_changes_temperature_and_density_at_the_same_pressure(self) -> None:
        cold, warm = air_at(3000.0), air_at(3000.0, temperature_offset=20.0)
        self.assertEqual(cold.pressure, warm.pressure)
        self.assertAlmostEqual(float(warm.temperature - cold.temperature), 20.0)
        self.assertAlmostEqual(
            float(warm.density / cold.density), float(cold.temperature / warm.temperature), places=12
        )

    def test_density_altitude(self) -> None:
        heights = np.array([-1000.0, 0.0, 4000.0, 30000.0])
        np.testing.assert_allclose(density_altitude(air_at(heights).density), heights, atol=1e-6)
        self.assertGreater(float(density_altitude(air_at(2000.0, temperature_offset=15).density)), 2400.0)
        with self.assertRaisesRegex(DravikError, "occurs nowhere"):
            density_altitude(5.0)

    def test_range(self) -> None:
        for height in (90000.0, -6000.0, math.nan):
            with self.assertRaisesRegex(DravikError, "outside the standard atmosphere"):
                air_at([0.0, height])

    def test_hydrostatic_balance(self) -> None:
        # dp/dh = -rho g(h) holds at every height, also across layers: an independent property of the tables
        for height in (500.0, 10950.0, 15000.0, 25000.0, 50000.0, 79000.0):
            step = 2.0
            p1, p0 = air_at(height + step).pressure, air_at(height - step).pressure
            gravity = 9.80665 * (6356766.0 / (6356766.0 + height)) ** 2
            slope = float(p1 - p0) / (2 * step)
            self.assertAlmostEqual(slope / (-float(air_at(height).density) * gravity), 1.0, places=5)


if __name__ == "__main__":
    unittest.main()
