"""Parts lists from CSV: one part a row, units in the header."""

from pathlib import Path

from pydantic import ValidationError

from dravik.errors import DravikError
from dravik.mass.parts import Part
from dravik.tables import Sheet

__all__ = ["read_parts"]

MOMENTS = ("Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz")


def read_parts(path: str | Path) -> dict[str, Part]:
    """Return the parts in a CSV file by name.

    Columns ``name``, ``mass``, ``x``, ``y``, ``z`` (station axes), each number with its unit in the header (``mass
    [lb]``), and optionally ``group``, and ``Ixx`` ... ``Iyz`` about each part's own centre.

    Parameters
    ----------
    path : str or path
        The CSV file.

    Returns
    -------
    mapping of str to Part

    Raises
    ------
    DravikError
        With file and line.
    """
    sheet = Sheet(path)
    names = sheet.words("name")
    numbers = {n: sheet.column(n) for n in ("mass", "x", "y", "z")}
    for column, (_, unit) in numbers.items():
        wanted = "kg" if column == "mass" else "m"
        if unit != wanted:
            text = f"the column {column!r} is in {unit or 'no unit'}"
            raise DravikError(text, where=sheet.place, expected=f"as {column} [{wanted}]")
    moments = {n: sheet.column(n)[0] for n in MOMENTS if n in sheet.names}
    groups = sheet.words("group") if "group" in sheet.names else ["empty"] * len(names)
    parts: dict[str, Part] = {}
    for i, name in enumerate(names):
        place = sheet.place_of(i)
        if name in parts:
            raise DravikError(f"the part {name!r} is there twice", where=place)
        entry: dict[str, object] = {"mass": float(numbers["mass"][0][i]), "group": groups[i]}
        entry["position"] = [float(numbers[k][0][i]) for k in "xyz"]
        if moments:
            entry |= {"shape": "tensor", "inertia": [float(moments[n][i]) if n in moments else 0.0 for n in MOMENTS]}
        try:
            parts[name] = Part.model_validate(entry)
        except ValidationError as error:
            cause = error.errors()[0].get("ctx", {}).get("error") or error.errors()[0]["msg"]
            raise DravikError(str(cause), where=f"{place}: {name}") from None
    return parts
