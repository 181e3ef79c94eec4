"""A flat-rated fan without a deck: its lapse by hand, on standard and hot days, and on to limits and runways."""

import math
import tempfile
import unittest
from pathlib import Path

import dravik as dv
from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.performance import engine_points

LARK = Path(__file__).parent / "aircraft" / "lark" / "aircraft.toml"
FAN = """
[engines.pusher]
kind = "fan"
position = ["0.9 m", "0 m", "0 m"]
command = "throttle"
rated_thrust = "100 N"
flat_to = "ISA+15"
bypass = "high"
idle = 0.04
fuel_flow = "thrust_pusher*1.1e-5"
"""


def by_hand(mach: float, temperature: float, pressure: float, bypass: str) -> float:
    """Return the share of the rated thrust (Mattingly, Heiser and Pratt, 2.3.2)."""
    ram = 1.0 + 0.2 * mach**2
    theta, delta = temperature / 288.15 * ram, pressure / 101325.0 * ram**3.5
    hotter = max(0.0, theta - 303.15 / 288.15)
    if bypass == "low":
        return delta * (1.0 - 3.8 * hotter / theta)
    return delta * (1.0 - 0.49 * math.sqrt(mach) - 3.0 * hotter / (1.5 + mach))


class FanTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def craft(self, **changes: str) -> Aircraft:
        text = FAN
        for key, value in changes.items():
            old = next(line for line in FAN.splitlines() if line.startswith(f"{key} ="))
            text = text.replace(old, f"{key} = {value}")
        own = LARK.read_text("utf-8")
        file = self.folder / "fan.toml"
        file.write_text(own[: own.index("[engines.pusher]")] + text, "utf-8")
        return dv.load(file)

    def test_lapse_with_speed_height_and_heat(self) -> None:
        for bypass in ("high", "low"):
            craft = self.craft(bypass=f'"{bypass}"')
            for day in ("ISA", "ISA+15", "ISA+35"):
                hot = craft.with_environment(day=day)
                for speed, height in ((0.0, 0.0), (60.0, 0.0), (150.0, 4000.0), (220.0, 9000.0)):
                    (point,) = engine_points(hot, airspeeds=[speed], altitude=height, throttles=[1.0])
                    air = dv.air_at(height)
                    temperature = float(air.temperature) + float(day.removeprefix("ISA") or 0.0)
                    mach = speed / math.sqrt(1.4 * 287.05287 * temperature)
                    wanted = 100.0 * by_hand(mach, temperature, float(air.pressure), bypass)
                    # at rest the square root is rounded off: 0.49 of a hundredth at most
                    self.assertAlmostEqual(point.thrust, wanted, delta=0.52, msg=f"{bypass} {day} {speed}")

    def test_flat_up_to_its_day_and_less_beyond(self) -> None:
        thrusts = [
            engine_points(self.craft().with_environment(day=day), airspeeds=[0.0], altitude=0.0, throttles=[1.0])[
                0
            ].thrust
            for day in ("ISA-20", "ISA", "ISA+15", "ISA+16", "ISA+30")
        ]
        for flat in thrusts[:3]:
            self.assertAlmostEqual(flat, 100.0, places=9)
        self.assertAlmostEqual(thrusts[4], 100.0 * (1.0 - 2.0 * 15.0 / 288.15), places=6)
        self.assertLess(thrusts[3], 100.0)

    def test_idle_and_trims(self) -> None:
        craft = self.craft()
        (idle,) = engine_points(craft, airspeeds=[0.0], altitude=0.0, throttles=[0.0])
        self.assertAlmostEqual(idle.thrust, 4.0, places=9)
        point = dv.trim(craft, airspeed=25.0, altitude=300.0)
        self.assertAlmostEqual(point["fuel_flow"], 1.1e-5 * point["thrust"], places=15)
        self.assertTrue(0.0 < point["spool_pusher"] < 1.0)
        self.assertTrue(dv.linearise(craft, point).modes())

    def test_refusals(self) -> None:
        for changes, words in (
            ({"rated_thrust": '"0 N"'}, "rated_thrust"),
            ({"flat_to": '"hot"'}, "day"),
            ({"bypass": '"middle"'}, "bypass"),
            ({"idle": "0.7"}, "idle"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                self.craft(**changes)


if __name__ == "__main__":
    unittest.main()
