"""Machine code of a tape against the interpreter: the same to the last bit, in states no flight would reach too."""

import unittest
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.formula.opcodes import OPS
from dravik.kernel.program import COUNTING, EVERYTHING, FLYING
from dravik.motion.equations import evaluate
from dravik.tables import Axis, Table
from dravik.trimming import on_ground
from tests.support import craft
from tests.test_contact import body


def differs(made: Any, states: int, seed: int = 1, speed: float = 60.0) -> int:
    """Return in how many random states, stalled and tumbling ones too, anything differs in any bit."""
    rng, n = np.random.default_rng(seed), len(made.state_names)
    coded = made.with_machine_code()
    one, two = made.workspace(), made.workspace()
    registers = list(made.tape.names.values())
    begin = made.state(position=(0, 0, 300), velocity=(speed, 0, 2))
    low, high = (np.array([getattr(s, k) for s in made.inputs.values()]) for k in ("low", "high"))
    default, bounded, wrong = made.default_inputs(), np.isfinite(high - low), 0
    for k in range(states):
        x = begin.copy()
        x[:3] += rng.normal(0, 200, 3)
        x[3:6] = rng.normal(0, 1, 3) * rng.choice([0.1, 5, 30, 80])
        q = rng.normal(0, 1, 4)
        x[6:10], x[10:13] = q / np.linalg.norm(q), rng.normal(0, 1, 3)
        x[13:] += rng.normal(0, 1, n - 13) * rng.choice([0.01, 0.3])
        u = default + rng.normal(0, 0.1, len(default))
        u[bounded] = rng.uniform(low[bounded], high[bounded])
        rates = np.zeros((2, n))
        for w in (one, two):
            w.counters[COUNTING], w.counters[FLYING] = k % 2, (k // 2) % 2
        steady = bool(rng.random() < 0.3)
        evaluate(made.program, one, 0.3, x, u, rates[0], steady, EVERYTHING)
        evaluate(coded.program, two, 0.3, x, u, rates[1], steady, EVERYTHING)
        same = np.array_equal(rates[0], rates[1], equal_nan=True) and np.array_equal(one.counters, two.counters)
        same &= np.array_equal(one.registers[registers], two.registers[registers], equal_nan=True)
        wrong += not (same and np.array_equal(one.worst, two.worst, equal_nan=True))
    return wrong


def laden(name: str, law: str) -> Any:
    return dv.sample(name).with_law(*dv.load_law(sample_path(name) / "laws" / f"{law}.toml"))


class OwnCodeTest(unittest.TestCase):
    def test_every_sample_in_any_state(self) -> None:
        cases = {
            "tarn": dv.sample("tarn"), "pika": dv.sample("pika"), "merle": dv.sample("merle"), "hail": dv.sample("hail"),
            "homing": laden("hail", "homing"), "fly by wire": laden("tarn", "fly_by_wire"),
            "fire run": dv.load_scenario("fire_run").craft,
        }  # fmt: skip
        for name, made in cases.items():
            with self.subTest(name):
                states = 4000 if name in ("tarn", "pika", "merle", "hail") else 1000
                self.assertEqual(differs(made, states, speed=200.0 if "h" in name[:1] else 60.0), 0)

    def test_every_instruction_on_random_tapes(self) -> None:
        rng = np.random.default_rng(7)
        grid = np.linspace(-1.0, 1.0, 6)
        tables = {
            f"t{k}": Table(f"t{k}", (Axis("x", grid, ""), Axis("y", grid[:4], "")), rng.normal(0, 1, (6, 4)), "", m, o)
            for k, (m, o) in enumerate([("linear", "hold"), ("smooth", "extend"), ("smooth", "hold")] * 3)
        }
        leaves = ["alpha", "beta", "q", "theta", "throttle", "0.7*p", "(r + 2.5)", "(phi - 1.2)", "gain"]
        two = ["+", "-", "*", "/", "<", "<=", ">", ">=", "==", "!=", "and", "or"]
        one = ["sin", "cos", "tan", "asin", "acos", "atan", "sinh", "cosh", "tanh", "exp", "log", "log10", "sqrt", "abs",
               "sign", "floor", "wrap"]  # fmt: skip

        def text(depth: int) -> str:
            if depth == 0:
                return str(rng.choice(leaves))
            kind = rng.integers(0, 9)
            parts = [text(depth - 1) for _ in range(3)]
            if kind < 3:
                return f"({parts[0]} {rng.choice(two)} {parts[1]})"
            if kind == 3:
                return f"{rng.choice(one)}({parts[0]})"
            if kind == 4:
                call = rng.choice(["atan2", "min", "max", "mod", "hypot", "deadzone"])
                return f"{call}({parts[0]}, {parts[1]})"
            if kind == 5:
                return f"if_else({parts[0]}, {parts[1]}, {parts[2]})"
            if kind == 6:
                return f"limit({parts[0]}, {parts[1]}, {parts[2]})"
            if kind == 7:
                return f"{rng.choice(list(tables))}({parts[0]}, {parts[1]})"
            return f"-((not {parts[0]}) - abs({parts[1]})**1.7) + lag({parts[2]}, 0.3)"

        seen = set[int]()
        for seed in range(6):
            formulas = {f"f{k}": text(4) for k in range(25)}
            formulas |= {"s": "integral(f0, low=-1, high=1) + rate_limit(f1, 0.5)", "h": "hysteresis(f2, -0.1, 0.1)"}
            made = craft(
                inputs={"throttle": {"range": [0, 1]}}, parameters={"gain": 0.4}, formulas=formulas, with_tables=tables,
                controls={"fin": {"range": ["-5 deg", "5 deg"], "rate": "20 deg/s", "lag": "0.1 s", "command": "0.1*f3"}},
            )  # fmt: skip
            seen |= {int(row[0]) for row in made.tape.code}
            self.assertEqual(differs(made, 150, seed), 0)
            # another value of a parameter is another answer, not another code
            self.assertEqual(differs(made.with_parameters({"gain": -1.3}), 20, seed), 0)
        missing = [
            name for name, o in OPS.items() if o.code not in seen | {o.code for o in OPS.values() if o.apply is None}
        ]
        self.assertEqual([m for m in missing if m not in ("pow", "ne", "eq")], [])

    def test_flights_and_trims_are_the_same(self) -> None:
        tarn = dv.sample("tarn")
        both = [dv.trim(c, airspeed=62, altitude=300) for c in (tarn, tarn.with_machine_code())]
        np.testing.assert_array_equal(both[0].state, both[1].state)
        np.testing.assert_array_equal(*[dv.linearise(p.craft, p).A for p in both])
        gust = dv.Turbulence("moderate", seed=3)
        runs = [dv.fly(p.craft, start=p, duration=5, turbulence=gust) for p in both]
        np.testing.assert_array_equal(runs[0].values, runs[1].values)
        self.assertEqual([r.metadata["machine_code"] for r in runs], [False, True])
        # gear: guarded stretches open and close
        tilted = body(environment={"ground": "100 - 0.06*north"})
        start = on_ground(tilted)
        lifted = dv.Start(start.state + np.eye(len(start.state))[2] * 0.4, start.inputs)
        flights = [dv.fly(c, start=lifted, duration=3) for c in (tilted, tilted.with_machine_code())]
        np.testing.assert_array_equal(flights[0].values, flights[1].values)
        self.assertTrue(any("touches" in e.text for e in flights[0].events))
        self.assertEqual([e.text for e in flights[0].events], [e.text for e in flights[1].events])

    def test_a_long_flight_makes_its_own(self) -> None:
        made = craft(environment={"gravity": 0.0})
        start = dv.Start(made.state(velocity=(1.0, 0.0, 0.0)), made.default_inputs())
        run = dv.fly(made, start=start, duration=410, record_every=1000)
        self.assertTrue(run.metadata["machine_code"])
        self.assertFalse(made.is_machine_code)

    def test_a_table_left_where_that_is_an_error_is_told(self) -> None:
        table = Table("t", (Axis("alpha", np.linspace(-0.1, 0.1, 5), "rad"),), np.zeros(5), "", "linear", "error")
        made = craft(formulas={"f": "t(alpha)"}, with_tables={"t": table}).with_machine_code()
        with self.assertRaisesRegex(DravikError, "table t"):
            made.values(made.state(velocity=(10.0, 0.0, 5.0)), made.default_inputs())
