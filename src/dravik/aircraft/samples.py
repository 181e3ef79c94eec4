"""The sample aircraft that ship with Dravik."""

import shutil
from collections.abc import Sequence
from pathlib import Path

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.reading import load
from dravik.errors import DravikError, nearest
from dravik.host.files import exists, reason, shown

__all__ = ["copy_sample", "sample", "sample_names", "sample_path"]

_ROOT = Path(__file__).resolve().parent.parent / "samples"


def sample_names() -> list[str]:
    """Return the names of the samples.

    Returns
    -------
    list of str
    """
    return sorted(p.parent.name for p in _ROOT.glob("*/aircraft.toml"))


def sample_path(name: str = "tarn") -> Path:
    """Return the folder of a sample.

    Parameters
    ----------
    name : str, default "tarn"
        A sample's name.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        Naming the nearest, when there is none.
    """
    names = sample_names()
    if name not in names:
        raise DravikError(
            f"there is no sample {name!r}", expected="one of " + ", ".join(names), hint=nearest(name, names)
        )
    return _ROOT / name


def sample(name: str = "tarn", *, loading: str = "", laws: Sequence[str | Path] = ()) -> Aircraft:
    """Return a sample aircraft, compiled.

    Parameters
    ----------
    name : str, default "tarn"
        ``"tarn"``, ``"pika"``, ``"merle"`` or ``"hail"``.
    loading : str, optional
        Name of a loading. The file's default unless given.
    laws : sequence of str or Path, optional
        Laws to engage: names of the sample's own, such as ``"pitch_hold"``, or files.

    Returns
    -------
    Aircraft
        The aircraft.

    Raises
    ------
    DravikError
        For a sample or loading that is not there.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.sample("pika").name
    'Pika'
    """
    return load(sample_path(name) / "aircraft.toml", loading=loading, laws=laws)


def copy_sample(name: str, target: str | Path) -> Path:
    """Copy a sample's files to a new folder and return its aircraft file.

    Parameters
    ----------
    name : str
        A sample's name.
    target : str or path
        The new folder.

    Returns
    -------
    Path
        The new aircraft file.

    Raises
    ------
    DravikError
        When the folder exists and is not empty, or cannot be written.
    """
    folder = Path(target)
    source = sample_path(name)
    if exists(folder) and (not folder.is_dir() or any(folder.iterdir())):
        raise DravikError("the folder is there already and not empty", where=str(folder), hint="another name")
    try:
        shutil.copytree(source, folder, dirs_exist_ok=True)
    except (OSError, ValueError) as error:
        raise DravikError(f"the folder cannot be written ({reason(error)})", where=shown(folder)) from None
    return folder / "aircraft.toml"
