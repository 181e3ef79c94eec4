"""A recording written while it is flown, so that what was flown is kept whatever happens to the program."""

import json
import os
import stat
import time as clock
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.host.cores import matrices_in_one_thread
from dravik.host.files import is_folder, locked, not_written, replace_file, shown, write_text
from dravik.recording.columns import as_columns
from dravik.recording.number_text import as_lines
from dravik.recording.parquet import ParquetGroups, RowStream, arrow
from dravik.recording.recording import Recording, side_path
from dravik.units import column_name, from_si

__all__ = ["RecordingWriter"]

Floats = NDArray[np.float64]
FLUSH_SECONDS = 0.5  # wall-clock time between flushes: what a killed program may lose
BLOCK = 50_000  # numbers that are flushed earlier, if the thread is free
GROUP = 500_000  # least numbers of a group of rows in a Parquet file: each group costs 11 µs for each column
SHARE = 0.25  # of what is in the file: later groups are larger, so that there are not too many for who reads them


class RecordingWriter:
    """Appends rows to a CSV file; the side file tells every half second of the clock how far the run has come.

    A thread of its own writes, block after block, while the flight goes on; what goes wrong there is raised with the
    next block.

    For a name that ends in ``.parquet`` the rows also go to ``NAME.part.arrow``, a stream of record batches, which
    gives way to the Parquet file when the run ends: Parquet cannot be read before its end is written. ``begins`` is the
    state to fly on from where a run ends before its first flush. Raises DravikError where a file cannot be written, or
    Parquet's package is missing.
    """

    def __init__(
        self, path: str | Path, names: Sequence[str], units: Mapping[str, str], metadata: Mapping[str, Any],
        begins: Mapping[str, Any],
    ) -> None:  # fmt: skip
        self.target = Path(path)
        self.path = self.target if self.target.suffix != ".parquet" else part_path(self.target)
        self.metadata = dict(metadata)
        self.columns = {column_name(n, units.get(n, "")): {"signal": n, "si_unit": units.get(n, "")} for n in names}
        self._factors = np.array([from_si(units.get(n, ""))[1] for n in names])
        self._rows: Floats = np.zeros((0, len(names)))  # all so far; the thread reads them where the flight has them
        self._flushed = self._grouped = 0  # rows that were given to the thread, for the file and for groups of Parquet
        self._begins = begins
        self._state: tuple[Mapping[str, Any], Sequence[Mapping[str, Any]]] = (begins, [])
        self._is_told = True  # the side file tells of all rows that were given to the thread
        self._at = clock.perf_counter()  # when it was told last
        self._written = 0.0
        self._stream: RowStream | None = None
        self._groups: ParquetGroups | None = None
        if is_folder(self.target):
            raise DravikError("the recording cannot be written (it is a folder)", where=shown(self.target))
        if self._is_parquet:
            arrow()  # where it is missing, that is said before anything is flown
        self._file: BinaryIO = self._try(lambda: locked(self.path))
        # beside a device there is no place for a side file
        self._has_side = stat.S_ISREG(os.fstat(self._file.fileno()).st_mode)
        self._alone = ExitStack()
        self._alone.enter_context(matrices_in_one_thread())
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="recording")
        self._job: Future[None] | None = self._thread.submit(self._begin)

    @property
    def _is_parquet(self) -> bool:
        return self.path != self.target

    def _try(self, act: Any) -> Any:
        try:
            return act()
        except DravikError:
            raise
        except (OSError, ValueError) as error:
            hint = f"rows up to {self._written:g} s are in it" if self._written else ""
            raise not_written(error, self.path, "recording", hint) from None

    def is_due(self, count: int) -> bool:
        """Whether rows, of which there are so many, should be given now."""
        return self._is_time() or self._is_block(count)

    def _is_time(self) -> bool:
        return clock.perf_counter() - self._at > FLUSH_SECONDS

    def _is_block(self, count: int) -> bool:
        """Whether there is a block of text or a group of rows for the thread, and the thread is free."""
        # text and groups take their time, so that the thread begins early; a stream for a crash alone can wait
        width = len(self.columns)
        given, least = self._flushed, float(BLOCK)
        if self._is_parquet:
            given, least = self._grouped, max(GROUP, SHARE * self._grouped * width)
        return (count - given) * width > least and (self._job is None or self._job.done())

    def write(self, rows: Floats, end: Mapping[str, Any], events: Sequence[Mapping[str, Any]]) -> None:
        """Take all rows so far (SI), which must stay as they are.

        They are flushed half a second of the clock after the last ones, or a block of text earlier. ``end`` is the
        state to fly on from after these rows, ``events`` are all so far.
        """
        self._rows, self._state, self._is_told = rows, (end, events), False
        is_block = self._is_block(len(rows))
        if is_block and self._is_parquet:
            self._give(self._group, rows[self._grouped :])
            self._grouped = len(rows)
        if self._is_time():
            self.flush()
        elif is_block and not self._is_parquet:
            self.flush(side=False)

    def flush(self, *, side: bool = True) -> None:
        """Have the rows that wait written once those before are, and with ``side`` how far the run has come."""
        rows = self._rows[self._flushed :]
        if not len(rows) and (self._is_told or not side):
            self._settle()
            return
        self._give(self._append, rows, self._state if side else None)
        self._flushed, self._is_told = len(self._rows), side
        self._at = clock.perf_counter() if side else self._at

    def _give(self, act: Callable[..., None], *what: Any) -> None:
        """Give the thread something to do, once what it does now is done."""
        self._settle()
        self._job = self._thread.submit(act, *what)

    def _settle(self) -> None:
        """Wait until the last block is written; raises what went wrong with it."""
        if self._job is not None:
            job, self._job = self._job, None
            job.result()

    # -- what the thread does -----------------------------------------------------------------------------------------

    def _begin(self) -> None:
        """Write what stands before the rows, and the state to fly on from without any."""
        names = list(self.columns)
        if self._is_parquet:
            self._try(lambda: side_path(self.path).unlink(missing_ok=True))  # that of a run before
            self._groups = self._try(lambda: ParquetGroups(self.target.with_name(self.target.name + ".part"), names))
        else:
            self._try(lambda: self._file.write((",".join(names) + "\n").encode("utf-8")))
            self._side(self._begins, [])

    def _group(self, rows: Floats) -> None:
        """Write a group of rows to the Parquet file."""
        groups = self._groups
        if groups is not None and len(rows):
            self._try(lambda: groups.write(as_columns(rows, self._factors)))

    def _append(self, rows: Floats, state: tuple[Mapping[str, Any], Sequence[Mapping[str, Any]]] | None) -> None:
        def append() -> None:
            if self._is_parquet:
                if self._stream is None:  # many flights are over before a stream is needed
                    self._side(self._begins, [])
                    self._stream = RowStream(self._file, list(self.columns))
                self._stream.write(as_columns(rows, self._factors))
                return
            self._file.write(as_lines(rows, self._factors))
            self._file.flush()

        self._try(append)
        if len(rows):
            self._written = float(rows[-1, 0])
        if state is not None:
            self._side(*state)

    def _side(self, end: Mapping[str, Any], events: Sequence[Mapping[str, Any]]) -> None:
        if not self._has_side:
            return
        side = {
            **self.metadata, "complete": False, "columns": self.columns, "events": list(events),
            "table_exceedances": [], "end": dict(end),
        }  # fmt: skip

        # write to a temporary file and rename: the old side file stays intact until then
        text = json.dumps(side) + "\n"
        place = side_path(self.path)
        self._try(lambda: replace_file(place, lambda file: file.write(text.encode("utf-8"))))

    def _save(self, rows: Floats) -> None:
        """Write the last group and the Parquet file."""
        self._group(rows)
        groups = self._groups
        assert groups is not None
        self._try(lambda: groups.save(self.target))

    # -- the end ------------------------------------------------------------------------------------------------------

    def close(self, recording: Recording) -> None:
        """End the file, with the whole side file; a Parquet file is written now."""
        try:
            if self._is_parquet:
                self._give(self._save, self._rows[self._grouped :])
            else:
                self.flush(side=False)
            side = recording.side_text()  # made while the thread writes
            self._settle()
        except BaseException:
            self.abandon()  # the rows that wait are kept where those before them are
            raise
        self._thread.shutdown()
        self._alone.close()
        self._try(self._shut)
        if self._has_side:
            write_text(side_path(self.target), side, what="recording")
        if self._is_parquet:
            for left in (self.path, side_path(self.path)):
                left.unlink(missing_ok=True)

    def abandon(self) -> None:
        """Close the file with what has been flown, when the run cannot go on."""
        # the error of writing has been raised already
        with suppress(DravikError):
            self.flush()
            self._settle()
        self._thread.shutdown()
        self._alone.close()
        with suppress(OSError):
            self._shut()
        if self._groups is not None:
            self._groups.drop()

    def _shut(self) -> None:
        (self._file if self._stream is None else self._stream).close()


def part_path(target: Path) -> Path:
    """Return where the rows of a Parquet recording stand while it is flown."""
    return target.with_name(target.name + ".part.arrow")
