"""Trims over axes: speeds, loadings, inputs, parameters; each row by continuation, rows side by side on all cores."""

import itertools
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack, cast

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.table_limits import told as told_outside
from dravik.definition import arguments
from dravik.definition.condition_keys import CONDITION_KEYS
from dravik.definition.settings import kind_of_setting
from dravik.errors import DravikError, nearest
from dravik.host.cores import in_threads
from dravik.host.files import as_path, replace_file, saved, write_text
from dravik.host.notebooks import Shown, ShownAsTable, of_records
from dravik.trimming.airspeeds import altitude_of
from dravik.trimming.condition import ConditionKeys, Quantity
from dravik.trimming.continuation import MANY, Continuation
from dravik.trimming.result import TrimPoint
from dravik.trimming.solve import condition_of, in_air
from dravik.units import KINDS, column_name, from_si, in_si, kind_of_quantity, kind_of_unit

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["TrimSweep", "trim_sweep"]

Floats = NDArray[np.float64]
PAYS = 1000  # trims from which on making machine code saves time
MOST = 1_000_000  # points of a sweep
LOADING = "loading"
MANOEUVRES = ("turn", "pull")  # keywords whose values may be of several kinds
# numbers with colons or commas between them, then one unit
_SPREAD = re.compile(r"(?P<numbers>[-+0-9.eE:,\s]*[0-9.])\s*(?P<unit>(?:[A-Za-z%°].*)?)")
#: Units of the keywords of a condition that can be an axis, by which the columns of a table are named.
_UNITS = {name: key.unit for name, key in CONDITION_KEYS.items() if key.unit is not None}


@dataclass(frozen=True, repr=False)
class TrimSweep(ShownAsTable):
    """Trims over the product of some axes: ``axes`` by name in SI (text for loadings), ``points`` in their order.

    Where a condition is not held, the point is None.
    """

    name: str
    axes: dict[str, list[Any]]
    units: dict[str, str]
    points: list[TrimPoint | None]

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each condition."""
        title = f"{self.name}: {self.held} of {len(self.points)} conditions held, over {', '.join(self.axes)}"
        return title, *of_records(self.rows())

    @property
    def shape(self) -> tuple[int, ...]:
        """Numbers of values of the axes."""
        return tuple(len(values) for values in self.axes.values())

    def values(self, signal: str) -> Floats:
        """Return a signal (SI) over the axes, nan where the condition is not held; raises DravikError for others."""
        first = next((p for p in self.points if p is not None), None)
        # asks for the name even where the first condition is not held: a wrong one is said at once
        if first is not None:
            first.craft.signal(signal)
        found = [np.nan if p is None else p.signals[signal] for p in self.points]
        return np.array(found, dtype=float).reshape(self.shape)

    @property
    def held(self) -> int:
        """How many conditions are held."""
        return sum(p is not None for p in self.points)

    def rows(self, signals: Sequence[str] = ()) -> list[dict[str, Any]]:
        """Return one record for each point: the axes, whether it is held, and signals in units shown to people.

        Where any point has left a table each record has ``outside``: which tables, in words, empty where none was left.
        """
        first = next((p for p in self.points if p is not None), None)
        craft = first.craft if first is not None else None
        names = list(signals) or ([row[0] for row in first.rows()] if first is not None else [])
        names = [n for n in names if n not in self.axes]
        found = []
        for place, point in zip(itertools.product(*self.axes.values()), self.points, strict=True):
            row: dict[str, Any] = {}
            for name, value in zip(self.axes, place, strict=True):
                unit = self.units.get(name, "")
                row[column_name(name, unit)] = value * from_si(unit)[1] if isinstance(value, float) else value
            row["held"] = point is not None
            for name in names:
                unit = craft.signal(name).unit if craft is not None else ""
                key, factor = column_name(name, unit), from_si(unit)[1]
                row[key] = None if point is None else round(point.signals[name] * factor, 12) + 0.0
            if self.table_exceedances:
                row["outside"] = "; ".join(told_outside(point.outside)) if point is not None else ""
            found.append(row)
        return found

    @property
    def table_exceedances(self) -> int:
        """How many of the points have left a table."""
        return sum(point is not None and bool(point.outside) for point in self.points)

    def save(self, path: str | Path) -> Path:
        """Write the table as CSV, or by the name's ending as Parquet; raises DravikError when it cannot be written."""
        target = as_path(path)
        if target.suffix == ".parquet":
            try:
                saved(lambda: replace_file(target, lambda file: self.table.to_parquet(file)), target, what="table")
            except ImportError:
                raise DravikError("writing Parquet needs pyarrow", hint="pip install 'dravik[parquet]'") from None
            return target
        if target.suffix != ".csv":
            raise DravikError(f"{target.name} is no name of a table", expected="a name that ends in .csv or .parquet")
        return write_text(target, self.table.to_csv(index=False), what="table")

    @cached_property
    def table(self) -> "DataFrame":
        """The rows as a DataFrame, whose columns carry units: for CSV, Parquet, and pandas."""
        import pandas as pd

        return pd.DataFrame(self.rows())


@arguments.spelled_out
def trim_sweep(
    craft: Aircraft, over: Mapping[str, str | Sequence[Quantity]], *, told: Callable[[float], None] | None = None,
    **condition: Unpack[ConditionKeys],
) -> TrimSweep:  # fmt: skip
    """Return trims over every combination of the values of some axes.

    Along the last axis each trim starts from the one before; rows are shared out to all cores. Conditions that are not
    held are gaps, not errors.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    over : mapping of str to str or sequence
        Axes by name: a keyword of ``trim``, ``"loading"``, an input or a parameter; values as a list, or as text
        ``"45:95:26 m/s"`` (from, to, how many) or ``"45, 60 m/s"``.
    told : callable, optional
        Called with the share done, from 0 to 1.
    **condition
        What all have in common, by the keywords of ``trim``.

    Returns
    -------
    TrimSweep
        The points in the shape of the axes, with a ``table``.

    Raises
    ------
    DravikError
        For unknown names and wrong values.

    Examples
    --------
    >>> import dravik as dv
    >>> found = dv.trim_sweep(dv.sample("tarn"), {"airspeed": "50:80:4 m/s"}, altitude="300 m")
    >>> found.held, found.values("throttle").shape
    (4, (4,))
    """
    craft, condition = in_air(craft, condition)
    axes = {name: _axis(craft, name, values) for name, values in arguments.mapping(over, "over").items()}
    if not axes:
        raise DravikError("the sweep has no axes", expected="axes by name, such as {'airspeed': '45:95:26 m/s'}")
    for name in axes:
        if name in condition or name in (condition.get("inputs") or {}):
            raise DravikError(f"{name} is both given and swept", expected="one of them")
    count = int(np.prod([len(values) for values, _ in axes.values()]))
    if count > MOST:
        raise DravikError(f"the sweep has {count} points", expected=f"at most {MOST}")
    # machine code takes a third of a second to make: a thousand trims win that back
    if count > PAYS:
        craft = craft.with_machine_code()
    names, last = list(axes), list(axes)[-1]
    outer = list(itertools.product(*(axes[n][0] for n in names[:-1])))
    units = {n: unit for n, (_, unit) in axes.items()}
    done = itertools.count(1)

    def row(place: tuple[Any, ...]) -> list[TrimPoint | None]:
        fixed = dict(zip(names[:-1], place, strict=True))
        found = _row(craft, fixed, (last, axes[last][0]), condition, units)
        if told is not None:
            told(next(done) / len(outer))
        return found

    # one row by itself says at once what is wrong with a condition
    rows = [row(outer[0])]
    rows += in_threads(row, outer[1:])
    return TrimSweep(
        craft.name, {n: values for n, (values, _) in axes.items()}, units, [point for part in rows for point in part]
    )


def _row(
    craft: Aircraft,
    fixed: Mapping[str, Any],
    last: tuple[str, Sequence[Any]],
    condition: ConditionKeys,
    units: Mapping[str, str],
) -> list[TrimPoint | None]:
    """Return trims along the last axis, each from the one before."""
    found: list[TrimPoint | None] = []
    chain = Continuation()
    made: dict[tuple[Any, ...], Aircraft] = {}
    for value in last[1]:
        asked, own, changes = cast("dict[str, Any]", {**condition}), dict(condition.get("inputs") or {}), {}
        for name, number in {**fixed, last[0]: value}.items():
            if name in MANOEUVRES:
                asked[name] = f"{number!r} {units[name]}"
            elif name in ConditionKeys.__annotations__:
                asked[name] = number
            elif name == LOADING or kind_of_setting(name, craft.parameters) == "parameter":
                changes[name] = number
            else:
                own[name] = number
        key = tuple(changes.items())
        if key not in made:
            made[key] = _changed(craft, changes)
        asked["inputs"] = own
        # in a stretch that is not held one start is enough to see whether it still is not
        starts = 1 if found and found[-1] is None else MANY
        found.append(chain.point(made[key], condition_of(made[key], cast("ConditionKeys", asked)), starts))
    return found


def _changed(craft: Aircraft, changes: Mapping[str, Any]) -> Aircraft:
    """Return the aircraft in another loading, and with other parameters."""
    if LOADING in changes:
        craft = craft.with_loading(changes[LOADING])
    parameters = {n: v for n, v in changes.items() if n != LOADING}
    return craft.with_parameters(parameters) if parameters else craft


def _axis(craft: Aircraft, name: str, given: str | Sequence[Quantity]) -> tuple[list[Any], str]:
    """Return an axis' values, numbers in SI or text as it stands, and their SI unit."""
    if name == LOADING:
        if isinstance(given, str):
            given = [part.strip() for part in given.split(",")]
        listed = arguments.names(given, name)
        loadings = list(craft.definition.loadings)
        for value in listed:
            if value not in loadings:
                hint = nearest(str(value), loadings)
                raise DravikError(f"there is no loading {value!r}", expected=", ".join(loadings), hint=hint)
        return listed, ""
    values = spread(given, name)
    if name in MANOEUVRES:
        kinds = {kind_of_quantity(v, where=name) for v in values}
        if len(kinds) > 1:
            raise DravikError(
                f"{name} has values of different kinds: {' and '.join(sorted(kinds))}", expected="values of one kind"
            )
        # all of one kind, or the axis could not be drawn
        kind = kinds.pop()
    elif name == "altitude":
        return [altitude_of(craft, v) for v in values], "m"
    elif name in _UNITS:
        kind = kind_of_unit(_UNITS[name])
    elif kind_of_setting(name, craft.parameters) == "parameter":
        kind = kind_of_unit(craft.configuration.parameters[name].unit)
    else:
        known = [*_UNITS, *MANOEUVRES, LOADING, *craft.parameters, *craft.inputs]
        if not {name, f"{name}_command", f"{name}_increment"} & set(craft.inputs):
            raise DravikError(
                f"nothing to sweep is called {name!r}", hint=nearest(name, known),
                expected="a keyword of trim, 'loading', an input or a parameter",
            )  # fmt: skip
        kind = kind_of_unit(craft.inputs[craft.input_names[craft.input_index(name)]].unit)
    return [in_si(v, kind, where=name) for v in values], KINDS[kind][0]


def spread(given: str | Sequence[Quantity], name: str) -> list[Any]:
    """Return the values that are listed, or spread from ``first:last:count unit``, as quantities with their unit.

    Raises DravikError for text of another form.
    """
    if not isinstance(given, str):
        if not isinstance(given, Iterable) or isinstance(given, Mapping | bytes):
            raise DravikError(
                f"{name} cannot be {arguments.shown(given)}", expected="a list of values, or text '45:95:26 m/s'"
            )
        values = [float(v) if isinstance(v, int | np.number) else v for v in given]
        if not values:
            raise DravikError(f"the axis {name} has no values", expected="a list")
        return values
    if given.lstrip().upper().startswith("FL"):
        return [part.strip() for part in given.split(",")]
    match = _SPREAD.fullmatch(given.strip())
    try:
        if match is None:
            raise ValueError
        parts, unit = match["numbers"], match["unit"]
        if ":" in parts:
            low, high, count = parts.split(":")
            if not 1 <= int(count) <= MOST:
                raise ValueError
            numbers = [float(v) for v in np.linspace(float(low), float(high), int(count))]
        else:
            numbers = [float(v) for v in parts.split(",")]
    except ValueError:
        raise DravikError(
            f"{name}={given!r} cannot be read",
            expected="'from:to:count unit' such as '45:95:26 m/s', or values: '45, 60 m/s'",
        ) from None
    return [f"{v!r} {unit}" for v in numbers] if unit else list(numbers)
