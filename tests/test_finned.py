import math
import tempfile
import unittest
from typing import Any

import numpy as np

from dravik.aero import FinnedBody, build_tables, components, pressure_centre, read_coefficients
from dravik.aero.bodies.finned import fin_slope
from dravik.aero.drawing.geometry import Geometry
from dravik.errors import DravikError
from dravik.linear import linearise_plant
from tests.support import DEG, craft_of

NOSE = {"shape": "cone", "length": 0.5, "diameter": 0.1}
FINS = {"x": 1.7, "count": 4, "root": 0.2, "tip": 0.1, "span": 0.12, "tip_offset": 0.08, "diameter": 0.1}


def body(**more: Any) -> FinnedBody:
    return FinnedBody.model_validate({"diameter": 0.1, "length": 2.0, "nose": NOSE, "fins": {"main": FINS}, **more})


class ComponentTest(unittest.TestCase):
    def test_bodies_against_the_closed_forms(self) -> None:
        # J. S. Barrowman's thesis, section 3.2: slope 2 of any nose; cone at 2/3 of its length, slim ogive at 0.466
        for shape, place in (("cone", 2 / 3), ("ogive", 7 / 15), ("parabola", 7 / 15), ("ellipsoid", 1 / 3)):
            nose = components(body(nose={"shape": shape, "length": 4.0, "diameter": 0.1}, length=6.0, fins={}))[0]
            self.assertAlmostEqual(nose.slope, 2.0, places=6)
            self.assertAlmostEqual(nose.x / 4.0, place, delta=1e-3, msg=shape)
        # a conical transition: slope 2 (d2^2 - d1^2)/d^2, place L/3 (1 + (1 - d1/d2)/(1 - (d1/d2)^2))
        for fore, aft in ((0.1, 0.06), (0.06, 0.1)):
            part = components(body(tapers=[{"x": 1.0, "length": 0.3, "front": fore, "back": aft}], fins={}))[1]
            ratio = fore / aft
            self.assertAlmostEqual(part.slope, 2 * (aft**2 - fore**2) / 0.1**2, places=6)
            self.assertAlmostEqual(part.x, 1.0 + 0.1 * (1 + (1 - ratio) / (1 - ratio**2)), places=5)

    def test_mach_number(self) -> None:
        wide = body(fins={"main": {**FINS, "span": 50.0, "tip_offset": 0.0, "tip": 0.2}}).fins["main"]
        self.assertAlmostEqual(fin_slope(wide, 2.0), 4 / math.sqrt(3), delta=0.01)  # Ackeret
        self.assertAlmostEqual(
            fin_slope(wide, 0.6) * 0.8 / fin_slope(wide, 0.0), 1.0, delta=0.01
        )  # Prandtl and Glauert
        fins = body().fins["main"]
        machs = np.linspace(0, 4, 2001)
        slopes = np.array([fin_slope(fins, float(m)) for m in machs])
        self.assertLess(float(np.abs(np.diff(slopes)).max()), 0.02)  # joined without a jump
        self.assertTrue(0.8 < float(machs[np.argmax(slopes)]) < 1.4)

    def test_margin_and_travel(self) -> None:
        still, tilted = (pressure_centre(body(), 0.3, a)[1] for a in (0.0, 8 * DEG))
        parts = components(body(), 0.3)
        self.assertAlmostEqual(still, sum(c.slope * c.x for c in parts) / sum(c.slope for c in parts))
        self.assertTrue(0.3 < (still - tilted) / 0.1 < 4.0)  # the body's own lift pulls it forward, in calibres
        fast = pressure_centre(body(), 2.5)[1]
        self.assertNotAlmostEqual(fast, still, places=3)
        with self.assertRaisesRegex(DravikError, "no lift"):
            pressure_centre(body(tapers=[{"x": 1.0, "length": 0.3, "front": 0.1, "back": 0.0}], fins={}))

    def test_damping_does_not_depend_on_the_moment_point(self) -> None:
        # one rocket, one centre of gravity, three files: the same motion to first order; before, a factor of four
        found = []
        for point in (0.2, 1.1, 1.9):
            drawing = Geometry.model_validate({
                "format": 1, "name": "rocket", "reference": {"area": 0.00785, "chord": 0.1, "span": 0.1, "moment_point": [point, 0, 0]},
                "finned_body": body().model_dump(), "table_grid": {"airspeed": 100.0, "mach": [0.0, 0.5]},
            })  # fmt: skip
            rocket = craft_of(build_tables(drawing), [1.1, 0, 0], environment={"gravity": 0.0})
            plant = rocket.plant("body")
            x = rocket.state(position=(0, 0, 500), velocity=(100, 0.0, 0.0))
            model = linearise_plant(plant, plant.from_state(x, rocket.default_inputs()), rocket.default_inputs())
            found.append(model.part(states=["v", "w", "q", "r"], outputs=[]).A)
        self.assertLess(found[0][2, 2], -0.1)
        for other in found[1:]:
            np.testing.assert_allclose(other, found[0], rtol=2e-3, atol=2e-3)
        # closed form: q_dot by q is -rho V S/(2 Iyy) * sum of slope*(arm from the centre of gravity)^2 (Barrowman's parts)
        parts = components(body(), 100.0 / 338.4)
        arms = sum(c.slope * (c.x - 1.1) ** 2 for c in parts) * 0.25 * math.pi * 0.1**2
        self.assertAlmostEqual(found[0][2, 2], -0.5 * 1.16727 * 100.0 * arms / 12.0, delta=0.01 * abs(found[0][2, 2]))

    def test_refusals(self) -> None:
        for more, words in (
            (
                {"tapers": [{"x": 0.3, "length": 0.1, "front": 0.1, "back": 0.1}]},
                "before the part ahead of it ends at 0.5 m",
            ),
            ({"fins": {"main": {**FINS, "x": 1.9}}}, "the root ends at 2.1 m, behind the body at 2 m"),
            ({"fins": {"main": {**FINS, "count": 2}}}, "greater than or equal to 3"),
        ):
            with self.assertRaisesRegex((DravikError, ValueError), words):
                body(**more)


class TablesTest(unittest.TestCase):
    def test_set(self) -> None:
        area = 0.25 * math.pi * 0.1**2
        reference = {"area": area, "chord": 0.1, "span": 0.1, "moment_point": [1.0, 0, 0]}
        geometry = Geometry.model_validate(
            {"format": 1, "name": "rocket", "reference": reference, "finned_body": body().model_dump()}
        )
        with tempfile.TemporaryDirectory() as folder:
            build_tables(geometry).write(folder)
            read = read_coefficients(folder)
        slope, place = pressure_centre(body())
        small = read.slopes("alpha", alpha=0.0)
        self.assertAlmostEqual(float(small["CL"]), slope - float(read.at()["CD"]), delta=0.05)
        self.assertAlmostEqual(float(small["Cm"]), -slope * (place - 1.0) / 0.1, places=1)
        # round about its axis: sideslip is incidence from the side
        aside = read.slopes("beta", alpha=0.0)
        self.assertAlmostEqual(float(aside["Cn"]), -float(small["Cm"]), places=3)
        self.assertLess(float(aside["CY"]), 0.0)
        self.assertTrue(float(read.slopes("q_hat")["Cm"]) < 0.0 and float(read.slopes("p_hat")["Cl"]) < 0.0)
        backwards, across = read.at(alpha=math.pi), read.at(alpha=0.5 * math.pi)
        self.assertTrue(0.1 < float(backwards["CD"]) < 1.0 and 5.0 < float(across["CD"]) < 40.0)


if __name__ == "__main__":
    unittest.main()
