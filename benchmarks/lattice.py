"""Print how the vortex lattice's time grows with panels: the full set of derivatives at twenty angles of attack."""

import time

from rich.console import Console
from rich.table import Table

from dravik.aero import FlowState, Geometry, Lattice, build_mesh

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
    Console(width=100).print(table)


if __name__ == "__main__":
    main()
