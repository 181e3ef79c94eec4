"""Propellers and rotors on a shaft: flow at the hub, thrust and torque from a map, the shaft's speed, and its drive.

The shaft obeys J dOmega/dt = drive torque - propeller torque. On the airframe act the thrust, the reaction of the
drive's torque, the moment that turning the spinning mass asks for (-omega x h), and, where the map has them, the force
in the disc against the cross flow and the moment of the advancing blade (B. W. McCormick, Aerodynamics, Aeronautics
and Flight Mechanics, 2nd ed., Wiley 1995, ch. 6, for the coefficients).
"""

import math
from collections.abc import Mapping

import numpy as np

from dravik.constants import SEA_LEVEL_DENSITY
from dravik.errors import DravikError, nearest
from dravik.formula.contributions import Contributions, Vector, moment_arm, unit_vector
from dravik.propulsion.engines import Battery, Drive, Electric, Piston, PropellerEngine, PropellerEntry, Turbine
from dravik.tables import Table

__all__ = ["MAP_COLUMNS", "add_propeller"]

MAP_COLUMNS = ("CT", "CP", "CN_cross", "CM_cross")
MAP_AXES = ("advance_ratio", "cross_ratio", "blade_angle")
SLOWEST = 0.02  # of the rated speed: at lower speeds the propeller's coefficients are evaluated at this one
LEAD = 0.5  # of a governor's lag
IDLE_SPEED = 0.27  # of the rated speed: idle of a piston engine unless the file gives one
STANDS = 0.2  # of the rated speed: below it the drag of a stationary propeller is blended in


def add_propeller(
    out: Contributions, name: str, engine: PropellerEngine, propellers: Mapping[str, PropellerEntry],
    drives: Mapping[str, Drive], batteries: Mapping[str, Battery], tables: Mapping[str, Table], place: str,
) -> None:  # fmt: skip
    """Add a propeller with its shaft and its drive; raises DravikError for one of them that is not there."""
    for key, wanted, there in (
        ("propeller", engine.propeller, list(propellers)),
        ("drive", engine.drive, list(drives)),
    ):
        if wanted not in there:
            raise DravikError(
                f"there is no {key} {wanted!r}", where=f"{place}.{key}", expected=", ".join(there) or f"[{key}s.NAME]",
                hint=nearest(wanted, there),
            )  # fmt: skip
    propeller = propellers[engine.propeller]
    maps = _maps(engine.propeller, tables, place)
    direction = unit_vector(engine.direction)
    _add_flow(out, name, engine, propeller, direction)
    if engine.governor is not None:
        _add_governor(out, name, engine, propeller)
    # a map over blade angle needs somebody to set it: without a governor it would be asked at zero
    elif any(a.name == "blade_angle" for a in maps["CT"].axes):
        raise DravikError(
            f"the map of {engine.propeller} runs over blade_angle, and nothing sets that",
            where=place,
            expected="a governor, or a map without",
        )
    _add_loads(out, name, engine, propeller, maps, direction)
    keys = ("engines", name)
    match drives[engine.drive]:
        case Turbine() as drive:
            _add_turbine(out, name, drive, propeller)
        case Piston() as drive:
            _add_piston(out, name, drive)
        case Electric() as drive:
            _add_electric(out, name, drive, batteries, engine.drive)
    out.add(
        f"speed_{name}",
        f"state((shaft_torque_{name} - propeller_torque_{name})/{propeller.inertia!r}, {propeller.rated_speed!r}, 0)",
        "rad/s", f"speed of {name}'s shaft", *keys,
    )  # fmt: skip
    out.add(f"rpm_{name}", f"speed_{name}*30/pi", "", f"speed of {name}'s shaft in turns a minute", *keys)
    out.add(f"shaft_power_{name}", f"shaft_torque_{name}*speed_{name}", "W", f"power at {name}'s shaft", *keys)


def _maps(propeller: str, tables: Mapping[str, Table], place: str) -> dict[str, Table]:
    found = {c: tables[f"{c}_{propeller}"] for c in MAP_COLUMNS if f"{c}_{propeller}" in tables}
    for column in ("CT", "CP"):
        if column not in found:
            raise DravikError(f"the map of {propeller} has no column {column}", where=place, expected="CT and CP")
    for table in found.values():
        for axis in table.axes:
            if axis.name not in MAP_AXES:
                raise DravikError(
                    f"the map of {propeller} runs over {axis.name!r}", where=place, expected=", ".join(MAP_AXES)
                )
    return found


def _across(direction: Vector) -> tuple[Vector, Vector]:
    """Return two directions across a third, right-handed in that order."""
    # begin with the axis least aligned with the direction: cross products stay well conditioned
    first = np.eye(3)[[1, 0, 0][int(np.argmax(np.abs(direction)))]]
    one = first - np.dot(first, direction) * np.asarray(direction)
    one /= np.linalg.norm(one)
    two = np.cross(direction, one)
    return unit_vector(tuple(one)), unit_vector(tuple(two))


def _along(direction: Vector, velocity: tuple[str, str, str]) -> str:
    signs = {1.0: "", -1.0: "-"}
    terms = [
        f"{signs[c]}{v}" if c in signs else f"{c!r}*{v}"
        for c, v in zip(direction, velocity, strict=True)
        if abs(c) > 1e-12
    ]
    return " + ".join(terms)


def _add_flow(
    out: Contributions, name: str, engine: PropellerEngine, propeller: PropellerEntry, direction: Vector
) -> None:
    keys = ("engines", name)
    # the hub moves with the body's rotation: a yawing aircraft's outer propeller meets more air
    x, y, z = moment_arm(engine.position)
    velocity = (f"(u_air + q*{z} - r*{y})", f"(v_air + r*{x} - p*{z})", f"(w_air + p*{y} - q*{x})")
    # flow along the thrust axis is the V of J = V/nD; flow across it tilts the thrust
    out.add(f"axial_speed_{name}", _along(direction, velocity), "m/s", f"flow into {name}, along its thrust", *keys)
    for number, side in enumerate(_across(direction), 1):
        out.add(f"cross_speed_{number}_{name}", _along(side, velocity), "m/s", f"flow across {name}", *keys)
    slowest = SLOWEST * propeller.rated_speed
    out.add(
        f"turns_{name}", f"max(speed_{name}, {slowest!r})/(2*pi)", "1/s", f"turns of {name} a second, for its map",
        *keys,
    )  # fmt: skip
    # n is in turns a second in J = V/(n D), C_T = T/(rho n^2 D^4), C_P = P/(rho n^3 D^5)
    disc = f"turns_{name}*{propeller.diameter!r}"
    out.add(f"advance_ratio_{name}", f"axial_speed_{name}/({disc})", "", f"V/nD of {name}", *keys)
    across = f"hypot(cross_speed_1_{name}, cross_speed_2_{name})"
    out.add(f"cross_ratio_{name}", f"{across}/({disc})", "", f"flow across {name} over nD", *keys)


def _add_governor(out: Contributions, name: str, engine: PropellerEngine, propeller: PropellerEntry) -> None:
    governor, keys = engine.governor, ("engines", name, "governor")
    assert governor is not None
    out.add(f"governed_speed_{name}", governor.speed, "rad/s", f"speed that {name}'s governor holds", *keys, "speed")
    out.add(f"feather_{name}", governor.feather, "", f"whether {name} is to feather", *keys, "feather")
    # a constant-speed propeller: coarser blades take more torque and slow the shaft
    travel = governor.coarse - governor.fine
    # speed and a lead on it by the lag L: with a lead of L/2 the loop's damping is at least sqrt(1/2) at any gain
    gathering = f"(shaft_torque_{name} - propeller_torque_{name})/{propeller.inertia!r}"
    ahead = f"speed_{name} + {LEAD * governor.lag!r}*{gathering}"
    strayed = f"({ahead} - governed_speed_{name})/{governor.droop * propeller.rated_speed!r}"
    # half the travel at the governed speed, all of it within the droop: a proportional governor
    wanted = f"if_else(feather_{name}, {travel!r}, limit({travel!r}*(0.5 + {strayed}), 0, {travel!r}))"
    out.add(f"blade_angle_{name}_demand", wanted, "rad", f"blade angle beyond fine that {name} is asked for", *keys)
    out.add(
        f"blade_angle_{name}",
        f"{governor.fine!r} + rate_limit(blade_angle_{name}_demand, {governor.rate!r}, {governor.lag!r})",
        "rad", f"blade angle of {name} at the reference radius", *keys,
    )  # fmt: skip


def _add_loads(
    out: Contributions,
    name: str,
    engine: PropellerEngine,
    propeller: PropellerEntry,
    maps: Mapping[str, Table],
    direction: Vector,
) -> None:
    keys, diameter, used = ("engines", name), propeller.diameter, engine.propeller

    # a nearly stationary shaft has an advance ratio beyond any map: limit it to the map's edge, so that no visit
    # outside the table is reported
    slow = f"speed_{name} < {STANDS * propeller.rated_speed!r}"
    for axis in maps["CT"].axes:
        if axis.name in ("advance_ratio", "cross_ratio"):
            ratio, low, high = f"{axis.name}_{name}", float(axis.values[0]), float(axis.values[-1])
            out.add(
                f"{ratio}_used", f"if_else({slow}, limit({ratio}, {low!r}, {high!r}), {ratio})", "",
                f"{axis.name.replace('_', ' ')} that {name}'s map is asked at", *keys,
            )  # fmt: skip

    def looked_up(column: str) -> str:
        names = [f"{a.name}_{name}" + ("_used" if a.name.endswith("ratio") else "") for a in maps[column].axes]
        return f"{column}_{used}({', '.join(names)})"

    # at n = 0 thrust and torque are zero and the map, whose argument is infinite, is not evaluated
    squared = f"density*turns_{name}*speed_{name}/(2*pi)"
    standing = ""
    if propeller.stopped_drag:
        # a stopped propeller is a bluff body; its drag fades in below STANDS, where the map is no longer asked
        share = f"limit(1 - speed_{name}/{STANDS * propeller.rated_speed!r}, 0, 1)"
        area = 0.5 * propeller.stopped_drag
        standing = f" - {area!r}*density*axial_speed_{name}*abs(axial_speed_{name})*{share}"
    out.add(f"thrust_{name}", f"{looked_up('CT')}*{squared}*{diameter**4!r}{standing}", "N", f"thrust of {name}", *keys)
    out.add(
        f"propeller_torque_{name}", f"{looked_up('CP')}*{squared}*{diameter**5 / (2.0 * math.pi)!r}", "N*m",
        f"torque that the air asks of {name}", *keys,
    )  # fmt: skip
    out.load(f"thrust_{name}", direction, engine.position)
    # the airframe feels the drive's torque, not the propeller's: the difference accelerates the shaft
    out.add(f"torque_{name}", f"{-engine.sign}*shaft_torque_{name}", "N*m", f"reaction of {name}'s torque", *keys)
    out.load(f"torque_{name}", direction, engine.position, "moment")
    # what spins resists being turned: its angular momentum is a load of its own kind for the kernel
    momentum = f"{engine.sign * propeller.inertia!r}*speed_{name}"
    out.add(f"spin_momentum_{name}", momentum, "N*m*s", f"angular momentum of {name} about its thrust", *keys)
    out.load(f"spin_momentum_{name}", direction, engine.position, "spin")
    for column, kind, power, sign, what, unit in (
        ("CN_cross", "force", 3, -1, "in_plane_force", "N"),
        ("CM_cross", "moment", 4, -engine.sign, "hub_moment", "N*m"),
    ):
        if column not in maps:
            continue
        # coefficients of the cross flow are per unit of cross ratio, so force and moment go with rho n D^3 V_cross
        size = f"{sign * diameter**power!r}*{looked_up(column)}*density*turns_{name}"
        for number, side in enumerate(_across(direction), 1):
            signal = f"{what}_{number}_{name}"
            meaning = f"{what.replace('_', ' ')} of {name} along the disc's direction {number}"
            out.add(signal, f"{size}*cross_speed_{number}_{name}", unit, meaning, *keys)
            out.load(signal, side, engine.position, kind)


def _add_turbine(out: Contributions, name: str, drive: Turbine, propeller: PropellerEntry) -> None:
    keys = ("engines", name)
    out.add(f"turbine_power_{name}", drive.shaft_power, "W", f"power of {name}'s turbine", *keys)
    # power over speed would be infinite at rest: below the starting speed the torque is held
    slowest = drive.start_speed * propeller.rated_speed
    out.add(
        f"shaft_torque_{name}", f"(1 - fail_{name})*turbine_power_{name}/max(speed_{name}, {slowest!r})", "N*m",
        f"torque of {name}'s turbine at the shaft", *keys,
    )  # fmt: skip
    out.add(f"fuel_flow_{name}_working", drive.fuel_flow, "kg/s", f"fuel flow of {name} lit", *keys)
    out.add(f"fuel_flow_{name}", f"(1 - fail_{name})*fuel_flow_{name}_working", "kg/s", f"fuel flow of {name}", *keys)


def _add_piston(out: Contributions, name: str, drive: Piston) -> None:
    """Add torque after F. W. Gagg and J. E. Farrar (SAE Trans. 29, 1934): power by 1.1325 sigma - 0.1325.

    That is the power at the shaft: what is taken off is the friction, which does not change with height. With another
    friction stated, the torque before it is such that the same is left at the shaft.
    """
    from dravik.surroundings.atmosphere import standard_air

    keys = ("engines", name)
    # a supercharger holds the manifold pressure up to its critical altitude: density counts from there on
    full = SEA_LEVEL_DENSITY if drive.critical_altitude <= 0.0 else float(standard_air(drive.critical_altitude, 0.0)[2])
    torque = drive.rated_power / drive.rated_speed
    lapse = f"(1.1325*min(density/{full!r}, 1) - {0.1325 - drive.friction!r})/{1.0 + drive.friction!r}"
    idle = drive.idle_speed or IDLE_SPEED * drive.rated_speed
    # a closed throttle passes a constant air flow, so the charge per revolution falls with speed
    closed = f"{drive.idle_torque * idle!r}/max(speed_{name}, {0.5 * idle!r})"
    out.add(
        f"indicated_torque_{name}",
        f"{torque!r}*max({lapse}, 0)*(power_{name} + (1 - power_{name})*{closed})*(1 - fail_{name})", "N*m",
        f"torque of {name} before friction", *keys,
    )  # fmt: skip
    # friction opposes rotation only: it fades to zero at standstill, so that it starts nothing
    rub = f"{drive.friction * torque!r}*min(1, speed_{name}/{0.1 * drive.rated_speed!r})"
    out.add(
        f"shaft_torque_{name}", f"{1.0 + drive.friction!r}*indicated_torque_{name} - {rub}", "N*m",
        f"torque of {name} at the shaft", *keys,
    )  # fmt: skip
    out.add(
        f"fuel_flow_{name}", f"{drive.consumption!r}*indicated_torque_{name}*speed_{name}", "kg/s",
        f"fuel flow of {name}", *keys,
    )  # fmt: skip


def _add_electric(out: Contributions, name: str, drive: Electric, batteries: Mapping[str, Battery], place: str) -> None:
    keys, battery = ("engines", name), drive.battery
    if battery not in batteries:
        raise DravikError(
            f"there is no battery {battery!r}", where=f"drives.{place}.battery", expected=", ".join(batteries),
            hint=nearest(battery, batteries),
        )  # fmt: skip
    # one constant K of the motor gives back voltage K w and torque K I; behind the gear it is larger by the ratio
    constant, ohms = drive.gear / drive.speed_constant, drive.resistance + drive.controller_resistance
    most = drive.current_limit
    # without regeneration a windmilling propeller drives no current back into the battery
    least = -most if drive.regenerate else 0.0
    out.add(
        f"duty_{name}", f"power_{name}*(1 - fail_{name})*(charge_{battery} > 0)", "",
        f"share of the voltage that {name}'s controller passes on", *keys,
    )  # fmt: skip
    out.add(f"back_voltage_{name}", f"{constant!r}*speed_{name}", "V", f"voltage that {name} makes by turning", *keys)
    # Ohm's law between the controller and the motor's own voltage
    wish = f"(duty_{name}*likely_voltage_{battery} - back_voltage_{name})/{ohms!r}"
    out.add(
        f"motor_current_{name}", f"limit({wish}, {least!r}, {most!r})*(1 - fail_{name})", "A",
        f"current through {name}", *keys,
    )  # fmt: skip
    # the idle current is friction: its sign follows the rotation, smoothly through zero
    rub = f"{drive.idle_current!r}*limit({drive.gear!r}*speed_{name}/10, -1, 1)"
    out.add(
        f"shaft_torque_{name}", f"{constant!r}*(motor_current_{name} - {rub})", "N*m", f"torque of {name} at the shaft",
        *keys,
    )  # fmt: skip
    out.add(
        # power that arrives at the motor, its copper loss included
        f"electric_power_{name}", f"(back_voltage_{name} + {ohms!r}*motor_current_{name})*motor_current_{name}", "W",
        f"power that {name} draws", *keys,
    )  # fmt: skip
