"""Parquet files and streams of record batches: a recording's columns in files that other programs read fast."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.files import locked, replace_file

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
    pa.parquet.write_table(pa.table(columns), target, **PLAIN)


class RowStream:
    """A file of record batches that can be read as far as it was written."""

    def __init__(self, path: Path, names: Sequence[str]) -> None:
        self._schema = _schema(names)
        self._file = locked(path)
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
    """A Parquet file made in memory, group of rows by group, and written when it is whole: a killed run leaves none."""

    def __init__(self, names: Sequence[str]) -> None:
        pa = arrow()
        self._schema, self._whole = _schema(names), pa.BufferOutputStream()
        self._writer = pa.parquet.ParquetWriter(self._whole, self._schema, **PLAIN)

    def write(self, columns: Floats) -> None:
        """Append a group of rows, given as columns (n, k)."""
        self._writer.write_batch(_batch(columns, self._schema))

    def save(self, path: Path) -> None:
        """End the file and write it."""
        self._writer.close()
        whole = self._whole.getvalue()
        replace_file(path, lambda file: file.write(whole))


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
    pa = arrow()
    return pa.schema([(name, pa.float64()) for name in names])


def _batch(columns: Floats, schema: Any) -> Any:
    pa = arrow()
    return pa.RecordBatch.from_arrays([pa.array(c) for c in columns], schema=schema)
