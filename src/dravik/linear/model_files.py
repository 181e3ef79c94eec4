"""Linear systems in files: JSON for programs and people, ``.npz`` for NumPy, and a tidy CSV table of the matrices."""

import json
from pathlib import Path
from typing import Any

import numpy as np

from dravik.errors import DravikError, require
from dravik.host.files import as_path, checked_file, read_text, replace_file, saved, write_text
from dravik.linear.model import LinearModel
from dravik.systems.system import LinearSystem

__all__ = ["load_system", "matrices_as_csv", "save_system"]

_LISTS = ("states", "inputs", "outputs")
_POINT = ("x0", "u0", "y0", "drift")


def save_system(system: LinearSystem, path: str | Path) -> Path:
    """Write a linear system or model to a file.

    Parameters
    ----------
    system : LinearSystem
        The system or model.
    path : str or Path
        ``.json`` and ``.npz`` keep everything but kinks; ``.csv`` is a tidy table of the matrices: matrix, row, column,
        value (SI).

    Returns
    -------
    Path
        The file.

    Raises
    ------
    DravikError
        For other endings, and where the file cannot be written.

    Examples
    --------
    >>> import dravik as dv, tempfile
    >>> slow = dv.LinearSystem.of([[-1.0]], [[1.0]], states=["x"], inputs=["u"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     dv.load_system(dv.save_system(slow, f"{folder}/slow.json")).A.tolist()
    [[-1.0]]
    """
    require(system, LinearSystem, "what is saved")
    target = as_path(path)
    if target.suffix == ".json":
        return write_text(target, json.dumps(system.as_dict(), indent=1) + "\n", what="model")
    if target.suffix == ".csv":
        return write_text(target, matrices_as_csv(system), what="model")
    if target.suffix != ".npz":
        raise DravikError(f"{target.name} is no name of a model", expected="a name that ends in .json, .npz or .csv")
    arrays: dict[str, Any] = {k: getattr(system, k) for k in "ABCD"}
    arrays |= {k: np.array(getattr(system, k), dtype=str) for k in _LISTS}
    arrays |= {k: getattr(system, k) for k in _POINT if isinstance(system, LinearModel)}
    axes = system.axes if isinstance(system, LinearModel) else ""
    about = json.dumps(
        {"title": system.title, "units": system.units, "sample_time_s": system.sample_time, "axes": axes}
    )
    arrays["about"] = np.array(about)
    saved(lambda: replace_file(target, lambda file: np.savez_compressed(file, **arrays)), target, what="model")
    return target


def load_system(path: str | Path) -> LinearSystem:
    """Return the system or model in a file of ``save_system``; kinks of a model are not kept.

    Parameters
    ----------
    path : str or Path
        A ``.json`` or ``.npz`` file.

    Returns
    -------
    LinearSystem
        The system, or the ``LinearModel`` that was saved.

    Raises
    ------
    DravikError
        For a file that is none.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.load_system("nowhere.json")
    Traceback (most recent call last):
    dravik.errors.DravikError: nowhere.json: there is no such file
    """
    source = as_path(path)
    try:
        if source.suffix == ".npz":
            with np.load(checked_file(source), allow_pickle=False) as file:
                data: dict[str, Any] = {k: file[k] for k in file.files}
            data |= json.loads(str(data.pop("about")))
        else:
            data = json.loads(read_text(source))
        if not isinstance(data, dict):
            raise TypeError("no names in it")
        names = {k: [str(n) for n in data[k]] for k in _LISTS}
        found: LinearSystem = (LinearModel if "x0" in data else LinearSystem).of(
            data["A"], data["B"], C=data["C"], D=data["D"], **names
        )
        changes: dict[str, Any] = {k: np.asarray(data[k], dtype=float) for k in _POINT if k in data}
        units = {str(n): str(u) for n, u in dict(data.get("units") or {}).items()}
        sample_time = data.get("sample_time_s")
        if isinstance(found, LinearModel):
            changes["axes"] = str(data.get("axes", ""))
        changes |= {
            "units": units,
            "title": str(data.get("title", "")),
            "sample_time": None if sample_time is None else float(sample_time),
        }
        return found.with_facts(**changes)
    except DravikError:
        raise
    except (KeyError, TypeError, ValueError, OSError, EOFError) as error:
        raise DravikError(f"this is no linear model ({error})", where=str(source)) from None


def matrices_as_csv(system: LinearSystem) -> str:
    """Return the matrices as a tidy table: matrix, row and column by their names, value (SI) with 17 digits."""
    rows = {"A": system.states, "B": system.states, "C": system.outputs, "D": system.outputs}
    columns = {"A": system.states, "B": system.inputs, "C": system.states, "D": system.inputs}
    lines = ["matrix,row,column,value"]
    for letter in "ABCD":
        matrix = getattr(system, letter)
        lines += [
            f"{letter},{row},{column},{matrix[i, j]:.17g}"
            for i, row in enumerate(rows[letter])
            for j, column in enumerate(columns[letter])
        ]
    return "\n".join(lines) + "\n"
