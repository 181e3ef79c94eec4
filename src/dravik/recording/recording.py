"""A recording: signals over time with units, events, and metadata of their origin."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, nearest
from dravik.host.files import (
    TABLE_LIMIT,
    as_path,
    checked_file,
    exists,
    is_device,
    is_folder,
    read_text,
    replace_file,
    saved,
    shown,
    write_text,
)
from dravik.host.notebooks import Shown, ShownAsTable
from dravik.recording.closest import closest_approach, closest_pass
from dravik.recording.columns import as_columns
from dravik.recording.number_text import as_lines
from dravik.recording.parquet import arrow, read_stream, write_parquet
from dravik.units import column_name, from_si, in_si

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Event", "Recording", "read_recording"]

Floats = NDArray[np.float64]
BLOCK = 4096  # rows that are written at once
MOST_NUMBERS = 1e9  # most numbers in a resampled recording
STILL = 0.15  # of the highest airspeed: below it alpha and beta are left out of summaries, being dominated by gusts
_TURNING = ("psi", "track", "phi", "longitude")  # angles that wrap at half a turn


@dataclass(frozen=True)
class Event:
    """Something that happened: the time in s, and what."""

    time: float
    text: str


@dataclass(frozen=True, repr=False)
class Recording(ShownAsTable):
    """Signals over time, with events and where they come from.

    Attributes
    ----------
    names : list of str
        The signals; the first is ``time``.
    units : dict of str to str
        SI units by signal.
    values : array, shape (times, signals)
        The rows, SI. ``run["alpha"]`` is one signal, ``run.frame`` a data frame in everyday units.
    events : list of Event
        What happened, with its time (s).
    metadata : dict
        Versions, hashes, step, seed and all that it was flown with.
    outside : list of tuple
        Tables that were left: table, axis, recorded steps outside, lowest and highest argument.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> run = dv.fly(craft, start=dv.trim(craft, airspeed=62, altitude=300), duration=1, record=["alpha"])
    >>> list(run.frame.columns), len(run["alpha"])
    (['time_s', 'alpha_deg'], 101)
    """

    names: list[str]
    units: dict[str, str]
    values: Floats
    events: list[Event] = field(default_factory=list)
    metadata: dict[str, Any] = field(default_factory=dict)
    outside: list[tuple[str, str, int, float, float]] = field(default_factory=list)

    def summary_table(self) -> Shown:
        """Return what a notebook shows: start, lowest, highest and end of each signal, in units shown to people."""
        last = float(self.time[-1]) if len(self.time) else 0.0
        title = f"{len(self.values)} rows, {last:g} s, {len(self.names)} signals, {len(self.events)} events"
        rows: list[tuple[object, ...]] = []
        for name in self.names[1:] if len(self.values) else ():
            values, unit = self.shown(name)
            values = np.round(values, 9) + 0.0  # + 0.0 turns -0.0 into 0.0
            rows.append((name, values[0], values.min(), values.max(), values[-1], unit))
        return title, ("signal", "start", "lowest", "highest", "end", "unit"), rows

    @property
    def time(self) -> Floats:
        """The times, s."""
        return self["time"]

    def __getitem__(self, name: str) -> Floats:
        """Return a signal's values in SI; raises DravikError, naming the nearest, when it was not recorded."""
        if name not in self.names:
            raise DravikError(f"the recording has no signal {name!r}", hint=nearest(name, self.names))
        return self.values[:, self.names.index(name)]

    def __contains__(self, name: object) -> bool:
        return name in self.names

    def flowing(self, name: str) -> Floats:
        """Return a signal's values, SI; of the angles to the air only those while it hardly stands.

        Below a seventh of the highest airspeed alpha and beta are those of gusts about an aircraft at rest. All values
        where no other is left.
        """
        values = self[name]
        if name not in ("alpha", "beta") or "airspeed" not in self.names or not len(values):
            return values
        flows = self["airspeed"] > STILL * float(self["airspeed"].max())
        return values[flows] if np.any(flows) else values

    @property
    def flown(self) -> float:
        """The time flown, s."""
        return float(self.time[-1] - self.time[0]) if len(self.values) else 0.0

    @property
    def ended_by(self) -> str:
        """The event that ended the run before its time, in words; empty for a run that came to its end."""
        return str((self.metadata.get("ended_by") or {}).get("event", ""))

    @property
    def is_broken_off(self) -> bool:
        """Whether something ended the run that nobody asked for.

        The ground or a crash; an event with ``stop`` is asked for.
        """
        return bool(self.ended_by) and not self.metadata["ended_by"].get("planned", False)

    def shown(self, name: str) -> tuple[Floats, str]:
        """Return a signal in the unit shown to people, and that unit."""
        unit, factor, _ = from_si(self.units.get(name, ""))
        return self[name] * factor, unit

    def _named(self, signals: Sequence[str] | None) -> list[str]:
        """Return the signals of a file, all unless named: the time first."""
        return list(dict.fromkeys(["time", *(signals or self.names)]))

    def _columns(self, signals: Sequence[str] | None) -> dict[str, Floats]:
        names = self._named(signals)
        if signals is None:
            # all at once: turned round in one go they are read from memory once
            factors = np.array([from_si(self.units.get(n, ""))[1] for n in self.names])
            values = dict(zip(self.names, as_columns(self.values, factors), strict=True))
            return {column_name(n, self.units.get(n, "")): values[n] for n in names}
        return {column_name(n, self.units.get(n, "")): self.shown(n)[0] for n in names}

    @property
    def frame(self) -> "DataFrame":
        """The recording as a DataFrame whose columns carry units: ``alpha_deg``, ``altitude_m``."""
        import pandas as pd

        return pd.DataFrame(self._columns(None))

    def save(self, path: str | Path, *, signals: Sequence[str] | None = None) -> Path:
        """Write CSV, or by the name's ending ``.parquet``, ``.npz`` (NumPy) or ``.h5`` (HDF5), and a side file
        ``.json`` with units and origin.

        Raises DravikError when a signal was not recorded, the file cannot be written, or Parquet's package is missing.
        """
        target = Path(path)
        writers = {".parquet": write_parquet, ".npz": _write_npz, ".h5": _write_hdf5}
        if target.suffix in writers:
            write = writers[target.suffix]
            columns = self._columns(signals)
            saved(lambda: replace_file(target, lambda file: write(columns, file)), target, what="recording")
        else:
            names = self._named(signals)
            rows = self.values if names == self.names else np.column_stack([self[n] for n in names])
            factors = np.array([from_si(self.units.get(n, ""))[1] for n in names])
            header = ",".join(column_name(n, self.units.get(n, "")) for n in names) + "\n"

            def lines(file: BinaryIO) -> None:
                file.write(header.encode("utf-8"))
                for k in range(0, len(rows), BLOCK):
                    file.write(as_lines(rows[k : k + BLOCK], factors))

            saved(lambda: replace_file(target, lines), target, what="recording")
        if not is_device(target):
            write_text(side_path(target), self.side_text(signals), what="recording")
        return target

    def side_text(self, signals: Sequence[str] | None = None) -> str:
        """Return the side file's text: where the recording comes from, its columns, events, and tables left."""
        columns = {
            column_name(n, self.units.get(n, "")): {"signal": n, "si_unit": self.units.get(n, "")}
            for n in self._named(signals)
        }
        side = {
            **self.metadata,
            "columns": columns,
            "events": event_rows(self.events),
            "table_exceedances": self._exceedances(),
        }
        # a line for each item: json's own indents take five times as long
        return json.dumps(side, separators=(",\n ", ": ")) + "\n"

    def _exceedances(self) -> list[dict[str, Any]]:
        keys = ("table", "axis", "steps", "lowest", "highest")
        return [dict(zip(keys, left, strict=True)) for left in self.outside]

    def resampled(self, rate: str | float) -> "Recording":
        """Return the recording at a fixed rate (Hz), straight between its rows; angles go the short way round,
        and switches and counts keep their last value.

        Raises DravikError for a rate that is none, or a recording of less than two rows.
        """
        hertz = in_si(rate, "frequency", where="rate") if isinstance(rate, str) else float(rate)
        if not (hertz > 0.0 and len(self.time) > 1):
            raise DravikError(
                f"{len(self.time)} rows cannot be resampled at {rate!r}", expected="a rate above zero, and rows"
            )
        time = self.time
        rows = float((time[-1] - time[0]) * hertz)
        if not rows * len(self.names) < MOST_NUMBERS:
            raise DravikError(
                f"at {rate!r} there would be {rows:.3g} rows of {len(self.names)} signals", expected="a lower rate"
            )
        count = int(np.floor(rows + 1e-9)) + 1
        wanted = time[0] + np.arange(count) / hertz
        columns = []
        for name in self.names:
            values = self[name]
            turning = self.units.get(name) == "rad" and name in _TURNING
            if np.array_equal(values, np.round(values)):
                # switches and counters are not interpolated: the last value holds
                columns.append(values[np.searchsorted(time, wanted + 1e-12, side="right") - 1])
                continue
            kept = np.interp(wanted, time, np.unwrap(values) if turning else values)
            columns.append((kept + np.pi) % (2.0 * np.pi) - np.pi if turning else kept)
        return replace(self, values=np.column_stack(columns))

    def summary(self) -> dict[str, Any]:
        """Return the run in a few figures: time flown, what ended it, rows, signals, events, tables left."""
        return {
            "duration_s": self.flown,
            "asked_s": self.metadata.get("asked_s"),
            "ended_by": self.ended_by or None,
            "rows": len(self.values),
            "signals": len(self.names),
            "events": event_rows(self.events),
            "table_exceedances": self._exceedances(),
            **({"closest": self.closest()} if self.closest() else {}),
        }

    def closest(self) -> dict[str, Any]:
        """Return how near a flight with an aim came to it; empty for one without.

        ``miss_m`` at ``time_s``, and whether that is within what counts as met, where the flight says so.
        """
        if "aim_distance" not in self.names or not len(self.values):
            return {}
        miss, when = self._passed() or closest_pass(self.time, self["aim_distance"])
        found: dict[str, Any] = {"miss_m": miss, "time_s": when}
        aim = self.metadata.get("aim")
        if isinstance(aim, dict) and "miss" in aim:
            found |= {"within_m": float(aim["miss"]), "met": bool(found["miss_m"] <= float(aim["miss"]))}
        return found

    def _passed(self) -> tuple[float, float] | None:
        """Return the miss and its time by the recorded places, where these and the point are known.

        None where the point has moved since, and where a law reads the distance as something else.
        """
        start = self.metadata.get("start_inputs") or {}
        aims, places = ("aim_north", "aim_east", "aim_altitude"), ("north", "east", "altitude")
        if not {*aims} <= set(start) or not {*places} <= set(self.names) or len(self.values) < 2:
            return None
        offsets = np.stack([self[n] for n in places], axis=1) - np.array([float(start[n]) for n in aims])
        # a law's distance is that of its last sample: it lags by as much as was flown since
        longest = float(np.linalg.norm(np.diff(offsets, axis=0), axis=1).max())
        off = np.abs(np.linalg.norm(offsets[[0, -1]], axis=1) - self["aim_distance"][[0, -1]])
        return closest_approach(self.time, offsets) if bool(np.all(off <= 3.0 * longest + 1e-6)) else None

    def height_at(self, event: Event) -> str:
        """Return the altitude at an event in words; nothing where it was not recorded."""
        if "altitude" not in self.names or not len(self.time):
            return ""
        return f"{float(np.interp(event.time, self.time, self['altitude'])):.0f} m"


def event_rows(events: Sequence[Event]) -> list[dict[str, Any]]:
    """Return events as they stand in files."""
    return [{"time_s": e.time, "event": e.text} for e in events]


def _write_npz(columns: dict[str, Floats], target: BinaryIO) -> None:
    np.savez_compressed(target, **columns)  # type: ignore[arg-type]


def _write_hdf5(columns: dict[str, Floats], target: BinaryIO) -> None:
    try:
        import h5py
    except ImportError:
        raise DravikError("HDF5 needs the package h5py", hint="pip install 'dravik[hdf5]', or a .npz name") from None
    with h5py.File(target, "w") as file:
        for name, values in columns.items():
            file.create_dataset(name, data=values, compression="gzip")


def side_path(path: Path) -> Path:
    """Return the side file of a recording."""
    return path.with_name(path.name + ".json")


def read_recording(path: str | Path) -> Recording:
    """Return a recording written by ``Recording.save`` or while it was flown.

    Parameters
    ----------
    path : str or Path
        The ``.csv``, ``.parquet``, ``.npz`` or ``.h5`` file; its side file beside it is read too.

    Returns
    -------
    Recording
        The recording, SI.

    Raises
    ------
    DravikError
        For a file that is none.

    Examples
    --------
    >>> import os
    >>> import tempfile
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "run.csv")
    ...     run = dv.fly(craft, start=dv.trim(craft, airspeed=62, altitude=300), duration=1, save=path)
    ...     dv.read_recording(path).flown
    1.0
    """
    source = as_path(path)
    if not source.name or is_folder(source):
        raise DravikError("a folder is no recording", where=shown(source))
    if not (exists(source) and exists(side_path(source))):
        part = source.with_name(source.name + ".part.arrow")
        if exists(part):
            raise DravikError("the run did not come to its end", where=shown(source), hint=f"its rows in {part}")
        gone = source if not exists(source) else side_path(source)
        raise DravikError("there is no such recording, or its .json side file is gone", where=shown(gone))
    checked_file(source, what="recording", limit=TABLE_LIMIT)
    try:
        side = json.loads(read_text(side_path(source), what="side file", limit=TABLE_LIMIT))
        if source.suffix == ".parquet":
            table = arrow().parquet.read_table(source)
            columns = {n: np.asarray(table[n], dtype=float) for n in table.column_names}
        elif source.suffix == ".arrow":
            columns = read_stream(source)
        elif source.suffix == ".npz":
            with np.load(source, allow_pickle=False) as arrays:
                columns = {n: np.asarray(arrays[n], dtype=float) for n in arrays.files}
        else:
            with source.open(encoding="utf-8") as file:
                header = file.readline().strip().split(",")
                # a run that was killed may leave half a line behind
                lines = [line for line in file if line.endswith("\n")]
            matrix = np.loadtxt(lines, delimiter=",", ndmin=2) if lines else np.empty((0, len(header)))
            columns = {n: matrix[:, i] for i, n in enumerate(header)}
        known = {c: (v["signal"], v["si_unit"]) for c, v in side.pop("columns").items()}
        names = [known[c][0] for c in columns]
        units = {known[c][0]: known[c][1] for c in columns}
        values = np.column_stack([columns[c] / from_si(known[c][1])[1] for c in columns])
        events = [Event(float(e["time_s"]), str(e["event"])) for e in side.pop("events")]
        left = [(e["table"], e["axis"], e["steps"], e["lowest"], e["highest"]) for e in side.pop("table_exceedances")]
    except DravikError:
        raise
    except (OSError, KeyError, TypeError, ValueError, AttributeError, IndexError, RecursionError) as error:
        raise DravikError(f"this is no recording of a flight ({str(error)[:120]})", where=shown(source)) from None
    return Recording(names, units, values, events, side, left)
