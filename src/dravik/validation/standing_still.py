"""Sensors on the bench: an aircraft that stands still for hours, and what its sensors read meanwhile."""

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.aircraft_body import AircraftBody
from dravik.kernel.sampled_cells import read_still
from dravik.sensors import SEED, allan_deviation, expected_allan, terms_of

__all__ = ["BenchRow", "bench_test", "still_errors"]

Floats = NDArray[np.float64]
PARTS = (1, 2, 4, 5, 10, 20, 50, 100)  # of the shortest period that a step may be
TIMES = 9  # averaging times
MEANS = 10.0  # how many means the longest of them leaves


class BenchRow(NamedTuple):
    """The Allan deviation of an output at an averaging time (s), found and stated, SI."""

    output: str
    time: float
    found: float
    stated: float


def _step(craft: Aircraft) -> float:
    """Return a step of which all periods and delays on board are whole numbers; raises DravikError without one."""
    times = [t for cell in craft.tape.cells for t in (cell.period, cell.late) if t > 0.0]
    if not times:
        raise DravikError(f"no sensor of {craft.name} on board takes samples", expected="noise, or a rate")
    for parts in PARTS:
        dt = min(times) / parts
        if all(abs(t / dt - round(t / dt)) < 1e-6 for t in times):
            return dt
    raise DravikError("the rates of the sensors on board have no common step", expected="such as 100, 50 and 5 Hz")


def still_errors(craft: Aircraft, seconds: float) -> dict[str, tuple[float, Floats]]:
    """Return, by output, the period (s) and the errors of its samples while the aircraft stands still.

    Parameters
    ----------
    craft : Aircraft
        With sensors on board.
    seconds : float
        How long, s.

    Returns
    -------
    dict
        Of sensors with samples: period and readings less ideal ones, SI.

    Raises
    ------
    DravikError
        For rates without a common step, and a time shorter than two samples.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.validation.standing_still import still_errors
    >>> found = still_errors(dv.sample("pika").with_sensors("cheap"), 10.0)
    >>> len(found["gyro_x"][1]), len(found["satellite_north"][1])
    (1001, 51)
    """
    body, dt = AircraftBody(craft), _step(craft)
    x, u = craft.state(velocity=(0.0, 0.0, 0.0)), craft.default_inputs()
    units = {n: s.unit for n, s in craft.signals.items()}
    periods = {n: terms_of(n, s, units)[0].period for n, s in craft.configuration.sensors.items()}
    outputs = [(o, periods[n]) for n, s in craft.configuration.sensors.items() if periods[n] for o in s.outputs(n)]
    longest = max(period for _, period in outputs)
    if not seconds >= 2.0 * longest:
        raise DravikError(f"{seconds:g} s are too short for samples of {longest:g} s", expected="a longer test")
    every = math.gcd(*(round(period / dt) for _, period in outputs))
    body.begin_memory(0.0, x, u, dt, {})
    picks = np.array([body.registers[n] for o, _ in outputs for n in (o, f"{o}_ideal")], dtype=np.int64)
    rows = np.zeros((int(seconds / (every * dt) + 1e-9) + 1, len(picks)))
    read_still(craft.program, body.work, x, u, dt, every, picks, rows)
    errors = rows[:, ::2] - rows[:, 1::2]
    return {o: (period, errors[:: round(period / dt / every), k]) for k, (o, period) in enumerate(outputs)}


def bench_test(craft: Aircraft, seconds: float, seed: int = 0) -> list[BenchRow]:
    """Return Allan deviations of all sensors with samples, standing still, beside those of their stated errors.

    Parameters
    ----------
    craft : Aircraft
        With sensors on board.
    seconds : float
        How long, s.
    seed : int, default 0
        Seed of the errors.

    Returns
    -------
    list of BenchRow

    Raises
    ------
    DravikError
        As ``still_errors``.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.validation.standing_still import bench_test
    >>> row = bench_test(dv.sample("pika").with_sensors("cheap"), 60.0)[0]
    >>> row.output, 0.9 < row.found / row.stated < 1.1
    ('gyro_x', True)
    """
    own = craft.with_parameters({SEED: seed})
    units = {n: s.unit for n, s in own.signals.items()}
    errors = still_errors(own, seconds)
    found = []
    for name, sensor in own.configuration.sensors.items():
        terms, _ = terms_of(name, sensor, units)
        for k, output in enumerate(sensor.outputs(name)):
            if output not in errors:
                continue
            period, values = errors[output]
            times = np.unique(np.round(np.geomspace(1.0, max(1.0, len(values) / MEANS), TIMES))) * period
            rows = zip(times, allan_deviation(values, period, times), expected_allan(terms, times, k), strict=True)
            found += [BenchRow(output, float(t), float(a), float(b)) for t, a, b in rows]
    return found
