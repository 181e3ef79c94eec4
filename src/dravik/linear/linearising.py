"""Linear models by central differences about an operating point, with a step scaled to each state."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.aircraft import Aircraft, SignalOverride
from dravik.aircraft.air_of_point import in_air_of
from dravik.aircraft.finite_values import refuse_not_finite
from dravik.aircraft.plant import AircraftPlant
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.linear.axes import in_axes
from dravik.linear.model import Kink, LinearModel
from dravik.linear.operating_point import OperatingInstant
from dravik.motion.minimal_coordinates import jacobian
from dravik.plants import Columns, Plant
from dravik.trimming import TrimPoint

__all__ = ["linearise", "linearise_plant"]

Floats = NDArray[np.float64]
# The step that balances truncation against rounding for central differences is about the cube root of the
# machine's precision, times the size of what is stepped.
STEP = float(np.cbrt(np.finfo(float).eps))
KINK_SHARE = 0.05
# of the row's largest slope: smaller slopes are judged against this, so that their mere curvature is not a kink
FLOOR = 0.05


def linearise(
    craft: Aircraft,
    point: TrimPoint | OperatingInstant,
    *,
    coordinates: str = "",
    outputs: Sequence[str] = (),
    states: Sequence[str] | None = None,
    cut: Sequence[str] = (),
    disturbed: Sequence[str] = (),
) -> LinearModel:
    """Return the linear model of an aircraft about a trimmed point, or about an instant of a flight.

    At a stop of an effector or an input the slope is taken on the side that is open. A table that bends at the
    operating point has two slopes there: the model holds their mean, and lists it in ``kinks``. About an instant the
    rates of the states are ``drift``: deviations move by it beside A x + B u; the aircraft is then that of the instant,
    with the parameters it flew with.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint or OperatingInstant
        Where.
    coordinates : str, optional
        States of the velocity: ``"air"`` (airspeed, alpha, beta), ``"body"`` (u, v, w) or ``"stability"`` (u, v, w in
        axes turned by alpha). Those of the point unless given.
    outputs : sequence of str, optional
        Signals that are outputs. The states unless given.
    states : sequence of str, optional
        States that are kept. All unless given, but those at rest of legs in the air.
    cut : sequence of str, optional
        Signals kept from those who read them: these read the input ``NAME_injected``, and what is computed for them is
        the output NAME. See ``SignalOverride``.
    disturbed : sequence of str, optional
        Signals that get an input ``NAME_disturbance``, added to what is read; they are outputs too.

    Returns
    -------
    LinearModel
        A (n, n), B (n, m), C (k, n), D (k, m) with names and units, in SI and rad, and the operating point.

    Raises
    ------
    DravikError
        For unknown names, and at 90 deg of pitch, where Euler angles have no rates.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> model.modes().named("Dutch roll").damping > 0.1
    True
    """
    require(craft, Aircraft, "what is linearised", "linearise_plant for other plants")
    if isinstance(point, OperatingInstant):
        craft = point.craft
    else:
        require(point, TrimPoint, "the point to linearise about", "trim(craft, ...)")
        craft = in_air_of(craft, point.craft)
        if point.craft.state_names != craft.state_names or point.craft.input_names != craft.input_names:
            raise DravikError(
                f"{point.title} was found for another configuration than {craft.name} has here",
                expected="a point of this aircraft with these laws and overrides", hint="trim(craft, ...) anew",
            )  # fmt: skip
    if craft.configuration.sensing.is_estimating:
        raise DravikError(
            "laws read estimates, and a linear model would take them for the truth",
            expected="laws that read the truth or sensors", hint='reads="sensors"',
        )  # fmt: skip
    cut, disturbed = arguments.names(cut, "cut"), arguments.names(disturbed, "disturbed")
    chosen, coordinates = coordinates, "body" if coordinates == "stability" else coordinates or point.coordinates
    if cut or disturbed:
        outputs = [*(outputs or craft.plant(coordinates).state_names)]
        outputs += [n for n in (*cut, *disturbed) if n not in outputs]
        point = _overridden(point, cut, disturbed)
        craft = point.craft
    plant = craft.plant(coordinates)
    for name in outputs:
        craft.signal(name)
    if abs(abs(point.signals["theta"]) - np.pi / 2) < 1e-3:
        raise DravikError(
            "Euler angles have no rates at ±90 deg of pitch: there is no linear model", hint="another attitude"
        )
    model = _model(craft, point, plant, list(outputs))
    if chosen == "stability":
        model = in_axes(model, point, chosen)
    resting = craft.resting_states(point.state, np.array(point.inputs, dtype=float))
    if states is None and resting:
        states = [name for name in plant.state_names if name not in resting]
    if states is None:
        return model
    return model.part(states=states, outputs=None if outputs else states)


def _model(
    craft: Aircraft, point: TrimPoint | OperatingInstant, plant: AircraftPlant, outputs: list[str]
) -> LinearModel:
    """Return the whole model in a plant's coordinates; without ``outputs`` they are the states."""
    names, inputs, columns = plant.state_names, plant.input_names, plant.columns
    u = np.array(point.inputs, dtype=float)
    t = point.time if isinstance(point, OperatingInstant) else 0.0
    z = plant.from_state(point.state, u, t)
    refuse_not_finite(craft, plant.workspace)
    units = columns.units | {n: craft.signals[n].unit for n in outputs}
    centre = np.concatenate([z, u])
    steps, sides = STEP * np.maximum(columns.sizes, np.abs(centre)), columns.open_sides(centre)
    picks = np.array([craft.tape.names[o] for o in outputs], dtype=np.int64)
    n, m, k = len(names), len(inputs), len(outputs)
    slopes, kinks = np.empty((n + k, n + m)), np.empty((n + k, n + m))
    w, values = plant.workspace, np.empty((3, n + k))
    jacobian(
        craft.program, w, t, z, u, plant.kind, steps, sides, picks, slopes, kinks, np.empty((4, n + m + 2)), values,
    )  # fmt: skip
    craft.refuse_outside(w)
    _refuse_infinite(slopes, [*names, *outputs], columns.names, n, f"{craft.name}, {point.title}")
    y0 = np.array([point.signals[o] for o in outputs]) if k else z
    return LinearModel(
        slopes[:n, :n].copy(), slopes[:n, n:].copy(),
        slopes[n:, :n].copy() if k else np.eye(n), slopes[n:, n:].copy() if k else np.zeros((n, m)),
        names, inputs, list(outputs) if k else list(names), units, None, f"{craft.name}, {point.title}", z, u, y0,
        _find_kinks(slopes, kinks, [*names, *outputs], columns.names),
        # the last row that the differences leave is the operating point itself
        values[2, :n].copy(), plant.coordinates,
    )  # fmt: skip


def _overridden(
    point: TrimPoint | OperatingInstant, cut: Sequence[str], disturbed: Sequence[str]
) -> TrimPoint | OperatingInstant:  # fmt: skip
    """Return the same operating point with signals overridden; injected signals start at the values read before."""
    cuts = [SignalOverride(signal=name, kind="cut") for name in cut]
    craft = point.craft.with_overrides(*cuts, *(SignalOverride(signal=name, kind="disturbed") for name in disturbed))
    state = dict(zip(point.craft.state_names, point.state, strict=True))
    inputs = dict(zip(point.craft.input_names, point.inputs, strict=True))
    inputs |= {f"{n}_injected": point[n] for n in cut}
    x = np.array([state[n] for n in craft.state_names])
    u = np.array([inputs.get(n, 0.0) for n in craft.input_names])
    if isinstance(point, OperatingInstant):
        return OperatingInstant.of(craft, x, u, time=point.time, coordinates=point.coordinates)
    return replace(point, craft=craft, state=x, inputs=u, signals=craft.values(x, u))


def _find_kinks(slopes: Floats, kinks: Floats, rows: list[str], columns: list[str]) -> list[Kink]:
    """Return the slopes that differ from side to side, the worst first."""
    size = np.abs(slopes)
    size = np.maximum(size, FLOOR * size.max(axis=1, keepdims=True, initial=0.0))
    bent = np.abs(kinks)
    at = (size > 1e-9) & (bent > KINK_SHARE * size)
    if not at.any():
        return []
    share, found = bent / np.maximum(size, 1e-300), np.argwhere(at)
    worst = sorted(found, key=lambda at: -share[at[0], at[1]])
    return [Kink(rows[i], columns[j], float(slopes[i, j]), float(share[i, j])) for i, j in worst]


def linearise_plant(plant: Plant, x: ArrayLike, u: ArrayLike | None = None, *, t: float = 0.0) -> LinearModel:
    """Return the linear model of any plant about a state and an input: its own Jacobian, or central differences.

    At a bound the slope is taken on the side that is open; slopes that differ from side to side are listed in
    ``kinks``.

    Parameters
    ----------
    plant : Plant
        The plant.
    x : array_like, shape (n,)
        The state, SI.
    u : array_like, shape (m,), optional
        The inputs, SI. Zero unless given.
    t : float, default 0
        The time, s.

    Returns
    -------
    LinearModel
        A (n, n), B (n, m), C (k, n), D (k, m).

    Raises
    ------
    DravikError
        Where the shapes do not fit the plant's names.

    Examples
    --------
    >>> import dravik as dv
    >>> swing = dv.plant(lambda t, x, u: [x[1], u[0] - 9.8 * np.sin(x[0])], states=["angle", "rate"], inputs=["push"])
    >>> round(float(linearise_plant(swing, [0.0, 0.0], [0.0]).A[1, 0]), 6)
    -9.8
    """
    x, u = np.asarray(x, dtype=float), np.zeros(len(plant.input_names)) if u is None else np.asarray(u, dtype=float)
    for name, values, names in (("x", x, plant.state_names), ("u", u, plant.input_names)):
        if values.shape != (len(names),):
            raise DravikError(f"{name} has the shape {values.shape}", expected=f"one value for each of {names}")
    n, m = len(x), len(u)
    columns, rows = [*plant.state_names, *plant.input_names], [*plant.state_names, *plant.output_names]
    kinks: list[Kink] = []
    own = getattr(plant, "jacobian", None)
    if callable(own):
        slopes = _own_slopes(own(t, x.copy(), u.copy()), (n, m, len(plant.output_names)))
    else:
        slopes, kinks = _plant_slopes(plant, t, np.concatenate([x, u]), columns, rows)
    _refuse_infinite(slopes, rows, columns, n, f"t = {t:g} s")
    return LinearModel(
        slopes[:n, :n], slopes[:n, n:], slopes[n:, :n], slopes[n:, n:],
        list(plant.state_names), list(plant.input_names), list(plant.output_names), dict(plant.units), None, "", x, u,
        plant.evaluate(t, x, u)[1], kinks,
    )  # fmt: skip


def _refuse_infinite(slopes: Floats, rows: Sequence[str], columns: Sequence[str], n: int, where: str) -> None:
    """Raise DravikError where a slope is not finite; the first ``n`` rows are those of rates."""
    if not np.all(np.isfinite(slopes)):
        row, column = (int(k[0]) for k in np.nonzero(~np.isfinite(slopes)))
        what = f"the rate of {rows[row]}" if row < n else rows[row]
        raise DravikError(
            f"the slope of {what} over {columns[column]} is not finite", where=where,
            hint="a formula without a finite value beside this point",
        )  # fmt: skip


def _own_slopes(given: object, counts: tuple[int, int, int]) -> Floats:
    """Return the slopes that a plant's own Jacobian gives; raises DravikError for other shapes."""
    n, m, k = counts
    shapes = [(n, n), (n, m), (k, n), (k, m)]
    expected = "A, B, C, D of shapes " + ", ".join(map(str, shapes))
    if not isinstance(given, Sequence) or len(given) != 4:
        raise DravikError(f"the Jacobian returned a {type(given).__name__}", expected=expected)
    parts = [arguments.real(matrix, f"{name} of the Jacobian") for name, matrix in zip("ABCD", given, strict=True)]
    for name, part, shape in zip("ABCD", parts, shapes, strict=True):
        if part.shape != shape and (part.size or shape[0] * shape[1]):
            raise DravikError(f"{name} of the Jacobian has shape {part.shape}", expected=expected)
    a, b, c, d = (part.reshape(shape) for part, shape in zip(parts, shapes, strict=True))
    return np.block([[a, b], [c, d]])


def _plant_slopes(
    plant: Plant, t: float, centre: Floats, columns: list[str], rows: list[str]
) -> tuple[Floats, list[Kink]]:
    n = len(plant.state_names)
    sides = Columns.of(plant).open_sides(centre)

    def both(point: Floats) -> Floats:
        return np.concatenate(plant.evaluate(t, point[:n], point[n:]))

    here = both(centre)
    slopes, kinks = np.empty((len(rows), len(columns))), np.zeros((len(rows), len(columns)))
    for k, name in enumerate(columns):
        step = np.zeros(len(centre))
        step[k] = STEP * max(plant.scales.get(name, 1.0), abs(centre[k]))
        if sides[k]:
            slopes[:, k] = (both(centre + sides[k] * step) - here) * sides[k] / step[k]
            continue
        up, down = both(centre + step), both(centre - step)
        slopes[:, k], kinks[:, k] = (up - down) / (2.0 * step[k]), (up + down - 2.0 * here) / step[k]
    return slopes, _find_kinks(slopes, kinks, rows, columns)
