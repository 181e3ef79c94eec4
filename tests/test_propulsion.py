import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from dravik.errors import DravikError
from dravik.propulsion import Blades, blade_flow, propeller_map, read_blades, reduce_bench, rotor_loads, write_map
from dravik.tables import read_table
from tests.support import DEG

RHO = 1.225
CLEAN = {"lift_slope": 5.9, "no_lift": 0, "stall": "80 deg", "least_drag": 0, "drag_rise": 0}


def blades(count: int = 24, chord: float = 0.02, section: dict[str, Any] | None = None, twist: float = 0.05) -> Blades:
    """Return blades of 1 m radius whose angle is twist/r, which loads a rotor evenly in hover."""
    stations = [{"r": float(r), "chord": chord, "twist": f"{twist / r} rad"} for r in np.linspace(0.15, 1.0, 120)]
    return Blades.model_validate(
        {
            "format": 1,
            "name": "ideal",
            "blades": count,
            "radius": 1.0,
            "stations": stations,
            "section": {**CLEAN, **(section or {})},
        }
    )


def real() -> Blades:
    stations = [{"r": 0.2, "chord": 0.18, "twist": "24 deg"}, {"r": 0.5, "chord": 0.22, "twist": "9 deg"},
                {"r": 0.75, "chord": 0.19, "twist": "0 deg"}, {"r": 1.0, "chord": 0.08, "twist": "-5 deg"}]  # fmt: skip
    return Blades.model_validate({"format": 1, "name": "three", "blades": 3, "radius": 1.4, "stations": stations})


class ElementTest(unittest.TestCase):
    def test_hover_with_ideal_twist_against_the_closed_form(self) -> None:
        # A. Gessow, G. C. Myers, Aerodynamics of the Helicopter, 1952, chapter 4: uniform inflow for a blade angle tip/r
        tip, omega = 0.05, 40.0
        rotor = blades(twist=tip)
        flow = blade_flow(rotor, speed=0.0, rotation=omega, angle=tip / 0.75)
        solidity_slope = 24 * 0.02 / math.pi * 5.9
        inflow = solidity_slope / 16 * (math.sqrt(1 + 32 * tip / solidity_slope) - 1)
        inner = (flow.r > 0.3) & (flow.r < 0.9)
        np.testing.assert_allclose(flow.axial[0, inner] / omega, inflow, rtol=0.02)
        loads = rotor_loads(rotor, speed=0.0, rotation=omega, angle=tip / 0.75)
        thrust = solidity_slope / 4 * (tip - inflow) * RHO * math.pi * omega**2
        self.assertAlmostEqual(float(loads.thrust) / thrust, 1.0, delta=0.06)  # the root's and the tips' losses

    def test_momentum_and_power_balance_to_the_last_digit(self) -> None:
        rotor, omega = real(), 150.0
        for speed in (0.0, 30.0, 70.0):
            flow = blade_flow(rotor, speed=speed, rotation=omega, angle=30 * DEG)
            ring = 4 * math.pi * flow.r * flow.width * RHO
            factor = flow.thrust[0] / (ring * flow.axial[0] * (flow.axial[0] - speed))
            turned = flow.torque[0] / (ring * flow.axial[0] * (omega * flow.r - flow.tangential[0]) * flow.r)
            np.testing.assert_allclose(factor, turned, rtol=1e-9)  # the same loss factor in both momenta
            self.assertTrue(np.all((factor > 0) & (factor <= 1 + 1e-9)))
            # shaft power = thrust work + induced losses along and across + profile losses
            spent = (
                speed * flow.thrust
                + flow.thrust * (flow.axial - speed)
                + flow.torque * (omega - flow.tangential / flow.r)
                + flow.profile_loss
            )
            np.testing.assert_allclose(spent.sum(), omega * flow.torque.sum(), rtol=1e-12)

    def test_the_actuator_disc_is_approached_as_drag_goes(self) -> None:
        omega, speed = 40.0, 6.0
        shares = []
        for drag in (0.02, 0.005, 0.0):
            rotor = blades(section={"least_drag": drag}, twist=0.2)
            loads = rotor_loads(rotor, speed=speed, rotation=omega, angle=0.2 / 0.75)
            disc = float(loads.thrust) / (0.5 * RHO * speed**2 * math.pi)
            shares.append(float(loads.efficiency) * (1 + math.sqrt(1 + disc)) / 2)
        self.assertTrue(shares[0] < shares[1] < shares[2] < 1.0)
        self.assertGreater(shares[2], 0.96)

    def test_figure_of_merit_and_windmilling(self) -> None:
        rotor = blades(4, 0.09, {"least_drag": 0.01, "drag_rise": 0.01, "stall": "14 deg"}, twist=0.12)
        loads = rotor_loads(rotor, speed=0.0, rotation=100.0, angle=0.12 / 0.75)
        merit = float(loads.thrust) * math.sqrt(float(loads.thrust) / (2 * RHO * math.pi)) / float(loads.power)
        self.assertTrue(0.6 < merit < 0.82, merit)
        fast = rotor_loads(real(), speed=120.0, rotation=100.0, angle=20 * DEG)
        self.assertTrue(float(fast.thrust) < 0 and float(fast.power) < 0)  # the air drives it
        best = rotor_loads(real(), speed=np.linspace(20, 90, 15), rotation=150.0, angle=28 * DEG)
        self.assertTrue(0.8 < float(np.nanmax(best.efficiency)) < 0.93)

    def test_coefficients_do_not_depend_on_density_or_size(self) -> None:
        small, large = (
            rotor_loads(real(), speed=v, rotation=w, angle=25 * DEG, density=d)
            for v, w, d in ((20.0, 50.0, 1.2), (20.0, 50.0, 0.6))
        )
        self.assertAlmostEqual(float(small.ct), float(large.ct), places=12)
        self.assertAlmostEqual(float(small.thrust) / float(large.thrust), 2.0)

    def test_refusals(self) -> None:
        for call, words in (
            (lambda: rotor_loads(real(), speed=10.0, rotation=0.0, angle=0.3), "the rotor does not turn"),
            (lambda: propeller_map(real(), [0.0, 0.5, 0.4], [0.4]), "advance_ratios: .*(does|do) not rise"),
            (lambda: Blades.model_validate({"format": 1, "name": "x", "blades": 2, "radius": 1, "stations": [
                {"r": 0.5, "chord": 1, "twist": 0}, {"r": 0.4, "chord": 1, "twist": 0}]}),
             "station 2 at 0.4 is not outside station 1"),
        ):  # fmt: skip
            with self.assertRaisesRegex((DravikError, ValueError), words):
                call()


class MapTest(unittest.TestCase):
    def test_map_from_a_file_and_back(self) -> None:
        text = 'format = 1\nname = "two"\nblades = 2\nradius = "0.2 m"\nstations = [\n  { r = 0.15, chord = "20 mm", twist = "20 deg" },\n'
        text += '  { r = 1.0, chord = "10 mm", twist = "-4 deg" },\n]\n'
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "blades.toml"
            path.write_text(text)
            rotor = read_blades(path)
            thrust, power = propeller_map(rotor, np.linspace(0, 1.2, 13), np.array([15, 20, 25]) * DEG)
            write_map((thrust, power), Path(folder) / "map.csv", note="two blades")
            back = read_table(Path(folder) / "map.csv", column="CP", over=["advance_ratio", "blade_angle"])
            np.testing.assert_allclose(back.values, power.values)
            self.assertTrue(
                np.all(np.diff(thrust.values[6:], axis=0) < 0) and np.all(np.diff(thrust.values[6:], axis=1) > 0)
            )
            path.write_text(text.replace('radius = "0.2 m"', 'radius = "0.2 s"'))
            with self.assertRaisesRegex(DravikError, "blades.toml:4: radius: '0.2 s': 's' does not measure length"):
                read_blades(path)


class BenchTest(unittest.TestCase):
    def readings(self, path: Path, seed: int = 3, **changed: str) -> None:
        """Write a stand's file of a motor of 0.05 ohm, 0.012 V s/rad, idling at 1.1 A, with a rotor of known coefficients."""
        rng, lines = (
            np.random.default_rng(seed),
            [changed.get("head", "rotation [rpm], thrust [N], torque [N*cm], voltage [V], current [A]")],
        )
        for rpm in (3000, 4500, 6000, 7500):
            for _ in range(5):
                omega = rpm * 2 * math.pi / 60 * (1 + 0.003 * rng.normal())
                n = omega / (2 * math.pi)
                thrust, torque = 0.105 * RHO * n**2 * 0.3**4, 0.045 * RHO * n**2 * 0.3**5 / (2 * math.pi)
                current = torque / 0.012 + 1.1
                voltage = 0.05 * current + 0.012 * omega
                noise = 1 + 0.004 * rng.normal(size=4)
                row = [thrust * noise[0], 100 * torque * noise[1], voltage + 0.01 * rng.normal(), current * noise[3]]
                lines.append(f"{omega * 60 / (2 * math.pi):.6g}, " + ", ".join(f"{v:.6g}" for v in row))
        path.write_text("\n".join(lines) + "\n")

    def test_known_constants_come_back(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "stand.csv"
            inside = []
            for seed in range(8):
                self.readings(path, seed)
                found = reduce_bench(path, diameter=0.3)
                self.assertEqual([p.readings for p in found.points], [5, 5, 5, 5])
                inside += [abs(p.ct - 0.105) <= p.ct_interval for p in found.points]
                inside += [abs(p.cp - 0.045) <= p.cp_interval for p in found.points]
                motor = found.motor
                assert motor is not None
                inside += [
                    abs(motor.volts[0] - 0.012) <= motor.volts[1],
                    abs(motor.newtons[0] - 0.012) <= motor.newtons[1],
                ]
                self.assertAlmostEqual(motor.resistance[0], 0.05, delta=2 * motor.resistance[1])
                self.assertAlmostEqual(motor.idle_current, 1.1, delta=0.15)
            self.assertGreater(np.mean(inside), 0.88)
            self.assertTrue(all(0.3 < p.efficiency < 0.8 for p in found.points))

    def test_refusals(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "stand.csv"
            for text, words in (
                ("rotation [rpm], thrust [N]\n1, 2\n", "there is no column 'torque'"),
                (
                    "rotation [rpm], thrust [kg], torque [N*m]\n1, 2, 3\n",
                    "the column 'thrust' is in kg; expected a unit of N",
                ),
                (
                    "rotation [rpm], thrust [N], torque [N*m]\n100, 2, 3\n0, 2, 3\n",
                    "stand.csv:3: the rotation is 0 rad/s",
                ),
                ("rotation [rpm], thrust [N], torque [N*m]\n100, 2, 3\n200, 2, 3\n", "not enough repeats"),
            ):
                path.write_text(text)
                with self.assertRaisesRegex(DravikError, words):
                    reduce_bench(path, diameter=0.3)


if __name__ == "__main__":
    unittest.main()
