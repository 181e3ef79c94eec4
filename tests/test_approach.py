"""Deviations from a glide path and a localiser, by plane geometry of their own."""

import math
import tempfile
import unittest
from pathlib import Path

import dravik as dv
from dravik.errors import DravikError
from dravik.scenarios import Scenario

LARK = Path(__file__).parent / "aircraft" / "lark" / "aircraft.toml"


class ApproachTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "a.toml"

    def scenario(self, heading: float, more: str = "") -> Scenario:
        self.file.write_text(
            f'format = 1\nname = "a"\naircraft = "{LARK}"\nduration = "1 s"\n[start]\nkind = "trimmed"\n'
            f'airspeed = "25 m/s"\naltitude = "300 m"\nheading = "90 deg"\n[approach]\nnorth = "400 m"\neast = "-250 m"\naltitude = "120 m"\n'
            f'heading = "{heading} deg"\nlength = "1500 m"\n{more}\n', "utf-8",
        )  # fmt: skip
        return dv.load_scenario(self.file)

    def test_angles_by_hand(self) -> None:
        names = ["threshold_distance", "localiser_deviation", "glide_deviation", "localiser_share", "glide_share"]
        for heading in (0.0, 90.0, 215.0):
            craft = self.scenario(heading).craft
            along = math.radians(heading)
            for before, right, up in (
                (3000.0, 0.0, 172.9),
                (2000.0, 80.0, 100.0),
                (500.0, -20.0, 60.0),
                (-200.0, 5.0, 2.0),
            ):
                # from the runway's frame to north and east: back along the heading, and to its right
                north = 400.0 - before * math.cos(along) - right * math.sin(along)
                east = -250.0 - before * math.sin(along) + right * math.cos(along)
                state = craft.state(position=(north, east, 120.0 + up), velocity=(25.0, 0.0, 0.0))
                found = craft.values(state, craft.default_inputs(), names)
                aside = math.atan2(right, before + 1500.0 + 300.0)
                above = math.atan2(up, before + 300.0) - math.radians(3.0)
                wanted = (before, aside, above, aside / math.atan(105.0 / 1800.0), above / (0.24 * math.radians(3.0)))
                for name, value in zip(names, wanted, strict=True):
                    self.assertAlmostEqual(found[name], value, places=9, msg=f"{name} {heading} {before}")
        # on the path, on the line, and at full scale over the threshold
        on = craft.state(
            position=(400.0, -250.0, 120.0 + 300.0 * math.tan(math.radians(3.0))), velocity=(25.0, 0.0, 0.0)
        )
        found = craft.values(on, craft.default_inputs(), names)
        self.assertAlmostEqual(found["glide_deviation"], 0.0, places=12)
        self.assertAlmostEqual(found["localiser_share"], 0.0, places=12)

    def test_laws_and_events_read_them_and_a_flight_records_them(self) -> None:
        more = '[events.off]\nwhen = "threshold_distance < -260 and abs(localiser_share) > 1"\n[record]\nsignals = ["glide_deviation", "airspeed"]\n'
        run = self.scenario(90.0, more).fly()
        self.assertEqual(run.units["glide_deviation"], "rad")
        self.assertTrue(any("off" in event.text for event in run.events))

    def test_refusals(self) -> None:
        for key, words in (('path = "0 deg"', "path"), ('path = "40 deg"', "path"), ('lenght = "3 m"', "lenght")):
            with self.assertRaisesRegex(DravikError, words):
                self.scenario(90.0, key)


if __name__ == "__main__":
    unittest.main()
