"""The mass properties as signals: constant ones, or those that follow what flows in the tanks."""

from collections.abc import Callable

from dravik.aircraft.description.loadings import MassFormulas
from dravik.aircraft.description.schema import Loading
from dravik.formula import TapeBuilder, number_node
from dravik.frames import body_from_station

__all__ = ["add_mass"]


def add_mass(
    builder: TapeBuilder, define: Callable[..., None], load: Loading, mass: MassFormulas | None
) -> tuple[list[int | str], list[str]]:
    """Add mass properties; return the kernel's thirteen registers or formulas' names, and the names that motion needs.

    ``define`` adds a formula and its signal.
    """
    if mass is not None:
        return _add_flowing(define, mass)
    for name, value, unit, meaning in (
        ("mass", load.mass, "kg", "mass"),
        ("cg_x", load.cg[0], "m", "centre of gravity, station axes, aft"),
        ("cg_y", load.cg[1], "m", "centre of gravity, station axes, right"),
        ("cg_z", load.cg[2], "m", "centre of gravity, station axes, up"),
    ):
        define(name, number_node(value), ("loadings",), unit, meaning, "mass")
    # the kernel counts from the datum along body axes, people along station axes: signals have theirs
    gx, gy, gz = (float(v) for v in body_from_station(load.cg))
    inertia = (load.Ixx, load.Iyy, load.Izz, load.Ixy, load.Ixz, load.Iyz)
    # constants, not formulas: a fixed mass then costs nothing at each evaluation; the last three are its centre's rate
    return [builder.constant(v) for v in (load.mass, gx, gy, gz, *inertia, 0.0, 0.0, 0.0)], []


def _add_flowing(define: Callable[..., None], mass: MassFormulas) -> tuple[list[int | str], list[str]]:
    """Add mass properties that follow their tanks."""
    for name, (text, unit, meaning) in mass.formulas.items():
        keys: tuple[str, ...] = ("loadings",)
        if name.startswith("flow_"):
            keys = ("tanks", name.removeprefix("flow_"), "flow")
        if name.startswith("moved_"):
            keys = ("parts", name.removeprefix("moved_"), "moved")
        define(name, text, keys, unit, meaning, "mass")
    for axis, sign in zip("xyz", (-1, 1, -1), strict=True):
        define(f"cg_{axis}", f"{sign}*centre_{axis}", ("loadings",), "m", f"centre of gravity, station {axis}", "mass")
    centre = [f"centre_{a}" for a in "xyz"]
    names = ["mass", *centre, "Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz", *(f"centre_rate_{a}" for a in "xyz")]
    return list(names), [*names, *(flow for flow, _, _ in mass.flows)]
