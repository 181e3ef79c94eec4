"""Mach numbers in the lattice and in the tables of surfaces: against closed forms, and on to trims and maps."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.aero import Airframe, FlowState, Lattice, build_mesh, build_tables, read_coefficients, read_geometry
from dravik.aero.drawing.geometry import Geometry
from dravik.errors import DravikError
from tests.test_cli import run

DEG = math.pi / 180.0


def drawn(text: str) -> Geometry:
    """Return the drawing of a text."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "geometry.toml"
        path.write_text(text)
        return read_geometry(path)


def wing(span: float, sweep: float, panels: tuple[int, int] = (1, 160)) -> Geometry:
    """Return a plate of unit chord, swept by an angle in degrees."""
    back = 0.5 * span * math.tan(sweep * DEG)
    return drawn(f"""format = 1
name = "Plate"
reference = {{ area = {span!r}, chord = 1.0, span = {span!r}, moment_point = [0.0, 0.0, 0.0] }}
[surfaces.plate]
panels = [{panels[0]}, {panels[1]}]
sections = [
  {{ leading_edge = [0.0, 0.0, 0.0], chord = 1.0 }},
  {{ leading_edge = [{back!r}, {0.5 * span!r}, 0.0], chord = 1.0 }},
]
""")


JET = """format = 1
name = "Sleek"
[reference]
area = "30 m^2"
chord = "2.4 m"
span = "13 m"
moment_point = ["6.6 m", "0 m", "0 m"]
[table_grid]
airspeed = "200 m/s"
altitude = "9000 m"
mach = [0.2, 0.5, 0.7]
alpha_step = "4 deg"
beta_step = "10 deg"
settings = 4
[surfaces.wing]
panels = [2, 6]
sections = [
  { leading_edge = ["4.4 m", "0 m", "0 m"], chord = "3.4 m", profile = "2412" },
  { leading_edge = ["7.6 m", "6.5 m", "0.3 m"], chord = "1.2 m", profile = "2412" },
]
controls = { aileron = { span = [0.6, 0.95], hinge = 0.75, gearing = "opposite", range = ["-20 deg", "20 deg"] } }
[surfaces.tail]
panels = [2, 4]
sections = [
  { leading_edge = ["12.0 m", "0 m", "0.5 m"], chord = "1.6 m" },
  { leading_edge = ["13.4 m", "2.4 m", "0.5 m"], chord = "0.8 m" },
]
controls = { elevator = { span = [0.1, 1.0], hinge = 0.7, range = ["-25 deg", "15 deg"] } }
[surfaces.fin]
mirrored = false
panels = [2, 4]
sections = [
  { leading_edge = ["11.0 m", "0 m", "0.6 m"], chord = "2.2 m" },
  { leading_edge = ["13.2 m", "0 m", "3.0 m"], chord = "1.1 m" },
]
controls = { rudder = { span = [0.1, 1.0], hinge = 0.7, range = ["-25 deg", "25 deg"] } }
"""
CRAFT = """format = 1
name = "Sleek"
include = ["aero/aero.toml"]
[envelope]
airspeed = ["120 m/s", "210 m/s"]
altitude = ["0 m", "9000 m"]
[loadings.only]
mass = "8000 kg"
cg = ["6.4 m", "0 m", "0 m"]
Ixx = "20000 kg*m^2"
Iyy = "50000 kg*m^2"
Izz = "65000 kg*m^2"
[controls]
elevator = { range = ["-25 deg", "15 deg"], trim = true }
aileron = { range = ["-20 deg", "20 deg"], trim = true }
rudder = { range = ["-25 deg", "25 deg"], trim = true }
[inputs]
throttle = { range = [0, 1], trim = true }
[engines.jet]
position = ["11 m", "0 m", "0.4 m"]
thrust = "30000*power_jet*(1 - 0.3*mach)"
command = "throttle"
"""


class LatticeTest(unittest.TestCase):
    def test_a_strip_and_a_swept_wing_by_the_rule(self) -> None:
        # of a long plate the slope per angle is 2 pi cos(sweep)/sqrt(1 - (M cos(sweep))^2): Prandtl and Glauert's rule
        # with the component across, as in R. T. Jones, NACA Report 863; a span of 2000 chords lacks 0.2 % at the tips
        for sweep in (0.0, 30.0, 45.0, -35.0):
            geometry, across = wing(2000.0, sweep), math.cos(sweep * DEG)
            mesh = build_mesh(geometry)
            for mach in (0.0, 0.4, 0.69):
                lattice = Lattice(mesh, geometry, mach=mach)
                slope = lattice.forces(FlowState(alpha=1e-4)).CL / 1e-4
                expected = 2.0 * math.pi * across / math.sqrt(1.0 - (mach * across) ** 2)
                with self.subTest(sweep=sweep, mach=mach):
                    self.assertAlmostEqual(slope / expected, 1.0, delta=4e-3)

    def test_a_wing_of_finite_span_is_the_stretched_one(self) -> None:
        # Goethert: CL by alpha at Mach M is that of the wing of b sqrt(1 - M^2), tan(sweep)/sqrt(1 - M^2), over the root
        mach = 0.6
        beta = math.sqrt(1.0 - mach**2)
        plain = wing(8.0, 25.0, (4, 24))
        narrow = wing(8.0 * beta, math.atan(math.tan(25.0 * DEG) / beta) / DEG, (4, 24))
        fast = Lattice(build_mesh(plain), plain, mach=mach).forces(FlowState(alpha=1e-4)).CL
        slow = Lattice(build_mesh(narrow), narrow).forces(FlowState(alpha=1e-4)).CL
        self.assertAlmostEqual(fast * beta / slow, 1.0, delta=1e-5)

    def test_its_limit_goes_by_the_component_across(self) -> None:
        for sweep, most in ((0.0, 0.7), (30.0, 0.7 / math.cos(30.0 * DEG)), (60.0, 0.9)):
            geometry = wing(10.0, sweep, (2, 8))
            mesh = build_mesh(geometry)
            Lattice(mesh, geometry, mach=most - 1e-6)
            with self.assertRaisesRegex(DravikError, f"outside the method; expected 0 to {most:.3g} for this drawing"):
                Lattice(mesh, geometry, mach=most + 1e-3)


class TablesTest(unittest.TestCase):
    folder: "tempfile.TemporaryDirectory[str]"

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory()
        cls.home = Path(cls.folder.name)
        cls.geometry = drawn(JET)
        build_tables(cls.geometry).write(cls.home / "aero")
        (cls.home / "aircraft.toml").write_text(CRAFT)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.folder.cleanup()

    def test_tables_say_what_the_lattice_says_at_each_mach_number(self) -> None:
        found = read_coefficients(self.home / "aero")
        for mach in (0.2, 0.5, 0.7):
            flow = Airframe(self.geometry, mach=mach)
            state = FlowState(alpha=4.0 * DEG, beta=10.0 * DEG)
            whole = flow.coefficients([state])
            told = found.at(alpha=4.0 * DEG, beta=10.0 * DEG, mach=mach)
            for name in ("CL", "CD", "CY", "Cl", "Cm", "Cn"):
                self.assertAlmostEqual(float(told[name]), float(whole[name][0]), delta=2e-6, msg=f"{name} at {mach}")
            damped = found.slopes("q_hat", alpha=4.0 * DEG, mach=mach)["Cm"]
            sides = flow.coefficients([FlowState(alpha=4.0 * DEG, q_hat=q) for q in (0.01, -0.01)])["Cm"]
            self.assertAlmostEqual(float(damped), float(sides[0] - sides[1]) / 0.02, delta=1e-4)

    def test_trims_and_maps_over_mach(self) -> None:
        craft = dv.load(self.home)
        swept = dv.trim_sweep(craft, {"altitude": "3000, 8000 m", "mach": "0.45:0.7:6"})
        self.assertEqual(swept.held, 12)
        coefficients = read_coefficients(self.home / "aero")
        for point in swept.points:
            assert point is not None
            told = coefficients.at(alpha=point["alpha_point"], mach=point["mach"], elevator=point["elevator"])
            self.assertAlmostEqual(point["CL"], float(told["CL"]), places=9)
        # at one lift coefficient the faster flight needs less incidence: by the rule, about sqrt(1 - (M cos sweep)^2)
        slow, fast = (coefficients.slopes("alpha", alpha=2 * DEG, mach=m)["CL"] for m in (0.5, 0.7))
        self.assertGreater(float(fast / slow), 1.08)
        code, out, _ = run("tables", "show", str(self.home / "aero"), "--mach", "0.7")
        self.assertEqual(code, 0)
        self.assertIn("settings at zero, Mach 0.7", out)
        code, _, err = run("tables", "show", str(self.home / "aero"), "--altitude", "8 km")
        self.assertEqual(code, 2)
        self.assertIn("depends on the altitude", err)

    def test_the_set_at_a_mach_number_is_told_with_its_stability(self) -> None:
        margins = []
        for mach in ("0.2", "0.7"):
            code, out, _ = run("tables", "show", str(self.home), "--mach", mach, "--json")
            self.assertEqual(code, 0)

            found = json.loads(out)
            self.assertEqual(found["flow"], {"mach": float(mach)})
            margins.append(found["derivatives"]["4.0"]["alpha"]["CL"])
        own = read_coefficients(self.home / "aero").slopes(
            "alpha", step=0.005, alpha=4 * DEG, mach=np.array([0.2, 0.7])
        )
        self.assertTrue(np.allclose(margins, own["CL"], atol=1e-12))


if __name__ == "__main__":
    unittest.main()
