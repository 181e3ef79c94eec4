import math
import unittest

from dravik.errors import DravikError
from dravik.units import KINDS, column_name, from_si, kind_of_unit, quantity, split_column, to_si
from dravik.units.everyday import _ABSOLUTE, _SYMBOLS, common_unit
from dravik.units.quantities import read_unit


class UnitsTest(unittest.TestCase):
    def test_quantities(self) -> None:
        # expected values from the definitions of the units
        for text, kind, expected in (
            ("62 m/s", "speed", 62.0),
            ("120 kt", "speed", 120 * 1852 / 3600),
            ("1000 ft", "length", 304.8),
            ("-2.5e2 ft", "length", -76.2),
            ("5 deg", "angle", math.pi / 36),
            ("5 °", "angle", math.pi / 36),
            ("0.1 rad", "angle", 0.1),
            ("60 deg/s", "angular rate", math.pi / 3),
            ("1200 rpm", "angular rate", 40 * math.pi),
            ("15 degC", "temperature", 288.15),
            ("59 degF", "temperature", 288.15),
            ("15 K", "temperature difference", 15.0),
            ("9 delta_degF", "temperature difference", 5.0),
            ("100 slug*ft^2", "inertia", 100 * 14.593902937 * 0.3048**2),
            ("2750 lb", "mass", 2750 * 0.45359237),
            ("25 kN", "force", 25e3),
            ("30 %", "number", 0.3),
            ("0.25", "number", 0.25),
            (62, "speed", 62.0),
        ):
            with self.subTest(text):
                self.assertAlmostEqual(quantity(text, kind), expected, delta=1e-7 * max(1.0, abs(expected)))

    def test_common_units_are_those_of_pint(self) -> None:
        for unit in [
            *_SYMBOLS, *_ABSOLUTE, *(unit for unit, _ in KINDS.values()), "kg/kW/h", "rad/s/V", "N*m*s", "slug*ft^2", "m**-2",
            "deg / s", "kg * m^2", "ft/min",
        ]:  # fmt: skip
            with self.subTest(unit):
                scale, offset, root = common_unit(unit) or (0.0, 0.0, frozenset())
                by_pint = read_unit(unit)
                self.assertEqual(root, by_pint[2])
                self.assertAlmostEqual(scale / by_pint[0], 1.0, delta=1e-14)
                self.assertAlmostEqual(offset, by_pint[1], delta=1e-12)
        for unit in ("kg//m", "m^^2", "parsec", "*m", "m*", "m^2.5", "m 2", "k g", "degC/s"):
            self.assertIsNone(common_unit(unit), unit)

    def test_refusals_say_why(self) -> None:
        for value, kind, words in (
            ("62 kg", "speed", "'kg' does not measure speed"),
            (5, "angle", "nobody can tell degrees from radians"),
            ("5", "angle", "nobody can tell"),
            (0.2, "angular rate", "has no unit"),
            ("50 Hz", "angular rate", "does not measure"),
            ("62 mph/", "speed", "is not a unit"),
            ("fast", "speed", "does not begin with a number"),
            (float("nan"), "speed", "not a finite number"),
            ("1e999 m", "length", "not a finite number"),
            (10**400, "length", "not a finite number"),
            (True, "length", "is no quantity"),
            (None, "length", "is no quantity"),
            ("1 m**9999999", "length", "is not a unit"),
            ("1 " + "m" * 80, "length", "is not a unit"),
            ("3 __import__('os')", "length", "is not a unit"),
        ):
            with self.subTest(value), self.assertRaises(DravikError) as caught:
                quantity(value, kind, where="here")
            self.assertIn(words, str(caught.exception))
            self.assertTrue(str(caught.exception).startswith("here: "))

    def test_every_kind_takes_its_own_example(self) -> None:
        for kind, (unit, example) in KINDS.items():
            self.assertTrue(math.isfinite(quantity(example, kind)), kind)
            self.assertEqual(to_si(unit, kind), (1.0, 0.0), kind)

    def test_columns(self) -> None:
        self.assertEqual(split_column(" alpha [deg] "), ("alpha", "deg"))
        self.assertEqual(split_column("CL"), ("CL", ""))
        self.assertEqual(split_column("CL [-]"), ("CL", ""))
        self.assertEqual((column_name("alpha", "rad"), column_name("CL", "")), ("alpha_deg", "CL"))
        self.assertAlmostEqual(from_si("rad/s")[1], 180 / math.pi)
        self.assertEqual(kind_of_unit("ft/s"), "speed")
        for text in ("alpha (deg)", "", "2x [m]"):
            with self.assertRaisesRegex(DravikError, "cannot be read"):
                split_column(text)


if __name__ == "__main__":
    unittest.main()
