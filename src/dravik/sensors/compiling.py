"""Sensors as formulas: what each reads without errors, with them, its samples and their delay, and its faults."""

import math
from collections.abc import Callable, Collection, Mapping
from statistics import NormalDist
from typing import NamedTuple

from dravik.definition.signals import InputSpec
from dravik.errors import DravikError, nearest
from dravik.formula import Node, name_node, number_node, parse
from dravik.formula.contributions import Contributions
from dravik.kernel.random_numbers import stream_of
from dravik.sensors.definition import Sensor
from dravik.sensors.errors import ErrorTerms, error_terms
from dravik.sensors.outputs import ideal_formulas
from dravik.units import KINDS, kind_of_unit

__all__ = ["SEED", "FaultOf", "Setting", "fed_inputs", "sensor_formulas", "terms_of"]

SEED = "sensor_seed"
RATIO = 10.0  # of the correlation times of two neighbours whose sum is flicker noise
#: Of a sensor's name, its output's unit and what it reads: what it reads with the faults that concern it.
FaultOf = Callable[[str, str, str, Node, float], Node]


class Setting(NamedTuple):
    """What sensors need to know of the aircraft: the round Earth, the magnetic field, units of signals, faults.

    ``lost`` gives the condition under which a sensor gives no samples; ``fed`` are sensors whose readings may be
    replaced or added to from outside.
    """

    is_round: bool
    field: tuple[float, float, float] | None
    units: Mapping[str, str]
    faulty: FaultOf
    lost: Callable[[str], Node | None]
    fed: Collection[str] = ()


def _op(name: str, *args: Node) -> Node:
    return Node("op", 0, name, args=args)


def _call(name: str, *args: Node) -> Node:
    return Node("call", 0, name, args=args)


def _random(stream: str, period: float, keep: float, scale: float, begin: float = 0.0) -> Node:
    numbers = (float(stream_of(stream)), period, keep, scale, begin)
    return _call("random", name_node(SEED), *(number_node(v) for v in numbers))


def fed_inputs(sensors: Mapping[str, Sensor], fed: Collection[str]) -> list[InputSpec]:
    """Return the inputs by which readings are replaced or added to from outside.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The sensors on board.
    fed : collection of str
        Names of those that are fed.

    Returns
    -------
    list of InputSpec

    Raises
    ------
    DravikError
        For a sensor that is not there.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> [s.name for s in fed_inputs({"baro": Sensor(kind="static_pressure")}, ["baro"])]
    ['baro_replaced', 'baro_given', 'baro_added']
    """
    found = []
    for name in fed:
        if name not in sensors:
            raise DravikError(
                f"there is no sensor {name!r} to feed", expected="one of " + ", ".join(sensors),
                hint=nearest(name, sensors),
            )  # fmt: skip
        found.append(InputSpec(f"{name}_replaced", "", 0.0, 1.0, meaning=f"1: {name} reads what is given"))
        for output in sensors[name].outputs(name):
            unit = KINDS[sensors[name].spec.quantity or "number"][0]
            found.append(InputSpec(f"{output}_given", unit, meaning=f"what {output} reads while it is replaced"))
            found.append(InputSpec(f"{output}_added", unit, meaning=f"added to what {output} reads"))
    return found


def terms_of(name: str, sensor: Sensor, units: Mapping[str, str]) -> tuple[ErrorTerms, str]:
    """Return the errors of a sensor in SI, and the unit of its outputs.

    Parameters
    ----------
    name : str
        The sensor's name, for messages.
    sensor : Sensor
        The sensor.
    units : mapping of str to str
        SI units of the aircraft's signals.

    Returns
    -------
    tuple (ErrorTerms, str)

    Raises
    ------
    DravikError
        For a signal that is not there, and errors in other units than its.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> terms_of("nz", Sensor(kind="signal", signal="nz", bias=0.1), {"nz": ""})[1]
    ''
    """
    kind = sensor.spec.quantity
    if kind:
        return error_terms(sensor, kind, max(1, len(sensor.spec.outputs))), KINDS[kind][0]
    if sensor.subject not in units:
        raise DravikError(
            f"there is no {sensor.spec.needs} {sensor.subject!r}", where=sensor.spec.needs,
            hint=nearest(sensor.subject, units),
        )  # fmt: skip
    unit = units[sensor.subject]
    return error_terms(sensor, kind_of_unit(unit), 1), unit


def sensor_formulas(sensors: Mapping[str, Sensor], setting: Setting) -> Contributions:
    """Return the formulas of sensors: ideal readings, readings, and counts of samples.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The sensors on board, by name.
    setting : Setting
        What they need to know of the aircraft.

    Returns
    -------
    Contributions

    Raises
    ------
    DravikError
        With the key, for subjects that are not there and errors that cannot be.
    FormulaError
        For a formula that cannot be read.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> healthy = Setting(False, None, {}, lambda *given: given[3], lambda name: None)
    >>> list(sensor_formulas({"baro": Sensor(kind="static_pressure")}, healthy).formulas)
    ['baro_ideal', 'baro']
    """
    out = Contributions()
    for name, sensor in sensors.items():
        try:
            terms, unit = terms_of(name, sensor, setting.units)
        except DravikError as error:
            inner, error.where = error.where, ""
            raise error.at(f"sensors.{name}" + (f".{inner}" if inner else "")) from None
        outputs, keys = sensor.outputs(name), ("sensors", name)
        ideals = ideal_formulas(sensor, is_round=setting.is_round, field=setting.field)
        what = sensor.description or sensor.spec.meaning
        for output, formula in zip(outputs, ideals, strict=True):
            out.add(f"{output}_ideal", formula, unit, f"{output} without errors: {what}", *keys)
        held = _held(name, terms, setting)
        for k, output in enumerate(outputs):
            node = _felt(outputs, k, terms)
            if terms.sensitivity:
                node = _op("add", node, parse(_sensitive(sensor, k, terms)))
            # what stands in a formula twice has a name: copies of it would have states of their own
            if terms.lag:
                out.add(f"{output}_felt", node, unit, f"what {output} measures, after its lag", *keys)
                node = name_node(f"{output}_felt")
            node = _analog((name, output), node, k, terms)
            if terms.rate is not None:
                out.add(f"{output}_analog", node, unit, f"what {output} measures before it is sampled", *keys)
                node = name_node(f"{output}_analog")
                node = _sampled(_rounded(node, terms.resolution[k]), node, held, terms)
            lost = setting.lost(name)
            if terms.rate is None and lost is not None:
                node = _call("hold_while", node, lost)
            faulty = setting.faulty(name, output, unit, name_node(f"{output}_healthy"), terms.period)
            if faulty != name_node(f"{output}_healthy"):
                out.add(f"{output}_healthy", node, unit, f"what {output} reads without faults", *keys)
                node = faulty
            out.add(output, _fed(name, output, node, setting), unit, f"{output}: {what}, as it is read", *keys)
        if terms.rate is not None:
            ticks = _call("ticks", held, number_node(terms.period))
            if terms.delay:
                ticks = _sampled(ticks, number_node(0.0), number_node(0.0), terms)
            out.add(f"{name}_samples", ticks, "", f"how many samples of {name} have come", *keys)
    return out


def _felt(outputs: list[str], k: int, terms: ErrorTerms) -> Node:
    """Return what an output measures of the nominal axes, after its lag."""
    node: Node | None = None
    for share, other in zip(terms.matrix[k], outputs, strict=True):
        if share != 0.0:
            part = name_node(f"{other}_ideal")
            part = part if share == 1.0 else _op("mul", number_node(float(share)), part)
            node = part if node is None else _op("add", node, part)
    node = number_node(0.0) if node is None else node
    return _call("lag", node, number_node(terms.lag)) if terms.lag else node


def _sensitive(sensor: Sensor, k: int, terms: ErrorTerms) -> str:
    """Return what an acceleration adds to a rate gyro's axis."""
    felt = Sensor.model_construct(**{**dict(sensor), "kind": "accelerometer"})
    return f"{terms.sensitivity!r}*({ideal_formulas(felt, is_round=False, field=None)[k]})"


def _held(name: str, terms: ErrorTerms, setting: Setting) -> Node:
    """Return the condition under which a sample is missing."""
    lost = setting.lost(name)
    if not terms.dropouts:
        return number_node(0.0) if lost is None else lost
    # a normal number lies below this threshold as often as samples are missing
    draw = _random(f"{name} dropouts", terms.period, 0.0, 1.0)
    missing = _op("lt", draw, number_node(NormalDist().inv_cdf(terms.dropouts)))
    return missing if lost is None else _op("or", missing, lost)


def _shift(output: str, k: int, terms: ErrorTerms) -> list[Node]:
    """Return what is added to a reading: bias, noise, turn-on bias, bias instability, random walk."""
    found: list[Node] = []
    period = terms.period
    if terms.bias[k]:
        found.append(number_node(terms.bias[k]))
    if terms.turn_on[k]:
        found.append(_random(f"{output} turn-on bias", 0.0, 1.0, 0.0, terms.turn_on[k]))
    if terms.noise[k]:
        found.append(_random(f"{output} noise", period, 0.0, terms.noise[k]))
    if terms.walk[k]:
        found.append(_random(f"{output} random walk", period, 1.0, terms.walk[k] * math.sqrt(period)))
    if terms.instability[k]:
        # flicker noise of density B^2/(2 pi f) is a sum of first-order processes whose correlation times stand in a
        # constant ratio; each has the variance B^2 ln(ratio)/pi
        size = terms.instability[k] * math.sqrt(math.log(RATIO) / math.pi)
        for i, time in enumerate(flicker_times(terms)):
            keep = math.exp(-period / time)
            scale = size * math.sqrt(1.0 - keep * keep)
            found.append(_random(f"{output} bias instability {i}", period, keep, scale, size))
    return found


def flicker_times(terms: ErrorTerms) -> list[float]:
    """Return the correlation times of the processes that make up a bias instability, the longest first."""
    # a whole number of ratios counts as one whose logarithm is a little too small
    count = 1 + max(0, int(math.log(terms.correlation_time / terms.period, RATIO) + 1e-9))
    return [terms.correlation_time / RATIO**i for i in range(count)]


def _analog(names: tuple[str, str], node: Node, k: int, terms: ErrorTerms) -> Node:
    """Return what an output measures of what it feels: scaled, shifted, held in its range."""
    name, output = names
    if terms.scale[k]:
        node = _op("mul", node, number_node(1.0 + terms.scale[k]))
    if terms.jitter:
        # to first order: the slope of the signal, over a period, times the error of the time
        slope = _op("sub", node, _call("lag", node, number_node(terms.period)))
        late = _random(f"{name} jitter", terms.period, 0.0, terms.jitter / terms.period)
        node = _op("add", node, _op("mul", slope, late))
    for part in _shift(output, k, terms):
        node = _op("add", node, part)
    low, high = terms.low[k], terms.high[k]
    if math.isfinite(low) or math.isfinite(high):
        node = _op("limit", node, number_node(low), number_node(high))
    return node


def _rounded(node: Node, resolution: float) -> Node:
    """Return a value to the nearest step of a resolution."""
    if not resolution:
        return node
    step = number_node(resolution)
    return _op("mul", _op("floor", _op("add", _op("div", node, step), number_node(0.5))), step)


def _sampled(node: Node, at_rest: Node, held: Node, terms: ErrorTerms) -> Node:
    return _call("reading", node, at_rest, held, number_node(terms.period), number_node(terms.delay))


def _fed(name: str, output: str, node: Node, setting: Setting) -> Node:
    """Return a reading that may be replaced or added to from outside."""
    if name not in setting.fed:
        return node
    added = _op("add", node, name_node(f"{output}_added"))
    return _op("if_else", name_node(f"{name}_replaced"), name_node(f"{output}_given"), added)
