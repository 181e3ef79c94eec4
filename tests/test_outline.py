"""The outline of an aircraft in pictures: its own drawing, with controls that move the right way."""

import unittest
from pathlib import Path
from typing import Any

import numpy as np
from mpl_toolkits.mplot3d.art3d import Poly3DCollection

import dravik as dv
from dravik.aircraft.outline import outline_of
from dravik.report import frame_of
from dravik.report.space.wireframe import SYMBOL, symbol_of, turned

AIRCRAFT = Path(__file__).parent / "aircraft"


class Outlines(unittest.TestCase):
    def test_controls_turn_as_the_conventions_say(self) -> None:
        parts = [p for p in outline_of(dv.sample("tarn")) if p["kind"] == "control"]
        # a positive angle: elevator and flap down (z up), rudder to the left, ailerons roll to the right... of the wing
        wanted = {"elevator": (2, 1.0, 1.0), "rudder": (1, -1.0, -1.0), "aileron": (2, 1.0, -1.0)}
        seen = set()
        for part in parts:
            if part["signal"] not in wanted:
                continue
            axis, left, right = wanted[part["signal"]]
            moved = turned(part, {part["signal"]: 0.2}) - np.array(part["points"])
            is_right = float(np.mean(np.array(part["points"])[:, 1])) > 1e-9
            edge = moved[np.argmax(np.abs(moved[:, axis])), axis]
            self.assertEqual(np.sign(edge), right if is_right else left, part["signal"])
            # nothing moves along the hinge, and the hinge stays
            line = np.diff(np.array(part["hinge"]), axis=0)[0]
            self.assertLess(float(np.max(np.abs(moved @ line))), 1e-9)
            seen.add(part["signal"])
        self.assertEqual(seen, set(wanted))

    def test_a_turn_about_a_hinge_keeps_distances(self) -> None:
        part: dict[str, Any] = {
            "points": [[0.0, 0.0, 0.0], [-1.0, 0.0, 0.0]], "hinge": [[0.0, 0.0, 0.0], [0.0, 1.0, 0.0]], "signal": "flap",
        }  # fmt: skip
        found = turned(part, {"flap": np.pi / 2})
        np.testing.assert_allclose(found[1], [0.0, 0.0, 1.0], atol=1e-12)
        np.testing.assert_allclose(turned(part, {"other": 1.0}), part["points"])

    def test_points_are_about_the_centre_of_gravity_in_use(self) -> None:
        craft = dv.sample("tarn")
        other = dv.sample("tarn", loading=next(n for n in craft.definition.loadings if n != craft.loading_name))
        a, b = (np.array(outline_of(c)[0]["points"]) for c in (craft, other))
        shift = (np.array(craft.loading.cg) - np.array(other.loading.cg)) * [-1.0, 1.0, -1.0]
        np.testing.assert_allclose(b - a, np.broadcast_to(shift, a.shape), atol=2e-4)

    def test_without_a_drawing_and_with_nonsense(self) -> None:
        kinds = {p["kind"] for p in outline_of(dv.load(AIRCRAFT / "lark" / "aircraft.toml"))}
        self.assertEqual(kinds, {"body", "surface"})
        span = np.ptp(
            np.concatenate([p["points"] for p in outline_of(dv.load(AIRCRAFT / "lark" / "aircraft.toml"))])[:, 1]
        )
        self.assertAlmostEqual(float(span), 2.9, places=3)
        # wing at the centre of gravity, tail and fin behind it by 0.45 of the span, the fin upwards
        wing, _, tail, _, fin = (
            np.array(p["points"]) for p in outline_of(dv.load(AIRCRAFT / "lark" / "aircraft.toml"))[2:]
        )
        self.assertAlmostEqual(float(np.mean(wing[[0, 3], 0])), -0.25 * 0.22, places=3)
        self.assertAlmostEqual(float(np.max(tail[:, 0])), -0.45 * 2.9 + 0.25 * 0.6 * 0.22, places=3)
        self.assertAlmostEqual(float(np.min(fin[:, 2])), -0.16 * 2.9, places=3)
        body = np.array(outline_of(dv.load(AIRCRAFT / "lark" / "aircraft.toml"))[0]["points"])
        self.assertAlmostEqual(float(np.ptp(body[:, 0])), 0.75 * 2.9, places=3)
        self.assertAlmostEqual(float(np.ptp(body[:, 1])), 0.08 * 2.9, places=3)
        self.assertEqual(sum(p["kind"] == "disc" for p in outline_of(dv.sample("merle"))), 6)
        bad: tuple[object, ...] = (
            None,
            [],
            [{"points": "x"}],
            [{"points": [[0, 0, 0]]}],
            [{}],
            3.0,
            [{"points": [[1, 2]]}],
        )
        for nonsense in bad:
            self.assertIs(symbol_of(nonsense), SYMBOL)
        self.assertAlmostEqual(
            max(float(np.max(np.abs(p["points"]))) for p in symbol_of(outline_of(dv.sample("hail")))), 1.0
        )

    def test_a_recording_keeps_it_for_pictures(self) -> None:
        craft = dv.load(AIRCRAFT / "lark" / "aircraft.toml")
        run = dv.fly(craft, start=dv.trim(craft, airspeed=25.0, altitude=300.0), duration=0.2)
        self.assertEqual(run.metadata["outline"], outline_of(craft))
        room = frame_of(run, 0.1).axes[0]
        drawn = [len(c.get_facecolor()) for c in room.collections if isinstance(c, Poly3DCollection)]
        self.assertEqual(drawn, [len(outline_of(craft))])


if __name__ == "__main__":
    unittest.main()
