"""The rigid body that the kernel moves: registers of its mass properties, coefficients and loads."""

import math
from collections.abc import Sequence
from dataclasses import replace

from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.loadings import MassFormulas
from dravik.definition.signals import EventSpec
from dravik.formula import Tape
from dravik.formula.contributions import Load, unit_vector
from dravik.frames import body_from_station
from dravik.kernel import PointLoad, RigidBody
from dravik.surroundings.earth import curvature_radii

__all__ = ["point_loads", "rigid_body"]

ACTIONS = {"log": 0, "end": 1, "pause": 2}  # the kernel's numbers of the actions


def _overridden(configuration: Configuration, tape: Tape) -> dict[str, int]:
    """Return the registers of signals that are overridden for all who read them: the motion reads these instead."""
    return {o.signal: tape.names[f"override_{o.signal}"] for o in configuration.overrides if not o.readers}


def point_loads(
    configuration: Configuration, tape: Tape, loads: Sequence[Load], mass: MassFormulas | None
) -> list[PointLoad]:
    """Return forces, moments, flows and spinning parts with the registers of their sizes."""
    definition, overridden, found = configuration.aircraft, _overridden(configuration, tape), list[PointLoad]()
    for load in loads:
        x, y, z = body_from_station(load.position)
        size = overridden.get(load.size, tape.names[load.size])
        found.append(PointLoad(size, load.direction, (float(x), float(y), float(z)), load.kind))
    for name, part in definition.spinning.items():
        found.append(PointLoad(tape.names[f"spinning_{name}"], unit_vector(part.axis), kind="spin"))
    for flow, middle, direction in mass.flows if mass is not None else ():
        # a tank that drains where it stands moves nothing through the aircraft, and turns it by nothing
        if any(direction):
            found.append(PointLoad(tape.names[flow], direction, middle, "flow"))
    return found


def rigid_body(
    configuration: Configuration, tape: Tape, mass: Sequence[int | str], loads: Sequence[PointLoad],
    events: Sequence[tuple[str, EventSpec]], air: tuple[Sequence[str], Sequence[str]], inputs: int,
) -> RigidBody:  # fmt: skip
    """Return the body that the kernel moves.

    ``mass`` are the registers or names of its mass properties, ``air`` the formulas of the wind and of an atmosphere of
    its own.
    """
    definition, world = configuration.aircraft, configuration.world
    reference, aero = definition.reference, definition.aero
    point = body_from_station(reference.moment_point)
    meridian, across = curvature_radii(world.latitude)
    body = RigidBody(
        mass_registers=[tape.names[m] if isinstance(m, str) else m for m in mass],
        inputs=inputs,
        wind=tape.names["wind_north"],
        area=reference.area,
        chord=reference.chord,
        span=reference.span,
        moment_point=(float(point[0]), float(point[1]), float(point[2])),
        loads=loads,
        gravity=world.gravity_here,
        temperature_offset=world.temperature_offset,
        is_round=world.earth == "wgs84",
        origin=(world.latitude, world.longitude),
        # metres to radians, at the origin: north along the meridian, east along the parallel, which is shorter
        radii=(float(meridian), float(across) * math.cos(world.latitude)),
        sea_level=world.geoid,
        wind_field=[tape.names[n] for n in air[0]],
        own_air=[tape.names[n] for n in air[1]],
        rail=tape.names.get("on_rail", -1) if definition.rail is not None else -1,
        events=[(tape.names[name], ACTIONS[event.action]) for name, event in events],
    )
    if aero is None:
        return body
    # wind-tunnel custom: forces along the wind, moments about the body
    moment_axes = aero.moment_axes or ("body" if aero.axes == "wind" else aero.axes)
    overridden = _overridden(configuration, tape)
    registers = [overridden.get(c, tape.names[c]) for c in aero.coefficients]
    return replace(body, aero_registers=registers, force_axes=aero.axes, moment_axes=moment_axes)
