"""The flying core: devices at their own rates, sessions with everything, saved and resumed to the last bit."""

import tempfile
import tracemalloc
import unittest
from collections.abc import Mapping
from pathlib import Path
from typing import Any, ClassVar

import numpy as np

import dravik as dv
from dravik.aircraft.description.faults import StuckControl
from dravik.errors import DravikError, FlightError
from dravik.flight import Flight
from dravik.motion.integration import LAST_RECORDED, fly_steps
from dravik.surroundings.discrete_gusts import DiscreteGust
from tests.support import DEG

TARN = dv.sample("tarn").with_script(
    {"jam": StuckControl(kind="stuck", control="rudder", at=2.2)},
    gusts={"jolt": DiscreteGust(axis="wind_up", size="3 m/s", width="1 s", at=1.3)},
)  # fmt: skip
POINT = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")


class Gyro:
    """A sensor with noise, sampled fifty times a second."""

    rate = 50.0
    sets = ("q_measured",)
    units: ClassVar = {"q_measured": "rad/s"}

    def __init__(self) -> None:
        self.noise = np.random.Generator(np.random.Philox(7))

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        return {"q_measured": signals["q"] + 0.002 * self.noise.standard_normal()}


class PitchHold:
    """A controller that integrates, at half the sensor's rate."""

    rate = 25.0
    reads = ("theta", "q_measured")
    sets = ("elevator",)

    def __init__(self) -> None:
        self.sum, self.past = 0.0, np.zeros(2)

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        error = signals["theta"] - POINT["theta"] - 2 * DEG
        self.sum += error / self.rate
        self.past = np.array([error, self.past[0]])
        return {"elevator": 1.2 * self.past.mean() + 0.3 * self.sum + 0.6 * signals["q_measured"]}


def options(**more: Any) -> Any:
    """Return everything that a flight can have, its devices made anew."""
    return {
        "devices": [Gyro(), PitchHold()],
        "turbulence": dv.Turbulence("moderate", seed=5),
        "controls": {"pedal": dv.doublet(0.3, at=0.5, width=1.5)},
        "record": ["q", "theta", "elevator", "rudder", "q_measured", "wind_up"],
        "record_every": 2,
        **more,
    }


class EverythingTest(unittest.TestCase):
    def test_a_session_is_the_flight_saved_and_resumed_to_the_last_bit(self) -> None:
        whole = dv.fly(TARN, start=POINT, duration=6, **options())
        self.assertEqual((whole.units["q_measured"], whole.metadata["devices"]), ("rad/s", ["Gyro", "PitchHold"]))
        self.assertGreater(float(np.ptp(whole["wind_up"])), 2.0)
        self.assertEqual(float(np.ptp(whole["rudder"][120:])), 0.0)
        self.assertEqual(len(set(whole["q_measured"].tolist())), 300)

        session = dv.Session(TARN, start=POINT, **options())
        saved = None
        for k, steps in enumerate([1, 7, 50, 100, 42, 100, 3, 297]):
            session.step(steps * 0.01)
            saved = session.save() if k == 4 else saved
        first = session.recording()
        np.testing.assert_array_equal(first.values, whole.values)
        self.assertEqual([(e.time, e.text) for e in first.events], [(e.time, e.text) for e in whole.events])
        assert saved is not None
        other = dv.Session(TARN, start=POINT, **options())
        for back in (session, other):  # where it was saved, and in another session that has flown less
            back.restore(saved)
            back.step(4.0)
            np.testing.assert_array_equal(back.recording().values, whole.values)
        session.reset()
        session.step(6.0)
        np.testing.assert_array_equal(session.recording().values, whole.values)

    def test_a_recording_is_flown_on_with_its_devices(self) -> None:
        whole = dv.fly(TARN, start=POINT, duration=6, **options())
        with tempfile.TemporaryDirectory() as folder:
            for part, fly in (
                (Path(folder) / "a.csv", lambda path: dv.fly(TARN, start=POINT, duration=2.5, **options(save=path))),
                (Path(folder) / "b.csv", self._session),
            ):
                fly(part)
                half = dv.read_recording(part)
                # the beat at the very end is the next flight's
                np.testing.assert_allclose(half.values[:125], whole.values[:125], rtol=1e-9, atol=1e-9)
                rest = dv.fly(TARN, start=dv.resume(TARN, half), duration=3.5, **options())
                np.testing.assert_array_equal(rest.values, whole.values[125:])
                with self.assertRaisesRegex(DravikError, "has the devices .'Gyro', 'PitchHold'."):
                    dv.fly(TARN, start=dv.resume(TARN, half), duration=1)

    def _session(self, path: Path) -> None:
        with dv.Session(TARN, start=POINT, **options(save=path)) as session:
            for _ in range(25):
                session.step(0.1)

    def test_where_a_flight_is_cut_into_stretches_changes_no_bit(self) -> None:
        # a slow clock cuts flights where it likes; gusts, heading and histories must not notice
        turning = options(
            devices=[], record=["q", "wind_north"], controls={"roll_stick": dv.pulse(0.5, at=0.3, width=4)}
        )
        whole = dv.fly(TARN, start=POINT, duration=30, **turning)
        session = dv.Session(TARN, start=POINT, **turning)
        cuts = np.random.default_rng(0).integers(1, 9, 2000)
        for cut in cuts[: int(np.searchsorted(np.cumsum(cuts), 3000))]:
            session.step(int(cut) * 0.01)
        found = session.recording().values
        self.assertGreater(len(found), 1490)
        np.testing.assert_array_equal(found, whole.values[: len(found)])

    def test_a_device_that_does_nothing_changes_no_bit(self) -> None:
        class Onlooker:
            rate = 10.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {}

        turning = options(
            devices=[], record=["q", "wind_north"], controls={"roll_stick": dv.pulse(0.5, at=0.3, width=4)}
        )
        alone = dv.fly(TARN, start=POINT, duration=8, **turning)
        watched = dv.fly(TARN, start=POINT, duration=8, **{**turning, "devices": [Onlooker()]})
        np.testing.assert_array_equal(watched.values, alone.values)

    def test_nothing_is_allocated_from_step_to_step(self) -> None:
        session = dv.Session(TARN, start=POINT, dt=0.001, turbulence=None)
        for _ in range(60):
            session.step()
        tracemalloc.start()
        for _ in range(50):
            session.step()
        before, _ = tracemalloc.get_traced_memory()
        tracemalloc.reset_peak()
        for _ in range(1000):
            session.step()
        after, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        # an array of the inputs alone would be 300 bytes, and a thousand of them a third of a megabyte
        self.assertLess(after - before, 2000)
        self.assertLess(peak - before, 4000)

    def test_the_kernel_checks_its_room(self) -> None:
        flight = Flight(TARN, POINT, {"record": ["q"]})
        x, controls = flight.x.copy(), flight.schedule.steps(0, 20, flight.x)
        out = np.full((5, 2), np.nan)
        done, rows = fly_steps(
            TARN.program, flight.work, flight.x, 0.0, 0.01, 0, controls, 2, flight.rows.picks, out[:3], LAST_RECORDED
        )
        self.assertEqual((done, rows), (6, 3))
        self.assertTrue(np.all(np.isnan(out[3:])) and not np.array_equal(x, flight.x))


class OrderTest(unittest.TestCase):
    def test_devices_act_in_their_order_on_the_same_moment(self) -> None:
        log: list[tuple[str, float, float]] = []

        class One:
            name, rate, sets = "one", 20.0, ("counted",)
            count = 0.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                self.count += 1.0
                log.append(("one", t, signals["pitch_stick"]))
                return {"counted": self.count}

        class Two:
            name, rate = "two", 10.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                log.append(("two", t, signals["counted"]))
                return {"pitch_stick": 0.01 * signals["counted"]}

        run = dv.fly(TARN, start=POINT, duration=0.3, devices=[One(), Two()], record=["counted", "pitch_stick"])
        self.assertEqual([name for name, *_ in log], ["one", "two", "one", "one", "two", "one", "one", "two", "one"])
        self.assertEqual([round(t, 9) for name, t, _ in log if name == "two"], [0.0, 0.1, 0.2])
        self.assertEqual([v for name, _, v in log if name == "two"], [1.0, 3.0, 5.0])
        self.assertEqual(log[0][2], float(POINT["pitch_stick"]))  # what one reads is as it was before two has acted
        self.assertEqual(run["counted"][[0, 4, 5, 10]].tolist(), [1.0, 1.0, 2.0, 3.0])
        np.testing.assert_allclose(run["pitch_stick"][[0, 9, 10]], [0.01, 0.01, 0.03])

    def test_what_does_not_fit_is_said_before_the_flight(self) -> None:
        def device(update: Any = lambda t, s: {}, **attributes: Any) -> Any:
            return type("Thing", (), {"rate": 10.0, "update": staticmethod(update), **attributes})()

        for devices, words in (
            ([device(rate=33.0)], "Thing at 33 Hz does not fit steps of 0.01 s"),
            ([device(rate="fast")], "expected an object with a rate in Hz"),
            ([object()], "a object cannot be a device"),
            ([device(), device()], "two devices are called 'Thing'"),
            ([device(reads=("alhpa",))], "reads 'alhpa'.*did you mean alpha"),
            ([device(sets=("alpha",))], "sets 'alpha', which is a signal of the aircraft"),
            ([device(sets=("x",), name="a"), device(sets=("x",), name="b")], "set by a device before it"),
            ([device(units={"x": "m"})], "gives a unit of 'x'"),
            ([device(lambda t, s: {"elevatr": 0.1})], "did you mean elevator"),
            ([device(lambda t, s: {"rudder": 0.1}, sets=("elevator",))], "Thing set 'rudder'"),
            ([device(lambda t, s: {"elevator": s["q"]}, reads=("p",))], "'q' is not among what the device reads"),
            ([device(lambda t, s: {"elevator": s["qq"]})], "no signal 'qq'"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.fly(TARN, start=POINT, duration=0.5, devices=devices)
        with self.assertRaisesRegex(DravikError, "a flight takes no 'device'.*did you mean devices"):
            dv.fly(TARN, start=POINT, duration=1, device=[])  # type: ignore[call-arg]

    def test_a_device_that_cannot_be_saved_says_so_when_it_matters(self) -> None:
        class Linked:
            rate = 10.0

            def __init__(self) -> None:
                self.line = open  # stands for a socket

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {}

        session = dv.Session(TARN, start=POINT, devices=[Linked()])
        session.step(0.1)
        for call in (session.save, session.reset):
            with self.assertRaisesRegex(DravikError, "Linked.line is a builtin_function_or_method"):
                call()
        run = dv.fly(TARN, start=POINT, duration=0.5, devices=[Linked()])
        with self.assertRaisesRegex(DravikError, "the devices were not saved: Linked.line"):
            dv.fly(TARN, start=dv.resume(TARN, run), duration=0.5, devices=[Linked()])

        class Kept(Linked):
            def save(self) -> str:
                return "here"

            def restore(self, data: str) -> None:
                self.line = data  # type: ignore[assignment]

        kept = Kept()
        session = dv.Session(TARN, start=POINT, devices=[kept])
        session.reset()
        self.assertEqual(kept.line, "here")

    def test_a_file_is_not_flown_back_in(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            session = dv.Session(TARN, start=POINT, record=["q"], save=Path(folder) / "s.csv")
            saved = session.save()
            session.step(0.5)
            with self.assertRaisesRegex(DravikError, "written to a file cannot go back"):
                session.restore(saved)
            session.close()
            self.assertEqual(len(dv.read_recording(Path(folder) / "s.csv").time), 51)
            with self.assertRaisesRegex(FlightError, "recording is closed"):
                session.step()


if __name__ == "__main__":
    unittest.main()
