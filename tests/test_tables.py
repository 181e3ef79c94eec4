import itertools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import PchipInterpolator, RegularGridInterpolator

from dravik.errors import DravikError
from dravik.tables import Axis, Table, read_table, write_table

RNG = np.random.default_rng(5)


def table(n: int, **options: str) -> Table:
    grids = [np.sort(RNG.uniform(-2, 2, 4 + k)) for k in range(n)]
    values = RNG.normal(size=[len(g) for g in grids])
    return Table("t", tuple(Axis(f"a{k}", g) for k, g in enumerate(grids)), values, **options)


class LookupTest(unittest.TestCase):
    def test_linear_against_an_independent_interpolator(self) -> None:
        for n in (1, 2, 3, 4):
            t = table(n)
            grids = [a.values for a in t.axes]
            points = np.stack([RNG.uniform(g[0], g[-1], 200) for g in grids], axis=1)
            expected = RegularGridInterpolator(grids, t.values)(points)
            np.testing.assert_allclose(t(*points.T), expected, atol=1e-13)
            extended = table(n, outside="extend")
            grids = [a.values for a in extended.axes]
            outside = np.stack([RNG.uniform(g[0] - 1, g[-1] + 1, 200) for g in grids], axis=1)
            free = RegularGridInterpolator(grids, extended.values, bounds_error=False, fill_value=None)
            np.testing.assert_allclose(extended(*outside.T), free(outside), atol=1e-11)

    def test_points_of_the_grid_come_back(self) -> None:
        for n, method in itertools.product((1, 2, 3, 4), ("linear", "smooth")):
            t = table(n, method=method)
            points = np.array(list(itertools.product(*(a.values for a in t.axes))))
            np.testing.assert_allclose(t(*points.T), t.values.ravel(), atol=1e-12)

    def test_smooth_in_one_dimension_and_monotone(self) -> None:
        x = np.array([0.0, 1.0, 1.5, 4.0, 5.0])
        y = np.array([0.0, 0.1, 2.0, 2.05, 7.0])
        t = Table("t", (Axis("x", x),), y, method="smooth")
        fine = np.linspace(0, 5, 501)
        np.testing.assert_allclose(t(fine), PchipInterpolator(x, y)(fine), atol=1e-13)
        self.assertTrue(np.all(np.diff(t(fine)) >= -1e-12))

    def test_smooth_has_no_jump_in_slope(self) -> None:
        t = table(3, method="smooth")
        middle = [float(a.values[1:-1].mean()) for a in t.axes]
        for k, axis in enumerate(t.axes):
            at = [np.full(4, m) for m in middle]
            h = 1e-6
            at[k] = axis.values[1] + np.array([-2 * h, -h, h, 2 * h])
            v = t(*at)
            self.assertAlmostEqual((v[1] - v[0]) / h, (v[3] - v[2]) / h, places=3)

    def test_outside(self) -> None:
        axis = (Axis("x", np.array([0.0, 1.0, 3.0])),)
        values = np.array([1.0, 2.0, 0.0])
        for method in ("linear", "smooth"):
            held = Table("t", axis, values, method=method)
            np.testing.assert_allclose(held([-5.0, 9.0]), [1.0, 0.0])
            self.assertTrue(np.isnan(held(np.nan)))
        np.testing.assert_allclose(Table("t", axis, values, outside="extend")([-1.0, 5.0]), [0.0, -2.0])
        smooth = Table("t", axis, values, method="smooth", outside="extend")
        out = smooth([3.0, 4.0, 5.0])
        self.assertAlmostEqual(out[2] - out[1], out[1] - out[0])
        with self.assertRaisesRegex(DravikError, r"x = 3.5 +is outside the table; expected 0 to 3"):
            Table("t", axis, values, outside="error")(3.5)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.floats(-1e3, 1e3), min_size=3, max_size=8), st.floats(0, 1))
    def test_smooth_stays_between_its_neighbours(self, heights: list[float], share: float) -> None:
        x = np.arange(len(heights), dtype=float)
        t = Table("t", (Axis("x", x),), np.array(heights), method="smooth")
        for i in range(len(heights) - 1):
            low, high = sorted(heights[i : i + 2])
            slack = 1e-9 * (1 + abs(low) + abs(high))
            self.assertTrue(low - slack <= float(t(i + share)) <= high + slack)


class FileTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "t.csv"

    def write(self, text: str) -> Path:
        self.path.write_text(text, encoding="utf-8")
        return self.path

    def test_units_and_columns(self) -> None:
        text = "# a comment\nalpha [deg], h [ft], CL, F [kN]\n-10,0,1,5\n-10,1000,2,6\n\n90,0,3,7\n90,1000,4,8\n"
        lift = read_table(self.write(text), column="CL", over=("alpha", "h"))
        force = read_table(self.path, name="force", column="F", over=("alpha", "h"))
        np.testing.assert_allclose(lift.axes[0].values, np.radians([-10, 90]))
        np.testing.assert_allclose(lift.axes[1].values, [0, 304.8])
        np.testing.assert_allclose(lift.values, [[1, 2], [3, 4]])
        np.testing.assert_allclose(force.values, [[5e3, 6e3], [7e3, 8e3]])
        self.assertEqual((lift.unit, force.unit, lift.axes[0].unit), ("", "N", "rad"))

    def test_round_trip(self) -> None:
        axes = (Axis("alpha", np.radians([-3, 0, 7.5]), "rad"), Axis("h", np.array([0.0, 100.0]), "m"))
        t = Table("moment", axes, RNG.normal(size=(3, 2)), "N*m")
        write_table(t, self.path)
        back = read_table(self.path)
        np.testing.assert_allclose(back.values, t.values, rtol=1e-13)
        np.testing.assert_allclose(back.axes[0].values, axes[0].values, rtol=1e-13)
        self.assertIn("alpha [deg],h [m],moment [N*m]", self.path.read_text())

    def test_refusals_name_file_and_line(self) -> None:
        for text, words in (
            ("x,y\n0,1\n2,3\n1,2\n", r":4: the point x = 1 is not in rising order"),
            ("x,y\n0,1\n0,3\n", r":3: the point x = 0 is repeated"),
            ("x,y\n0,1\n1,nan\n", r":3: y is 'nan'"),
            ("x,y\n0,1\n1,abc\n", r":3: y is 'abc'"),
            ("x,y\n0,1\n1,2,3\n", r":3: the row has 3 cells; expected 2"),
            ("x [deg],z [m],y\n0,0,1\n0,1,2\n5,0,3\n", r"1 of 4 points are missing: x = 5 deg, z = 1 m"),
            ("x [wibble],y\n0,1\n1,2\n", r":1: column x: 'wibble' is not a unit"),
            ("x (deg),y\n0,1\n1,2\n", r":1: column 'x \(deg\)' cannot be read"),
            ("x,x\n0,1\n1,2\n", r":1: column 'x' occurs twice"),
            ("x,y\n0,1\n", r"axis x has one value; expected two or more"),
            ("y\n1\n2\n", r":1: there is no axis; expected a column for each axis"),
            ("", "no data rows"),
        ):
            with self.subTest(text), self.assertRaisesRegex(DravikError, words) as caught:
                read_table(self.write(text))
            self.assertIn(str(self.path), str(caught.exception))
        self.write("alpha,CL\n0,1\n1,2\n")
        with self.assertRaisesRegex(DravikError, r"no column 'Cl'; expected one of alpha, CL; try: did you mean CL"):
            read_table(self.path, column="Cl")
        with self.assertRaisesRegex(DravikError, "no such table file"):
            read_table(self.path.with_name("nothing.csv"))
        with self.assertRaisesRegex(DravikError, "method 'cubic' is unknown; expected one of linear, smooth"):
            read_table(self.path, method="cubic")


if __name__ == "__main__":
    unittest.main()
