import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from dravik.aircraft import Aircraft, AircraftDefinition
from dravik.errors import DravikError
from dravik.flight import Start, fly
from dravik.frames import dcm_from_euler, dcm_from_quaternion
from dravik.mass import Part, Tank, combine, read_parts, share_table, swing_inertia, tank_tables, weigh
from dravik.mass.measuring import bifilar_inertia
from dravik.mass.parts import solid
from dravik.mass.rollup import inertia_fault
from tests.support import DEG, definition, random_rotation

REFERENCE = np.array([0.4, -0.3, 0.9])


def cloud(points: np.ndarray, masses: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """Return mass, centre and tensor of point masses: the direct integral."""
    mass = float(masses.sum())
    centre = masses @ points / mass
    r = points - centre
    tensor = np.einsum(
        "n,nij->ij", masses, np.einsum("nk,nk->n", r, r)[:, None, None] * np.eye(3) - np.einsum("ni,nj->nij", r, r)
    )
    return mass, centre, tensor


def grid(lengths: tuple[float, float, float], n: int = 60) -> np.ndarray:
    axes = [(np.arange(n) + 0.5) / n * s - 0.5 * s for s in lengths]
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)


class RollUpTest(unittest.TestCase):
    def test_solids_by_direct_integration(self) -> None:
        points = grid((2.0, 2.0, 3.0), 80)
        inside = {
            "box": np.ones(len(points), dtype=bool),
            "cylinder": np.hypot(points[:, 0], points[:, 1]) < 1.0,
            "tube": (np.hypot(points[:, 0], points[:, 1]) < 1.0) & (np.hypot(points[:, 0], points[:, 1]) > 0.6),
        }
        for shape, chosen in inside.items():
            some = points[chosen]
            _, _, direct = cloud(some, np.full(len(some), 7.0 / len(some)))
            found = solid(
                shape,
                7.0,
                size=(2.0, 2.0, 3.0),
                radius=1.0,
                inner_radius=0.6 if shape == "tube" else None,
                length=3.0,
                axis="z",
            )
            np.testing.assert_allclose(found, direct, atol=0.02, err_msg=shape)
        np.testing.assert_allclose(solid("shell", 3.0, radius=2.0), 8.0 * np.eye(3))

    def test_rotation_by_direct_integration(self) -> None:
        part = Part.model_validate(
            {
                "mass": 5,
                "position": [0, 0, 0],
                "shape": "box",
                "size": [1, 2, 3],
                "attitude": ["40 deg", "-20 deg", "65 deg"],
            }
        )
        # a point of the part, in body axes, turned by yaw, then pitch, then roll
        # (two points of Gauss along each side integrate squares exactly)
        corners = np.stack(np.meshgrid(*([-s, s] for s in (1, 2, 3)), indexing="ij"), axis=-1).reshape(
            -1, 3
        ) / math.sqrt(12)
        turned = corners @ dcm_from_euler(65 * DEG, -20 * DEG, 40 * DEG)
        _, _, direct = cloud(turned, np.full(8, 5.0 / 8))
        np.testing.assert_allclose(part.own_tensor(), direct, atol=1e-12)
        # a quarter turn about one axis exchanges the moments about the other two
        moments = np.diag(solid("box", 5.0, size=(1.0, 2.0, 3.0)))
        for angles, order in (((90, 0, 0), [1, 0, 2]), ((0, 90, 0), [2, 1, 0]), ((0, 0, 90), [0, 2, 1])):
            turned = part.model_copy(update={"attitude": tuple(a * DEG for a in angles)})
            np.testing.assert_allclose(turned.own_tensor(), np.diag(moments[order]), atol=1e-12)

    def test_halves_make_a_whole(self) -> None:
        halves = [
            Part.model_validate({"mass": 4, "position": [x, 2, 1], "shape": "box", "size": [1, 2, 3]})
            for x in (2.0, 3.0)
        ]
        whole = Part.model_validate(
            {"mass": 8, "position": [2.5, 2, 1], "shape": "box", "size": [2, 2, 3]}
        ).properties()[0]
        found = combine([h.properties()[0] for h in halves])
        np.testing.assert_allclose(found.centre, [-2.5, 2.0, -1.0])
        np.testing.assert_allclose(found.tensor, whole.tensor, atol=1e-12)
        pair = combine(halves[0].model_copy(update={"mirrored": True}).properties())
        np.testing.assert_allclose([pair.mass, *pair.centre], [8, -2, 0, -1])
        rows = share_table({"a": halves[0].properties()[0], "b": halves[1].properties()[0]})
        self.assertAlmostEqual(sum(r[2] for r in rows), 1.0)
        np.testing.assert_allclose(sum(r[4] for r in rows), np.diag(found.tensor))

    def test_impossible_tensors(self) -> None:
        self.assertEqual(inertia_fault(np.diag([1.0, 2.0, 3.0])), "")
        turn = random_rotation(3)
        self.assertIn("exceeds the sum", inertia_fault(turn @ np.diag([1.0, 1.0, 3.0]) @ turn.T))
        self.assertIn("a principal moment", inertia_fault(turn @ np.diag([-1.0, 2.0, 2.0]) @ turn.T))

    def test_measurements(self) -> None:
        points = [(2.0, 0.0, -1.0), (9.0, -2.0, -1.2), (9.0, 2.0, -1.2)]
        mass, centre = 5000.0, np.array([7.4, 0.1, 0.6])
        level = self.scales(points, mass, centre, 0.0)
        tilted = self.scales(points, mass, centre, 8 * DEG)
        found = weigh(points, level, tilted=tilted, tilt=8 * DEG)
        np.testing.assert_allclose([found.mass, found.x, found.y, found.z], [mass, *centre], rtol=1e-9)
        self.assertTrue(math.isnan(weigh(points, level).z))
        # a rod of 2 m hung at its end: T = 2 pi sqrt(2 L/(3 g)), I = m L^2/12
        self.assertAlmostEqual(swing_inertia(2 * math.pi * math.sqrt(4 / 3 / 9.80665), 3.0, 1.0), 1.0)
        # two wires at the ends of the rod: T = 2 pi sqrt(l/(3 g)) for a homogeneous rod
        self.assertAlmostEqual(
            bifilar_inertia(2 * math.pi * math.sqrt(1.5 / (3 * 9.80665)), 3.0, spacing=2.0, length=1.5), 1.0
        )
        for wrong, words in ((lambda: swing_inertia(1.0, 3.0, 1.0), "more than 2.006 s"), (lambda: weigh(points, [1, -1, 1]), "readings"),
                             (lambda: weigh(points, level, tilted=tilted, tilt=0.001), "tells no height")):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                wrong()

    @staticmethod
    def scales(points: list[tuple[float, float, float]], mass: float, centre: np.ndarray, tilt: float) -> np.ndarray:
        """Return what three scales under the points read, from the balance of forces and moments."""
        at, c, s = np.array(points), math.cos(tilt), math.sin(tilt)
        floor = np.stack([at[:, 0] * c + at[:, 2] * s, at[:, 1]], axis=1)
        return np.linalg.solve(
            np.vstack([np.ones(3), floor.T]), mass * np.array([1.0, centre[0] * c + centre[2] * s, centre[1]])
        )

    def test_parts_list(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "parts.csv"
            path.write_text(
                "name, mass [lb], x [ft], y [m], z [m], group, Ixx [kg*m^2], Iyy [kg*m^2], Izz [kg*m^2]\nengine, 100, 10, 0, 1, power, 3, 4, 5\n"
            )
            part = read_parts(path)["engine"]
            self.assertAlmostEqual(part.mass, 45.359237)
            self.assertAlmostEqual(part.position[0], 3.048)
            np.testing.assert_allclose(part.own_tensor(), np.diag([3.0, 4.0, 5.0]))
            for text, words in (
                (
                    "name, mass [m], x [m], y [m], z [m]\na, 1, 0, 0, 0\n",
                    "the column 'mass' is in m; expected as mass .kg.",
                ),
                ("name, mass [kg], x [m], y [m]\na, 1, 0, 0\n", "no column 'z'"),
                (
                    "name, mass [kg], x [m], y [m], z [m]\na, 1, 0, 0, 0\na, 1, 0, 0, 0\n",
                    "parts.csv:3: the part 'a' is there twice",
                ),
                ("name, mass [kg], x [m], y [m], z [m]\na, -1, 0, 0, 0\n", "parts.csv:2: a: .*greater than 0"),
                (
                    "name, mass [kg], x [m], y [m], z [m], Ixx [kg*m^2]\na, 1, 0, 0, 0, 4\n",
                    "parts.csv:2: a: .*no body has that",
                ),
            ):
                path.write_text(text)
                with self.assertRaisesRegex(DravikError, words):
                    read_parts(path)


class TankTest(unittest.TestCase):
    def test_drained_tanks_by_direct_integration(self) -> None:
        n = 90
        for shape, axis in (("box", "x"), ("cylinder", "x"), ("cylinder", "y"), ("cylinder", "z")):
            sides = {"size": [2.0, 1.0, 0.8]} if shape == "box" else {"radius": 0.5, "length": 2.0, "axis": axis}
            tank = Tank.model_validate({"position": [1, 2, 3], "shape": shape, "density": 800, **sides})
            laid = tank_tables(tank, 65)
            extent = [2.0, 1.0, 0.8] if shape == "box" else [2.0 if axis == a else 1.0 for a in "xyz"]
            points = grid((extent[0], extent[1], extent[2]), n)
            if shape == "cylinder":
                across = [k for k in range(3) if "xyz"[k] != axis]
                points = points[np.hypot(points[:, across[0]], points[:, across[1]]) < 0.5]
            each = tank.capacity / len(points)
            for share in (0.15, 0.5, 0.8, 1.0):
                # whole layers; in body axes z is down: the liquid lies where z is largest
                chosen = points[points[:, 2] > (0.5 - round(share * n) / n) * extent[2]] + np.array([-1.0, 2.0, -3.0])
                mass, centre, tensor = cloud(chosen, np.full(len(chosen), each))
                found = laid.at(mass)
                np.testing.assert_allclose(found.centre, centre, atol=6e-3, err_msg=f"{shape} {axis} {share}")
                np.testing.assert_allclose(
                    found.tensor, tensor, atol=0.012 * float(np.max(tensor)), err_msg=f"{shape} {axis} {share}"
                )

    def test_refusals(self) -> None:
        for tank, words in (
            ({"size": [1, 1, 0]}, "three sides above zero"),
            ({"shape": "cylinder", "radius": 1}, "has no radius or no length"),
        ):
            with self.assertRaisesRegex((DravikError, ValueError), words):
                Tank.model_validate({"position": [0, 0, 0], "density": 1000, **tank})
        for part, words in (({"shape": "box"}, "a box has size"), ({"radius": 1}, "a point has nothing more"), ({"mass": -1}, "greater than 0"),
                            ({"shape": "tensor", "inertia": [1, 1, 3, 0, 0, 0]}, "no body has that")):  # fmt: skip
            with self.assertRaisesRegex((DravikError, ValueError), words):
                Part.model_validate({"mass": 1, "position": [0, 0, 0], **part})


def draining(flow: str = "20", **tank: Any) -> Aircraft:
    """Return a body in free space with a tank off its axis."""
    whole = definition(environment={"gravity": 0.0})
    whole["loadings"] = {"full": {"groups": ["hull"], "tanks": {"ballast": 60.0}, "flowing": ["ballast"]}}
    whole["default_loading"] = "full"
    whole["parts"] = {
        "beam": {"mass": 100, "position": [0, 0, 0], "shape": "box", "size": [2, 0.6, 0.4], "group": "hull"}
    }
    whole["tanks"] = {
        "ballast": {"position": [0.8, 0.3, 0.1], "size": [0.4, 0.4, 0.4], "density": 1000, "flow": flow, **tank}
    }
    return Aircraft(AircraftDefinition.model_validate(whole))


class FlowTest(unittest.TestCase):
    def run_free(self, craft: Aircraft) -> Any:
        """Fly for three seconds, turning."""
        x = craft.state(position=(0, 0, 1000), velocity=(3, 1, -2), attitude=(0.3, -0.2, 0.5), rates=(0.8, -1.1, 1.6))
        start = Start(x, craft.default_inputs())
        record = ["mass", "u", "v", "w", "p", "q", "r", "north", "east", "altitude", "outflow_ballast", *(f"centre_{a}" for a in "xyz"),
                  *(f"centre_rate_{a}" for a in "xyz"), "Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz", "phi", "theta", "psi", "tank_ballast"]  # fmt: skip
        return fly(craft, start=start, duration=2.9, dt=0.001, record=record)

    def test_momentum_is_kept_when_mass_leaves_where_it_is(self) -> None:
        craft = draining()
        run = self.run_free(craft)
        s = {n: np.asarray(run[n]) for n in run.names}
        surface = tank_tables(craft.definition.tanks["ballast"])
        turn = np.array([dcm_from_euler(*a) for a in zip(s["phi"], s["theta"], s["psi"], strict=True)])
        w, v = (np.stack([s[n] for n in names], axis=1) for names in (("p", "q", "r"), ("u", "v", "w")))
        centre = np.stack([s[f"centre_{a}"] for a in "xyz"], axis=1)
        place = np.stack([s["north"], s["east"], -s["altitude"]], axis=1)
        out = (
            np.stack([np.interp(s["tank_ballast"], surface.mass, surface.surface[:, k]) for k in range(3)], axis=1)
            - centre
        )
        local = lambda x: np.einsum("nji,nj->ni", turn, x)  # noqa: E731
        tensor = np.array(
            [[s["Ixx"], -s["Ixy"], -s["Ixz"]], [-s["Ixy"], s["Iyy"], -s["Iyz"]], [-s["Ixz"], -s["Iyz"], s["Izz"]]]
        ).transpose(2, 0, 1)
        leaving = local(v + np.cross(w, out))
        p = s["mass"][:, None] * local(v)
        h = local(np.einsum("nij,nj->ni", tensor, w)) + np.cross(place, p)
        rate = s["outflow_ballast"][:, None]
        for kept, gone in ((p, rate * leaving), (h, rate * np.cross(place + local(out), leaving))):
            total = kept + np.concatenate(
                [np.zeros((1, 3)), np.cumsum(0.5 * (gone[1:] + gone[:-1]) * np.diff(run.time)[:, None], axis=0)]
            )
            # what is left is the error of the tank's tables
            np.testing.assert_allclose(total - total[0], 0.0, atol=2e-5 * float(np.max(np.abs(kept))))
        self.assertLess(s["mass"][-1], 105.0)

    def test_products_of_inertia_follow_a_flowing_tank(self) -> None:
        # a tank off every plane of symmetry: all three products, against the parts rolled up at what is left
        parts = {"body": {"mass": 40.0, "position": [0, 0, 0], "shape": "tensor", "inertia": [3.0, 4.0, 5.0, 0, 0, 0]}}
        tank = {"position": [1.0, 0.7, -0.4], "size": [0.5, 0.4, 0.6], "density": 800.0, "flow": "1"}
        loading = {"groups": ["empty"], "tanks": {"off": 60.0}, "flowing": ["off"]}
        raw = definition(parts=parts, tanks={"off": tank}) | {"loadings": {"only": loading}}
        craft = Aircraft(AircraftDefinition.model_validate(raw))
        for left in (60.0, 25.0, 5.0):
            state = craft.state(velocity=(1, 0, 0), functions={"tank_off_integral": left})
            found = craft.values(state, craft.default_inputs())
            body = Part.model_validate(parts["body"]).properties()[0]
            whole = combine([body, tank_tables(Tank.model_validate(tank)).at(left)])
            for name, (i, j) in {"Ixy": (0, 1), "Ixz": (0, 2), "Iyz": (1, 2)}.items():
                # a product is the integral over the mass: the tensor holds its negative
                self.assertAlmostEqual(found[name], -float(whole.tensor[i, j]), delta=2e-3 * 60, msg=f"{name} {left}")
                self.assertGreater(abs(found[name]), 0.1)

    def test_a_tank_in_a_swept_wing(self) -> None:
        # with equal ends straight across it is a box
        box = Tank(position=(3.0, 1.0, 0.5), shape="box", size=(0.8, 2.0, 0.2), density=800.0)
        same = Tank(
            position=(3.0, 0.0, 0.5), shape="wing", outer=(3.0, 2.0, 0.5), inner_section=(0.8, 0.2),
            outer_section=(0.8, 0.2), density=800.0,
        )  # fmt: skip
        one, two = tank_tables(box), tank_tables(same)
        self.assertAlmostEqual(box.capacity, same.capacity, places=9)
        for a, b in ((one.first, two.first), (one.second, two.second), (one.surface, two.surface)):
            np.testing.assert_allclose(b, a, atol=2e-4 * np.abs(a).max())
        wing = Tank(
            position=(3.0, 0.6, 0.5), shape="wing", outer=(4.2, 4.6, 0.8), inner_section=(1.2, 0.3),
            outer_section=(0.6, 0.12), density=800.0,
        )  # fmt: skip
        # points by chance, kept in proportion to the section
        rng = np.random.default_rng(3)
        s, u, v = rng.random((3, 2_000_000))
        long, high = 1.2 - 0.6 * s, 0.3 - 0.18 * s
        weight = long * high
        self.assertAlmostEqual(wing.capacity, 800.0 * 4.0 * float(np.mean(weight)), delta=1e-3 * wing.capacity)
        x, y, z = 3.0 + 1.2 * s + long * (u - 0.5), 0.6 + 4.0 * s, 0.5 + 0.3 * s + high * (v - 0.5)
        tables = tank_tables(wing)
        for mass in (0.3 * wing.capacity, 0.7 * wing.capacity, wing.capacity):
            # level: what lies lowest holds this share
            order = np.argsort(z)
            share = np.cumsum(weight[order]) / weight.sum()
            inside = order[: int(np.searchsorted(share, mass / wing.capacity))]
            centre = [float(np.average(c[inside], weights=weight[inside])) for c in (x, y, z)]
            found = tables.at(mass)
            np.testing.assert_allclose(found.centre * [-1.0, 1.0, -1.0], centre, atol=4e-3)
            spread = [
                float(np.average((c[inside] - m) ** 2, weights=weight[inside]))
                for c, m in zip((x, y, z), centre, strict=True)
            ]
            np.testing.assert_allclose(
                np.diag(found.tensor), mass * np.array([spread[1] + spread[2], spread[0] + spread[2], spread[0] + spread[1]]),
                rtol=6e-3,
            )  # fmt: skip
        for bad, words in (({"outer": (4.0, 0.6, 0.5)}, "same y"), ({"outer": None}, "not complete")):
            with self.assertRaisesRegex(ValueError, words):
                Tank(**wing.model_dump() | bad)

    def test_an_empty_tank_stops(self) -> None:
        run = self.run_free(draining("30"))
        self.assertAlmostEqual(float(run["tank_ballast"][-1]), 0.0, places=9)
        self.assertEqual(float(run["outflow_ballast"][-1]), 0.0)
        self.assertAlmostEqual(float(run["mass"][-1]), 100.0)
        self.assertAlmostEqual(float(run["Iyy"][-1]), 100 / 12 * (4 + 0.16), places=6)

    def test_what_flows_to_an_exit_damps_the_turning(self) -> None:
        # jet damping: mass from the middle leaves two metres aft, dw/dt = -(flow) l^2 w/I with the moment of inertia's own change left out
        craft = draining(position=[0, 0, 0], exit=[2, 0, 0])
        x = craft.state(position=(0, 0, 1000), velocity=(0, 0, 0), rates=(0.0, 0.5, 0.0))
        turning = craft.plant("body").evaluate
        values = craft.values(x, craft.default_inputs())
        z = np.zeros(len(craft.plant("body").state_names))
        plant = craft.plant("body")
        z[2] = 1000.0
        z[plant.state_names.index("q")], z[plant.state_names.index("tank_ballast_integral")] = 0.5, 60.0
        rate = turning(0.0, z, craft.default_inputs())[0][plant.state_names.index("q")]
        from_tank = values["centre_x"]
        expected = -2.0 * 20.0 * 0.5 * (-1.0 - from_tank) * -2.0 / values["Iyy"]
        self.assertAlmostEqual(float(rate), expected, places=3)
        self.assertLess(float(rate), 0.0)

    def test_a_drop_at_once_keeps_the_sum(self) -> None:
        craft = draining("0")
        x = craft.state(position=(5, 6, 700), velocity=(30, 2, 4), attitude=(0.3, -0.2, 0.5), rates=(0.8, -1.1, 1.6))
        after = craft.with_tank(x, "ballast", 0.0)
        u = craft.default_inputs()
        full, empty = craft.values(x, u), craft.values(after, u)
        part = tank_tables(craft.definition.tanks["ballast"]).at(60.0)
        turn = dcm_from_quaternion(x[6:10])

        def momenta(
            state: np.ndarray, mass: float, centre: np.ndarray, tensor: np.ndarray, at: np.ndarray
        ) -> tuple[np.ndarray, np.ndarray]:
            velocity = state[3:6] + np.cross(state[10:13], centre - at)
            place = state[:3] * np.array([1, 1, -1]) + turn.T @ (centre - at)
            p = mass * turn.T @ velocity
            return p, turn.T @ tensor @ state[10:13] + np.cross(place, p)

        def of(values: Any, state: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            centre = np.array([values[f"centre_{a}"] for a in "xyz"])
            i = {n: values[n] for n in ("Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz")}
            tensor = np.array(
                [[i["Ixx"], -i["Ixy"], -i["Ixz"]], [-i["Ixy"], i["Iyy"], -i["Iyz"]], [-i["Ixz"], -i["Iyz"], i["Izz"]]]
            )
            return momenta(state, values["mass"], centre, tensor, centre)

        gone = momenta(x, part.mass, part.centre, part.tensor, np.array([full[f"centre_{a}"] for a in "xyz"]))
        for whole, left, dropped in zip(of(full, x), of(empty, after), gone, strict=True):
            np.testing.assert_allclose(left + dropped, whole, rtol=1e-9, atol=1e-6)
        for tank, mass, words in (
            ("fuel", 0.0, "no tank 'fuel' flows in full; expected ballast"),
            ("ballast", 80.0, "expected 0 to 64 kg"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                craft.with_tank(x, tank, mass)

    def test_refusals_name_the_place(self) -> None:
        for change, words in (
            (
                {"loadings": {"full": {"groups": ["hul"]}}},
                r"no part is in the group 'hul'; expected hull; try: did you mean hull",
            ),
            (
                {"loadings": {"full": {"groups": ["hull"], "tanks": {"balast": 3}}}},
                r"no tank 'balast'.*did you mean ballast",
            ),
            (
                {"loadings": {"full": {"groups": ["hull"], "tanks": {"ballast": 65}}}},
                r"cannot hold 65 kg; expected at most the 64 kg",
            ),
            (
                {"loadings": {"full": {"groups": ["hull"], "flowing": ["blast"]}}},
                r"there is no tank 'blast' with a flow; expected ballast",
            ),
            ({"loadings": {"full": {"groups": ["hull"], "mass": 3}}}, r"both groups and mass"),
            ({"loadings": {"full": {"mass": 3, "cg": [0, 0, 0]}}}, r"the key 'Ixx' is missing"),
        ):
            with self.subTest(words), self.assertRaisesRegex((DravikError, ValueError), words):
                Aircraft(AircraftDefinition.model_validate({**definition(), "parts": draining().definition.parts,
                                                            "tanks": draining().definition.tanks, "default_loading": "full", **change}))  # fmt: skip


if __name__ == "__main__":
    unittest.main()
