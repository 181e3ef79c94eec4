import math
import random
import unittest

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from dravik.errors import DravikError, FormulaError
from dravik.formula import FUNCTIONS, TapeBuilder, parse
from dravik.formula.opcodes import MULTIPLY_ADD, MULTIPLY_SUBTRACT, OPS, SUBTRACT_PRODUCT
from dravik.kernel import RigidBody, build_program, new_workspace
from dravik.kernel.interpreter import run_tape
from dravik.motion import linked
from dravik.tables import Axis, Table
from tests.support import craft

INPUTS = ("wind_north", "wind_east", "wind_up", "x", "y", "z")
TABLE = Table("lift", (Axis("x", np.array([0.0, 1.0])),), np.array([2.0, 4.0]))


def run(formulas: dict[str, str], **values: float) -> dict[str, float]:
    """Compile formulas over x, y, z, run the tape, and return every named value."""
    builder = TapeBuilder({}, INPUTS, {"lift": TABLE})
    for name, text in formulas.items():
        builder.define(name, text, where=f"file: {name}")
    tape = builder.build(formulas)
    program = linked(build_program(tape, RigidBody(mass_registers=[0] * 13, inputs=len(INPUTS), wind=0)))
    w = new_workspace(program, tape)
    for name, value in values.items():
        w.registers[tape.names[name]] = value
    run_tape(program.code, program.layout, program.numbers, w.registers, w.counters, w.worst, 0, tape.stages[4], False)
    return {n: float(w.registers[r]) for n, r in tape.names.items()}


def message(**formulas: str) -> str:
    try:
        run(formulas)
    except DravikError as error:
        return str(error)
    return "no error"


class ValueTest(unittest.TestCase):
    def test_against_python(self) -> None:
        # the language's operators mean what they mean in Python
        for text in (
            "1 + 2*x - y/4", "-x**2", "(-x)**2", "2**-y", "x**y**0.5", "x - y - z", "x/y/z", "+x", "x % 0.7", "-y % z",
            "1 < x < y", "x < y and not y < z", "x > 5 or z <= z", "(x >= y) + (x != y) + 3*(x == x)", "1.5e-3*x",
        ):  # fmt: skip
            for x, y, z in ((0.3, 1.7, 2.5), (2.0, 0.5, 0.25)):
                expected = float(eval(text, {"x": x, "y": y, "z": z}))
                self.assertAlmostEqual(run({"f": text}, x=x, y=y, z=z)["f"], expected, places=13, msg=text)

    def test_every_instruction_agrees_with_its_folded_form(self) -> None:
        # the same call on inputs (compiled) and on constants (folded while compiling)
        rng = random.Random(1)
        for name, function in FUNCTIONS.items():
            if function.stateful:
                continue
            for _ in range(4):
                numbers = [rng.uniform(0.05, 0.95) for _ in function.arguments]
                variables = ["x", "y", "z"][: len(numbers)]
                compiled = run({"f": f"{name}({', '.join(variables)})"}, **dict(zip(variables, numbers, strict=True)))[
                    "f"
                ]
                folded = run({"f": f"{name}({', '.join(map(repr, numbers))})"})["f"]
                self.assertAlmostEqual(compiled, folded, places=13, msg=name)
        self.assertEqual(len({op.code for op in OPS.values()}), len(OPS))

    def test_particular_values(self) -> None:
        for text, expected in (
            ("wrap(3.5*pi)", -0.5 * math.pi),
            ("deadzone(x, 0.5)", 1.5),
            ("limit(x, -1, 1)", 1.0),
            ("min(x, 5, -3, 7)", -3.0),
            ("if_else(x > 1, 10, 20)", 10.0),
            ("if_else(condition=x > 5, yes=10, no=20)", 20.0),
            ("30*deg", math.pi / 6),
            ("lift(0.25)", 2.5),
            ("lift(x)", 4.0),
            ("mod(-1, 3)", 2.0),
        ):
            self.assertAlmostEqual(run({"f": text}, x=2.0)["f"], expected, places=14, msg=text)

    def test_products_joined_with_sums(self) -> None:
        for text, value in (
            ("x*y + z", 13.0),
            ("z + x*y", 13.0),
            ("x*y - z", -1.0),
            ("z - x*y", 1.0),
            ("-(x*y) - z", -13.0),
        ):
            body = craft(inputs={"x": {}, "y": {}, "z": {}}, formulas={"f": text})
            u = body.default_inputs()
            for name, number in (("x", 2.0), ("y", 3.0), ("z", 7.0)):
                u[body.input_index(name)] = number
            self.assertEqual(body.values(body.state(velocity=(1, 0, 0)), u)["f"], value, text)
        kinds = {
            int(k)
            for k in craft(
                inputs={"x": {}}, formulas={"a": "x*x - 1", "b": "2 - x*time", "c": "x*altitude + 3"}
            ).tape.code[:, 0]
        }
        self.assertLessEqual({MULTIPLY_ADD, MULTIPLY_SUBTRACT, SUBTRACT_PRODUCT}, kinds)

    def test_any_order_and_shared_parts(self) -> None:
        values = run({"c": "a + b", "a": "b*2 + sin(x)*y", "b": "sin(x)*y"}, x=1.0, y=3.0)
        self.assertAlmostEqual(values["c"], 4 * 3 * math.sin(1.0), places=14)
        builder = TapeBuilder({}, INPUTS)
        builder.define("a", "sin(x)*y + sin(x)*y")
        self.assertEqual(len(builder.build(["a"]).code), 3)


class ErrorTest(unittest.TestCase):
    def test_each_points_at_its_character(self) -> None:
        for text, words, character in (
            ("1 + alpah", "no signal 'alpah'", 4),
            ("2*lift", "lift is a table; try: lift(x)", 2),
            ("lift(x, y)", "has 2 arguments; try: lift(x)", 0),
            ("1 + sine(x)", "no function or table 'sine'; try: did you mean sin", 4),
            ("2 * sin", "sin is a function; try: sin(x)", 4),
            ("x / (3 - 3)", "this divides by zero", 2),
            ("10**400", "is not a finite number", 2),
            ("9**9**9", "is not a finite number", 1),
            ("1e999", "number is too large", 0),
            ("1" + "0" * 400, "number is too large", 0),
            ("sqrt(-1)", "is not a finite number", 0),
            ("x^2", "try: ** for a power", 1),
            ("x.real", "Attribute has no place", 0),
            ("x[0]", "'[' has no place", 1),
            ("__import__('os')", '"\'" has no place', 11),
            ("lambda: 1", "':' has no place", 6),
            ("1 if x else 2", "try: if_else", 0),
            ("limit(x)", "missing 'low', it takes x, low, high", 0),
            ("limit(x, 1, 2, 3)", "has 4 arguments", 0),
            ("lag(x, tau=1)", "no argument 'tau'", 0),
            ("lag(x, 0)", "needs a time_constant above zero", 7),
            ("x is y", "Is has no place", 0),
            ("True", "1 and 0", 0),
            ("x +", "cannot be read as a formula", 2),
            ("  ", "the formula is empty", 0),
            ("(" * 150 + "x" + ")" * 150, "brackets are open", 100),
            ("-" * 300 + "x", "nested deeper", 0),
            ("+".join(["x"] * 3000), "characters", 0),
            ("integral(x, initial=y)", "must be a constant", 20),
            ("integral(x, 0, 2, 1)", "lower limit of integral is not below", 15),
        ):
            with self.subTest(text[:40]), self.assertRaises(FormulaError) as caught:
                run({"f": text})
            self.assertIn(words, str(caught.exception))
            if character:
                self.assertAlmostEqual(caught.exception.position, character, delta=2)
            self.assertTrue(str(caught.exception).startswith("file: f"))

    def test_names_and_cycles(self) -> None:
        self.assertIn("formulas need each other at the same instant: ", message(a="b + 1", b="c*2", c="a"))
        self.assertRegex(message(a="b + 1", b="c*2", c="a"), r"(a -> b -> c -> a|b -> c -> a -> b|c -> a -> b -> c)")
        self.assertIn("a -> a", message(a="2*a"))
        self.assertEqual(message(a="lag(b, 1)", b="2*a"), "no error")
        self.assertIn("at the same instant", message(a="washout(b, 1)", b="2*a"))
        for name, words in (
            ("x", "taken by a signal"),
            ("pi", "a constant"),
            ("sin", "a function"),
            ("lift", "a table"),
        ):
            self.assertIn(words, message(**{name: "1"}))
        self.assertIn("is no name", message(**{"a b": "1"}))

    @settings(max_examples=400, deadline=None)
    @given(
        st.one_of(
            st.text(max_size=60), st.text(alphabet="xyz0123456789.+-*/()<>=, andorifelsnumit\n\t%^eE_", max_size=80)
        )
    )
    @example("x if y else\x00z")
    @example("0x1_0")
    @example("1_000.5e3j")
    @example("\ud800")
    @example("f'{x}'")
    @example("x:=3")
    @example("(yield)")
    @example("*x, **y")
    @example("limit(*x, **y)")
    def test_random_text_brings_only_clean_errors(self, text: str) -> None:
        try:
            parse(text)
            run({"f": text})
        except DravikError as error:
            self.assertNotIn("Traceback", str(error))


class StageTest(unittest.TestCase):
    def test_the_place_of_a_value_that_is_not_finite(self) -> None:
        builder = TapeBuilder({}, INPUTS)
        for name, text in (("a", "y / x"), ("b", "if_else(y > 0, a, 1) + 3"), ("c", "2*b")):
            builder.define(name, text)
        tape = builder.build(["c"])
        program = linked(build_program(tape, RigidBody(mass_registers=[0] * 13, inputs=len(INPUTS), wind=0)))
        w = new_workspace(program, tape)
        w.registers[tape.names["y"]] = 1.0
        run_tape(
            program.code, program.layout, program.numbers, w.registers, w.counters, w.worst, 0, tape.stages[4], False
        )
        source = tape.trace(tape.names["c"], w.registers)
        assert source is not None
        self.assertEqual((source.name, source.position), ("a", 2))


if __name__ == "__main__":
    unittest.main()
