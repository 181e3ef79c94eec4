"""From a TOML file to an aircraft, with every error told by file, line, key and value."""

from collections.abc import Sequence
from pathlib import Path

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.description.schema import AircraftDefinition, LawDefinition
from dravik.definition.toml import KeyLines, read_definition
from dravik.errors import DravikError, nearest, readable
from dravik.host.files import as_path, exists, is_folder
from dravik.mass import read_parts
from dravik.propulsion import MAP_COLUMNS, SolidMotor, read_thrust_curve
from dravik.tables import Sheet, Table
from dravik.tables.entries import read_tables

__all__ = ["load", "load_law"]


def load(
    path: str | Path, *, loading: str = "", laws: Sequence[str | Path] = (), compiled: bool = True,
    root: str | Path = "",
) -> Aircraft:  # fmt: skip
    """Return the aircraft defined in a TOML file.

    Parameters
    ----------
    path : str or Path
        The file, or its folder.
    loading : str, optional
        Name of a loading. The file's default unless given.
    laws : sequence of str or Path, optional
        Laws to engage, in this order: names in the aircraft's folder ``laws``, or files.
    compiled : bool, default True
        Whether formulas are compiled now; otherwise what is wrong in them is found when it is first used.
    root : str or Path, optional
        Folder in which all files that it names must lie. Its own unless given; links are followed before that is
        judged.

    Returns
    -------
    Aircraft
        The aircraft.

    Raises
    ------
    DefinitionError
        Listing everything wrong in the file, each with its line and key.
    DravikError
        For a file that cannot be read; messages of formulas point at the character.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.aircraft import sample_path
    >>> dv.load(sample_path("merle") / "aircraft.toml").name
    'Merle'
    >>> "pitch_hold" in dv.load(sample_path("tarn"), laws=["pitch_hold"]).signals
    True
    """
    path = as_path(path)
    if is_folder(path):
        path = path / "aircraft.toml"
    definition, lines = read_definition(path, AircraftDefinition, [as_path(root)] if root else [])
    for listed in definition.parts_lists:
        more = read_parts(lines.beside(["parts_lists"], listed))
        taken = sorted(set(more) & set(definition.parts))
        if taken:
            raise DravikError(
                f"the part {taken[0]!r} stands in {listed} and here", where=lines.place(["parts", taken[0]])
            )
        definition = definition.model_copy(update={"parts": {**definition.parts, **more}})
    tables = {**read_tables(definition.tables, lines), **_engine_tables(definition, lines)}
    craft = Aircraft(definition, tables, path=path, places=lines, loading=loading, compiled=compiled and not laws)
    for law in laws:
        craft = craft.with_law(*load_law(_law_file(law, path.parent), root=root))
    return craft


def _law_file(law: str | Path, folder: Path) -> Path:
    """Return a law's file: as given, or the one of that name in the aircraft's folder of laws."""
    own = folder / "laws" / f"{str(law).removesuffix('.toml')}.toml"
    if exists(as_path(law)):
        return as_path(law)
    if exists(own):
        return own
    names = sorted(p.stem for p in own.parent.glob("*.toml"))
    raise DravikError(
        f"there is no law {str(law)!r}", where=readable(str(own.parent)),
        expected="a file" + (", or one of " + ", ".join(names) if names else ""), hint=nearest(str(law), names),
    )  # fmt: skip


def _engine_tables(definition: AircraftDefinition, lines: KeyLines) -> dict[str, Table]:
    """Return propellers' maps and motors' thrust curves; paths are relative to the file they stand in."""
    found: dict[str, Table] = {}
    for name, propeller in definition.propellers.items():
        keys = ["propellers", name, "map"]
        file = lines.beside(keys, propeller.map)
        try:
            sheet = Sheet(file)
            columns = [c for c in MAP_COLUMNS if c in sheet.names]
            over = tuple(n for n in sheet.names if n not in MAP_COLUMNS)
            for column in columns:
                found[f"{column}_{name}"] = sheet.table(
                    name=f"{column}_{name}", column=column, over=over, method="smooth"
                )
        except DravikError as error:
            raise error.at(lines.place(keys)) from None
    for name, engine in definition.engines.items():
        if isinstance(engine, SolidMotor):
            keys = ["engines", name, "thrust_curve"]
            file = lines.beside(keys, engine.thrust_curve)
            try:
                found[f"thrust_curve_{name}"] = read_thrust_curve(file, f"thrust_curve_{name}")
            except DravikError as error:
                raise error.at(lines.place(keys)) from None
    return found


def load_law(path: str | Path, *, root: str | Path = "") -> tuple[LawDefinition, dict[str, Table], KeyLines]:
    """Return the control law in a TOML file, its tables, and where its keys stand, for ``Aircraft.with_law``.

    Parameters
    ----------
    path : str or Path
        The file.
    root : str or Path, optional
        Folder in which the files that it names may lie, beside its own and that of the aircraft whose folder it lies
        in.

    Returns
    -------
    tuple of LawDefinition, dict and KeyLines
        What ``with_law`` takes: ``craft.with_law(*dv.load_law(path))``.

    Raises
    ------
    DefinitionError
        Listing everything wrong in the file, each with its line and key.
    DravikError
        For a file that cannot be read.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.aircraft import sample_path
    >>> law = dv.load_law(sample_path("tarn") / "laws" / "yaw_damper.toml")
    >>> "yaw_damper" in dv.sample("tarn").with_law(*law).signals
    True
    """
    path = as_path(path)
    # a law in a folder of an aircraft's may use the aircraft's tables
    home = path.parent.parent
    folders = [home] if exists(home / "aircraft.toml") else []
    definition, lines = read_definition(path, LawDefinition, [*folders, *([as_path(root)] if root else [])])
    return definition, read_tables(definition.tables, lines), lines
