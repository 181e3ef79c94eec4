import math
import unittest

import numpy as np

from dravik import plant
from dravik.aircraft import load_law, sample, sample_path
from dravik.errors import DravikError, TrimError
from dravik.handling import Criterion, handling_qualities, modal_criteria
from dravik.linear import LinearModel, linearise, linearise_plant
from dravik.trimming import trim, trim_plant
from tests.support import DEG, craft, light_aircraft

TARN = sample("tarn")


class TrimTest(unittest.TestCase):
    def test_over_the_envelope(self) -> None:
        for airspeed, altitude, path, flap in (
            ("45 m/s", "0 m", "0 deg", "20 deg"), ("55 m/s", "4500 m", "0 deg", "20 deg"), ("95 m/s", "0 m", "0 deg", "0 deg"),
            ("95 m/s", "4500 m", "0 deg", "0 deg"), ("62 m/s", "300 m", "3 deg", "10 deg"), ("62 m/s", "300 m", "-4 deg", "0 deg"),
        ):  # fmt: skip
            with self.subTest(f"{airspeed} {altitude} {path}"):
                point = trim(TARN, airspeed=airspeed, altitude=altitude, flight_path=path, inputs={"flap_lever": flap})
                self.assertLess(point.worst_residual, 1e-10)
                for name in ("u_dot", "v_dot", "w_dot", "p_dot", "q_dot", "r_dot"):
                    self.assertLess(abs(point[name]), 1e-9)
                self.assertAlmostEqual(point["flight_path"], float(path.split()[0]) * DEG, places=10)
                self.assertAlmostEqual(point["flap"], float(flap.split()[0]) * DEG, places=9)

    def test_sideslip_and_bank(self) -> None:
        slip = trim(TARN, airspeed="62 m/s", altitude="300 m", sideslip="5 deg", heading="40 deg")
        # wind from the right: the right wing goes down, right stick against the dihedral, left pedal
        self.assertGreater(slip["phi"], 0.5 * DEG)
        self.assertGreater(slip["roll_stick"], 0.0)
        self.assertLess(slip["pedal"], 0.0)
        self.assertAlmostEqual(slip["psi"], 40 * DEG, places=9)
        bank = trim(TARN, airspeed="62 m/s", altitude="300 m", bank=slip["phi"])
        self.assertAlmostEqual(bank["beta"], 5 * DEG, places=8)

    def test_an_engine_out_needs_rudder_on_the_other_side(self) -> None:
        point = trim(TARN, airspeed="62 m/s", altitude="300 m", inputs={"power_left_increment": -0.2}, bank="0 deg")
        self.assertGreater(point["pedal"], 0.02)

    def test_failures_say_what_is_left_and_what_is_at_its_stop(self) -> None:
        for options, words in (
            ({"airspeed": "62 m/s", "flight_path": "15 deg"}, r"residual: .*power_left at its upper stop"),
            ({"airspeed": "62 m/s", "flight_path": "-20 deg"}, "power_left at its lower stop"),
            ({"airspeed": "34 m/s"}, r"alpha_dot = .* \(force across it, in the plane of symmetry\)"),
            ({"airspeed": "62 m/s", "inputs": {"throttle": 0.9}}, "airspeed_dot"),
        ):
            with self.subTest(str(options)), self.assertRaisesRegex(TrimError, words) as caught:
                trim(TARN, altitude="300 m", **options)  # type: ignore[arg-type]
            self.assertFalse(caught.exception.result.reached)  # type: ignore[attr-defined]
            self.assertGreater(len(caught.exception.hint), 10)
        self.assertFalse(trim(TARN, airspeed="34 m/s", altitude="300 m", strict=False).reached)

    def test_wrong_conditions(self) -> None:
        for options, words in (
            ({"airspeed": "62"}, ""),
            ({"airspeed": "62 kg"}, "airspeed: '62 kg'"),
            ({"airspeed": "-3 m/s"}, "a speed, or zero for hover"),
            ({"airspeed": "62 m/s", "flight_path": "3"}, "flight_path: '3' has no unit"),
            ({"airspeed": "62 m/s", "flight_path": "95 deg"}, "between -90 deg and 90 deg"),
            ({"airspeed": "0 m/s", "bank": "5 deg"}, "hover cannot have a (bank|sideslip)"),
            ({"airspeed": "0 m/s", "sideslip": "5 deg"}, "hover cannot have a (bank|sideslip)"),
            (
                {"airspeed": "40 m/s", "flight_path": "-85 deg", "bank": "5 deg"},
                "a bank cannot be held at a flight path of -85 deg",
            ),
            ({"airspeed": "62 m/s", "bank": "5 deg", "sideslip": "2 deg"}, "both a bank and a sideslip"),
            ({"airspeed": "62 m/s", "inputs": {"brake": -3}}, "input brake: -3 is outside its range; expected 0 to 1"),
            ({"airspeed": "62 m/s", "inputs": {"drop_doors": 7}}, "input drop_doors: 7 is outside its range"),
            (
                {"airspeed": "62 m/s", "inputs": {"flap_lever": "36 deg"}},
                "'36 deg' is outside its range; expected 0 to 35 deg",
            ),
            ({"airspeed": "62 m/s", "guess": {"alhpa": "5 deg"}}, "does not move alhpa.*did you mean alpha"),
            ({"airspeed": "62 m/s", "inputs": {"flap_lever": "20"}}, "input flap_lever: '20' has no unit"),
            ({"airspeed": "62 m/s", "inputs": {"flap_levr": "20 deg"}}, "did you mean flap_lever"),
        ):
            if words:
                with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                    trim(TARN, altitude="300 m", **options)  # type: ignore[arg-type]
            else:
                trim(TARN, altitude="300 m", **options)  # type: ignore[arg-type]

    def test_an_engine_that_starts_far_from_what_its_lever_gives(self) -> None:
        # a spool that runs up the faster the nearer it is: Newton's method from standstill is led the wrong way
        shapes = {
            "axes": "stability", "CL": "0.3 + 5*alpha + 0.4*elevator", "CD": "0.03 + 0.05*CL**2", "CY": "-0.4*beta",
            "Cl": "-0.08*beta - 0.45*p_hat + 0.1*aileron", "Cm": "0.05 - 0.8*alpha - 12*q_hat - 1.2*elevator",
            "Cn": "0.08*beta - 0.1*r_hat - 0.07*rudder",
        }  # fmt: skip
        found = []
        for initial in (0, 20):
            spooled = craft(
                reference={"area": 16, "chord": 1.5, "span": 11, "moment_point": [0, 0, 0]},
                loading={"mass": 1000, "Ixx": 1500, "Iyy": 2000, "Izz": 3000}, aero=shapes,
                controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
                formulas={"go": "80*power_one - spool", "spool": f"state(limit(1.9 - 0.036*go, 0.1, 1)*go, {initial})"},
                engines={"one": {"position": [0, 0, 0], "thrust": "40*spool", "trim": True}},
            )  # fmt: skip
            points = [trim(spooled, airspeed=float(v), altitude=300.0) for v in (30, 40, 50, 60, 70)]
            for point in points:
                self.assertAlmostEqual(point["spool"], 80 * point["power_one"], places=6)
            found.append([p["power_one"] for p in points])
        np.testing.assert_allclose(found[0], found[1], atol=1e-8)
        near = trim(spooled, airspeed=50.0, altitude=300.0, guess={"spool": found[0][2] * 80, "alpha": "3 deg"})
        self.assertLessEqual(near.evaluations, points[2].evaluations)

    def test_a_law_takes_over_the_present_attitude(self) -> None:
        held = TARN.with_law(*load_law(sample_path("tarn") / "laws" / "pitch_hold.toml"))
        point = trim(held, airspeed="62 m/s", altitude="300 m")
        self.assertAlmostEqual(point["theta_command"], point["theta"], places=12)
        self.assertEqual(point.drifting, {})
        free = trim(TARN, airspeed="62 m/s", altitude="300 m")
        self.assertAlmostEqual(point["elevator"], free["elevator"], places=10)

    def test_any_plant(self) -> None:
        def pendulum(t: float, x: np.ndarray, u: np.ndarray) -> list[float]:
            return [x[1], -9.81 * math.sin(x[0]) - 0.2 * x[1] + u[0]]

        swing = plant(pendulum, states=["angle", "rate"], inputs=["torque"])
        held = trim_plant(swing, state={"angle": 0.5}, free=["torque"])
        self.assertAlmostEqual(held.inputs[0], 9.81 * math.sin(0.5), places=9)
        with self.assertRaisesRegex(TrimError, "the rate of rate remains at"):
            trim_plant(swing, state={"angle": 0.5}, free=["rate"])
        with self.assertRaisesRegex(DravikError, "no state or input 'speed'"):
            trim_plant(swing, state={"speed": 0.5}, free=["torque"])
        model = linearise_plant(swing, np.array([0.5, 0.0]), held.inputs)
        np.testing.assert_allclose(model.A, [[0, 1], [-9.81 * math.cos(0.5), -0.2]], atol=1e-8)
        np.testing.assert_allclose(model.B, [[0], [1]], atol=1e-8)


class TarnTest(unittest.TestCase):
    def test_trims_over_the_envelope_and_flies_believably(self) -> None:
        # true airspeeds from 1.1 times the stall to the limit; flaps where the clean wing would not carry it
        for loading, altitude, airspeed, flap in (
            ("loaded", 0, 50, 0), ("loaded", 0, 45, 20), ("loaded", 0, 95, 0), ("loaded", 3000, 60, 0), ("loaded", 3000, 95, 20),
            ("loaded", 4500, 62, 0), ("loaded", 4500, 55, 20), ("loaded", 4500, 95, 0), ("dropped", 0, 45, 0), ("dropped", 0, 95, 20),
            ("dropped", 4500, 52, 0), ("dropped", 4500, 95, 0),
        ):  # fmt: skip
            with self.subTest(f"{loading} {altitude} m {airspeed} m/s flap {flap}"):
                craft = sample("tarn", loading=loading)
                point = trim(
                    craft, airspeed=float(airspeed), altitude=float(altitude), inputs={"flap_lever": f"{flap} deg"}
                )
                self.assertTrue(0.1 < point["throttle"] < 0.98)
                self.assertTrue(-20 * DEG < point["elevator"] < 13 * DEG)
                modes = {m.name: m for m in linearise(craft, point).modes()}
                short, dutch = modes["short period"], modes["Dutch roll"]
                self.assertTrue(0.35 < short.damping < 1.3 and 1.5 < short.frequency < 6.0)
                self.assertTrue(0.08 < dutch.damping < 0.5 and 0.8 < dutch.frequency < 3.5)
                self.assertTrue(0.1 < -1.0 / modes["roll"].eigenvalue.real < 1.4)


class LinearTest(unittest.TestCase):
    def setUp(self) -> None:
        self.point = trim(TARN, airspeed="62 m/s", altitude="300 m")

    def test_both_coordinates_have_the_same_roots(self) -> None:
        roots = [
            np.sort_complex(np.array([m.eigenvalue for m in linearise(TARN, self.point, coordinates=c).modes()]))
            for c in ("air", "body")
        ]
        np.testing.assert_allclose(roots[0], roots[1], rtol=1e-5, atol=1e-6)

    def test_signs_of_inputs_and_gusts(self) -> None:
        model = linearise(TARN, self.point, outputs=["nz", "q_dot", "p_dot", "r_dot", "elevator_command", "alpha"])
        d = model.frame("D")
        b = model.frame("B")
        self.assertAlmostEqual(d.loc["elevator_command", "pitch_stick"], -18 * DEG, places=8)
        self.assertAlmostEqual(b.loc["elevator", "elevator_increment"], 1 / 0.05, places=5)
        # at a held airspeed, alpha and beta a gust enters only through the path over the ground
        self.assertAlmostEqual(linearise(TARN, self.point).frame("B").loc["altitude", "wind_up"], 1.0, places=6)
        body = linearise(TARN, self.point, coordinates="body", outputs=["nz", "alpha"])
        gust = body.frame("D")["wind_up"]
        self.assertAlmostEqual(
            gust["alpha"], math.cos(self.point["theta"]) ** 2 / 62 + math.sin(self.point["theta"]) ** 2 / 62, places=4
        )
        self.assertGreater(gust["nz"], 0.05)

    def test_a_stop_is_left_on_the_open_side(self) -> None:
        b = linearise(TARN, self.point).frame("B")
        self.assertAlmostEqual(b.loc["flap", "flap_lever"], 50.0, places=4)

    def test_kinks_are_named(self) -> None:
        kinked = craft(
            aero={"axes": "stability", "CL": "5*alpha", "CD": "0.02 + 0.3*abs(elevator)", "CY": "-0.5*beta",
                  "Cl": "-0.1*beta+0.2*aileron", "Cm": "-0.5*alpha-elevator + 0.05*alpha", "Cn": "0.1*beta-0.1*rudder"},
            controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
            engines={"one": {"position": [0, 0, 0], "thrust": "500*power_one", "trim": True, "range": [-1, 1]}},
            loading={"mass": 60.0},
        )  # fmt: skip
        lift = trim(kinked, airspeed=100.0, altitude=0.0)
        self.assertEqual(linearise(kinked, lift).kinks, [])
        self.assertEqual(linearise(TARN, self.point).kinks, [])
        bent = craft(
            aero={"axes": "stability", "CL": "5*alpha", "CD": "0.02 + 0.3*abs(aileron)", "CY": "-0.5*beta",
                  "Cl": "-0.1*beta+0.2*aileron", "Cm": "-0.5*alpha-elevator", "Cn": "0.1*beta-0.1*rudder"},
            controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
            engines={"one": {"position": [0, 0, 0], "thrust": "500*power_one", "trim": True, "range": [-1, 1]}},
            loading={"mass": 60.0},
        )  # fmt: skip
        model = linearise(bent, trim(bent, airspeed=100.0, altitude=0.0))
        self.assertIn(("airspeed", "aileron_command"), {(k.row, k.column) for k in model.kinks})

    def test_response_against_the_closed_form(self) -> None:
        w, z = 3.0, 0.2
        model = LinearModel.of([[0, 1], [-w * w, -2 * z * w]], [[0], [w * w]], states=["x", "v"], inputs=["u"])
        t = np.linspace(0, 5, 51)
        damped = w * math.sqrt(1 - z * z)
        exact = 1 - np.exp(-z * w * t) * (np.cos(damped * t) + z * w / damped * np.sin(damped * t))
        states, outputs = model.response(t, np.ones((51, 1)))
        np.testing.assert_allclose(states[:, 0], exact, atol=1e-12)
        np.testing.assert_array_equal(states, outputs)
        ramp, _ = model.response(t, t[:, None])
        steady = ramp[:, 0] - (t - 2 * z / w)
        transient = np.exp(-z * w * t) * (
            2 * z / w * np.cos(damped * t) + (2 * z * z - 1) / damped * np.sin(damped * t)
        )
        np.testing.assert_allclose(steady, transient, atol=1e-12)
        self.assertAlmostEqual(abs(model.frequency_response(np.array([w]))[0, 0, 0]), 1 / (2 * z), places=12)
        with self.assertRaisesRegex(DravikError, "not evenly spaced"):
            model.response(np.array([0, 1, 3.0]), np.ones((3, 1)))
        with self.assertRaisesRegex(DravikError, r"the inputs have the shape \(51,\)"):
            model.response(t, np.ones(51))

    def test_parts_and_names(self) -> None:
        model = linearise(TARN, self.point, outputs=["nz"])
        part = model.part(states=["alpha", "q"], inputs=["elevator_increment"])
        self.assertEqual(part.A.shape, (2, 2))
        self.assertEqual(part.A[1, 0], model.frame("A").loc["q", "alpha"])
        with self.assertRaisesRegex(DravikError, "no state 'alhpa'.*did you mean alpha"):
            model.part(states=["alhpa"])
        with self.assertRaisesRegex(DravikError, "has no signal 'nzz'"):
            linearise(TARN, self.point, outputs=["nzz"])
        with self.assertRaisesRegex(DravikError, "A has shape"):
            LinearModel.of([[1, 2]], states=["a", "b"])


class ModesTest(unittest.TestCase):
    def test_figures_of_a_mode(self) -> None:
        modes = LinearModel.of([[-1, 4], [-4, -1]], states=["alpha", "q"]).modes()
        self.assertEqual(modes[0].name, "short period")
        self.assertAlmostEqual(modes[0].frequency, math.sqrt(17))
        self.assertAlmostEqual(modes[0].damping, 1 / math.sqrt(17))
        self.assertAlmostEqual(modes[0].time_to_half, math.log(2))
        self.assertAlmostEqual(modes[0].period, math.pi / 2)
        self.assertAlmostEqual(sum(modes[0].participation.values()), 1.0)
        grows = LinearModel.of([[0.1]], states=["phi"]).modes()[0]
        self.assertAlmostEqual(grows.time_to_double, math.log(2) / 0.1)
        self.assertEqual(grows.time_to_half, math.inf)

    def test_an_unstable_pair_of_real_roots_and_a_coupled_lateral_pair(self) -> None:
        unstable = LinearModel.of([[-1.0, 1.0], [3.0, -1.0]], states=["alpha", "q"]).modes()
        self.assertEqual({m.name for m in unstable}, {"short period, real root", "short period, real root 2"})
        coupled = LinearModel.of([[-0.5, -0.6], [1.0, 0.0]], states=["p", "phi"]).modes()
        self.assertEqual([m.name for m in coupled], ["roll-spiral"])

    def test_every_root_is_there_once(self) -> None:
        merle = sample("merle")
        hover = linearise(merle, trim(merle, airspeed=0.0, altitude=300.0))
        cruise = linearise(TARN, trim(TARN, airspeed="62 m/s", altitude="300 m"))
        bare = LinearModel.of([[0.0, 1.0], [0.0, 0.0]], states=["u", "w"])
        for model, zeros in ((hover, {"north", "east"}), (cruise, {"north", "east", "heading"}), (bare, {"u", "w"})):
            modes = model.modes()
            self.assertEqual(sum(1 + m.is_oscillatory for m in modes), len(model.states))
            self.assertEqual(len({m.name for m in modes}), len(modes))
            self.assertEqual({m.name.removesuffix(", zero root") for m in modes if not m.frequency}, zeros)
            expected = np.sort_complex(np.linalg.eigvals(model.A))
            found = [m.eigenvalue for m in modes] + [m.eigenvalue.conjugate() for m in modes if m.is_oscillatory]
            np.testing.assert_allclose(np.sort_complex(np.array(found)), expected, rtol=1e-6, atol=1e-6)


class HandlingTest(unittest.TestCase):
    """Limits of MIL-F-8785C: tables IV, VI, VII, VIII, figures 1 to 3, paragraph 3.2.1.2."""

    def limits(self, name: str, aircraft_class: str, category: str) -> Criterion:
        point = trim(TARN, airspeed="62 m/s", altitude="300 m")
        model = linearise(TARN, point, outputs=["nz"])
        return next(c for c in modal_criteria(model, aircraft_class, category) if c.name == name)

    def test_limits_by_class_and_category(self) -> None:
        for name, aircraft_class, category, lows, highs in (
            ("phugoid damping", "I", "A", (0.04, 0.0), ()),
            ("short-period damping", "II-L", "A", (0.35, 0.25, 0.15), (1.3, 2.0, None)),
            ("short-period damping", "II-L", "B", (0.30, 0.20, 0.15), (2.0, 2.0, None)),
            ("short-period frequency^2 / (n/alpha)", "IV", "A", (0.28, 0.16, 0.16), (3.6, 10.0, None)),
            ("short-period frequency^2 / (n/alpha)", "IV", "B", (0.085, 0.038, 0.038), (3.6, 10.0, None)),
            ("short-period frequency^2 / (n/alpha)", "III", "C", (0.16, 0.096, 0.096), (3.6, 10.0, None)),
            ("short-period frequency", "IV", "C", (0.87, 0.6, None), ()),
            ("short-period frequency", "III", "C", (0.7, 0.4, None), ()),
            ("n/alpha", "II-C", "C", (2.7, 1.8, None), ()),
            ("n/alpha", "II-L", "C", (2.0, 1.0, None), ()),
            ("Dutch roll damping", "IV", "A", (0.19, 0.02, 0.0), ()),
            ("Dutch roll damping times frequency", "II-L", "C", (0.10, 0.05, None), ()),
            ("Dutch roll damping times frequency", "I", "C", (0.15, 0.05, None), ()),
            ("Dutch roll frequency", "IV", "A", (1.0, 0.4, 0.4), ()),
            ("Dutch roll frequency", "III", "A", (0.4, 0.4, 0.4), ()),
            ("roll mode time constant", "IV", "A", (), (1.0, 1.4, 10.0)),
            ("roll mode time constant", "III", "C", (), (1.4, 3.0, 10.0)),
            ("spiral, time to double", "I", "B", (20.0, 8.0, 4.0), ()),
            ("spiral, time to double", "I", "C", (12.0, 8.0, 4.0), ()),
        ):
            with self.subTest(f"{name} {aircraft_class} {category}"):
                found = self.limits(name, aircraft_class, category)
                self.assertEqual(found.lows[: len(lows)], lows)
                self.assertEqual(found.highs[: len(highs)], highs)
                self.assertRegex(found.paragraph, r"^3\.[23](\.\d)+$")

    def test_levels_and_margins(self) -> None:
        lows, highs = (0.35, 0.25, 0.15), (1.3, 2.0, None)
        for value, level, margin in (
            (0.7, 1, 1.3 / 1.3 - 0.7 / 1.3),
            (0.35, 1, 0.0),
            (0.3, 2, -1 / 7),
            (0.2, 3, None),
            (0.1, 4, None),
            (1.5, 2, None),
        ):
            c = Criterion("x", "3.2", value, "", lows, highs)
            self.assertEqual(c.level, level, value)
            if margin is not None and c.margin is not None:
                self.assertAlmostEqual(c.margin, margin)
        self.assertEqual(Criterion("x", "3.2", math.nan, "", lows).level, 4)
        self.assertEqual(Criterion("x", "3.2", 1.0, "", (math.inf,) * 3).requirement, "not allowed")

    def test_what_diverges_is_never_passed_over(self) -> None:
        # Nelson's light aircraft made unstable: what grows is judged below level 3, or no level is given
        for changed, name, words in (
            ({"Cn": "-0.0701*beta - 0.125*r_hat - 0.0717*rudder"}, "Dutch roll damping", "one of which grows"),
            ({"Cm": "0.683*alpha - 4.36*alpha_dot_hat - 9.96*q_hat - 0.923*elevator"}, "short-period damping", "one of which grows"),
            ({"Cl": "-0.074*beta + 0.410*p_hat + 0.1342*aileron"}, "roll mode time constant", "it grows"),
        ):  # fmt: skip
            with self.subTest(name):
                craft = light_aircraft(**changed)
                point = trim(craft, airspeed=176 * 0.3048, altitude=0.0)
                model = linearise(craft, point, outputs=["nz"])
                grows = {m.name for m in model.modes() if m.eigenvalue.real > 1e-3}
                self.assertTrue(grows)
                found = handling_qualities(craft, point)
                line = next(c for c in found.criteria if c.name == name)
                self.assertEqual(line.level, 4)
                self.assertIn(words, line.note)
                self.assertNotEqual(found.level, 1)
                named = {n for c in found.criteria for n in c.modes}
                self.assertLessEqual(grows, named)
        # a root that no requirement speaks of, and a mode that is missing, leave the question open
        A = np.zeros((7, 7))
        A[:2, :2], A[2:4, 2:4] = [[-1.5, 1.0], [-4.0, -1.5]], [[-0.02, -0.2], [0.2, -0.02]]
        A[4, 4], A[5, 5], A[6, 6] = -2.0, -0.01, 0.3
        names = ["alpha", "q", "airspeed", "theta", "p", "phi", "law_integral"]
        model = LinearModel.of(A, states=names, C=np.eye(7)[:1] * 5.0, outputs=["nz"])
        lines = modal_criteria(model, "I", "B")
        self.assertEqual({c.name for c in lines if c.level is None}, {"law_integral grows", "Dutch roll"})
        self.assertTrue(all("no level can be given" in c.note for c in lines if c.level is None))
        self.assertEqual({c.requirement for c in lines if c.level is None}, {"unjudged"})
        merle = sample("merle")
        with self.assertRaisesRegex(DravikError, "MIL-F-8785C has no requirement for hover"):
            handling_qualities(merle, trim(merle, airspeed=0.0, altitude=300.0))

    def test_a_growing_phugoid_is_level_3_when_slow_enough(self) -> None:
        for rate, level in ((0.012, 3), (0.014, 4), (-0.001, 2), (-0.02, 1)):
            # time to double is log 2 / rate: 57.8 s and 49.5 s
            A = np.zeros((6, 6))
            A[:2, :2] = [[-1.5, 1.0], [-4.0, -1.5]]
            A[2:4, 2:4] = [[rate, -0.2], [0.2, rate]]
            A[4, 4], A[5, 5] = -2.0, -0.01
            model = LinearModel.of(
                A, states=["alpha", "q", "airspeed", "theta", "p", "phi"], C=np.eye(6)[:1], outputs=["nz"]
            )
            model.C[0, 0] = 5.0
            criteria = modal_criteria(model, "I", "B")
            self.assertEqual(next(c for c in criteria if c.name.startswith("phugoid")).level, level, rate)
            # two real roots instead, the growing one of the same time to double
            model.A[2:4, 2:4] = [[rate, 0.0], [0.01, -0.05]]
            line = next(c for c in modal_criteria(model, "I", "B") if c.name.startswith("phugoid"))
            self.assertEqual(line.level, level if rate > 0.0 else 1, rate)

    def test_load_factor_sensitivity_against_a_flown_step(self) -> None:
        # n/alpha from the model against Z_alpha V / g of the same aircraft: V/g (-A_alpha,alpha) for level flight
        point = trim(TARN, airspeed="62 m/s", altitude="300 m")
        model = linearise(TARN, point, outputs=["nz"])
        z_alpha = -model.frame("A").loc["alpha", "alpha"] * 62.0 / 9.80665
        note = next(c for c in modal_criteria(model, "II-L", "B") if "n/alpha" in c.name).note
        self.assertAlmostEqual(float(note.split("n/alpha")[1].split()[0].rstrip(",")), z_alpha, delta=0.05 * z_alpha)

    def test_wrong_class(self) -> None:
        point = trim(TARN, airspeed="62 m/s", altitude="300 m")
        with self.assertRaisesRegex(DravikError, "class cannot be 'V'; expected one of I, II-L"):
            handling_qualities(TARN, point, aircraft_class="V")
        self.assertEqual(handling_qualities(TARN, point).level, 1)


if __name__ == "__main__":
    unittest.main()
