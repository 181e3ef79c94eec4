"""Parquet files and streams of record batches: a recording's columns in files that other programs read fast."""

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError

__all__ = ["ParquetGroups", "RowStream", "arrow", "read_stream", "write_parquet"]

Floats = NDArray[np.float64]
# without dictionaries of equal values, which columns of measured numbers hardly have: a tenth of the time
PLAIN = {"use_dictionary": False, "write_statistics": ["time_s"]}


def arrow() -> Any:
    """Return the package that writes Parquet; raises DravikError where it is not installed."""
    try:
        import pyarrow as pa
        import pyarrow.ipc
        import pyarrow.parquet
    except ImportError:
        raise DravikError(
            "Parquet needs the package pyarrow", hint="pip install 'dravik[parquet]', or a .csv name"
        ) from None
    return pa


def write_parquet(columns: dict[str, Floats], target: BinaryIO) -> None:
    """Write columns as a Parquet file."""
    pa = arrow()
    pa.parquet.write_table(pa.table(list(columns.values()), schema=_schema(list(columns))), target, **PLAIN)


class RowStream:
    """An open file of record batches that can be read as far as it was written."""

    def __init__(self, file: BinaryIO, names: Sequence[str]) -> None:
        self._schema, self._file = _schema(names), file
        self._writer = arrow().ipc.new_stream(self._file, self._schema)

    def write(self, columns: Floats) -> None:
        """Append rows, given as columns (n, k), and flush."""
        self._writer.write_batch(_batch(columns, self._schema))
        self._file.flush()

    def close(self) -> None:
        """End the stream; once is enough."""
        if not self._file.closed:
            self._writer.close()
            self._file.close()


class ParquetGroups:
    """A Parquet file that grows group by group of rows beside its target, and takes its name when it is whole."""

    def __init__(self, path: Path, names: Sequence[str]) -> None:
        pa = arrow()
        self._path, self._schema = path, _schema(names)
        self._file = pa.OSFile(str(path), "wb")
        self._writer = pa.parquet.ParquetWriter(self._file, self._schema, **PLAIN)

    def write(self, columns: Floats) -> None:
        """Append a group of rows, given as columns (n, k)."""
        self._writer.write_batch(_batch(columns, self._schema))

    def save(self, target: Path) -> None:
        """End the file and put it in its place."""
        self._writer.close()
        self._file.close()
        self._path.replace(target)

    def drop(self) -> None:
        """Remove what was written, unless it has its place."""
        with suppress(OSError):
            self._writer.close()
        with suppress(OSError):
            self._file.close()
            self._path.unlink(missing_ok=True)


def read_stream(source: Path) -> dict[str, Floats]:
    """Return the columns of a stream as far as it was written."""
    pa = arrow()
    batches = []
    with source.open("rb") as file:
        reader = pa.ipc.open_stream(file)
        names = reader.schema.names
        while True:
            try:
                batches.append(reader.read_next_batch())
            except (StopIteration, pa.ArrowInvalid, OSError):
                break  # the end, or where the program was stopped
    return {n: np.concatenate([np.zeros(0), *(np.asarray(b[i]) for b in batches)]) for i, n in enumerate(names)}


def _schema(names: Sequence[str]) -> Any:
    # no row lacks a value: to say so saves two fifths of the time, in which a mask of them would be written
    pa = arrow()
    return pa.schema([pa.field(name, pa.float64(), nullable=False) for name in names])


def _batch(columns: Floats, schema: Any) -> Any:
    """Return columns (n, k) as a batch that shares their memory."""
    pa = arrow()
    n, k = columns.shape
    whole = pa.Array.from_buffers(pa.float64(), columns.size, [None, pa.py_buffer(columns)], 0)
    return pa.RecordBatch.from_arrays([whole.slice(k * i, k) for i in range(n)], schema=schema)
