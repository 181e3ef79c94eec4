import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from dravik.aero import Airframe, FlowState, Lattice, build_mesh, build_tables, read_coefficients, read_geometry
from dravik.aero.drawing.parts import Propeller
from dravik.aero.flow.friction import body_form_factor, flap_drag, friction
from dravik.aero.flow.separated import plate_across, plate_centre, separation
from dravik.aero.flow.slipstream import discs
from dravik.aero.sets.building import drawing_hash
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.linear import linearise_plant
from tests.support import DEG, craft_of, drawing, rectangle, wing_and_tail

COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")


def at(airframe: Airframe, **state: Any) -> dict[str, float]:
    return {n: float(v[0]) for n, v in airframe.coefficients([FlowState(**state)]).items()}


class PartsTest(unittest.TestCase):
    def test_separation_is_half_at_its_angle_either_way(self) -> None:
        for angle, steep in ((0.28, 40.0), (0.2, 100.0)):
            np.testing.assert_allclose(
                separation([angle, -angle, 0.0, 1.5, -3.0], angle, steep), [0.5, 0.5, 0, 1, 1], atol=1e-4
            )
        np.testing.assert_allclose(plate_centre([0.0, 0.5 * np.pi, -np.pi]), [0.25, 0.5, 0.75])

    def test_friction(self) -> None:
        # Blasius, and the turbulent plate of Prandtl and Schlichting: 0.00300 at ten million (0.455 / 7**2.58)
        self.assertAlmostEqual(float(friction(1e5, 1.0)), 1.328 / math.sqrt(1e5), places=12)
        self.assertAlmostEqual(float(friction(1e7)), 0.0030, places=4)
        self.assertTrue(float(friction(1e6, 1.0)) < float(friction(1e6, 0.3)) < float(friction(1e6)))
        self.assertAlmostEqual(body_form_factor(4.0), 1 + 1.5 / 8 + 7 / 64)
        self.assertAlmostEqual(float(flap_drag(30 * DEG, 0.75, False)), 1.7 * 0.25**1.38 * 0.25)

    def test_slipstream_keeps_momentum_and_mass(self) -> None:
        disc = discs(
            Propeller.model_validate({"position": [1, 0, 0], "radius": 1.5, "engines": ["e"], "immersed": 1.0}),
            (1.0, 0.0, 0.0),
        )[0]
        thrust, area = 0.7, 20.0
        free = np.array([[-1.0, 0.0, 0.0]])
        points = np.array([[-500.0, 0, 0], [0.0, 0, 0], [500.0, 0, 0], [-500.0, 1.45, 0], [-500.0, 3.0, 0]])
        far, here, ahead, edge, outside = -disc.added(np.array([thrust]), area, free, points)[0, :, 0]
        # T = rho A (V + w/2) w, and half of it is there at the disc
        self.assertAlmostEqual(2 * math.pi * 1.5**2 * (1 + 0.5 * far) * far, thrust * area, places=3)
        self.assertAlmostEqual(here, 0.5 * far, places=3)
        self.assertLess(max(abs(ahead), abs(outside)), 1e-5)
        self.assertLess(edge, 0.3 * far)  # the far stream is narrower than the disc
        self.assertEqual(np.abs(disc.added(np.array([0.0]), area, free, points)).max(), 0.0)


class AirframeTest(unittest.TestCase):
    def test_attached_flow_is_the_lattices_own(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "none.csv").write_text("CL,CD\n-9,0\n9,0\n")
            geometry = wing_and_tail(stall={"angle": "89 deg", "sharpness": 500}, polar="none.csv")
            airframe = Airframe(geometry, folder)
        lattice = Lattice(build_mesh(geometry), geometry, mach=airframe.mach)
        for state in (FlowState(alpha=0.1), FlowState(0.05, 0.1, 0.03, 0.01, -0.02)):
            free, whole = lattice.forces(state), airframe.coefficients([state])
            for name in COEFFICIENTS:
                # but for the drag, which is the wake's, and its part across the flow's own axes
                self.assertAlmostEqual(float(whole[name][0]), getattr(free, name), delta=3e-4 if name == "CD" else 3e-5)

    def test_all_angles(self) -> None:
        airframe = Airframe(wing_and_tail())
        alphas, betas = np.radians(np.arange(-180, 181, 15)), np.radians([-90, -60, -20, 0, 20, 60, 90])
        states = [FlowState(alpha=a, beta=b) for a in alphas for b in betas]
        found = {n: v.reshape(len(alphas), len(betas)) for n, v in airframe.coefficients(states).items()}
        for name in COEFFICIENTS:
            self.assertLess(float(np.abs(found[name]).max()), 4.0, name)
            sign = 1 if name in ("CL", "CD", "Cm") else -1
            np.testing.assert_allclose(found[name], sign * found[name][:, ::-1], atol=1e-9)
        # an uncambered aircraft upside down: drag the same, lift the other way
        np.testing.assert_allclose(found["CL"], -found["CL"][::-1], atol=1e-6)
        self.assertGreater(float(found["CD"][:, 3].min()), 0.0)

    def test_plate_across_the_flow(self) -> None:
        airframe = Airframe(drawing({"wing": rectangle(6.0)}, area=6.0))
        across, reversed_ = at(airframe, alpha=90 * DEG), at(airframe, alpha=180 * DEG)
        self.assertAlmostEqual(across["CD"], float(plate_across(6.0)), delta=0.03)
        self.assertAlmostEqual(across["CL"], 0.0, delta=0.03)
        # half the chord aft of the moment point at the leading edge, in chords of 1 m
        self.assertAlmostEqual(across["Cm"], -0.5 * float(plate_across(6.0)), delta=0.02)
        self.assertLess(reversed_["CD"], 0.03)

    def test_roll_damping_is_lost_at_the_stall_and_the_wing_turns_by_itself(self) -> None:
        airframe = Airframe(drawing({"wing": rectangle(8.0, stall={"angle": "15 deg", "sharpness": 40})}, area=8.0))

        def rolling(alpha: float, p_hat: float) -> float:
            return at(airframe, alpha=alpha * DEG, p_hat=p_hat)["Cl"]

        self.assertLess(rolling(4, 0.02), -0.008)
        self.assertGreater(rolling(17, 0.02), 0.002)
        self.assertLess(rolling(17, 0.4), 0.0)  # beyond its own rate of turning it is damped again
        self.assertAlmostEqual(rolling(17, 0.02), -rolling(17, -0.02), places=9)

    def test_lag_of_downwash(self) -> None:
        # what reaches the tail late is the downwash: Cm by alpha_dot is the tail's Cm by q times d(epsilon)/d(alpha)
        geometry = wing_and_tail()
        tail = geometry.model_copy(update={"surfaces": {"tail": geometry.surfaces["tail"]}})
        wing = geometry.model_copy(update={"surfaces": {"wing": geometry.surfaces["wing"]}})
        both, alone, bare = Airframe(geometry), Airframe(tail), Airframe(wing)
        h = 0.01

        def slope(a: Airframe, by: str) -> float:
            return (at(a, **{by: h})["Cm"] - at(a, **{by: -h})["Cm"]) / (2 * h)

        downwash = 1.0 - (slope(both, "alpha") - slope(bare, "alpha")) / slope(alone, "alpha")
        lag = both.lag_derivatives(np.zeros(1))["Cm"][0]
        self.assertTrue(0.2 < downwash < 0.6)
        self.assertAlmostEqual(lag / (slope(alone, "q_hat") * downwash), 1.0, delta=0.1)

    def test_slipstream_lifts_the_wing_behind_it(self) -> None:
        propeller = {"position": [-1, 2, 0], "radius": 0.8, "mirrored": True, "engines": ["right", "left"]}
        airframe = Airframe(drawing({"wing": rectangle(8.0)}, area=8.0, propellers={"main": propeller}))
        still = at(airframe, alpha=0.1)
        right, left = (at(airframe, alpha=0.1, thrust={e: 0.3}) for e in ("right", "left"))
        both = at(airframe, alpha=0.1, thrust={"right": 0.3, "left": 0.3})
        self.assertGreater(right["CL"] - still["CL"], 0.02)
        self.assertLess(right["Cl"], -0.002)
        self.assertAlmostEqual(right["Cl"], -left["Cl"], places=9)
        self.assertAlmostEqual(both["CL"] - still["CL"], 2 * (right["CL"] - still["CL"]), delta=0.003)

    def test_high_and_low_wings_in_sideslip(self) -> None:
        # the body's cross-flow: (Cl_beta)zw = 1.2 sqrt(A) (z/b) (2 d/b), from high to low here (R. D. Finck,
        # USAF Stability and Control Data Compendium, AFWAL-TR-83-3048, 1978, section 5.2.2.1):
        # 2*1.2*sqrt(8)*(0.45/8)*(2/8) = 0.095 for a wing at 90 % of the radius of a body an eighth of the span wide
        stations = [{"x": x, "width": w, "height": w} for x, w in ((-2.0, 0.2), (-1.0, 1.0), (2.0, 1.0), (4.5, 0.2))]
        fin = {
            "mirrored": False,
            "sections": [{"leading_edge": [4.0, 0, z], "chord": 1.0} for z in (0.2, 1.8)],
            "panels": [3, 8],
        }
        found = {}
        for height in (-0.45, 0.0, 0.45):
            edges = [{"leading_edge": [0, y, height], "chord": 1.0} for y in (0, 4)]
            wing = {"sections": edges, "panels": [4, 18]}
            airframe = Airframe(drawing({"wing": wing, "fin": fin}, area=8.0, bodies={"hull": {"stations": stations}}))
            sides = [at(airframe, alpha=0.05, beta=b) for b in (0.02, -0.02)]
            found[height] = {c: (sides[0][c] - sides[1][c]) / 0.04 for c in ("Cl", "Cn")}
        self.assertAlmostEqual(found[-0.45]["Cl"] - found[0.45]["Cl"], 0.095, delta=0.03)
        self.assertAlmostEqual(found[-0.45]["Cl"] + found[0.45]["Cl"], 2 * found[0.0]["Cl"], delta=0.01)
        # what the wing sheds turns the flow at the fin: more of it above a low wing, less above a high one; nowhere jumps
        self.assertTrue(found[-0.45]["Cn"] > found[0.0]["Cn"] > found[0.45]["Cn"] > 0.5 * found[0.0]["Cn"])

    def test_induced_drag_is_that_of_the_wake(self) -> None:
        # a swept wing at ordinary panel numbers: near the panels a tenth comes out wrong, far behind it does not
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "none.csv").write_text("CL,CD\n-9,0\n9,0\n")
            edges = [{"leading_edge": [0.7 * y, y, 0], "chord": 1.0} for y in (0, 4)]
            swept = {
                "sections": edges,
                "panels": [4, 12],
                "stall": {"angle": "89 deg", "sharpness": 500},
                "polar": "none.csv",
            }
            geometry = drawing({"wing": swept}, area=8.0)
            airframe = Airframe(geometry, folder)
        lattice = Lattice(build_mesh(geometry), geometry, mach=airframe.mach).forces(FlowState(alpha=0.1))
        whole = at(airframe, alpha=0.1)
        self.assertAlmostEqual(whole["CD"] / lattice.drag_trefftz, 1.0, delta=1e-4)
        self.assertGreater(abs(lattice.CD / lattice.drag_trefftz - 1.0), 0.03)
        self.assertTrue(0.9 < whole["CL"] ** 2 / (math.pi * 8 * whole["CD"]) < 1.01)

    def test_a_light_singles_polar(self) -> None:
        # its like glides 11 to 14 to one with fixed or folded wheels, at a span efficiency of 0.7 to 0.85
        stations = [
            {"x": x, "width": w, "height": h}
            for x, w, h in ((0, 0.7, 0.7), (1, 1.1, 1.2), (3, 1.1, 1.3), (7.2, 0.2, 0.3))
        ]

        def half(x: float, y: float, z: float, chord: float, **more: Any) -> dict[str, Any]:
            return {"leading_edge": [x, y, z], "chord": chord, **more}

        wing = [half(1.6, 0, -0.5, 1.65, incidence="2 deg", profile="2412"), half(1.7, 5.5, 0, 1.25, profile="2412")]
        tail = [half(6.2, 0, 0.2, 0.95, profile="0009"), half(6.4, 1.7, 0.2, 0.7, profile="0009")]
        single = drawing(
            {"wing": {"sections": wing, "panels": [4, 14]}, "tail": {"sections": tail, "panels": [3, 8]}}, area=16.2, airspeed=55.0,
            bodies={"hull": {"stations": stations}}, parasites={"wheels": {"drag_area": 0.2, "position": [2, 0, -1]}},
        )  # fmt: skip
        found = Airframe(single).coefficients([FlowState(alpha=a) for a in np.radians(np.arange(-3, 11, 1.0))])
        lift, drag = found["CL"], found["CD"]
        used = (lift > 0.1) & (lift < 0.9)
        rise = np.polyfit(lift[used] ** 2, drag[used], 1)[0]
        self.assertTrue(0.7 < 1.0 / (math.pi * 11**2 / 16.2 * rise) < 0.85)
        self.assertTrue(11.0 < float(np.max(lift / drag)) < 14.0)

    def test_damping_does_not_depend_on_the_moment_point(self) -> None:
        found = []
        for x, z in ((0.0, 0.0), (1.0, 0.4)):
            geometry = wing_and_tail()
            reference = geometry.reference.model_copy(update={"moment_point": (x, 0.0, z)})
            built = build_tables(geometry.model_copy(update={"reference": reference}))
            plane = craft_of(built, [0.2, 0, 0.1], environment={"gravity": 0.0})
            plant = plane.plant("body")
            state = plant.from_state(plane.state(position=(0, 0, 500), velocity=(30, 0, 1)), plane.default_inputs())
            model = linearise_plant(plant, state, plane.default_inputs())
            found.append(model.part(states=["v", "w", "p", "q", "r"], outputs=[]).A)
        self.assertLess(found[0][3, 3], -0.5)
        for one, other in zip(*found, strict=True):  # a row is an acceleration: held against its largest part
            np.testing.assert_allclose(other, one, atol=0.015 * float(np.max(np.abs(one))))

    def test_signs_of_built_yaw_rate_derivatives(self) -> None:
        # a fin behind the moment point: nose right, it moves to the left, and the air pushes it to the right: side force
        # positive, yaw damped; the wing's advancing left side lifts more: it rolls right, and the more the more it lifts
        fin = {
            "mirrored": False,
            "panels": [3, 8],
            "sections": [{"leading_edge": [5.0, 0, z], "chord": 1.0} for z in (0.1, 1.8)],
        }
        wing = rectangle(8.0, panels=[3, 12])
        built = build_tables(drawing({"wing": wing, "fin": fin}, area=8.0))
        rates = {t.name: t for t in built.files["rates"]}
        for alpha, roll in ((0.05, 0.02), (0.15, 0.06)):
            self.assertGreater(float(rates["Cl_r"](alpha)), roll)
            self.assertGreater(float(rates["CY_r"](alpha)), 0.05)
            self.assertLess(float(rates["Cn_r"](alpha)), -0.02)
            self.assertGreater(float(rates["CL_q"](alpha)), 0.5)
        # the fin's own: CY_r = -2 l/b CY_beta, l to its three-quarter chord, where a turning section feels the flow
        only = Airframe(drawing({"fin": fin}, area=8.0))
        by = {n: (at(only, **{n: 0.01})["CY"] - at(only, **{n: -0.01})["CY"]) / 0.02 for n in ("beta", "r_hat")}
        self.assertAlmostEqual(by["r_hat"] / by["beta"], -2 * 5.75 / 8.0, delta=0.02)

    def test_polar_replaces_the_estimate(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "polar.csv").write_text("CL,CD\n-2,0.05\n2,0.05\n")
            plain, told = (
                Airframe(drawing({"wing": rectangle(8.0, **more)}, area=8.0), folder)
                for more in ({}, {"polar": "polar.csv"})
            )
            self.assertAlmostEqual(at(told)["CD"], 0.05, places=3)
            self.assertTrue(0.004 < at(plain)["CD"] < 0.012)

    def test_unknown_names(self) -> None:
        airframe = Airframe(drawing({"wing": rectangle(8.0)}, area=8.0))
        for state, words in (
            (FlowState(controls={"flap": 0.1}), "no control 'flap'"),
            (FlowState(thrust={"one": 0.1}), "no engine 'one'"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                airframe.coefficients([state])


class BuildTest(unittest.TestCase):
    def test_the_set_says_what_the_airframe_says(self) -> None:
        geometry = wing_and_tail(controls={"elevator": {"span": [0, 1], "hinge": 0.6, "range": ["-20 deg", "20 deg"]}})
        told: list[tuple[int, int]] = []
        built = build_tables(geometry, advance=lambda done, of: told.append((done, of)))
        self.assertEqual(told[-1][0], told[-1][1])
        with tempfile.TemporaryDirectory() as folder:
            built.write(folder)
            read = read_coefficients(folder)
        airframe = Airframe(geometry)
        alpha, beta, elevator = 6 * DEG, 5 * DEG, -20 * DEG
        for state in ({"alpha": alpha}, {"alpha": alpha, "beta": beta}, {"alpha": 90 * DEG}):
            for name in COEFFICIENTS:
                self.assertAlmostEqual(float(read.at(**state)[name]), at(airframe, **state)[name], places=5)
        moved = at(airframe, alpha=alpha, controls={"elevator": elevator})
        for name in ("CL", "CD", "Cm"):
            self.assertAlmostEqual(float(read.at(alpha=alpha, elevator=elevator)[name]), moved[name], places=5)
        rate = (at(airframe, alpha=alpha, q_hat=0.01)["Cm"] - at(airframe, alpha=alpha)["Cm"]) / 0.01
        self.assertAlmostEqual(float(read.slopes("q_hat", alpha=alpha)["Cm"]) / rate, 1.0, delta=0.02)
        self.assertEqual(build_tables(geometry).provenance["hash"], built.provenance["hash"])

    def test_the_tarns_tables_are_those_of_its_drawing(self) -> None:
        folder = sample_path("tarn")
        geometry, stored = read_geometry(folder / "geometry.toml"), read_coefficients(folder / "aero")
        written = json.loads((folder / "aero" / "provenance.json").read_text())
        self.assertEqual(
            written["hash"], drawing_hash(geometry), "build the tables anew: docs/background/aero.md says how"
        )
        airframe = Airframe(geometry, folder)
        for degrees in (-8, 0, 4, 12, 20):
            fresh = at(airframe, alpha=degrees * DEG)
            for name in COEFFICIENTS:
                self.assertAlmostEqual(float(stored.at(alpha=degrees * DEG)[name]), fresh[name], places=5)

    def test_refusals_name_the_place(self) -> None:
        text = (sample_path("tarn") / "geometry.toml").read_text()
        for old, new, words in (
            ('"5 m", "2.37 m"', '"0 m", "2.20 m"', r"surfaces.wing.sections: sections 1 and 2 are at the same place"),
            ('"11 m", "2.58 m"', '"3 m", "2.58 m"', r"surfaces.wing.sections: section 3 turns back over section 2"),
            ('chord = "1.80 m", incidence', 'chord = "0 m", incidence', r"surfaces.wing.sections.*greater than 0"),
            ("span = [0.62, 0.97]", "span = [0.62, 1.2]", r"wing.controls.aileron.span.*less than or equal to 1"),
            ("span = [0.62, 0.97]", "span = [0.97, 0.62]", r"aileron.span: .*\[0.97, 0.62\] do not rise"),
            (
                "[surfaces.fin.controls.rudder]",
                "[surfaces.fin.controls.flap]",
                r"the control 'flap' is on wing already",
            ),
            ('x = "3.00 m"', 'x = "1.00 m"', r"bodies.hull.stations: station 2 at x = 1 m is not behind"),
            ('engines = ["right", "left"]', 'engines = ["right"]', r"propellers.main.engines: .*expected two engines"),
            (
                "[table_grid]",
                '[table_grid]\nflap = "flop"',
                r"table_grid.flap: there is no control 'flop'.*did you mean flap",
            ),
            ("[table_grid]", "[table_grid]\nthrust_coefficients = [0.1, 0.2]", r"0.1, is not zero"),
            ('airspeed = "60 m/s"', 'airspeed = "300 m/s"', r"Mach 0.88.*expected 0 to 0.7"),
        ):
            with self.subTest(new), tempfile.TemporaryDirectory() as name:
                self.assertIn(old, text)
                path = Path(name) / "geometry.toml"
                path.write_text(text.replace(old, new, 1))
                with self.assertRaisesRegex(DravikError, words):
                    build_tables(read_geometry(path), name)


if __name__ == "__main__":
    unittest.main()
