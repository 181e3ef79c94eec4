"""All engines of an aircraft together: what they give to it, and the sums that other formulas want."""

from collections.abc import Callable, Mapping

from dravik.formula.contributions import Contributions
from dravik.propulsion.batteries import add_battery
from dravik.propulsion.direct import add_jet, add_solid_motor, add_thrust
from dravik.propulsion.engines import (
    Battery,
    Drive,
    Engine,
    FanEngine,
    JetEngine,
    Mixer,
    PropellerEngine,
    PropellerEntry,
    SolidMotor,
)
from dravik.propulsion.mixing import add_mixer
from dravik.propulsion.shafts import add_propeller
from dravik.tables import Table

__all__ = ["powerplant"]


def powerplant(
    engines: Mapping[str, Engine], propellers: Mapping[str, PropellerEntry], drives: Mapping[str, Drive],
    batteries: Mapping[str, Battery], mixers: Mapping[str, Mixer], tables: Mapping[str, Table],
    grains: Mapping[str, float], where: Callable[..., str],
) -> Contributions:  # fmt: skip
    """Return the formulas, loads and tables of all engines; ``grains`` are the propellant masses (kg) of solid motors.

    Parameters
    ----------
    engines : mapping of str to Engine
        The engines by name.
    propellers : mapping of str to PropellerEntry
        The propellers by name.
    drives : mapping of str to Drive
        The drives by name.
    batteries : mapping of str to Battery
        The batteries by name.
    mixers : mapping of str to Mixer
        Mixers of commands by name.
    tables : mapping of str to Table
        The aircraft's tables by name.
    grains : mapping of str to float
        Propellant of solid motors, kg.
    where : callable
        File and key ahead of errors.

    Returns
    -------
    Contributions

    Raises
    ------
    DravikError
        For a propeller, battery, table or engine that another entry names and that is not there.
    """
    out = Contributions()
    for name, engine in engines.items():
        place = where("engines", name)
        match engine:
            case JetEngine():
                add_jet(out, name, engine)
            case FanEngine():
                add_jet(out, name, engine.as_jet(name))
            case PropellerEngine():
                add_propeller(out, name, engine, propellers, drives, batteries, tables, place)
            case SolidMotor():
                add_solid_motor(out, name, engine, tables, grains[engine.grain], place)
            case _:
                add_thrust(out, name, engine)
    for name, battery in batteries.items():
        add_battery(out, name, battery, engines, drives)
    for name, mixer in mixers.items():
        add_mixer(out, name, mixer, engines, where("mixers", name))
    for total, unit, meaning in (
        ("thrust", "N", "total thrust"),
        ("fuel_flow", "kg/s", "total fuel flow"),
        ("shaft_power", "W", "total power at the shafts"),
    ):
        # engines that have no such signal do not count: a glider's motor burns no fuel
        terms = [f"{total}_{n}" for n in engines if f"{total}_{n}" in out.formulas]
        if terms:
            out.add(total, " + ".join(terms), unit, meaning, "engines")
    if batteries:
        terms = [f"electric_power_{n}" for n in batteries]
        out.add("electric_power", " + ".join(terms), "W", "total power drawn from batteries", "batteries")
    if engines:
        # at standstill the thrust coefficient would be infinite: dynamic pressure counts as 1 Pa at least
        text = "thrust / (max(dynamic_pressure, 1) * reference_area)"
        out.add("thrust_coefficient", text, "", "thrust over dynamic pressure and area", "engines")
    return out
