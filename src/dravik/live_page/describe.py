"""What the page is told of an aircraft before it flies: signals, inputs by their kinds, shape, land and route."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.description.laws import engagements
from dravik.aircraft.ground_height import ground_height_of
from dravik.definition.signals import InputSpec
from dravik.live_page.solid import solid
from dravik.units import from_si

__all__ = ["describe", "land_around", "signal_table", "stall_angle"]

Floats = NDArray[np.float64]
AIR = ("wind_north", "wind_east", "wind_up", "gust_roll", "gust_pitch", "gust_yaw")
CELLS = 64  # of the land, along each side


def describe(craft: Aircraft, x: Floats, u: Floats) -> dict[str, Any]:
    """Return what of an aircraft the page draws and sets, as plain data; ``x`` and ``u`` are where it begins."""
    inputs = [_input(craft, spec, float(u[k])) for k, spec in enumerate(craft.inputs.values())]
    parameters = [
        {
            "name": n,
            "low": p.range[0] if p.range else None,
            "high": p.range[1] if p.range else None,
            "value": p.value,
            "meaning": p.description,
            **_shown(p.unit),
        }
        for n, p in craft.configuration.parameters.items()
    ]
    definition = craft.definition
    return {
        "aircraft": craft.name, "loading": craft.loading_name, "loadings": list(definition.loadings),
        "inputs": inputs, "parameters": [_finite(p) for p in parameters], "controls": _controls(craft, u),
        "engines": [n for n in definition.engines if f"thrust_{n}" in craft.signals],
        "tanks": [
            {"name": n, "capacity": t.capacity}
            for n, t in definition.tanks.items() if f"tank_{n}_integral" in craft.signals
        ],
        "modes": {n: list(m.modes) for n, m in craft.configuration.mode_logic.items()},
        "stall": stall_angle(craft, x, u), "span": definition.reference.span, "shape": solid(craft),
        "cg": list(craft.loading.cg),
    }  # fmt: skip


def signal_table(units: Mapping[str, str], meanings: Mapping[str, str] | None = None) -> dict[str, Any]:
    """Return for each signal its unit, the unit shown to people with its factor, and what it means."""
    return {n: {**_shown(unit), "meaning": (meanings or {}).get(n, "")} for n, unit in units.items()}


def _shown(unit: str) -> dict[str, Any]:
    shown, factor, _ = from_si(unit)
    return {"unit": unit, "shown": shown, "factor": factor}


def _finite(row: dict[str, Any]) -> dict[str, Any]:
    """Return a row without values that JSON does not know: a limit that is not there is null."""
    return {n: None if isinstance(v, float) and not math.isfinite(v) else v for n, v in row.items()}


def _input(craft: Aircraft, spec: InputSpec, value: float) -> dict[str, Any]:
    configuration = craft.configuration
    if spec.name in configuration.mode_logic:
        kind = "mode"
    elif spec.name in engagements(configuration.laws):
        kind = "law"
    elif spec.name.startswith(("fault_", "fail_")):
        kind = "fault"
    elif spec.name in AIR:
        kind, value = "air", spec.default  # what is set, without the gusts of this instant
    elif spec.name.endswith("_increment"):
        kind = "test"
    elif spec.follows or spec.name not in configuration.aircraft.inputs:
        kind = "target"
    else:
        kind = "stick" if spec.trim else "lever"
    return _finite(
        {
            "name": spec.name, "kind": kind, "low": spec.low, "high": spec.high, "value": value,
            "words": dict(spec.words), "follows": spec.follows, "meaning": spec.meaning, **_shown(spec.unit),
        }
    )  # fmt: skip


def _controls(craft: Aircraft, u: Floats) -> list[dict[str, Any]]:
    """Return the effectors: limits, command, and how far each stick moves it."""
    found, slopes = [], _stick_slopes(craft, u)
    for name, (low, high) in craft.limits.items():
        if f"{name}_command" not in craft.signals:
            continue
        unit = craft.signals[name].unit if name in craft.signals else ""
        found.append(
            _finite(
                {
                    "name": name,
                    "command": f"{name}_command",
                    "low": low,
                    "high": high,
                    "sticks": slopes.get(name, {}),
                    **_shown(unit),
                }
            )
        )
    return found


def _stick_slopes(craft: Aircraft, u: Floats) -> dict[str, dict[str, float]]:
    """Return how far each stick moves each effector's command, without the laws: what is the pilot's share of it."""
    bare = Aircraft(craft.definition, craft.tables, path=craft.path) if craft.configuration.laws else craft
    x = bare.state(velocity=(30.0, 0.0, 0.0))
    here = dict(zip(craft.input_names, u.tolist(), strict=True))
    u = np.array([here.get(n, 0.0) for n in bare.input_names])
    commands = [f"{n}_command" for n in craft.limits if f"{n}_command" in bare.signals]
    begun = bare.values(x, u, commands)
    found: dict[str, dict[str, float]] = {}
    for k, spec in enumerate(bare.inputs.values()):
        if not spec.trim or not math.isfinite(spec.high - spec.low):
            continue
        moved = u.copy()
        moved[k] += 0.1 * (spec.high - spec.low) * (1.0 if moved[k] < spec.high else -1.0)
        for command, value in bare.values(x, moved, commands).items():
            slope = float((value - begun[command]) / (moved[k] - u[k]))
            if abs(slope) > 1e-9:
                found.setdefault(command.removesuffix("_command"), {})[spec.name] = slope
    return found


def stall_angle(craft: Aircraft, x: Floats, u: Floats) -> float | None:
    """Return the angle of attack (rad) of the first maximum of the lift coefficient; None where there is none.

    At this state's speed, height and inputs, without rotation; up to 40 deg.
    """
    if "CL" not in craft.signals:
        return None
    slowest = craft.definition.envelope.airspeed[0] if craft.definition.envelope is not None else 1.0
    speed, state = max(float(np.linalg.norm(x[3:6])), slowest), np.array(x)  # at rest, that of the slowest flight
    place = [craft.state_names.index(n) for n in ("u", "v", "w", "p", "q", "r")]
    lift = []
    angles = np.radians(np.arange(-2.0, 40.1, 0.5))
    for alpha in angles:
        state[place] = [speed * math.cos(alpha), 0.0, speed * math.sin(alpha), 0.0, 0.0, 0.0]
        lift.append(float(craft.registers(state, u, refusing=False).registers[craft.tape.names["CL"]]))
    for k in range(1, len(lift) - 1):
        if lift[k] > lift[k - 1] and lift[k] >= lift[k + 1] and lift[k] > 0.0:
            return float(angles[k])
    return None


def land_around(craft: Aircraft, x: Floats, u: Floats, place: tuple[float, float], half: float) -> dict[str, Any]:
    """Return heights of the ground (m) on a grid around a place (north, east), rows towards north.

    Level ground is one number.
    """
    world = craft.configuration.world.ground
    if not isinstance(world, str):
        return {"level": float(world or 0.0), "is_water": world is None}
    height = ground_height_of(craft, x, u)
    along = np.linspace(-half, half, CELLS + 1)
    rows = [[round(height(place[0] + a, place[1] + b), 2) for b in along] for a in along]
    found = [v if math.isfinite(v) else 0.0 for row in rows for v in row]
    return {
        "north": place[0] - half,
        "east": place[1] - half,
        "cell": 2.0 * half / CELLS,
        "count": CELLS + 1,
        "height": found,
    }
