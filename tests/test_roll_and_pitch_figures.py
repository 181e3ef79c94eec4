"""Figures of the linear model that criteria are held against: roll oscillations, control anticipation, quickness."""

import unittest
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import scipy.signal as ss

import dravik as dv
from dravik.errors import DravikError
from dravik.handling import Assessment, Criterion, anticipation, linear_changes, roll_oscillations
from dravik.handling.criteria import NONE
from dravik.linear import LinearModel

AIRCRAFT = Path(__file__).parent / "aircraft"


def model_of(name: str, **condition: str) -> LinearModel:
    craft = dv.load(AIRCRAFT / name)
    return dv.linearise(craft, dv.trim(craft, **condition), outputs=["nz", "q", "p", "phi"])  # type: ignore[arg-type]


class RollOscillationTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.model = model_of("skarv", airspeed="200 m/s", altitude="3000 m")
        cls.found = roll_oscillations(cls.model, "roll_elevon")
        held = [n for n in cls.model.states if n not in ("north", "east", "altitude", "airspeed", "psi")]
        cls.part = cls.model.part(states=held, inputs=["roll_elevon"])

    def curve(self, state: str, *, impulse: bool) -> "tuple[np.ndarray, np.ndarray]":
        """Return time and response of a state by another package's solver."""
        row = np.eye(len(self.part.states))[[self.part.states.index(state)]]
        plant = ss.StateSpace(self.part.A, self.part.B, row, np.zeros((1, 1)))
        t = np.linspace(0.0, 12.0, 24001)
        return (ss.impulse if impulse else ss.step)(plant, T=t)  # type: ignore[no-any-return]

    def test_ratios_are_those_of_the_first_three_peaks(self) -> None:
        self.assertLess(self.found.damping, 0.2)
        for state, impulse, value in (("p", False, self.found.rate_ratio), ("phi", True, self.found.bank_ratio)):
            _, y = self.curve(state, impulse=impulse)
            y = y * np.sign(y[ss.argrelextrema(np.abs(y), np.greater)[0][0]])
            high, low = ss.argrelmax(y)[0], ss.argrelmin(y)[0]
            one, two, three = y[high[0]], y[low[0]], y[high[1]]
            wanted = (one + three - 2.0 * two) / (one + three + 2.0 * two)
            self.assertAlmostEqual(value, wanted, delta=1e-3 * abs(wanted))
            self.assertGreater(wanted, 0.0)

    def test_phases_are_those_of_the_dutch_roll_in_sideslip(self) -> None:
        mode = self.model.modes().named("Dutch roll")
        assert mode is not None
        period = 2.0 * np.pi / abs(mode.eigenvalue.imag)
        for impulse, value in ((False, self.found.step_phase), (True, self.found.impulse_phase)):
            t, beta = self.curve("beta", impulse=impulse)
            _, p = self.curve("p", impulse=False)
            # the Dutch roll's part by least squares over all the roots that there are
            roots = np.linalg.eigvals(self.part.A)
            shapes = [np.ones_like(t), t]
            for root in roots[roots.imag >= 0.0]:
                if abs(root) > 1e-9:
                    shapes += [
                        np.exp(root.real * t) * np.cos(root.imag * t),
                        np.exp(root.real * t) * np.sin(root.imag * t),
                    ]
            found = np.linalg.lstsq(np.stack(shapes, axis=1), beta * np.sign(p[40]), rcond=1e-13)[0]
            k = next(
                i for i, s in enumerate(shapes)
                if i > 1 and np.allclose(s, np.exp(mode.eigenvalue.real * t) * np.cos(abs(mode.eigenvalue.imag) * t), atol=1e-6)
            )  # fmt: skip
            own = found[k] * shapes[k] + found[k + 1] * shapes[k + 1]
            first = t[ss.argrelmax(own)[0][0]]
            self.assertAlmostEqual(np.degrees(value), -360.0 * first / period, delta=0.6)

    def test_with_more_damping_two_turns_are_read(self) -> None:
        craft = dv.sample("tarn")
        model = dv.linearise(craft, dv.trim(craft, airspeed=62.0, altitude=300.0))
        found = roll_oscillations(model, "roll_stick")
        self.assertGreater(found.damping, 0.2)
        held = model.part(states=[n for n in model.states if n not in ("north", "east", "altitude", "airspeed", "psi")])
        row = np.eye(len(held.states))[[held.states.index("p")]]
        plant = ss.StateSpace(held.A, held.B[:, [held.inputs.index("roll_stick")]], row, np.zeros((1, 1)))
        _, p = ss.step(plant, T=np.linspace(0.0, 8.0, 16001))
        one, two = p[ss.argrelmax(p)[0][0]], p[ss.argrelmin(p)[0][0]]
        self.assertAlmostEqual(found.rate_ratio, (one - two) / (one + two), delta=2e-4)

    def test_left_is_as_right_and_size_is_nothing(self) -> None:
        for factor in (-1.0, 0.01):
            other = roll_oscillations(replace(self.model, B=self.model.B * factor), "roll_elevon")
            np.testing.assert_allclose(other, self.found, rtol=1e-6)

    def test_what_it_refuses(self) -> None:
        still = replace(self.model, B=self.model.B * 0.0)
        for model, words in ((still, "does not roll"), (self.model.part(states=["alpha", "q"]), "Dutch roll")):
            with self.assertRaisesRegex(DravikError, words):
                roll_oscillations(model, "roll_elevon")


class AnticipationTest(unittest.TestCase):
    def test_an_airframe_alone_has_the_initial_acceleration(self) -> None:
        model = model_of("lom", airspeed="80 m/s", altitude="500 m")
        name = "pitch_stick"
        full = model.part(states=["alpha", "q", "elevator"])
        # the surface put in the place of its actuator
        k = full.states.index("elevator")
        a, b = full.A[:2, :2], full.A[:2, [k]]
        c, d = full.C[:, :2], full.C[:, [k]]
        bare = dv.LinearSystem(a, b, c, d, states=["alpha", "q"], outputs=full.outputs, inputs=[name])
        load = bare.outputs.index("nz")
        steady = float((c @ np.linalg.solve(-a, b) + d)[load, 0])
        bare_model = replace(
            full, A=a, B=b, C=c, D=d, states=["alpha", "q"], inputs=[name], x0=full.x0[:2],
            drift=full.drift[:2] if full.drift.size else full.drift, units=full.units,
        )  # fmt: skip
        value, time = anticipation(bare_model, name)
        self.assertAlmostEqual(value, float(b[1, 0]) / steady, delta=2e-3 * value)
        self.assertEqual(time, 0.0)
        # by the frequency squared over n/alpha it is the same but for the lift of the elevator
        root = np.linalg.eigvals(a)[0]
        n_alpha = float(c[load, 0] + c[load, 1] * -a[0, 0] / a[0, 1])
        self.assertAlmostEqual(value, abs(root) ** 2 / n_alpha, delta=0.12 * value)
        # an actuator before it takes some of it, later
        slower, later = anticipation(full, name)
        self.assertLess(slower, value)
        self.assertGreater(later, 0.0)


class QuicknessTest(unittest.TestCase):
    def test_a_rate_command_of_first_order(self) -> None:
        lag = 0.4
        system = dv.LinearSystem(
            np.array([[-1.0 / lag, 0.0], [1.0, 0.0]]), np.array([[3.0 / lag], [0.0]]), np.eye(2), np.zeros((2, 1)), states=["p", "phi"], outputs=["p", "phi"],
            inputs=["stick"],
        )  # fmt: skip
        widths = [0.2, 0.5, 1.0, 2.0]
        for width, change in zip(widths, linear_changes(system, "phi", "p", "stick", widths), strict=True):
            self.assertAlmostEqual(change.rate, 3.0 * (1.0 - np.exp(-width / lag)), places=4)
            self.assertAlmostEqual(change.largest, 3.0 * width, delta=1e-4)
            self.assertAlmostEqual(change.quickness, (1.0 - np.exp(-width / lag)) / width, delta=2e-4)

    def test_an_attitude_that_swings_back(self) -> None:
        found = linear_changes(model_of("skarv", airspeed="200 m/s", altitude="3000 m"), "phi", "p", "roll_elevon")
        self.assertEqual([c.held for c in found], [0.2, 0.4, 0.8, 1.6, 3.2])
        self.assertTrue(all(a.quickness > b.quickness for a, b in pairwise(found)))
        self.assertTrue(all(c.least < c.largest for c in found))

    def test_what_it_refuses(self) -> None:
        system = dv.LinearSystem.filtered("p", "stick", [1.0], [1.0, 1.0])
        for widths in ([], [0.0], ["-1 s"], [float("nan")], [100.0]):
            with self.assertRaises(DravikError):
                linear_changes(system, "p", "p", "stick", widths)


class ToldTest(unittest.TestCase):
    def test_what_is_told_has_no_level_and_takes_none(self) -> None:
        told = Criterion("p_osc/p_av", "3.3.2.2.1", 0.9, "", NONE, is_told=True)
        held = Criterion("other", "1", 1.0, "", (2.0, 0.5, 0.1))
        found = Assessment("x", "I", "A", [told, held])
        self.assertEqual((told.level, told.requirement, found.level), (None, "told", 2))
        self.assertEqual(found.limiting, [held])
        self.assertIsNone(Assessment("x", "I", "A", [told]).level)


if __name__ == "__main__":
    unittest.main()
