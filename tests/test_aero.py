import tempfile
import unittest
from pathlib import Path

import numpy as np

from dravik.aero import FlowState, Lattice, build_mesh, naca_profile, read_geometry, read_profile
from dravik.errors import DravikError
from tests.support import lattice_slope, wing

TEXT = """
format = 1
name = "drawn"
[reference]
area = "8 m^2"
chord = "1 m"
span = "8 m"
moment_point = ["0.25 m", "0 m", "0 m"]
[surfaces.wing]
panels = [4, 12]
sections = [
  { leading_edge = ["0 m", "0 m", "0 m"], chord = "1 m", incidence = "2 deg", profile = "2412" },
  { leading_edge = ["0 m", "4 m", "0.3 m"], chord = "1 m", profile = "2412" },
]
[surfaces.wing.controls.aileron]
span = [0.6, 0.95]
hinge = 0.75
gearing = "opposite"
[surfaces.tail]
panels = [3, 6]
sections = [
  { leading_edge = ["5 m", "0 m", "0.5 m"], chord = "0.6 m" },
  { leading_edge = ["5.2 m", "1.5 m", "0.5 m"], chord = "0.4 m" },
]
controls = { elevator = { span = [0, 1], hinge = 0.6 } }
[surfaces.fin]
panels = [3, 6]
mirrored = false
sections = [
  { leading_edge = ["5 m", "0 m", "0 m"], chord = "0.8 m" },
  { leading_edge = ["5.4 m", "0 m", "1.2 m"], chord = "0.5 m" },
]
controls = { rudder = { span = [0, 1], hinge = 0.65 } }
"""


class SectionTest(unittest.TestCase):
    def test_naca(self) -> None:
        four = naca_profile("2412")
        self.assertAlmostEqual(float(four.height(0.4)), 0.02, places=6)
        self.assertAlmostEqual(four.largest_thickness, 0.12, delta=2e-4)
        self.assertAlmostEqual(float(four.slope(0.4)), 0.0, places=3)
        # highest camber of the 230 line: 0.0184 at 0.15 chords (Abbott and von Doenhoff, section 6.5)
        five = naca_profile("23012")
        self.assertAlmostEqual(float(np.max(five.camber)), 0.0184, places=4)
        self.assertAlmostEqual(float(five.x[np.argmax(five.camber)]), 0.15, delta=0.01)
        for text in ("24", "0412", "29912", "clark"):
            with self.assertRaisesRegex(DravikError, "NACA"):
                naca_profile(text)

    def test_coordinates_give_the_section_back(self) -> None:
        exact = naca_profile("4415")
        top, bottom = exact.camber + 0.5 * exact.thickness, exact.camber - 0.5 * exact.thickness
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "shape.txt"
            rows = [*zip(exact.x[::-1], top[::-1], strict=True), *zip(exact.x[1:], bottom[1:], strict=True)]
            path.write_text("a title\n" + "\n".join(f"{x:.6f} {z:.6f}" for x, z in rows))
            back = read_profile(path)
            np.testing.assert_allclose(back.camber, exact.camber, atol=2e-5)
            path.write_text("1 0\n0.5 0.1\n0.7 0.1\n")
            with self.assertRaisesRegex(DravikError, "do not run from the tail"):
                read_profile(path)


class LatticeTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "geometry.toml"
        self.path.write_text(TEXT)
        self.geometry = read_geometry(self.path)
        self.lattice = Lattice(build_mesh(self.geometry), self.geometry)

    def test_signs_of_the_conventions(self) -> None:
        base = self.lattice.forces(FlowState(alpha=0.05))
        for control, coefficient, sign in (
            ("elevator", "Cm", -1), ("elevator", "CL", 1), ("aileron", "Cl", 1), ("aileron", "Cn", -1),
            ("rudder", "Cn", -1), ("rudder", "CY", 1), ("rudder", "Cl", 1),
        ):  # fmt: skip
            moved = self.lattice.forces(FlowState(alpha=0.05, controls={control: 0.05}))
            change = getattr(moved, coefficient) - getattr(base, coefficient)
            self.assertGreater(sign * change, 1e-6, f"{coefficient} by {control}")
        for coefficient, by, sign in (
            ("CL", "alpha", 1), ("Cm", "alpha", -1), ("Cl", "beta", -1), ("Cn", "beta", 1), ("CY", "beta", -1),
            ("Cl", "p_hat", -1), ("Cm", "q_hat", -1), ("Cn", "r_hat", -1), ("Cl", "r_hat", 1),
        ):  # fmt: skip
            self.assertGreater(sign * lattice_slope(self.lattice, coefficient, by), 1e-3, f"{coefficient} by {by}")

    def test_camber_against_thin_airfoil_theory(self) -> None:
        # a wing of very high aspect ratio at zero incidence approaches the section: CL = 2 pi * 0.036 for NACA 2412
        long = wing(
            [((0, 0, 0), 1.0), ((0, 200, 0), 1.0)], area=400, chord=1, span=400, panels=(40, 40), profile="2412"
        )
        x = 0.5 * (1 - np.cos(np.linspace(0, np.pi, 20001)))
        theta = np.linspace(0, np.pi, 20001)
        zero_lift = np.trapezoid(naca_profile("2412").slope(x) * (np.cos(theta) - 1), theta) / np.pi
        self.assertAlmostEqual(
            long.forces(FlowState()).CL, -2 * np.pi * zero_lift * -1, delta=0.03 * abs(2 * np.pi * zero_lift)
        )

    def test_flap_effectiveness_against_thin_airfoil_theory(self) -> None:
        # Glauert: (pi - theta + sin theta)/pi with cos theta = 1 - 2 E for a flap from E of the chord
        flap = {"flap": {"span": [0, 1], "hinge": 0.75}}
        long = wing([((0, 0, 0), 1.0), ((0, 200, 0), 1.0)], area=400, chord=1, span=400, panels=(40, 40), controls=flap)
        theta = np.arccos(1 - 2 * 0.75)
        expected = (np.pi - theta + np.sin(theta)) / np.pi
        deflected = long.forces(FlowState(controls={"flap": 0.01})).CL / 0.01
        self.assertAlmostEqual(deflected / lattice_slope(long, "CL", "alpha"), expected, delta=0.02)

    def test_mirrored_equals_drawn_whole(self) -> None:
        half = wing([((0, 0, 0), 1.0), ((1, 3, 0.2), 0.6)], area=5, chord=1, span=6, panels=(3, 10))
        sections = [((1, -3, 0.2), 0.6), ((0, 0, 0), 1.0), ((1, 3, 0.2), 0.6)]
        whole = wing(sections, area=5, chord=1, span=6, panels=(3, 20), mirrored=False)
        state = FlowState(alpha=0.1, beta=0.05, p_hat=0.02, q_hat=0.01, r_hat=-0.03)
        for name in ("CL", "CD", "CY", "Cl", "Cm", "Cn", "drag_trefftz"):
            self.assertAlmostEqual(getattr(half.forces(state), name), getattr(whole.forces(state), name), places=12)

    def test_the_datum_does_not_matter(self) -> None:
        state = FlowState(alpha=0.1, beta=0.05, p_hat=0.02, q_hat=0.01, r_hat=-0.03)
        here = wing(
            [((0, 0, 0), 1.0), ((1, 3, 0.2), 0.6)], area=5, chord=1, span=6, panels=(3, 8), moment_point=(0.3, 0, 0.1)
        )
        there = wing(
            [((7, 0, 2), 1.0), ((8, 3, 2.2), 0.6)], area=5, chord=1, span=6, panels=(3, 8), moment_point=(7.3, 0, 2.1)
        )
        for name in ("CL", "CD", "CY", "Cl", "Cm", "Cn"):
            self.assertAlmostEqual(getattr(here.forces(state), name), getattr(there.forces(state), name), places=11)

    def test_downwash_on_the_tail_comes_out_of_the_lattice(self) -> None:
        alone = self.geometry.model_copy(update={"surfaces": {"tail": self.geometry.surfaces["tail"]}})
        tail = lattice_slope(Lattice(build_mesh(alone), alone), "Cm", "alpha")
        without = {k: v for k, v in self.geometry.surfaces.items() if k != "tail"}
        bare = self.geometry.model_copy(update={"surfaces": without})
        share = (
            lattice_slope(self.lattice, "Cm", "alpha") - lattice_slope(Lattice(build_mesh(bare), bare), "Cm", "alpha")
        ) / tail
        # far behind an elliptic wing the downwash slope is 2 CL_alpha/(pi AR): what is left for the tail
        self.assertAlmostEqual(share, 1 - 2 * 4.6 / (np.pi * 8), delta=0.1)

    def test_refusals_name_the_place(self) -> None:
        for old, new, words in (
            ('chord = "0.5 m"', 'chord = "0 m"', "greater than 0"),
            ('["0 m", "4 m", "0.3 m"]', '["0 m", "0 m", "0 m"]', "sections 1 and 2 are at the same place across"),
            ('["0 m", "4 m", "0.3 m"]', '["0 m", "-4 m", "0.3 m"]', "left of the plane of symmetry"),
            ("span = [0.6, 0.95]", "span = [0.6, 1.2]", "less than or equal to 1"),
            ("span = [0.6, 0.95]", "span = [0.9, 0.6]", "do not rise"),
            ("hinge = 0.75", "hinges = 0.75", "did you mean hinge"),
            ('area = "8 m^2"', 'area = "0 m^2"', "greater than 0"),
        ):
            with self.subTest(new), self.assertRaises(DravikError) as caught:
                self.path.write_text(TEXT.replace(old, new, 1))
                read_geometry(self.path)
            self.assertIn(words, str(caught.exception))
            self.assertRegex(str(caught.exception), r"geometry\.toml:\d+: (surfaces|reference)")
        mesh = build_mesh(self.geometry)
        with self.assertRaisesRegex(DravikError, "Mach 0.9 is outside the method; expected 0 to 0.7"):
            Lattice(mesh, self.geometry, mach=0.9)
        with self.assertRaisesRegex(DravikError, "under ground"):
            Lattice(mesh, self.geometry, height=-1.0)
        with self.assertRaisesRegex(DravikError, "no control 'elevatr'.*did you mean elevator"):
            self.lattice.forces(FlowState(controls={"elevatr": 0.1}))


if __name__ == "__main__":
    unittest.main()
