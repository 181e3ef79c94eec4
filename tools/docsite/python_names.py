"""The reference of Python: a page for the package and one for each room, with every public name by its docstring."""

import importlib
import inspect
from pathlib import Path
from types import ModuleType

import dravik

PACKAGE = Path(dravik.__file__).parent
#: Rooms whose names are for Dravik itself.
INNER = {"cli", "compiled", "kernel", "motion", "host", "definition"}


def rooms() -> list[ModuleType]:
    """Return the package and its rooms with public names, in the order of their names."""
    names = [p.parent.name for p in sorted(PACKAGE.glob("*/__init__.py")) if p.parent.name not in INNER]
    found = [importlib.import_module(f"dravik.{name}") for name in names]
    return [dravik, *(m for m in found if getattr(m, "__all__", None))]


def public_names() -> dict[str, object]:
    """Return every public name, such as ``dravik.trim``, and what it is."""
    return {f"{m.__name__}.{n}": getattr(m, n) for m in rooms() for n in m.__all__ if n != "__version__"}


def _directive(name: str, thing: object) -> list[str]:
    if inspect.isclass(thing):
        return [f".. autoclass:: {name}", "   :members:", ""]
    if callable(thing):
        return [f".. autofunction:: {name}", ""]
    return [f".. py:data:: {name}", "", "   A constant of the room.", ""]


def write(folder: Path) -> None:
    """Write the pages."""
    target = folder / "python"
    target.mkdir(parents=True, exist_ok=True)
    placed = {id(thing): name for name, thing in public_names().items() if name.count(".") == 1}
    index = ["Python", "======", "", "``import dravik as dv``: every public name, by the room that it belongs to.", ""]
    index += [".. toctree::", "   :maxdepth: 1", ""]
    for room in rooms():
        short = room.__name__.removeprefix("dravik.")
        title = "dravik: the names of every day" if room is dravik else f"dravik.{short}"
        lines = [title, "=" * len(title), "", *str(inspect.getdoc(room)).splitlines(), ""]
        names = [n for n in room.__all__ if n != "__version__"]
        rows = [
            f"- :obj:`{n} <{placed.get(id(getattr(room, n)), f'{room.__name__}.{n}')}>`: {_first(getattr(room, n))}"
            for n in names
        ]
        lines += [*rows, ""]
        for name in names:
            thing = getattr(room, name)
            if room is dravik or id(thing) not in placed:
                lines += _directive(f"{room.__name__}.{name}", thing)
        (target / f"{short}.rst").write_text("\n".join(lines), encoding="utf-8")
        index.append(f"   {short}")
    (target / "index.rst").write_text("\n".join([*index, ""]), encoding="utf-8")


def _first(thing: object) -> str:
    """Return the first sentence of what a name is."""
    text = " ".join((inspect.getdoc(thing) or "").split("\n\n")[0].split())
    return text if inspect.isclass(thing) or callable(thing) else "a constant"
