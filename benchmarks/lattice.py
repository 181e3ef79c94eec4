"""Print how time grows with panels: the lattice's derivatives at twenty angles of attack, and the Tarn's whole set."""

import time

from rich.console import Console
from rich.table import Table

from dravik.aero import Airframe, FlowState, Geometry, Lattice, build_mesh, build_tables, read_geometry
from dravik.aircraft import sample_path
from dravik.propulsion import Blades, propeller_map

SPAN = {"span": [0.1, 0.9], "hinge": 0.75}
ANGLES = [(-5.0 + i) * 0.0174533 for i in range(20)]


def geometry(chordwise: int, spanwise: int) -> Geometry:
    """Return a mirrored wing with four controls and two times this number of panels."""
    sections = [{"leading_edge": [0, 0, 0], "chord": 2.0}, {"leading_edge": [1, 8, 0.5], "chord": 1.0}]
    controls = {name: {**SPAN, "gearing": g} for name, g in zip("abcd", ["symmetric", "opposite"] * 2, strict=True)}
    surface = {"sections": sections, "panels": [chordwise, spanwise], "controls": controls}
    reference = {"area": 24.0, "chord": 1.5, "span": 16.0, "moment_point": [0.5, 0, 0]}
    return Geometry.model_validate({"format": 1, "name": "wing", "reference": reference, "surfaces": {"wing": surface}})


def full_set(drawing: Geometry) -> int:
    """Compute forces at twenty angles, each also with sideslip, three rates and four controls; return panels."""
    lattice = Lattice(build_mesh(drawing), drawing)
    states = []
    for alpha in ANGLES:
        states.append(FlowState(alpha=alpha))
        states.extend(FlowState(alpha=alpha, **{name: 0.01}) for name in ("beta", "p_hat", "q_hat", "r_hat"))
        states.extend(FlowState(alpha=alpha, controls={name: 0.02}) for name in "abcd")
    lattice.solve(states)
    return lattice.mesh.count


def main() -> None:
    """Measure and print."""
    full_set(geometry(2, 4))
    table = Table("panels", "time", "target", box=None)
    for chordwise, spanwise in ((5, 13), (7, 18), (10, 25), (10, 50), (14, 71)):
        begun = time.perf_counter()
        count = full_set(geometry(chordwise, spanwise))
        table.add_row(str(count), f"{time.perf_counter() - begun:.2f} s", "3 s" if count == 1000 else "")
    console = Console(width=100)
    console.print(table)
    console.print(whole_sets())
    stations = [{"r": 0.2, "chord": 0.18, "twist": "24 deg"}, {"r": 1.0, "chord": 0.08, "twist": "-5 deg"}]
    blades = Blades.model_validate({"format": 1, "name": "three", "blades": 3, "radius": 1.4, "stations": stations})
    begun = time.perf_counter()
    propeller_map(blades, [0.05 * i for i in range(41)], [0.2 + 0.05 * i for i in range(13)])
    console.print(f"propeller map, 41 advance ratios, 13 blade angles: {time.perf_counter() - begun:.2f} s (5 s asked)")


def whole_sets() -> Table:
    """Build the Tarn's complete set of tables with fewer and with more panels than its drawing has."""
    folder = sample_path("tarn")
    drawn = read_geometry(folder / "geometry.toml")
    table = Table("panels", "states", "complete set of the Tarn", "target", box=None)
    for share in (0.5, 1.0, 1.5, 2.0):
        surfaces = {
            name: s.model_copy(update={"panels": (s.panels[0], max(2, round(share * s.panels[1])))})
            for name, s in drawn.surfaces.items()
        }
        geometry = drawn.model_copy(update={"surfaces": surfaces})
        begun = time.perf_counter()
        found = build_tables(geometry, folder)
        taken = time.perf_counter() - begun
        count = Airframe(geometry, folder).mesh.count
        states = found.provenance["states"]
        table.add_row(str(count), str(states), f"{taken:.1f} s", "30 s" if share == 1.0 else "")
    return table


if __name__ == "__main__":
    main()
