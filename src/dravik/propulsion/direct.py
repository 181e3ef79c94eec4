"""Engines that need no shaft: plain thrust, jets with their spool, solid motors with their grain."""

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from dravik.constants import SEA_LEVEL_PRESSURE
from dravik.errors import DravikError
from dravik.formula.contributions import Contributions, unit_vector
from dravik.propulsion.engines import JetEngine, SolidMotor, ThrustEngine
from dravik.tables import Axis, Sheet, Table

__all__ = [
    "add_jet",
    "add_solid_motor",
    "add_thrust",
    "check_thrust_curve",
    "read_thrust_curve",
]


def add_thrust(out: Contributions, name: str, engine: ThrustEngine | JetEngine) -> None:
    """Add an engine whose thrust is a formula."""
    torque = engine.torque if isinstance(engine, ThrustEngine) else None
    keys, direction = ("engines", name), unit_vector(engine.direction)
    for signal, text, unit, key in (
        (f"thrust_{name}", engine.thrust, "N", "thrust"),
        (f"torque_{name}", torque, "N*m", "torque"),
        (f"fuel_flow_{name}", engine.fuel_flow, "kg/s", "fuel_flow"),
    ):
        if text is None:
            continue
        out.add(f"{signal}_working", text, unit, f"{key} of engine {name} while it works", *keys, key)
        left = ""
        if key == "thrust":
            what = f"thrust of engine {name} when it has failed"
            out.add(f"{signal}_failed", engine.failed_thrust, unit, what, *keys, "failed_thrust")
            left = f" + fail_{name}*{signal}_failed"
        whole = f"(1 - fail_{name})*{signal}_working{left}"
        out.add(signal, whole, unit, f"{key} of engine {name}".replace("_", " "), *keys)
    out.load(f"thrust_{name}", direction, engine.position)
    if torque is not None:
        out.load(f"torque_{name}", direction, engine.position, "moment")


def add_jet(out: Contributions, name: str, engine: JetEngine) -> None:
    """Add a gas turbine with its spool."""
    keys, direction = ("engines", name), unit_vector(engine.direction)
    out.add(f"spool_time_{name}", engine.spool_time, "s", f"time constant of {name}'s spool", *keys, "spool_time")
    # a failed jet windmills: its spool goes to what the flow drives it at
    wanted = f"power_{name} + fail_{name}*({engine.windmilling!r} - power_{name})"
    out.add(
        # a first-order spool; as a state it is found by trims
        f"spool_{name}", f"state(({wanted} - spool_{name})/spool_time_{name}, 0.5, 0, {engine.range[1]!r})", "",
        f"spool of {name}, as a share of full", *keys,
    )  # fmt: skip
    add_thrust(out, name, engine)
    if engine.spin_momentum:
        text = f"{engine.spin_momentum!r}*spool_{name}"
        out.add(f"spin_momentum_{name}", text, "N*m*s", f"angular momentum of {name} about its thrust", *keys)
        out.load(f"spin_momentum_{name}", direction, engine.position, "spin")


def read_thrust_curve(path: str | Path, name: str = "thrust_curve") -> Table:
    """Return a motor's thrust curve: a CSV file with ``time [s]`` and ``thrust [N]``, rows in order of time.

    Parameters
    ----------
    path : str or path
        The CSV file.
    name : str, default "thrust_curve"
        The table's name.

    Returns
    -------
    Table

    Raises
    ------
    DravikError
        With file and line for columns that miss, for a time that does not rise, and as ``check_thrust_curve`` does.
    """
    sheet = Sheet(path)
    time, unit = sheet.column("time")
    thrust, force = sheet.column("thrust")
    for column, found, wanted in (("time", unit, "s"), ("thrust", force, "N")):
        if found != wanted:
            raise DravikError(f"the column {column!r} is in {found or 'no unit'}", where=sheet.place, expected=wanted)
    back = np.flatnonzero(np.diff(time) <= 0.0)
    if back.size:
        row = int(back[0]) + 1
        raise DravikError(
            f"the thrust curve goes back in time, from {time[row - 1]:g} s to {time[row]:g} s",
            where=sheet.place_of(row), expected="rising times",
        )  # fmt: skip
    # linear between the rows, as test stands give them
    curve = Table(name, (Axis("time", time, "s"),), thrust, "N", source=sheet.place)
    check_thrust_curve(curve, sheet.place)
    return curve


def check_thrust_curve(curve: Table, place: str) -> tuple[float, float]:
    """Return the total impulse (N s) and the time of burn-out (s) of a thrust curve.

    Parameters
    ----------
    curve : Table
        Thrust over time.
    place : str
        What stands ahead of an error.

    Returns
    -------
    tuple (float, float)
        Impulse, N s, and time of burn-out, s.

    Raises
    ------
    DravikError
        For a curve that is not over time, pushes back, or does not end at zero.
    """
    if len(curve.axes) != 1 or curve.axes[0].unit != "s":
        raise DravikError("a thrust curve is over one column in s", where=place, expected="time [s], thrust [N]")
    time, thrust = curve.axes[0].values, curve.values
    if time[0] != 0.0:
        raise DravikError(f"the thrust curve begins at {time[0]:g} s", where=place, expected="0 s")
    if np.any(thrust < 0.0):
        raise DravikError(f"the thrust falls to {thrust.min():g} N", where=place, expected="no thrust below zero")
    if thrust[-1] != 0.0:
        raise DravikError(f"the thrust curve ends at {thrust[-1]:g} N", where=place, expected="0 N in its last row")
    return float(np.trapezoid(thrust, time)), float(time[-1])


def add_solid_motor(
    out: Contributions, name: str, motor: SolidMotor, tables: Mapping[str, Table], propellant: float, place: str
) -> None:
    """Add a solid motor whose grain holds ``propellant`` (kg) when it is full."""
    keys = ("engines", name)
    curve = tables.get(f"thrust_curve_{name}")
    if curve is None:
        raise DravikError(f"there is no table thrust_curve_{name}", where=place, expected="the motor's thrust curve")
    impulse, end = check_thrust_curve(curve, place)
    # once lit it burns to the end: the burn time itself keeps it lit
    lit = f"(power_{name} > 0.5 or burn_time_{name} > 0)*(1 - fail_{name})"
    out.add(f"lit_{name}", lit, "", f"whether {name} is lit", *keys)
    out.add(f"burn_time_{name}", f"integral(lit_{name})", "s", f"time since {name} was lit", *keys)
    out.add(
        f"curve_{name}", f"lit_{name}*thrust_curve_{name}(min(burn_time_{name}, {end!r}))", "N",
        f"thrust of {name} at sea level", *keys,
    )  # fmt: skip
    # thrust gains as the ambient pressure falls below that of the stand, over the nozzle's exit
    gain = f" + {motor.exit_area!r}*({SEA_LEVEL_PRESSURE} - pressure)*(curve_{name} > 0)" if motor.exit_area else ""
    out.add(f"thrust_{name}", f"curve_{name}{gain}", "N", f"thrust of {name}", *keys)
    out.add(
        # propellant in the proportion of thrust to total impulse: a constant specific impulse at sea level
        f"burn_rate_{name}",
        f"curve_{name}*{propellant / impulse!r}",
        "kg/s",
        f"propellant that {name} burns",
        *keys,
    )
    out.load(f"thrust_{name}", unit_vector(motor.direction), motor.position)
    out.events[f"{name}_burns_out"] = (f"burn_time_{name} >= {end!r}", f"{name} burns out")
