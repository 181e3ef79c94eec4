"""Fly: from a start for a time, with control histories, laws and devices, to a recording."""

from collections.abc import Callable
from typing import Unpack

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.flight.adaptive import fly_adaptively
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.core import Flight
from dravik.flight.options import Options
from dravik.flight.snapshots import Startable
from dravik.host.cores import matrices_in_one_thread
from dravik.kernel.program import OUTSIDE_TABLE
from dravik.linear import longest_step
from dravik.plants import Plant
from dravik.recording.recording import Event, Recording
from dravik.trimming import TrimPoint
from dravik.units import quantity

__all__ = ["fly"]

PAYS = 40_000  # steps of a flight from which on making machine code saves time
MOST_MEMORY = 8e9  # bytes of a recording


@arguments.spelled_out
def fly(
    what: Aircraft | Plant,
    *,
    start: Startable,
    duration: str | float,
    method: str = "rk4",
    progress: Callable[[float], None] | None = None,
    **options: Unpack[Options],
) -> Recording:
    """Return the recording of a flight of an aircraft, or of any plant.

    A long flight runs on machine code that is made for it, with the same results to the last bit. Faults, gusts and
    phases of the aircraft's script happen at the end of the step in which their conditions become true.

    Parameters
    ----------
    what : Aircraft or Plant
        What flies.
    start : TrimPoint, PlantTrim or Start
        Where it begins.
    duration : str or float
        How long, s.
    method : str, default "rk4"
        ``"rk4"``: fixed steps of the fourth order; ``"adaptive"``: of the eighth order, which keeps the error of each
        step at 1e-10, for checking accuracy (no devices, events, script, samples or modes).
    progress : callable, optional
        Called with the share flown, from 0 to 1.
    dt : str or float
        Step of the integrator, s. 0.01 unless given.
    controls : mapping of str to History
        Histories by input or effector; an effector's name stands for what is added to its command.
    devices : sequence of Device
        What is called at its own rate, in this order.
    turbulence : Turbulence
        Gusts that are added to the wind.
    record : sequence of str
        Signals that are recorded.
    record_every : str or int
        A row each so many steps, or so much time such as ``"50 ms"``. 1 unless given.
    save : str or Path
        File (.csv or .parquet) that is written while it is flown.
    note : mapping
        What goes into the recording's metadata besides.

    Returns
    -------
    Recording
        All signals (a plant's outputs) over time, or those of ``record``, with events and metadata.

    Raises
    ------
    DravikError
        For wrong names, units and times.
    FlightError
        With the recording so far, where a value is not finite any more (the formula is named), where a table is left
        whose policy that is, and where the file cannot be written.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=point, duration=2, controls={"elevator": dv.doublet("1 deg", at=0.5)})
    >>> bool(abs(run["q"]).max() > 0.005)
    True
    """
    seconds = quantity(duration, "time", where="duration")
    step = quantity(options.get("dt", 0.01), "time", where="dt")
    if not (seconds > 0.0 and 0.0 < step <= seconds):
        raise DravikError(
            f"{seconds:g} s cannot be flown in steps of {step:g} s",
            expected="a duration above the step, both above zero",
        )
    if method not in ("rk4", "adaptive"):
        raise DravikError(f"there is no method {method!r}", expected="'rk4' or 'adaptive'")
    if method == "adaptive" and (options.get("devices") or options.get("turbulence") is not None):
        raise DravikError("the adaptive method takes no devices and no turbulence", hint="method='rk4'")
    if method == "adaptive" and not isinstance(what, Aircraft):
        raise DravikError("the adaptive method flies aircraft", hint="method='rk4'")
    if method == "adaptive" and isinstance(what, Aircraft) and (what.tape.cells or what.configuration.mode_logic):
        raise DravikError("the adaptive method has no steps at which samples and modes change", hint="method='rk4'")
    steps = max(1, round(seconds / step))
    if isinstance(what, Aircraft) and steps > PAYS:
        what = (in_air_of(what, start.craft) if isinstance(start, TrimPoint) else what).with_machine_code()
    flight = Flight(what, start, options)
    flight.asked = steps * step
    names, rows = len(flight.rows.names), steps / flight.rows.every + 2
    if 8.0 * rows * names > MOST_MEMORY:
        raise DravikError(
            f"the recording would take {8e-9 * rows * names:.3g} GB: {rows:.3g} rows of {names} signals",
            expected=f"at most {MOST_MEMORY / 1e9:g} GB",
            hint="record fewer signals, or every few steps (record_every)",
        )
    with matrices_in_one_thread():
        flight.notes += [Event(flight.time, text) for text in _doubts(flight, seconds)]
    flight.rows.reserve(steps)
    if method == "adaptive":
        run = _adaptive(flight, steps)
        if flight.save_to is not None:
            run.save(flight.save_to)
        return run
    flight.advance(steps, record_last=True, progress=progress)
    return flight.finish()


def _doubts(flight: Flight, seconds: float) -> list[str]:
    """Return what a run should say at its beginning: a time that is no whole number of steps, a step too long."""
    found, step = [], flight.dt
    if abs(flight.asked - seconds) > 1e-9 * max(1.0, seconds):
        whole = f"{seconds:.6g} s is no whole number of steps of {step:g} s"
        found.append(f"flown for {flight.asked:.6g} s: {whole}")
    body = flight.body
    if isinstance(body, AircraftBody):
        # read as if they were measured, and nothing on board measures them
        true = [n for n, source in body.craft.sources.items() if source == "truth"]
        true = [n for n in true if body.craft.configuration.sensing.source(n) != "truth"]
        if true:
            found.append(f"laws read the truth of {', '.join(true)}: no sensor stands for it")
    root = longest_step(body.craft, flight.x, flight.schedule.inputs) if isinstance(body, AircraftBody) else None
    if root is not None and step > root[1]:
        found.append(f"a step of {step:g} s is too long for {root[0]}: at most {root[1]:.2g} s, or the motion diverges")
    return found


def _adaptive(flight: Flight, steps: int) -> Recording:
    every, first = flight.rows.every, flight.first
    times = np.arange(first, first + steps + 1, every, dtype=np.float64) * flight.dt + flight.offset
    picks = [int(p) for p in flight.rows.picks]
    assert isinstance(flight.body, AircraftBody)
    rows = fly_adaptively(flight.body.craft, flight.work, flight.x, flight.schedule, times, picks)
    flight.rows.free(every * len(rows))[: len(rows)] = rows
    flight.rows.take(len(rows), flight.tasks.board)
    if flight.work.counters[OUTSIDE_TABLE]:
        flight.fail(float(times[-1]))
    return flight.recording()
