"""Actuators that run away and swing, by their histories in closed form."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.recording import Recording

LARK = Path(__file__).parent / "aircraft" / "lark" / "aircraft.toml"


class ActuatorFailureTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def flown(self, fault: str, *, control: str = "", at: float = 0.5) -> Recording:
        file = self.folder / "fails.toml"
        file.write_text(
            f'format = 1\nname = "fails"\naircraft = "{LARK}"\nduration = "2.5 s"\n[start]\nkind = "trimmed"\n'
            f'airspeed = "25 m/s"\naltitude = "300 m"\n{control}\n[faults.it]\nat = "{at} s"\n{fault}\n', "utf-8",
        )  # fmt: skip
        return dv.load_scenario(file).fly()

    def test_a_control_that_runs_away(self) -> None:
        for rate, position, end in (
            ("-20 deg/s", "", -25.0), ("15 deg/s", 'position = "7 deg"', 7.0), ("22 deg/s", "", 25.0),
            ("4 deg/s", 'position = "3 deg"', 3.0), ("-4 deg/s", 'position = "-3 deg"', -3.0),
        ):  # fmt: skip
            run = self.flown(f'kind = "runaway"\ncontrol = "rudder"\nrate = "{rate}"\n{position}')
            late, speed = np.maximum(run.time - 0.5, 0.0), float(rate.split()[0])
            wanted = np.clip(speed * late, min(end, 0.0), max(end, 0.0))
            # within a step of the integrator
            np.testing.assert_allclose(np.degrees(run["rudder"]), wanted, atol=abs(speed) * 0.0101)
            self.assertAlmostEqual(float(np.degrees(run["rudder"][-1])), end, places=6)

    def test_one_that_stands_beyond_the_end_already_stays(self) -> None:
        run = self.flown('kind = "runaway"\ncontrol = "elevator"\nrate = "20 deg/s"\nposition = "-20 deg"')
        after = run["elevator"][run.time > 0.52]
        self.assertLess(float(np.ptp(after)), 1e-12)
        self.assertGreater(float(np.degrees(after[0])), -20.0)

    def test_a_control_that_swings(self) -> None:
        swing = 'kind = "oscillating"\ncontrol = "aileron"\namplitude = "3 deg"\nfrequency = "1.5 Hz"'
        for deaf in (False, True):
            run = self.flown(
                f"{swing}\ndeaf = {str(deaf).lower()}", control='[controls]\nroll_stick = "step(0.2, at=1 s)"'
            )
            late = np.maximum(run.time - 0.5, 0.0)
            about = np.zeros_like(late) if deaf else 25.0 * run["roll_stick"]
            wanted = about + 3.0 * np.sin(2.0 * np.pi * 1.5 * late)
            settled = (run.time < 0.95) | (run.time > 1.5)  # the actuator's lag is over
            np.testing.assert_allclose(np.degrees(run["aileron"])[settled], wanted[settled], atol=0.05)
        # it cannot leave its range
        wide = self.flown(swing.replace("3 deg", "60 deg"))
        self.assertAlmostEqual(float(np.degrees(np.max(wide["aileron"]))), 25.0, places=9)

    def test_refusals(self) -> None:
        for fault, words in (
            ('kind = "runaway"\ncontrol = "rudder"\nrate = "0 deg/s"', "rate is zero"),
            ('kind = "runaway"\ncontrol = "rudder"\nrate = "3 m/s"', "rate"),
            ('kind = "oscillating"\ncontrol = "rudder"\namplitude = "-1 deg"\nfrequency = "1 Hz"', "amplitude"),
            ('kind = "oscillating"\ncontrol = "rudder"\namplitude = "1 deg"\nfrequency = "0 Hz"', "frequency"),
            ('kind = "oscillating"\ncontrol = "rudder"\namplitude = "0 deg"\nfrequency = "1 Hz"', "amplitude"),
            ('kind = "runaway"\ncontrol = "nose"\nrate = "3 deg/s"', "nose"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                self.flown(fault)


if __name__ == "__main__":
    unittest.main()
