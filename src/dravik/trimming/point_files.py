"""Trimmed points in files: JSON with states and inputs by their names, and the statement that they hold."""

import json
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.plant import COORDINATES
from dravik.errors import DravikError, nearest, require
from dravik.host.files import as_path, read_text, write_text
from dravik.motion.minimal_coordinates import minimal_from_state
from dravik.trimming.outcomes import report
from dravik.trimming.residuals import aircraft_search
from dravik.trimming.result import TrimPoint
from dravik.trimming.search import TOLERANCE
from dravik.trimming.statement import Equation, Free, Statement, coordinates_of
from dravik.version import __version__

__all__ = ["load_point", "save_point"]

Floats = NDArray[np.float64]


def save_point(point: TrimPoint, path: str | Path) -> Path:
    """Write a trimmed point to a file, to be flown from or linearised at later.

    Parameters
    ----------
    point : TrimPoint
        The point.
    path : str or Path
        A ``.json`` file: states and inputs by their names, SI, and what was asked.

    Returns
    -------
    Path
        The file.

    Raises
    ------
    DravikError
        For another ending, and where the file cannot be written.

    Examples
    --------
    >>> import dravik as dv, tempfile
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     again = dv.load_point(dv.save_point(point, f"{folder}/cruise.json"), craft)
    >>> again["throttle"] == point["throttle"], again.title
    (True, '62 m/s at 300 m')
    """
    require(point, TrimPoint, "what is saved", "dv.trim(...)")
    target = as_path(path)
    if target.suffix != ".json":
        raise DravikError(f"{target.name} is no name of a point", expected="a name that ends in .json")
    craft, asked = point.craft, point.statement
    data = {
        "format": 1,
        "version": __version__,
        "aircraft": craft.name,
        "loading": craft.loading_name,
        "title": point.title,
        "state": dict(zip(craft.state_names, point.state.tolist(), strict=True)),
        "inputs": dict(zip(craft.input_names, point.inputs.tolist(), strict=True)),
        "statement": {
            "coordinates": asked.coordinates,
            "state": asked.state.tolist(),
            "inputs": asked.inputs.tolist(),
            "free": [_finite(f._asdict()) for f in asked.free],
            "equations": [_finite(e._asdict()) for e in asked.equations],
            "is_momentary": asked.is_momentary,
        },
    }
    return write_text(target, json.dumps(data, indent=1, allow_nan=False) + "\n", what="point")


def _finite(data: dict[str, Any]) -> dict[str, Any]:
    """Return plain values; what is infinite is left out, and stands for itself when the file is read."""
    return {k: v for k, v in data.items() if not (isinstance(v, float) and math.isinf(v))}


def load_point(path: str | Path, craft: Aircraft) -> TrimPoint:
    """Return the trimmed point in a file of ``save_point``, for an aircraft with the same states and inputs.

    Whether it holds is asked anew, of the aircraft's formulas and tables as they are now: ``reached`` and the residuals
    are those of today.

    Parameters
    ----------
    path : str or Path
        A ``.json`` file.
    craft : Aircraft
        The aircraft, with the laws and the loading that it was trimmed with.

    Returns
    -------
    TrimPoint
        The point, which flies and can be linearised.

    Raises
    ------
    DravikError
        For a file that is none, another loading, and states or inputs that the aircraft does not have.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.load_point("nowhere.json", dv.sample("tarn"))
    Traceback (most recent call last):
    dravik.errors.DravikError: nowhere.json: there is no such file
    """
    require(craft, Aircraft, "the second argument", 'dv.sample("tarn")')
    source = as_path(path)
    text = read_text(source)
    try:
        data = json.loads(text)
        if data["format"] != 1:
            raise ValueError(f"its format is {data['format']!r}, not 1")
        state, inputs, loading = dict(data["state"]), dict(data["inputs"]), str(data["loading"])
        statement = _statement(str(data["title"]), data["statement"])
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise DravikError(
            f"this is no trimmed point ({error})", where=str(source), expected="a file of dv.save_point"
        ) from None
    if loading != craft.loading_name:
        raise DravikError(
            f"the point is of the loading {loading!r}, the aircraft has {craft.loading_name!r}", where=str(source),
            hint=f"craft.with_loading({loading!r})",
        )  # fmt: skip
    x, u = _in_order(state, craft.state_names, "state", source), _in_order(inputs, craft.input_names, "input", source)
    if len(statement.state) != len(coordinates_of(craft, statement.coordinates)) or len(statement.inputs) != len(u):
        raise DravikError("the statement is that of another aircraft", where=str(source))
    return _judged_today(craft, statement, x, u)


def _statement(title: str, asked: dict[str, Any]) -> Statement:
    """Return what was asked."""
    return Statement(
        title, str(asked["coordinates"]), np.array(asked["state"], dtype=float), np.array(asked["inputs"], dtype=float),
        tuple(Free(**f) for f in asked["free"]), tuple(Equation(**e) for e in asked["equations"]), True,
        bool(asked["is_momentary"]),
    )  # fmt: skip


def _judged_today(craft: Aircraft, statement: Statement, x: Floats, u: Floats) -> TrimPoint:
    """Return the point with residuals and signals of the aircraft as it is now: it may have been changed since."""
    search, field = aircraft_search(craft, statement)
    minimal = np.empty(len(x) - 1)
    craft.registers(x, u, 0.0, field.work, refusing=False)
    minimal_from_state(craft.program, field.work, x, COORDINATES[statement.coordinates][0], minimal)
    places, names = field.places, craft.input_names
    found = [minimal[places[f.name]] if f.name in places else u[names.index(f.name)] for f in statement.free]
    v = np.array(found) / np.array([f.scale for f in statement.free])
    left = field.residual(v, steady=False)
    point = report(craft, statement, search, field, v, bool(np.abs(left).max(initial=0.0) < TOLERANCE))
    # the last bit of a state is that of the file, so that a flight from it is the flight of then
    return replace(point, state=x, inputs=u, evaluations=0)


def _in_order(values: dict[str, float], names: list[str], kind: str, source: Path) -> Floats:
    """Return values in an aircraft's order; raises DravikError for a name that is missing on either side."""
    if unknown := [n for n in values if n not in names]:
        raise DravikError(
            f"the aircraft has no {kind} {unknown[0]!r}", where=str(source),
            hint=nearest(unknown[0], names) or "the same laws",
        )  # fmt: skip
    if missing := [n for n in names if n not in values]:
        raise DravikError(
            f"the file has no {kind} {missing[0]!r}", where=str(source), expected="the aircraft that was trimmed",
            hint="the same laws and loading",
        )  # fmt: skip
    try:
        found = np.array([values[n] for n in names], dtype=float)
    except (TypeError, ValueError):
        raise DravikError(f"a {kind} is no number", where=str(source)) from None
    if not np.isfinite(found).all():
        raise DravikError(f"a {kind} is not finite", where=str(source))
    return found
