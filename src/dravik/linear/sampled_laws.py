"""Laws and sensors with a rate: what each reads and gives, and linear models in which hold and delay count.

A law's formulas read samples and what they add is held (``aircraft.laws``). A linear model by differences knows
neither: here the wires are cut, and joined again with the time that passes in them.
"""

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.description.laws import given_names, sampled_names
from dravik.linear.linearising import linearise
from dravik.linear.model import LinearModel
from dravik.linear.operating_point import OperatingInstant
from dravik.sensors import stand_ins, terms_of
from dravik.trimming import TrimPoint

__all__ = ["RatedLaw", "late_sensors", "linearise_as_run", "rated_laws"]

ORDER = 3  # of the Padé fraction of hold and delay


class RatedLaw(NamedTuple):
    """A law at a rate: its name, period and computing delay (s), the samples that it reads, what it gives."""

    name: str
    period: float
    late: float
    reads: list[str]
    gives: list[str]


def rated_laws(craft: Aircraft) -> list[RatedLaw]:
    """Return the laws of an aircraft that run at samples.

    >>> import dravik as dv
    >>> rated_laws(dv.sample("tarn"))
    []
    """
    return [
        RatedLaw(law.name, 1.0 / law.rate, law.delay, sampled_names(craft.signals, law), given_names(law))
        for law in craft.configuration.laws
        if law.rate is not None
    ]


def late_sensors(craft: Aircraft) -> dict[str, float]:
    """Return how late laws read the outputs of sensors, by output: by its delay and half a period, s.

    >>> import dravik as dv
    >>> late_sensors(dv.sample("tarn"))
    {}
    """
    sensors = craft.configuration.sensors
    formulas, _ = stand_ins(sensors)
    read = " ".join(str(f) for signal, f in formulas.items() if f"read_{signal}" in craft.signals)
    pressures = ("static_pressure", "total_pressure", "differential_pressure", "temperature")
    found = {}
    for name, sensor in sensors.items():
        delay = 0.0
        terms, _ = terms_of(name, sensor, {n: s.unit for n, s in craft.signals.items()})
        if terms.rate is not None:
            delay = terms.delay + 0.5 * terms.period
        for output in sensor.outputs(name):
            is_read = re.search(rf"\b{output}\b", read) or ("air_data_" in read and sensor.kind in pressures)
            if delay and is_read:
                found[output] = delay
    return found


def linearise_as_run(
    craft: Aircraft, point: TrimPoint | OperatingInstant, *, outputs: Sequence[str] = (), cut: Sequence[str] = (),
    coordinates: str = "", disturbed: Sequence[str] = (),
) -> LinearModel:  # fmt: skip
    """Return the linear model in which what laws with a rate give, and what sensors read, comes late.

    It comes late by the delay and half a period. A hold is nearly a delay of half its period; both are a fraction of
    third order, whose states are called ``..._delay_1`` and so on. Without such laws and sensors it is ``linearise``.
    Takes and raises what that does.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> linearise_as_run(craft, point) == dv.linearise(craft, point)
    True
    """
    laws = rated_laws(craft)
    # a zero-order hold delays by half a period on average
    late = {name: law.late + 0.5 * law.period for law in laws for name in law.gives}
    late = {name: seconds for name, seconds in {**late, **late_sensors(craft)}.items() if name not in cut}
    wanted = list(outputs)
    model = linearise(
        craft, point, outputs=[*wanted, *late] if late and wanted else wanted, cut=[*cut, *late],
        coordinates=coordinates, disturbed=disturbed,
    )  # fmt: skip
    if not late:
        return model
    if not wanted:  # the outputs are the states
        more = linearise(
            craft, point, outputs=list(late), cut=[*cut, *late], coordinates=coordinates, disturbed=disturbed
        )
        model = replace(
            model, C=np.vstack([model.C, more.C]), D=np.vstack([model.D, more.D]),
            outputs=[*model.outputs, *late], y0=np.concatenate([model.y0, more.y0]),
            units={**more.units, **model.units},
        )  # fmt: skip
    system: Any = model
    for name, seconds in late.items():
        # the delay stands where what the law gives is injected
        system = system.delayed(f"{name}_injected", seconds, order=ORDER)
    # then the loops are closed again through it
    closed = system.with_gains({f"{name}_injected": {name: 1.0} for name in late})
    kept = [n for n in model.inputs if n not in {f"{name}_injected" for name in late}]
    part = closed.part(inputs=kept, outputs=[n for n in model.outputs if n not in late or n in wanted])
    rows = [model.outputs.index(n) for n in part.outputs]
    # the delays' own states are zero at the operating point
    added = np.zeros(len(part.states) - len(model.states))
    return replace(
        model, A=part.A, B=part.B, C=part.C, D=part.D, states=part.states, inputs=part.inputs, outputs=part.outputs,
        units=part.units, x0=np.concatenate([model.x0, added]), drift=np.concatenate([model.drift, added]),
        y0=model.y0[rows], u0=model.u0[[model.inputs.index(n) for n in kept]],
    )  # fmt: skip
