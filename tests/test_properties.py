"""What must hold for any numbers: round trips, invariances, and two ways to one value, with numbers drawn by Hypothesis."""

import math
import unittest
from typing import Any

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from pydantic import TypeAdapter

import dravik as dv
from dravik import frames
from dravik.aero.drawing.geometry import Section
from dravik.definition.fields import Duration
from dravik.definition.settings import read_settings, sort_settings
from dravik.definition.signals import InputSpec
from dravik.definition.timed import Timed
from dravik.errors import DravikError
from dravik.flight import parse_history
from dravik.formula import parse
from dravik.formula.evaluate import value_of
from dravik.guidance import Route, build_path
from dravik.mass import Properties, combine
from dravik.mass.rollup import inertia_fault
from dravik.recording.number_text import as_lines
from dravik.surroundings.atmosphere import air_at, density_altitude
from dravik.surroundings.earth import ecef_from_geodetic, geodetic_from_ecef, wrapped
from dravik.systems import beside, frequency_response, wired
from dravik.tables import Axis, Table
from dravik.units import KINDS, from_si, in_si, to_si

ANGLE, TILT = st.floats(-3.1, 3.1), st.floats(-1.5, 1.5)
SMALL = st.floats(-3.0, 3.0)
UNITS = {
    "length": "ft", "speed": "kt", "angle": "deg", "angular rate": "deg/s", "mass": "lb", "pressure": "hPa",
    "temperature": "degC", "power": "hp", "force": "kN", "time": "min", "moment": "N*m", "charge": "A*h",
}  # fmt: skip


def turns(rng: np.random.Generator) -> np.ndarray[Any, Any]:
    """Return a rotation drawn at random."""
    return frames.dcm_from_euler(*rng.uniform(-3.0, 3.0, 3))


class UnitProperties(unittest.TestCase):
    @given(st.sampled_from(sorted(UNITS)), st.floats(1.0, 1e4))
    def test_a_quantity_is_what_its_unit_says(self, kind: str, number: float) -> None:
        scale, offset = to_si(UNITS[kind], kind)
        found = in_si(f"{number!r} {UNITS[kind]}", kind)
        self.assertAlmostEqual(found, scale * number + offset, delta=1e-12 * abs(found))
        # and back: what people are shown of an SI unit is that unit times its factor
        shown, factor, _ = from_si(KINDS[kind][0])
        if kind != "temperature":
            self.assertAlmostEqual(in_si(f"{factor * found!r} {shown}", kind), found, delta=1e-12 * abs(found))

    @given(
        st.lists(st.tuples(st.sampled_from("abcdef"), st.floats(-9, 9)), max_size=8), st.sets(st.sampled_from("abc"))
    )
    def test_every_setting_has_one_place(self, pairs: list[tuple[str, float]], parameters: set[str]) -> None:
        read = read_settings([f"{name} = {value!r}" for name, value in pairs])
        self.assertEqual(read, {name: repr(value) for name, value in pairs})
        found = sort_settings(read, parameters)
        self.assertEqual(set(found.parameters), set(read) & parameters)
        self.assertEqual({**found.parameters, **found.inputs, **found.loop_keys}, read)

    @given(arrays(np.float64, (4, 2), elements=st.floats(-1e12, 1e12)))
    def test_printed_numbers_are_read_back_to_ten_digits(self, rows: np.ndarray[Any, Any]) -> None:
        text = as_lines(rows, np.ones(2)).decode()
        back = np.array([[float(c) for c in line.split(",")] for line in text.split()])
        np.testing.assert_allclose(back, rows, rtol=1e-9, atol=1e-300)


class FieldTest(unittest.TestCase):
    def test_a_bare_zero_is_an_angle_and_no_other_bare_number(self) -> None:
        place = {"leading_edge": ["0 m", "0 m", "0 m"], "chord": "1 m"}
        self.assertEqual(Section.model_validate({**place, "incidence": 0}).incidence, 0.0)
        self.assertAlmostEqual(Section.model_validate({**place, "incidence": "1 deg"}).incidence, math.radians(1.0))
        for number in (1, 0.5, -1):
            with self.assertRaisesRegex(ValueError, "degrees from radians"):
                Section.model_validate({**place, "incidence": number})

    def test_what_must_be_above_zero_is_not_zero(self) -> None:
        lasting = TypeAdapter(Duration)
        self.assertAlmostEqual(lasting.validate_python("5 ms"), 0.005)
        for wrong in ("0 s", 0, "-1 s"):
            with self.assertRaisesRegex(ValueError, "not above zero|seconds|unit"):
                lasting.validate_python(wrong)
        free = InputSpec("stick", "")
        self.assertEqual((free.low, free.high), (-math.inf, math.inf))

    def test_what_happens_once_happens_from_the_start_on(self) -> None:
        self.assertEqual(Timed(at="0 s").at, "0 s")
        for wrong in ({"at": "-1 s"}, {}, {"at": "1 s", "when": "time > 1"}):
            with self.assertRaises(ValueError):
                Timed(**wrong)


class FrameProperties(unittest.TestCase):
    @given(ANGLE, TILT, ANGLE)
    def test_attitude_there_and_back(self, phi: float, theta: float, psi: float) -> None:
        q = frames.quaternion_from_euler(phi, theta, psi)
        m = frames.dcm_from_quaternion(q)
        np.testing.assert_allclose(m @ m.T, np.eye(3), atol=1e-14)
        self.assertAlmostEqual(float(np.linalg.det(m)), 1.0, places=13)
        np.testing.assert_allclose(frames.euler_from_quaternion(q), [phi, theta, psi], atol=1e-7)
        np.testing.assert_allclose(frames.dcm_from_quaternion(frames.quaternion_from_dcm(m)), m, atol=1e-13)
        # a mirror turns bank and heading round, and leaves pitch
        flip = np.diag([1.0, -1.0, 1.0])
        np.testing.assert_allclose(frames.dcm_from_euler(-phi, theta, -psi), flip @ m @ flip, atol=1e-14)

    @given(arrays(np.float64, 3, elements=SMALL), arrays(np.float64, 3, elements=SMALL))
    def test_stations_there_and_back(self, place: np.ndarray[Any, Any], origin: np.ndarray[Any, Any]) -> None:
        body = frames.body_from_station(place, origin)
        np.testing.assert_allclose(frames.station_from_body(body, origin), place, atol=1e-14)
        np.testing.assert_allclose(body * [-1.0, 1.0, -1.0], place - origin, atol=1e-14)

    @given(st.floats(-1.57, 1.57), ANGLE, st.floats(-400.0, 30000.0))
    def test_places_on_the_earth_there_and_back(self, latitude: float, longitude: float, height: float) -> None:
        back = geodetic_from_ecef(ecef_from_geodetic(latitude, longitude, height))
        np.testing.assert_allclose([float(b) for b in back], [latitude, longitude, height], rtol=0, atol=1e-5)

    @given(st.floats(-1e4, 1e4))
    def test_a_wrapped_angle_is_the_same_angle(self, angle: float) -> None:
        found = wrapped(angle)
        self.assertTrue(-math.pi - 1e-12 <= found <= math.pi + 1e-12)
        self.assertAlmostEqual(math.sin(found), math.sin(angle), places=9)
        self.assertAlmostEqual(math.cos(found), math.cos(angle), places=9)

    @given(st.floats(-400.0, 60000.0), st.integers(-30, 30))
    def test_air(self, height: float, offset: int) -> None:
        air, warm = air_at(height), air_at(height, temperature_offset=offset)
        self.assertAlmostEqual(float(density_altitude(air.density)), height, delta=1e-3)
        self.assertAlmostEqual(float(warm.pressure), float(air.pressure), delta=1e-9 * float(air.pressure))
        self.assertAlmostEqual(float(warm.temperature - air.temperature), offset, places=9)
        gas = float(air.pressure / (air.density * air.temperature))  # the gas constant is one, at any height
        self.assertAlmostEqual(gas, 287.05287, places=3)
        self.assertAlmostEqual(float(warm.density * warm.temperature), float(air.density * air.temperature), places=6)


class MassProperties(unittest.TestCase):
    @settings(max_examples=50)
    @given(st.integers(0, 2**31), st.integers(1, 6))
    def test_a_sum_of_parts(self, seed: int, count: int) -> None:
        rng = np.random.default_rng(seed)
        parts = []
        for _ in range(count):
            m = turns(rng)
            tensor = m.T @ np.diag(rng.uniform(1.0, 1.9, 3)) @ m  # no moment beyond the sum of the others
            parts.append(Properties(float(rng.uniform(0.1, 5.0)), rng.uniform(-3, 3, 3), tensor))
        whole = combine(parts)
        self.assertEqual(inertia_fault(whole.tensor), "")
        # in any order and in any groups
        for other in (combine(parts[::-1]), combine([combine(parts[:1]), *parts[1:]])):
            np.testing.assert_allclose(other.centre, whole.centre, atol=1e-12)
            np.testing.assert_allclose(other.tensor, whole.tensor, atol=1e-10)
        # turned and moved as one the moments are the same
        m, shift = turns(rng), rng.uniform(-5, 5, 3)
        moved = combine([Properties(p.mass, m @ p.centre + shift, m @ p.tensor @ m.T) for p in parts])
        np.testing.assert_allclose(moved.centre, m @ whole.centre + shift, atol=1e-12)
        np.testing.assert_allclose(moved.tensor, m @ whole.tensor @ m.T, atol=1e-10)
        # the parallel-axis theorem: about a point the moments of parts add up
        point = rng.uniform(-3, 3, 3)
        np.testing.assert_allclose(whole.about(point), sum(p.about(point) for p in parts), atol=1e-9)


class TableProperties(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 2**31), st.integers(1, 3))
    def test_look_ups(self, seed: int, dimensions: int) -> None:
        rng = np.random.default_rng(seed)
        axes = tuple(
            Axis(f"a{k}", np.cumsum(rng.uniform(0.1, 2.0, int(rng.integers(2, 5))))) for k in range(dimensions)
        )
        values = rng.uniform(-5, 5, [len(a.values) for a in axes])
        table = Table("t", axes, values)
        point = [rng.uniform(a.values[0], a.values[-1]) for a in axes]
        found = float(table(*point))
        self.assertTrue(values.min() - 1e-12 <= found <= values.max() + 1e-12)
        # the axes in another order
        turned = Table("t", axes[::-1], np.transpose(values))
        self.assertAlmostEqual(float(turned(*point[::-1])), found, places=12)
        # a sum of tables is the table of the sum; a product of linear factors is met exactly
        other = rng.uniform(-5, 5, values.shape)
        both = float(Table("t", axes, values + 2.0 * other)(*point))
        self.assertAlmostEqual(both, found + 2.0 * float(Table("t", axes, other)(*point)), places=11)
        grid = np.meshgrid(*(a.values for a in axes), indexing="ij")
        exact = float(Table("t", axes, np.prod([g + 1.0 for g in grid], axis=0))(*point))
        self.assertAlmostEqual(exact, float(np.prod([p + 1.0 for p in point])), delta=1e-11 * abs(exact))
        # at the nodes what is given, smooth tables too
        node = [int(rng.integers(0, len(a.values))) for a in axes]
        at = [float(a.values[i]) for a, i in zip(axes, node, strict=True)]
        for method in ("linear", "smooth"):
            self.assertAlmostEqual(float(Table("t", axes, values, method=method)(*at)), values[tuple(node)], places=11)


NUMBERS = st.floats(0.1, 9.0).map(lambda v: f"{v:.3f}")
TEXTS = st.recursive(
    st.one_of(NUMBERS, st.sampled_from(["x", "y"])),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*", "/"]), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        st.tuples(st.sampled_from(["min", "max", "atan2"]), inner, inner).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(st.sampled_from(["sin", "cos", "abs", "tanh"]), inner).map(lambda t: f"{t[0]}({t[1]})"),
        st.tuples(inner, inner).map(lambda t: f"(-{t[0]} < {t[1]})"),
    ),
    max_leaves=12,
)
PYTHON: dict[str, Any] = {
    "sin": math.sin, "cos": math.cos, "tanh": math.tanh, "atan2": math.atan2, "min": min, "max": max, "abs": abs,
}  # fmt: skip


class FormulaProperties(unittest.TestCase):
    @settings(max_examples=200)
    @given(TEXTS, SMALL, SMALL)
    def test_a_formula_means_what_python_means(self, text: str, x: float, y: float) -> None:
        try:
            expected = float(eval(text, {**PYTHON, "x": x, "y": y}))
        except ZeroDivisionError:
            assume(False)
        signals = {"x": np.asarray(x), "y": np.asarray(y)}
        with np.errstate(all="ignore"):
            found = float(value_of(parse(text), lambda name: signals[name], {}))
        self.assertAlmostEqual(found, expected, delta=1e-9 * (1.0 + abs(expected)))

    @given(st.integers(-50, 50), st.integers(0, 200), st.integers(1, 50))
    def test_a_history_in_text_is_the_one_in_python(self, tenths: int, begins: int, lasts: int) -> None:
        size, at, width = tenths / 10.0, begins / 10.0, lasts / 10.0
        written = parse_history(f"doublet({size!r} deg, at={at!r} s, width={width!r} s)")
        made = dv.doublet(f"{size!r} deg", at=at, width=width)
        t = np.linspace(0, 40, 801)
        np.testing.assert_array_equal(written(t), made(t))
        # up and down again: as much of the one as of the other, and nothing outside
        self.assertTrue(np.all(made(t[(t < at) | (t > at + 2.0 * width + 1e-9)]) == 0.0))
        inside = (t > at + 1e-9) & (t < at + width - 1e-9)
        np.testing.assert_allclose(made(t[inside]), math.radians(size))
        np.testing.assert_allclose(made(t[inside] + width), -math.radians(size))


class RouteProperties(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 2**31), st.integers(3, 5), ANGLE)
    def test_a_path_turned_and_mirrored(self, seed: int, count: int, angle: float) -> None:
        rng = np.random.default_rng(seed)
        legs = np.cumsum(rng.uniform(-0.9, 0.9, count))
        steps = rng.uniform(2000, 4000, count)[:, None] * np.stack([np.cos(legs), np.sin(legs)], axis=1)
        points = np.vstack([np.zeros(2), np.cumsum(steps, axis=0)])
        c, s = math.cos(angle), math.sin(angle)
        kinds = ["fly_by" if rng.random() < 0.6 else "fly_over" for _ in points]

        def path(places: np.ndarray[Any, Any]) -> Any:
            rows = [
                {"north": float(n), "east": float(e), "kind": kind} for (n, e), kind in zip(places, kinds, strict=True)
            ]
            common = {"airspeed": "40 m/s", "altitude": "500 m", "acceptance": "900 m", "bank": "40 deg"}
            return build_path(Route.model_validate({"format": 1, "name": "r", "defaults": common, "points": rows}))

        try:
            drawn = path(points)
        except DravikError as error:
            self.assertRegex(str(error), "turn|miss")
            assume(False)
        turned = path(points @ np.array([[c, s], [-s, c]]))
        mirrored = path(points * [1.0, -1.0])
        # legs of a few km with turns of 195 m: no longer than the legs and their turns, no shorter than straight ahead
        self.assertGreater(drawn.length, float(np.hypot(*points[-1])) - 1e-6)
        for other in (turned, mirrored):
            self.assertAlmostEqual(other.length, drawn.length, places=6)
        np.testing.assert_allclose(mirrored.samples()[:, :2], drawn.samples()[:, :2] * [1.0, -1.0], atol=1e-6)


class SystemProperties(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 2**31), st.integers(1, 4))
    def test_systems_joined_and_sampled(self, seed: int, order: int) -> None:
        rng = np.random.default_rng(seed)

        def drawn(tag: str) -> dv.LinearSystem:
            a = rng.uniform(-1, 1, (order, order)) - 2.5 * np.eye(order)
            return dv.LinearSystem.of(
                a, rng.uniform(-1, 1, (order, 1)), states=[f"{tag}{k}" for k in range(order)], inputs=[f"u{tag}"],
                outputs=[f"y{tag}"], C=rng.uniform(-1, 1, (1, order)), D=[[0.0]],
            )  # fmt: skip

        first, second = drawn("a"), drawn("b")
        w = np.geomspace(0.1, 20.0, 7)
        one, two = (frequency_response(s, s.outputs[0], s.inputs[0], w).values for s in (first, second))
        pair = beside(first, second)
        np.testing.assert_allclose(frequency_response(pair, "yb", "ub", w).values, two, rtol=1e-9)
        np.testing.assert_allclose(frequency_response(pair, "yb", "ua", w).values, 0.0, atol=1e-12)
        # closed with negative feedback: L/(1 + L)
        closed = wired(
            first, second.renamed({"ub": "ya"}), inputs=["r"], outputs=["yb"], sums={"ua": {"r": 1.0, "yb": -1.0}}
        )
        np.testing.assert_allclose(
            frequency_response(closed, "yb", "r", w).values, one * two / (1.0 + one * two), rtol=1e-8, atol=1e-10
        )
        # sampled with a hold and made continuous again
        back = first.discretised("50 ms").continued()
        np.testing.assert_allclose(back.A, first.A, atol=1e-8)
        np.testing.assert_allclose(back.B, first.B, atol=1e-8)


if __name__ == "__main__":
    unittest.main()
