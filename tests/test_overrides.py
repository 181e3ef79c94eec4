"""Signals overridden: loops cut, signals disturbed and replaced, each against the algebra."""

import math
import unittest
from collections.abc import Mapping

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from tests.test_limits import jet

OMEGA = np.geomspace(0.05, 30.0, 40)
TARN = dv.sample("tarn")
HELD = TARN.with_law(*dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml"))
POINT = dv.trim(HELD, airspeed="62 m/s", altitude="300 m")
CLOSED = dv.linearise(HELD, POINT)
#: What the loop goes through: a sensor, a formula of the law, its answer, the control's command, the control itself.
PLACES = ("q", "theta", "pitch_error", "pitch_hold", "elevator_command", "elevator")


class LoopTest(unittest.TestCase):
    def test_a_broken_loop_closed_again_is_the_aircraft(self) -> None:
        for place in (*PLACES, "power_left_command", "power_left"):
            overridden = dv.linearise(HELD, POINT, cut=[place])
            self.assertIn(f"{place}_injected", overridden.inputs)
            again = overridden.with_gains({f"{place}_injected": {place: 1.0}})
            order = [again.states.index(n) for n in CLOSED.states]
            np.testing.assert_allclose(again.A[np.ix_(order, order)], CLOSED.A, atol=2e-6, rtol=1e-6, err_msg=place)
            if place in PLACES:
                self.assertGreater(float(np.max(np.abs(overridden.A[np.ix_(order, order)] - CLOSED.A))), 1e-3, place)

    def test_what_disturbs_a_signal_goes_round_the_loop(self) -> None:
        for place in PLACES:
            loop = dv.linearise(HELD, POINT, cut=[place]).part(inputs=[f"{place}_injected"], outputs=[place])
            answer = dv.linearise(HELD, POINT, disturbed=[place]).part(inputs=[f"{place}_disturbance"], outputs=[place])
            around = loop.frequency_response(OMEGA)[:, 0, 0]
            np.testing.assert_allclose(
                answer.frequency_response(OMEGA)[:, 0, 0], around / (1.0 - around), rtol=1e-5, atol=1e-7, err_msg=place
            )

    def test_the_loop_at_the_command_is_the_bare_aircraft_and_the_law(self) -> None:
        bare = dv.linearise(TARN, dv.trim(TARN, airspeed="62 m/s", altitude="300 m"), outputs=["theta", "q"])
        theta, q = bare.part(inputs=["elevator_increment"]).frequency_response(OMEGA)[:, :, 0].T
        s = 1j * OMEGA
        law = (2.0 + 0.8 / s) * theta + 1.0 * q  # -(k (command - theta) + integral - q)
        loop = dv.linearise(HELD, POINT, cut=["elevator_command"])
        found = loop.part(inputs=["elevator_command_injected"], outputs=["elevator_command"]).frequency_response(OMEGA)
        np.testing.assert_allclose(found[:, 0, 0], law, rtol=1e-5)

    def test_what_the_motion_gives_is_cut_from_laws_alone(self) -> None:
        # no law reads alpha: the air still does, and nothing changes
        overridden = dv.linearise(HELD, POINT, cut=["alpha"])
        order = [overridden.states.index(n) for n in CLOSED.states]
        np.testing.assert_array_equal(overridden.A[np.ix_(order, order)], CLOSED.A)
        self.assertEqual(float(np.max(np.abs(overridden.B[:, overridden.inputs.index("alpha_injected")]))), 0.0)

    def test_the_motion_reads_opened_coefficients_and_loads(self) -> None:
        bare = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        model = dv.linearise(TARN, bare, disturbed=["CL", "CD", "Cm", "CY", "thrust_left"])
        push = {n: dict(zip(model.states, model.B[:, model.inputs.index(f"{n}_disturbance")], strict=True))
                for n in ("CL", "CD", "Cm", "CY", "thrust_left")}  # fmt: skip
        reference, mass, speed = TARN.definition.reference, bare["mass"], bare["airspeed"]
        force = 0.5 * bare["density"] * speed**2 * reference.area
        self.assertAlmostEqual(push["CD"]["airspeed"], -force / mass, places=5)
        self.assertAlmostEqual(push["CY"]["beta"], force / mass / speed, places=6)
        self.assertAlmostEqual(push["CL"]["airspeed"], 0.0, places=6)
        self.assertAlmostEqual(push["Cm"]["q"], force * reference.chord / TARN.loading.tensor()[1, 1], places=5)
        # the left engine turns the nose to the right, and pulls forwards: by itself where nothing stands in its wash
        self.assertGreater(push["thrust_left"]["r"], 0.0)
        level = dv.trim(jet(), airspeed=50, altitude=0)
        pulled = dv.linearise(jet(), level, disturbed=["thrust_one"])
        found = pulled.B[pulled.states.index("airspeed"), pulled.inputs.index("thrust_one_disturbance")]
        self.assertAlmostEqual(found * level["mass"], math.cos(level["alpha"]), places=6)
        # named readers are those alone
        named = TARN.with_overrides(dv.SignalOverride(signal="CL", kind="disturbed", readers=("CD",)))
        found = dv.linearise(named, dv.trim(named, airspeed="62 m/s", altitude="300 m"))
        self.assertEqual(found.B[found.states.index("alpha"), found.inputs.index("CL_disturbance")], 0.0)

    def test_several_at_once(self) -> None:
        both = dv.linearise(HELD, POINT, cut=["q", "theta"], disturbed=["elevator_command"])
        again = both.with_gains({"q_injected": {"q": 1.0}, "theta_injected": {"theta": 1.0}})
        order = [again.states.index(n) for n in CLOSED.states]
        np.testing.assert_allclose(again.A[np.ix_(order, order)], CLOSED.A, atol=2e-6, rtol=1e-6)


class FlightTest(unittest.TestCase):
    def test_a_sensor_with_a_lag_and_the_loop_fed_by_a_device(self) -> None:
        lagged = HELD.with_overrides(dv.SignalOverride(signal="q", kind="replaced", formula="lag(q, 0.3)"))
        law = dv.fly(
            lagged,
            start=dv.trim(lagged, airspeed=62, altitude=300),
            duration=6,
            controls={"theta_command": dv.step("2 deg", at=0.2)},
        )
        truth = dv.fly(HELD, start=POINT, duration=6, controls={"theta_command": dv.step("2 deg", at=0.2)})
        self.assertGreater(float(np.max(np.abs(law["theta"] - truth["theta"]))), 1e-3)
        lag = dv.LinearSystem.filtered("read", "q", [1.0], [0.3, 1.0]).response(law.time, law["q"][:, None])[1][:, 0]
        # between two rows q does not quite run straight
        np.testing.assert_allclose(law["override_q"], lag, atol=1e-5)

        overridden = HELD.with_overrides(dv.SignalOverride(signal="theta", kind="cut"))
        start = dv.trim(overridden, airspeed=62, altitude=300, inputs={"theta_injected": POINT["theta"]})

        class Attitude:
            rate, sets = 100.0, ("theta_injected",)

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {"theta_injected": signals["theta"]}

        fed = dv.fly(
            overridden,
            start=start,
            duration=6,
            devices=[Attitude()],
            controls={"theta_command": dv.step("2 deg", at=0.2)},
        )
        self.assertLess(float(np.max(np.abs(fed["theta"] - truth["theta"]))), 2e-3)
        blind = dv.fly(overridden, start=start, duration=6, controls={"theta_command": dv.step("2 deg", at=0.2)})
        self.assertGreater(float(np.max(np.abs(blind["theta"] - truth["theta"]))), 0.02)

    def test_over_a_faulty_sensor_and_for_some_readers_only(self) -> None:
        from dravik.aircraft.description.faults import BiasedSignal

        faulty = HELD.with_script({"off": BiasedSignal(kind="biased", signal="q", by="1 deg/s", at=1.0)})
        overridden = faulty.with_overrides(dv.SignalOverride(signal="q", kind="disturbed"))
        run = dv.fly(
            overridden,
            start=dv.trim(overridden, airspeed=62, altitude=300),
            duration=2,
            controls={"q_disturbance": dv.step("3 deg/s", at=0.5)},
        )
        np.testing.assert_allclose(np.degrees(run["override_q"] - run["q"])[[10, 60, 150]], [0.0, 3.0, 4.0], atol=1e-9)
        # the air feels the elevator itself, whatever its sensor says to laws: it too is given what is injected
        sensed = HELD.with_script({"off": BiasedSignal(kind="biased", signal="elevator", by="1 deg", at=1.0)})
        model = dv.linearise(sensed, dv.trim(sensed, airspeed=62, altitude=300), cut=["elevator"])
        row, column = model.states.index("q"), model.inputs.index("elevator_injected")
        self.assertLess(float(model.B[row, column]), -1.0)
        one = HELD.with_overrides(dv.SignalOverride(signal="theta", kind="cut", readers=("pitch_error",)))
        u = one.default_inputs()
        u[one.input_index("theta_injected")] = 1.0
        x = one.state(velocity=(62, 0, 0), attitude=(0, 0.2, 0))
        self.assertAlmostEqual(one.values(x, u, ["pitch_error"])["pitch_error"], -1.0)

    def test_what_cannot_be_overridden_is_said(self) -> None:
        for override, words in (
            (dv.SignalOverride(signal="thetta", kind="cut"), "no signal 'thetta' to override.*theta"),
            (dv.SignalOverride(signal="pitch_hold_integral", kind="cut"), "no signal 'pitch_hold_integral'"),
            (dv.SignalOverride(signal="pitch_hold_gain", kind="cut"), "cannot be overridden"),
            (dv.SignalOverride(signal="q", kind="replaced"), "replaces 'q' by nothing"),
            (dv.SignalOverride(signal="q", kind="replaced", formula="lag(qq, 1)"), "no signal 'qq'"),
            (dv.SignalOverride(signal="q", kind="cut", readers=("pitch_hld",)), "no formula 'pitch_hld'"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                HELD.with_overrides(override)
        with self.assertRaisesRegex(DravikError, "kind of an override.*expected signal"):
            dv.SignalOverride(signal="q", kind="broken")
        with self.assertRaisesRegex(DravikError, "defined twice|taken"):
            HELD.with_overrides(dv.SignalOverride(signal="q", kind="cut"), dv.SignalOverride(signal="q", kind="cut"))


if __name__ == "__main__":
    unittest.main()
