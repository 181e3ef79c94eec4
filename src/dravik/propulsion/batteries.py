"""Batteries: charge as a state, and the voltage at which what the motors draw and what the battery gives agree.

A motor asks for (d V - e)/R behind a controller that passes the share d of the voltage V; the battery gives
V = V0 - Rb I. Without limits of current that is a quadratic in V, solved in closed form: the likely voltage. What then
is drawn, limits and all, is a power, and the current is the smaller root of V0 I - Rb I^2 = power: the balance of power
closes always, and the two voltages differ only where some motors are at a limit of theirs and others are not.
"""

from collections.abc import Mapping

import numpy as np

from dravik.formula.contributions import Contributions
from dravik.propulsion.engines import Battery, Drive, Electric, PropellerEngine
from dravik.tables import Axis, Table

__all__ = ["add_battery"]


def add_battery(
    out: Contributions, name: str, battery: Battery, engines: Mapping[str, object], drives: Mapping[str, Drive]
) -> None:
    """Add a battery and all that the engines on it draw."""
    keys = ("batteries", name)
    motors: dict[str, Electric] = {}
    for engine, entry in engines.items():
        drive = drives.get(entry.drive) if isinstance(entry, PropellerEngine) else None
        if isinstance(drive, Electric) and drive.battery == name:
            motors[engine] = drive
    levels, volts = (np.array(side) for side in zip(*battery.open_circuit, strict=True))
    curve = Table("", (Axis(f"charge_{name}", levels),), volts, method="smooth")
    out.tables[f"open_circuit_{name}"] = curve
    # energy left is the integral of voltage over charge: made a table once, so that flights need no integral
    fine = np.linspace(0.0, 1.0, 401)
    cell = curve(fine)
    gathered = np.concatenate([[0.0], np.cumsum(0.5 * (cell[1:] + cell[:-1]) * np.diff(fine))])
    joules = battery.cells * battery.charge * gathered
    out.tables[f"energy_{name}"] = Table("", (Axis(f"charge_{name}", fine[::8]),), joules[::8], method="smooth")
    # of the pack, ohm
    inner = battery.resistance
    out.add(
        f"charge_{name}", f"integral(-current_{name}/{battery.charge!r}, {battery.initial!r}, 0, 1)", "",
        f"charge left in {name}, as a share", *keys,
    )  # fmt: skip
    out.add(
        f"open_voltage_{name}", f"{battery.cells}*open_circuit_{name}(charge_{name})", "V",
        f"voltage of {name} without load", *keys,
    )  # fmt: skip
    push = " + ".join(f"duty_{n}*back_voltage_{n}/{_ohms(d)!r}" for n, d in motors.items()) or "0"
    hold = " + ".join(f"duty_{n}**2/{_ohms(d)!r}" for n, d in motors.items()) or "0"
    out.add(f"other_power_{name}", battery.load, "W", f"power drawn from {name} by other than motors", *keys, "load")
    out.add(
        f"push_{name}", f"open_voltage_{name} + {inner!r}*({push})", "V", f"voltage that acts on {name}'s motors", *keys
    )
    out.add(f"hold_{name}", f"1 + {inner!r}*({hold})", "", f"how the motors load {name}", *keys)
    room = f"max(push_{name}**2 - {4.0 * inner!r}*hold_{name}*other_power_{name}, 0)"
    out.add(
        f"likely_voltage_{name}", f"(push_{name} + sqrt({room}))/(2*hold_{name})", "V",
        f"voltage of {name} when no current is at a limit", *keys,
    )  # fmt: skip
    drawn = " + ".join([f"other_power_{name}", *(f"electric_power_{n}" for n in motors)])
    out.add(f"electric_power_{name}", drawn, "W", f"power drawn from {name}", *keys)
    root = f"sqrt(max(open_voltage_{name}**2 - {4.0 * inner!r}*electric_power_{name}, 0))"
    out.add(f"current_{name}", f"(open_voltage_{name} - {root})/{2.0 * inner!r}", "A", f"current out of {name}", *keys)
    out.add(
        f"voltage_{name}", f"open_voltage_{name} - {inner!r}*current_{name}", "V", f"voltage of {name} under load",
        *keys,
    )  # fmt: skip
    out.add(f"energy_left_{name}", f"energy_{name}(charge_{name})", "J", f"energy left in {name}", *keys)
    out.events[f"{name}_sags"] = (
        f"voltage_{name} < {battery.cut_off!r}", f"battery {name} is below {battery.cut_off:g} V",
    )  # fmt: skip
    out.events[f"{name}_is_empty"] = (f"charge_{name} <= 0", f"battery {name} is empty")


def _ohms(drive: Electric) -> float:
    return drive.resistance + drive.controller_resistance
