"""Tidy CSV tables: a header with names and units, one row for each grid point, errors with file and line."""

import csv
import io
import itertools
import math
import warnings
from collections.abc import Callable, Sequence
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, nearest
from dravik.host.files import TABLE_LIMIT, as_path, checked_file, read_text, replace_file
from dravik.tables.table import Axis, Table
from dravik.units import KINDS, from_si, kind_of_unit, split_column, to_si

__all__ = ["Sheet", "read_table", "write_columns", "write_table"]

Row = tuple[int, list[str]]


def read_table(
    path: str | Path,
    *,
    name: str = "",
    column: str = "",
    over: Sequence[str] = (),
    method: str = "linear",
    outside: str = "hold",
    along: Sequence[str] = (),
) -> Table:
    """Return the table in a tidy CSV file, converted to SI.

    The header carries names and units (``alpha [deg], flap [deg], CL``); lines that begin with ``#`` are comments. Rows
    are sorted by the first axis, then the second, and so on, and every combination occurs once.

    Parameters
    ----------
    path : str or Path
        The file.
    name : str, optional
        Name of the table. That of the file unless given.
    column : str, optional
        The column of the values. The last unless given.
    over : sequence of str, optional
        The columns of the axes. All others unless given; needed where a file has several columns of values.
    method : str, default "linear"
        ``"linear"`` or ``"smooth"``: see ``Table``.
    outside : str, default "hold"
        ``"hold"``, ``"extend"`` or ``"error"``: see ``Table``.
    along : sequence of str, optional
        Axes along which it is smooth. All unless given.

    Returns
    -------
    Table
        The table.

    Raises
    ------
    DravikError
        With file and line, for a missing file, a bad header, unit or number, unsorted or repeated rows, NaN, and a grid
        with holes (the missing points are named).

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.aircraft import sample_path
    >>> dv.read_table(sample_path("tarn") / "propulsion" / "thrust.csv").axes[0].name != ""
    True
    """
    return Sheet(path).table(name=name, column=column, over=over, method=method, outside=outside, along=along)


class Sheet:
    """A tidy CSV file, read once for any number of its columns; errors as for ``read_table``.

    A sheet of plain numbers is read in one go. Where that fails a careful reader goes through it line by line, to say
    what is wrong and where, or to find the words in it.
    """

    def __init__(self, path: str | Path) -> None:
        self.place = str(as_path(path))
        self._path = checked_file(path, what="table file", limit=TABLE_LIMIT)
        head = _header(self._path, self.place)
        self._line = f"{self.place}:{head[0]}"
        self._header = [split_column(cell, where=self._line) for cell in head[1]]
        self.names = [n for n, _ in self._header]
        repeated = {n for n in self.names if self.names.count(n) > 1}
        if repeated:
            raise DravikError(f"column {sorted(repeated)[0]!r} occurs twice", where=self._line)
        self._matrix = _fast(self._path, head[0], len(self.names))
        self._columns: dict[str, tuple[NDArray[np.float64], str]] = {}
        self._grids: dict[tuple[str, ...], tuple[Axis, ...]] = {}
        if self._matrix is None and not self._rows:
            raise DravikError(
                "the file has no data rows", where=self.place, expected="a header line and one row for each grid point"
            )

    @cached_property
    def _rows(self) -> list[Row]:
        """The rows with their lines, read with care."""
        return _rows(read_text(self._path, what="table file", limit=TABLE_LIMIT), self.place)[1:]

    def table(
        self, *, name: str = "", column: str = "", over: Sequence[str] = (), method: str = "linear",
        outside: str = "hold", along: Sequence[str] = (),
    ) -> Table:  # fmt: skip
        """Return one column over its axes as a table."""
        column = column or self.names[-1]
        axis_names = list(over) or [n for n in self.names if n != column]
        values, unit = self.column(column)
        axes = self._axes(tuple(axis_names))
        shaped = values.reshape([len(a.values) for a in axes]).copy()
        try:
            return Table(name or column, axes, shaped, unit, method, outside, source=self.place, along=tuple(along))
        except DravikError as error:
            raise error.at(self.place) from None

    def _axes(self, names: tuple[str, ...]) -> tuple[Axis, ...]:
        """Return the axes of a grid over these columns, found once for all tables on it."""
        if not names:
            raise DravikError(
                "there is no axis", where=self._line, expected="a column for each axis, before that of the values"
            )
        if names not in self._grids:
            read = [self.column(n) for n in names]
            units = [unit for _, unit in read]
            points = np.stack([values for values, _ in read], axis=1)
            grid = _grid(points, list(names), self.place_of, units, self.place)
            self._grids[names] = tuple(Axis(n, g, u) for n, g, u in zip(names, grid, units, strict=True))
        return self._grids[names]

    def __len__(self) -> int:
        return len(self._rows) if self._matrix is None else len(self._matrix)

    def place_of(self, row: int) -> str:
        """Return file and line of a row, counted from 0."""
        return f"{self.place}:{self._rows[row][0]}"

    def column(self, name: str) -> tuple[NDArray[np.float64], str]:
        """Return a column's numbers in SI and their SI unit."""
        if name not in self._columns:
            numbers, unit = self.as_written(name)
            kind, scale, offset = _conversion((name, unit), self._line)
            self._columns[name] = numbers * scale + offset, KINDS[kind][0]
        return self._columns[name]

    def words(self, name: str) -> list[str]:
        """Return a column of text."""
        if name not in self.names:
            known = "one of " + ", ".join(self.names)
            raise DravikError(f"there is no column {name!r}", where=self._line, expected=known)
        i = self.names.index(name)
        return [row[i].strip() if i < len(row) else "" for _, row in self._rows]

    def as_written(self, name: str) -> tuple[NDArray[np.float64], str]:
        """Return a column's numbers as they stand there, and the unit in the header if it has one."""
        if name not in self.names:
            raise DravikError(
                f"there is no column {name!r}", where=self._line, expected="one of " + ", ".join(self.names),
                hint=nearest(name, self.names),
            )  # fmt: skip
        i = self.names.index(name)
        if self._matrix is not None:
            return self._matrix[:, i].copy(), self._header[i][1]
        return _numbers(self._rows, i, name, len(self.names), self.place), self._header[i][1]


def _header(path: Path, place: str) -> Row:
    """Return the header's line number and cells: the first line that is no comment."""
    try:
        with path.open(encoding="utf-8-sig") as file:
            for number, line in enumerate(file, start=1):
                cells = _rows(line, place) if line.strip() and not line.lstrip().startswith("#") else []
                if cells:
                    return number, cells[0][1]
    except (OSError, UnicodeDecodeError):
        read_text(path, what="table file", limit=TABLE_LIMIT)  # raises the error in words
    raise DravikError(
        "the file has no data rows", where=place, expected="a header line and one row for each grid point"
    )


def _fast(path: Path, header: int, width: int) -> NDArray[np.float64] | None:
    """Return the numbers of a sheet below its header's line; None where they are not all plain finite numbers."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # an empty file is reported by the row-by-row reader below
            found = np.loadtxt(path, delimiter=",", comments="#", ndmin=2, skiprows=header, encoding="utf-8-sig")
    except (ValueError, IndexError, OverflowError, OSError):
        return None
    return found if found.shape[1] == width and len(found) and np.all(np.isfinite(found)) else None


def _rows(text: str, place: str) -> list[Row]:
    lines = [line if not line.lstrip().startswith("#") else "" for line in text.splitlines()]
    reader = csv.reader(io.StringIO("\n".join(lines)), skipinitialspace=True)
    try:
        return [(reader.line_num, row) for row in reader if row and (row[0].strip() or any(c.strip() for c in row))]
    except csv.Error as error:
        raise DravikError(f"this is no CSV file ({error})", where=f"{place}:{reader.line_num}") from None


def _conversion(column: tuple[str, str], place: str) -> tuple[str, float, float]:
    name, unit = column
    try:
        kind = kind_of_unit(unit)
        return kind, *to_si(unit, kind)
    except DravikError as error:
        raise error.at(f"{place}: column {name}") from None


def _numbers(rows: list[Row], column: int, name: str, width: int, place: str) -> NDArray[np.float64]:
    numbers = np.empty(len(rows))
    for i, (line, cells) in enumerate(rows):
        if len(cells) != width:
            raise DravikError(
                f"the row has {len(cells)} cells", where=f"{place}:{line}", expected=f"{width} as in the header"
            )
        try:
            # Python reads 1_0 as ten; in a file of numbers it is a slip
            numbers[i] = float(cells[column]) if "_" not in cells[column] else math.nan
        except ValueError:
            numbers[i] = math.nan
    bad = np.flatnonzero(~np.isfinite(numbers))
    if bad.size:
        line, cells = rows[int(bad[0])]
        raise DravikError(f"{name} is {cells[column].strip()!r}", where=f"{place}:{line}", expected="a finite number")
    return numbers


def _grid(
    points: NDArray[np.float64], names: list[str], place_of: Callable[[int], str], units: list[str], place: str
) -> list[NDArray[np.float64]]:
    """Return the axes of a full grid; the rows must be sorted, unique and complete."""

    def show(key: Sequence[float]) -> str:
        parts = zip(names, key, units, strict=False)
        return ", ".join(f"{n} = {x * from_si(u)[1]:g} {from_si(u)[0]}".strip() for n, x, u in parts)

    # rows are in order when the first column that differs from the row before has increased
    change = np.diff(points, axis=0)
    differs = change != 0.0
    first = np.argmax(differs, axis=1)
    rise = change[np.arange(len(change)), first]
    bad = np.flatnonzero(~(rise > 0.0))
    if bad.size:
        row = int(bad[0]) + 1
        if not differs[row - 1].any():
            raise DravikError(f"the point {show(points[row])} is repeated", where=place_of(row))
        raise DravikError(
            f"the point {show(points[row])} is not in rising order", where=place_of(row),
            expected="rows sorted by " + ", then ".join(names),
        )  # fmt: skip
    grid = [np.unique(points[:, k]) for k in range(len(names))]
    full = math.prod(len(g) for g in grid)
    if full != len(points):
        present = {tuple(row) for row in points.tolist()}
        missing = list(itertools.islice((k for k in itertools.product(*grid) if k not in present), 4))
        shown = "; ".join(show(k) for k in missing[:3]) + ("; ..." if len(missing) > 3 else "")
        raise DravikError(
            f"the grid has holes: {full - len(points)} of {full} points are missing: {shown}",
            where=place,
            expected="a row for every combination of the axes' values",
        )
    return grid


def write_table(table: Table, path: str | Path) -> None:
    """Write a table as tidy CSV with units in the header, angles in degrees; it reads back the same.

    Parameters
    ----------
    table : Table
        The table.
    path : str or Path
        The file.

    Raises
    ------
    DravikError
        Where the file cannot be written.

    Examples
    --------
    >>> import os
    >>> import tempfile
    >>> import numpy as np
    >>> import dravik as dv
    >>> from dravik.tables import Axis
    >>> lift = dv.Table("CL", (Axis("alpha", np.array([0.0, 0.1]), "rad"),), np.array([0.2, 0.7]))
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "lift.csv")
    ...     dv.write_table(lift, path)
    ...     dv.read_table(path).values.tolist()
    [0.2, 0.7]
    """
    write_columns([table], path)


def write_columns(tables: Sequence[Table], path: str | Path, *, note: str = "") -> None:
    """Write tables over the same axes as the columns of one tidy CSV file, with a comment ahead if ``note`` is given.

    Parameters
    ----------
    tables : sequence of Table
        The tables.
    path : str or path
        The CSV file to write.
    note : str, default ""
        A comment at the head of the file.

    Raises
    ------
    DravikError
        For tables over different axes.
    """
    first = tables[0]
    for table in tables[1:]:
        same = [a.name for a in table.axes] == [a.name for a in first.axes] and table.values.shape == first.values.shape
        if not same or any(np.any(a.values != b.values) for a, b in zip(table.axes, first.axes, strict=True)):
            raise DravikError(f"{table.name} and {first.name} are not over the same axes", where=str(path))
    axes = [(a.name, *from_si(a.unit)[:2]) for a in first.axes]
    values = [(t.name, *from_si(t.unit)[:2]) for t in tables]
    file = io.StringIO()
    if note:
        file.write(f"# {note}\n")
    writer = csv.writer(file, lineterminator="\n")
    writer.writerow([f"{n} [{u}]" if u else n for n, u, _ in [*axes, *values]])
    grids = [a.values * f for a, (_, _, f) in zip(first.axes, axes, strict=True)]
    columns = [t.values.ravel() * f for t, (_, _, f) in zip(tables, values, strict=True)]
    for point, *row in zip(itertools.product(*grids), *columns, strict=True):
        # deg -> rad -> deg changes the last digits: 13 significant digits give back the number that was written
        writer.writerow([f"{x:.12g}" for x in point] + [f"{x:.15g}" for x in row])
    replace_file(path, lambda target: target.write(file.getvalue().encode("utf-8")))
