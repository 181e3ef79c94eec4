"""Gas turbines filled from a rated point: a cycle with component efficiencies, off its design by choked turbines.

With the turbine's guide vanes and the nozzle choked, the compressor's temperature rise goes with the temperature at
the turbine's entry, and the mass flow with P3/sqrt(T4): the lapse with altitude, speed and power follows. Sources:
H. I. H. Saravanamuttoo, G. F. C. Rogers, H. Cohen, Gas Turbine Theory, 5th ed., 2001, ch. 3 (cycles) and 9 (off
design); N. Cumpsty, Jet Propulsion, 2nd ed., 2003, ch. 12. Gas properties are constant, one set cold and one hot.
"""

from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import BeforeValidator, Field, ValidationError

from dravik.definition.fields import Model
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import air_at
from dravik.tables import Axis, Table
from dravik.units import in_si

__all__ = ["CyclePoint", "GasTurbine", "cycle", "turbine_tables"]

Floats = NDArray[np.float64]
JOINED = 0.5  # lowest power setting up to which the choked operating line is blended into idle
RAM = 0.9  # share of the ram pressure that an idling engine recovers as jet velocity
Share = Annotated[float, Field(gt=0.0, le=1.0)]


def _kelvin(value: object) -> float:
    return in_si(value, "temperature", where="turbine_temperature")


class GasTurbine(Model):
    """A gas turbine's design point at sea level, standing: ``jet`` (thrust) or ``shaft`` (power of a free turbine).

    ``rated`` is the thrust, N, or power, W, there; it and the temperatures (K) may come with their units. Raises
    DravikError for keys and values that cannot be. ``idle_temperature`` is the share of the rated
    one at which the choked cycle's line begins, at power setting 0; ``bypass_ratio`` and ``fan_pressure_ratio`` make a
    jet a fan.

    No engine idles on that line: its turbines are choked no longer. Below a setting of 0.5, or where the line is not
    alive, the cycle is joined to an idle that is stated: ``idle``, its share of the rated output at sea level,
    standing, and ``idle_fuel`` of the rated fuel flow, with ``idle_flow`` of the air. In flight the idling jet's speed
    is what it has standing and what the ram gives back, so that the thrust falls with speed and turns to drag.
    """

    output: Literal["jet", "shaft"]  #: thrust of a jet, or power of a free turbine
    rated: Annotated[float, Field(gt=0.0)]  #: rated thrust or power at sea level, standing
    pressure_ratio: Annotated[float, Field(gt=1.0, le=60.0)]  #: pressure ratio of the compressor
    #: rated temperature at the turbine's inlet
    turbine_temperature: Annotated[float, BeforeValidator(_kelvin), Field(gt=500.0, lt=2500.0)]
    #: share of the rated temperature at power setting 0 of the choked cycle
    idle_temperature: Annotated[float, Field(gt=0.2, lt=1.0)] = 0.75
    #: idle output as a share of the rated one, at sea level, standing
    idle: Annotated[float, Field(ge=0.0, lt=0.5)] = 0.06
    idle_fuel: Annotated[float, Field(gt=0.0, lt=0.5)] = 0.09  #: idle fuel flow as a share of the rated one
    idle_flow: Annotated[float, Field(gt=0.0, lt=1.0)] = 0.3  #: idle air flow as a share of the rated one
    bypass_ratio: Annotated[float, Field(ge=0.0, le=20.0)] = 0.0  #: bypass ratio of a fan
    fan_pressure_ratio: Annotated[float, Field(ge=1.0, le=4.0)] = 1.0  #: pressure ratio of the fan
    intake: Share = 0.98  #: pressure recovery of the intake
    compressor: Share = 0.85  #: isentropic efficiency of the compressor
    combustor: Share = 0.99  #: efficiency of the combustion
    combustor_pressure: Share = 0.95  #: pressure ratio over the combustor
    turbine: Share = 0.89  #: isentropic efficiency of the turbine
    nozzle: Share = 0.97  #: isentropic efficiency of the nozzle
    heat: Annotated[float, Field(gt=1e6)] = 43.1e6  #: heating value of the fuel, J/kg
    cold: tuple[float, float] = (1005.0, 1.4)  #: heat capacity, J/kg/K, and ratio of heat capacities of the air
    hot: tuple[float, float] = (1148.0, 1.333)  #: heat capacity, J/kg/K, and ratio of heat capacities of the burnt gas

    def __init__(self, **data: Any) -> None:
        kind = "power" if data.get("output") == "shaft" else "force"
        if isinstance(data.get("rated"), str):
            data["rated"] = in_si(data["rated"], kind, where="rated")
        try:
            super().__init__(**data)
        except ValidationError as error:
            raise DravikError("; ".join(f"{e['loc'][0]}: {e['msg']}" for e in error.errors())) from None


@dataclass(frozen=True)
class CyclePoint:
    """What a cycle gives, for a flow of one at the design point: thrust N or power W, fuel, air, pressure ratio.

    ``turbine_temperature`` K is that at the turbine's entry.
    """

    output: Floats
    fuel_flow: Floats
    air_flow: Floats
    pressure_ratio: Floats
    turbine_temperature: Floats


def cycle(design: GasTurbine, mach: ArrayLike, altitude: ArrayLike, power: ArrayLike) -> CyclePoint:
    """Return the cycle at Mach numbers, altitudes (m) and power settings (0 to 1) of any common shape.

    The flow of the core is 1 kg/s at the design point; multiply as ``turbine_tables`` does. Where the engine would
    not keep itself going, output and fuel flow are nan.

    Parameters
    ----------
    design : GasTurbine
        The engine's design point.
    mach : array-like
        Mach number.
    altitude : array-like
        Geometric height, m.
    power : array-like
        Power setting, 0 to 1.

    Returns
    -------
    CyclePoint
    """
    # one shape for all, so that a grid is computed at once
    m, height, setting = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in (mach, altitude, power)))
    # near idle the choked operating line does not exist: blend from a setting above that
    alive = _least_alive(design)
    found = _choked(design, m, height, np.maximum(setting, alive))
    share = np.clip(setting / max(alive, JOINED), 0.0, 1.0)
    # a cubic blend: value and slope are continuous at both ends, which trims and governors need
    share = share**2 * (3.0 - 2.0 * share)
    if np.all(share == 1.0):
        return found
    rated = _choked(design, *(np.asarray(v) for v in (0.0, 0.0, 1.0)))
    thrust, fuel, flow = _idle(design, rated, m, height)
    pairs = ((thrust, found.output), (fuel, found.fuel_flow), (flow, found.air_flow))
    joined = [idle + share * (running - idle) for idle, running in pairs]
    return CyclePoint(joined[0], joined[1], joined[2], found.pressure_ratio, found.turbine_temperature)


def _least_alive(design: GasTurbine) -> float:
    """Return the lowest power setting from which on the choked line is used: alive at sea level, standing."""
    settings = np.arange(0.4, 1.0, 0.05)
    alive = np.isfinite(_choked(design, *np.broadcast_arrays(0.0, 0.0, settings)).output)
    return float(settings[np.argmax(alive)]) if np.any(alive) else 1.0


def _idle(design: GasTurbine, rated: CyclePoint, m: Floats, height: Floats) -> tuple[Floats, Floats, Floats]:
    """Return output, fuel flow and core air flow at idle, in the units of the cycle with a core flow of 1 kg/s."""
    air, ground = air_at(height), air_at(0.0)
    gamma = design.cold[1]
    warmer = 1.0 + 0.5 * (gamma - 1.0) * m**2
    # corrected conditions: theta and delta are total temperature and pressure over those of the standard day
    theta = air.temperature * warmer / ground.temperature
    delta = air.pressure * warmer ** (gamma / (gamma - 1.0)) / ground.pressure
    # at one corrected speed the corrected flow is constant, so the flow goes with delta/sqrt(theta)
    corrected = delta / np.sqrt(theta)
    flow, fuel = design.idle_flow * corrected, design.idle_fuel * float(rated.fuel_flow) * delta * np.sqrt(theta)
    if design.output == "shaft":
        output: Floats = design.idle * float(rated.output) * delta * np.sqrt(theta)
        return output, fuel, flow
    # all air counts for the thrust, that of the bypass too
    through = flow * (1.0 + design.bypass_ratio)
    still = design.idle * float(rated.output) / (design.idle_flow * (1.0 + design.bypass_ratio))
    speed = m * air.speed_of_sound
    # the jet of an idling engine standing, plus the ram that the intake recovers: thrust falls with speed
    jet = np.sqrt(still**2 * theta + RAM * speed**2)
    return through * (jet - speed), fuel, flow


def _choked(design: GasTurbine, m: Floats, height: Floats, setting: Floats) -> CyclePoint:
    """Return the cycle with choked turbines."""
    air = air_at(height)
    cp, gamma = design.cold
    warmer = 1.0 + 0.5 * (gamma - 1.0) * m**2
    inlet_t = air.temperature * warmer
    inlet_p = air.pressure * warmer ** (gamma / (gamma - 1.0)) * design.intake
    # the power setting is a share of the way from idle to rated temperature at the turbine's entry
    hot = design.turbine_temperature * (design.idle_temperature + (1.0 - design.idle_temperature) * setting)
    ground = air_at(0.0)
    base_t, base_p = float(ground.temperature), float(ground.pressure) * design.intake
    rise, fan_rise = _rises(design, base_t)
    # choked turbines: compressor temperature rise is proportional to turbine inlet temperature
    share = hot / design.turbine_temperature
    compressor_t, fan_t = inlet_t + rise * share, inlet_t + fan_rise * share
    # isentropic compression with an efficiency: the pressure ratio that this temperature rise buys
    exponent = gamma / (gamma - 1.0)
    ratio = (1.0 + design.compressor * (compressor_t / inlet_t - 1.0)) ** exponent
    fan_ratio = (1.0 + design.compressor * (fan_t / inlet_t - 1.0)) ** exponent
    # choked vanes pass P3/sqrt(T4): in units of the flow at the design point
    flow = (inlet_p * ratio) / (base_p * design.pressure_ratio) / np.sqrt(share)
    hot_cp, hot_gamma = design.hot
    # heat balance of the combustor, its fuel's own mass neglected
    fuel = np.maximum(hot_cp * hot - cp * compressor_t, 0.0) / (design.combustor * design.heat)
    # the turbines drive compressor and fan: their work is the temperature drop
    work = cp * (compressor_t - inlet_t) + design.bypass_ratio * cp * (fan_t - inlet_t)
    after = hot - work / hot_cp
    # below self-sustaining power roots of negative numbers arise: they become nan, and are told below
    with np.errstate(invalid="ignore"):
        # the same work with an ideal turbine: from it the pressure that is left
        ideal = hot - (hot - after) / design.turbine
        pressure = inlet_p * ratio * design.combustor_pressure * (ideal / hot) ** (hot_gamma / (hot_gamma - 1.0))
        # what is left between turbine exit and ambient pressure, as a share of the enthalpy there
        left = 1.0 - (air.pressure / pressure) ** ((hot_gamma - 1.0) / hot_gamma)
        speed = m * air.speed_of_sound
        if design.output == "shaft":
            output = flow * hot_cp * after * design.turbine * left
        else:
            jet = np.sqrt(2.0 * hot_cp * after * design.nozzle * left)
            # momentum of air and fuel out, of air in; the nozzle expands fully
            output = flow * ((1.0 + fuel) * jet - speed)
            if design.bypass_ratio > 0.0:
                # the bypass expands through a nozzle of its own
                spread = 1.0 - (air.pressure / (inlet_p * fan_ratio)) ** (1.0 / exponent)
                bypass = np.sqrt(2.0 * cp * fan_t * design.nozzle * np.maximum(spread, 0.0))
                output = output + flow * design.bypass_ratio * (bypass - speed)
    alive = np.isfinite(output) & (left > 0.0)
    return CyclePoint(
        np.where(alive, output, np.nan), np.where(alive, flow * fuel, np.nan), flow, ratio, np.asarray(hot)
    )


def _rises(design: GasTurbine, inlet: float) -> tuple[float, float]:
    """Return the compressor's and the fan's rise of temperature at the design point, K."""
    power = (design.cold[1] - 1.0) / design.cold[1]
    core, fan = (
        inlet * (ratio**power - 1.0) / design.compressor for ratio in (design.pressure_ratio, design.fan_pressure_ratio)
    )
    return core, fan


def turbine_tables(
    design: GasTurbine, machs: ArrayLike, altitudes: ArrayLike, powers: ArrayLike, *, consumption: float | None = None
) -> tuple[Table, Table]:
    """Return ``thrust`` (N) or ``shaft_power`` (W), and ``fuel_flow`` (kg/s), over ``mach``, ``altitude``, ``power``.

    The output is scaled to the rated one at sea level, standing, at full power. ``consumption`` (fuel flow over
    output there, kg/s a unit) scales the fuel; the cycle's own is taken without.

    Parameters
    ----------
    design : GasTurbine
        The engine's design point.
    machs : array-like
        Mach numbers, rising.
    altitudes : array-like
        Geometric heights, m, rising.
    powers : array-like
        Power settings, 0 to 1, rising.
    consumption : float, optional
        Fuel flow over output at the rating, kg/s a unit; the cycle's own without.

    Returns
    -------
    tuple (Table, Table)

    Raises
    ------
    DravikError
        Where the engine would not keep itself going, with the condition.
    """
    grid = np.meshgrid(*(np.asarray(a, dtype=float) for a in (machs, altitudes, powers)), indexing="ij")
    found, rated = cycle(design, *grid), cycle(design, 0.0, 0.0, 1.0)
    for point, at in ((rated, "its design point"), (found, "")):
        dead = np.argwhere(~np.isfinite(point.output))
        if dead.size:
            where = at or "Mach {:.3g}, {:.5g} m, power {:.3g}".format(*(float(g[tuple(dead[0])]) for g in grid))
            raise DravikError(
                f"the engine does not keep itself going at {where}", where="gas turbine",
                hint="a higher idle_temperature, better efficiencies, or a lower pressure ratio",
            )  # fmt: skip
    # the cycle was computed for 1 kg/s of core flow: now it has the rated output
    scale = design.rated / float(rated.output)
    fuel = scale
    if consumption is not None:
        fuel = consumption * design.rated / float(rated.fuel_flow)
    axes = (
        Axis("mach", np.asarray(machs, dtype=float)), Axis("altitude", np.asarray(altitudes, dtype=float), "m"),
        Axis("power", np.asarray(powers, dtype=float)),
    )  # fmt: skip
    name, unit = ("thrust", "N") if design.output == "jet" else ("shaft_power", "W")
    return (
        Table(name, axes, found.output * scale, unit, method="smooth"),
        Table("fuel_flow", axes, found.fuel_flow * fuel, "kg/s", method="smooth"),
    )
