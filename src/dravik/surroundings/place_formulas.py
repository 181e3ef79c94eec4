"""The surroundings as formulas of the place: the height of the ground and its slope, the wind, a file's own air."""

import math
from collections.abc import Mapping
from dataclasses import replace

from dravik.formula import Node, number_node, parse
from dravik.formula.contributions import Contributions
from dravik.surroundings.atmosphere import GAS_CONSTANT
from dravik.surroundings.earth import curvature_radii
from dravik.surroundings.environment import Environment
from dravik.surroundings.wind import wind_formulas

AIR = ("air_temperature", "air_pressure", "air_density")

__all__ = [
    "AIR",
    "ground_and_wind",
]


def ground_and_wind(
    world: Environment, formulas: Mapping[str, str | float], *, sloped: bool
) -> tuple[Contributions, list[str]]:
    """Return the height of the ground, the air and the wind as formulas, and the names of the wind's three.

    ``formulas`` are the aircraft's, which the ground's may read; ``sloped``: the ground's slope is needed, as by legs.
    """
    out = Contributions()
    keys = ("environment", "ground")
    out.add("ground_height", world.ground or 0.0, "m", "height of the ground above sea level", *keys)
    if sloped and isinstance(world.ground, str):
        inner = {n: parse(text) for n, text in formulas.items()}
        for axis in ("north", "east"):
            # central differences over 1 m
            moves = _moves(axis, world.latitude)
            ahead, behind = (_shifted(parse(world.ground), moves, by, inner) for by in (0.5, -0.5))
            node = Node("op", 0, "sub", args=(ahead, behind))
            out.add(f"ground_slope_{axis}", node, "", f"rise of the ground to the {axis}", *keys)
    air = world.air
    if air is not None:
        keys = ("environment", "air")
        out.add(
            "air_temperature", air.temperature, "K", "temperature by the file's own atmosphere", *keys, "temperature"
        )
        out.add("air_pressure", air.pressure, "Pa", "pressure by the file's own atmosphere", *keys, "pressure")
        density = air.density if air.density is not None else f"air_pressure/({GAS_CONSTANT!r}*air_temperature)"
        out.add("air_density", density, "kg/m^3", "density by the file's own atmosphere", *keys, "density")
    blowing, out.tables = wind_formulas(world.wind)
    for name, formula in blowing.items():
        unit = "" if name == "wind_shear" else "m/s"
        out.add(name, formula, unit, "wind by the formulas of the place", "environment", "wind")
    return out, [name for name in blowing if name != "wind_shear"]


def _moves(axis: str, latitude: float) -> dict[str, float]:
    """Return what 1 m to the north or east adds to the signals of position."""
    along, across = curvature_radii(latitude)
    if axis == "north":
        return {"north": 1.0, "latitude": 1.0 / float(along)}
    return {"east": 1.0, "longitude": 1.0 / (float(across) * math.cos(latitude))}


def _shifted(node: Node, moves: Mapping[str, float], by: float, formulas: Mapping[str, Node]) -> Node:
    """Return a formula of the place as it is some metres away; formulas in it are put in its place."""
    if node.kind == "name" and node.name in formulas:
        return _shifted(formulas[node.name], moves, by, formulas)
    if node.kind == "name" and node.name in moves:
        return Node("op", node.position, "add", args=(node, number_node(by * moves[node.name])))
    return replace(node, args=tuple(_shifted(a, moves, by, formulas) for a in node.args)) if node.args else node
