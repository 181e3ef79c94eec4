"""The world as formulas: the ground and its slope, the wind, what a touch of the ground ends, the launch rail."""

import math
from collections.abc import Mapping
from dataclasses import replace

from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.schema import Crash
from dravik.formula import Node, number_node, parse
from dravik.formula.contributions import Contributions, lever_arm
from dravik.surroundings.atmosphere import GAS_CONSTANT
from dravik.surroundings.earth import curvature_radii
from dravik.surroundings.environment import wind_formulas

AIR = ("air_temperature", "air_pressure", "air_density")

__all__ = ["AIR", "GROUND_EVENT", "ground_and_wind", "touches"]

GROUND_EVENT = "buried"
CROSSED = 1e-3  # m: tolerance, so that rounding does not end a flight exactly at sea or ground level


def ground_and_wind(configuration: Configuration) -> tuple[Contributions, list[str]]:
    """Return the height of the ground, its slope where legs need it, and the wind; and the wind's three formulas."""
    world, out = configuration.world, Contributions()
    keys = ("environment", "ground")
    out.add("ground_height", world.ground or 0.0, "m", "height of the ground above sea level", *keys)
    if configuration.legs and isinstance(world.ground, str):
        inner = {n: parse(f.formula) for n, f in configuration.formulas.items()}
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
    formulas, out.tables = wind_formulas(world.wind)
    for name, formula in formulas.items():
        unit = "" if name == "wind_shear" else "m/s"
        out.add(name, formula, unit, "wind by the formulas of the place", "environment", "wind")
    return out, [name for name in formulas if name != "wind_shear"]


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


def touches(configuration: Configuration) -> dict[str, tuple[str, str, tuple[str, ...]]]:
    """Return what ends a run on the ground or the rail: by name the condition, words, and keys of the definition."""
    crash, below = configuration.aircraft.crash, "the centre of gravity is below "
    found: dict[str, tuple[str, str, tuple[str, ...]]] = {}
    if configuration.world.ground is None:
        found[GROUND_EVENT] = (f"altitude < -{CROSSED!r}", below + "sea level", ("environment",))
        return found
    found[GROUND_EVENT] = (
        f"altitude < ground_height - {CROSSED!r}", below + "the ground", ("environment", "ground")
    )  # fmt: skip
    for name, position in crash.parts.items():
        x, y, z = lever_arm(position)
        lower = f"down_x*{x} + down_y*{y} + down_z*{z} > altitude - ground_height"
        found[f"crash_{name}"] = (lower, f"crash: {name} touches the ground", ("crash", "parts"))
    if configuration.legs:
        pressed = " + ".join(f"normal_{n}" for n in configuration.legs)
        for key, (text, words) in _limits(crash).items():
            found[f"crash_by_{key}"] = (f"{pressed} > 0 and {text}", f"crash: {words}", ("crash", key))
    return found


def _limits(crash: Crash) -> dict[str, tuple[str, str]]:
    """Return what an aircraft on its legs may not do: by key the condition and words."""
    found: dict[str, tuple[str, str]] = {}
    if crash.sink_rate is not None:
        words = f"it comes down faster than {crash.sink_rate:g} m/s"
        found["sink_rate"] = (f"-climb_rate > {crash.sink_rate!r}", words)
    if crash.bank is not None:
        words = f"it touches the ground banked beyond {math.degrees(crash.bank):g} deg"
        found["bank"] = (f"abs(phi) > {crash.bank!r}", words)
    if crash.pitch is not None:
        low, high = crash.pitch
        words = f"its nose is outside {math.degrees(low):g} to {math.degrees(high):g} deg on the ground"
        found["pitch"] = (f"(theta < {low!r} or theta > {high!r})", words)
    return found
