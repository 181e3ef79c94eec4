"""Make the Tarn's wind-tunnel campaign anew: a stand-in for the tunnel reads a model that differs from the drawing.

The model stalls earlier at its low Reynolds number, its controls lose more, and its drag is higher: what a
comparison of computed with measured tables is there to find.
"""

import math
from itertools import product
from pathlib import Path

from dravik.aero import read_geometry
from dravik.aero.campaign.simulated_tunnel import Setting, simulate_runs, simulate_tares
from dravik.aero.campaign.tunnel import read_campaign
from dravik.aero.drawing.geometry import Geometry
from dravik.aero.flow.airframe import Airframe
from dravik.aero.flow.lattice import FlowState

SAMPLE = Path(__file__).resolve().parent.parent / "src" / "dravik" / "samples" / "tarn"
ALPHAS = range(-8, 21, 2)
SETTINGS = {"elevator": (-20, -10, 10), "aileron": (-10, 10, 20), "rudder": (-10, 10, 20), "flap": (15, 35)}
WEIGHT = 160.0


def as_tested(geometry: Geometry) -> Geometry:
    """Return the drawing as the model behaves in the tunnel."""
    surfaces = {}
    for name, surface in geometry.surfaces.items():
        controls = {
            n: c.model_copy(update={"effectiveness": 0.93 * c.effectiveness}) for n, c in surface.controls.items()
        }
        stall = surface.stall.model_copy(update={"angle": surface.stall.angle - math.radians(1.5)})
        surfaces[name] = surface.model_copy(update={"controls": controls, "stall": stall, "interference": 1.2})
    # 40 m/s at a scale of 1:11 has the Reynolds numbers of this airspeed at full size
    grid = geometry.table_grid.model_copy(update={"airspeed": 40.0 / 11.0})
    return geometry.model_copy(update={"surfaces": surfaces, "table_grid": grid})


def points() -> list[Setting]:
    """Return the campaign: sweeps of alpha at each setting, the clean one three times, and sweeps of sideslip."""
    rad = math.radians
    found = [Setting(rad(a)) for _ in range(3) for a in ALPHAS]
    for name, values in SETTINGS.items():
        for value, a in product(values, ALPHAS):
            found += [Setting(rad(a), 0.0, ((name, rad(value)),))] * (2 if a % 4 == 0 else 1)
    for a, b in product((0, 6, 12), range(-15, 16, 5)):
        found += [Setting(rad(a), rad(b))] * 2
    return found


def main() -> None:
    """Write the readings."""
    folder = SAMPLE / "tunnel"
    campaign, _ = read_campaign(folder / "campaign.toml")
    airframe = Airframe(as_tested(read_geometry(SAMPLE / "geometry.toml")), SAMPLE)

    def known(signals: dict[str, float]) -> dict[str, float]:
        controls = {n: v for n, v in signals.items() if n in SETTINGS}
        state = FlowState(alpha=signals["alpha"], beta=signals["beta"], controls=controls)
        return {n: float(v[0]) for n, v in airframe.coefficients([state]).items()}

    settings = points()
    bad = next(i for i, s in enumerate(settings) if s.controls == (("elevator", math.radians(-10)),) and s.alpha > 0.06)
    simulate_runs(campaign, settings, known, folder / "runs.csv", weight=WEIGHT, noise=0.004, seed=11, bad=bad)
    simulate_tares(campaign, [math.radians(a) for a in range(-12, 25, 2)], folder / "wind_off.csv", weight=WEIGHT)
    print(f"{len(settings)} points, row {bad} off")


if __name__ == "__main__":
    main()
