"""A set of aerodynamic tables with formulas, as a folder: CSV files, ``aero.toml``, ``provenance.json``."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from dravik.aero.drawing.geometry import Reference
from dravik.errors import DravikError
from dravik.host.files import write_text
from dravik.tables import Table, write_columns

__all__ = ["Formula", "TableSet", "angles_at_point"]


@dataclass(frozen=True)
class Formula:
    """A formula and what it means."""

    text: str
    description: str = ""
    unit: str = ""


def angles_at_point(reference: Reference) -> dict[str, Formula]:
    """Return formulas of the air's angles at the moment point, where the tables' rates turn.

    The signals alpha and beta are those at the centre of gravity; what turns moves the moment point, and with it the
    flow there: without this, damping would depend on where the moment point was put. To first order in the angles.
    """
    x, _, z = (f"{v:.10g}" for v in reference.moment_point)
    return {
        "alpha_point": Formula(
            f"alpha + 2/reference_chord*({x} - cg_x)*q_hat", "angle of attack at the moment point", "rad"
        ),
        "beta_point": Formula(
            f"beta + 2/reference_span*(({z} - cg_z)*p_hat - ({x} - cg_x)*r_hat)", "sideslip at the moment point", "rad"
        ),
    }


@dataclass(frozen=True)
class TableSet:
    """Tables by file and column, formulas by name, and where it all comes from.

    A column ``CL`` of the file ``flap`` is the table ``CL_flap`` in the formulas; columns with an underscore keep their
    name. Columns that tell how sure the others are (``CL_interval``, ``points``) stand in the files alone. ``axes`` and
    ``moment_axes`` are those of an aircraft's ``[aero]``.
    """

    name: str
    reference: Reference
    files: dict[str, list[Table]]
    formulas: dict[str, Formula]
    provenance: dict[str, Any]
    axes: str = "stability"
    moment_axes: str = "body"

    def table_name(self, file: str, column: str) -> str:
        """Return the name by which formulas call a column of a file."""
        if "_" in column:
            return column
        # a hinge moment is a formula of its own name
        return f"Ch_{file}_table" if column == "Ch" else f"{column}_{file}"

    @property
    def tables(self) -> dict[str, Table]:
        """Every table by the name the formulas call it."""
        return {self.table_name(f, t.name): t for f, tables in self.files.items() for t in tables if not beside(t)}

    def write(self, folder: str | Path) -> list[Path]:
        """Write the set into a folder and return its files; raises DravikError when that cannot be done."""
        target = Path(folder)
        try:
            target.mkdir(parents=True, exist_ok=True)
            written = []
            for file, tables in self.files.items():
                path = target / f"{file}.csv"
                write_columns(
                    tables, path, note=f"{self.name}: {file}, from {self.provenance.get('source', 'the drawing')}"
                )
                written.append(path)
            for name, text in (
                ("aero.toml", self._toml()),
                ("provenance.json", json.dumps(self.provenance, indent=1) + "\n"),
            ):
                written.append(write_text(target / name, text, what="tables"))
        except OSError as error:
            raise DravikError(f"the tables cannot be written ({error.strerror})", where=str(folder)) from None
        return written

    def _toml(self) -> str:
        """Return the part of an aircraft file that calls the tables; an aircraft takes it in by ``include``."""
        points = ", ".join(f'"{x:.10g} m"' for x in self.reference.moment_point)
        lines = [
            f"# {self.name}: built by Dravik, {self._origin()}.",
            '# An aircraft file takes this in with: include = ["aero/aero.toml"]. Build it anew rather than edit it.',
            "",
            "[reference]",
            *(
                f'{n} = "{getattr(self.reference, n):.10g} {u}"'
                for n, u in (("area", "m^2"), ("chord", "m"), ("span", "m"))
            ),
            f"moment_point = [{points}]   # station axes",
            "",
            "[tables]",
        ]
        for file, tables in self.files.items():
            for table in (t for t in tables if not beside(t)):
                over = ", ".join(f'"{a.name}"' for a in table.axes)
                entry = f'file = "{file}.csv", column = "{table.name}", over = [{over}]'
                if table.is_smooth:
                    along = "" if not table.along else f", along = {json.dumps(list(table.along))}"
                    entry += f', method = "smooth"{along}'
                lines.append(f"{self.table_name(file, table.name)} = {{ {entry} }}")
        lines += ["", "[aero]", f'axes = "{self.axes}"', f'moment_axes = "{self.moment_axes}"']
        hinges = {n: f for n, f in self.formulas.items() if n.startswith("Ch_")}
        lines += [_line(n, f) for n, f in self.formulas.items() if n not in hinges]
        if hinges:
            lines += ["", "[formulas]", *(_line(n, f) for n, f in hinges.items())]
        return "\n".join(lines) + "\n"

    def _origin(self) -> str:
        return ", ".join(f"{k} {v}" for k, v in self.provenance.items() if k in ("dravik", "hash", "panels", "points"))


def beside(table: Table) -> bool:
    """Whether a column only tells how sure the others are."""
    return table.name == "points" or table.name.endswith("_interval")


def _line(name: str, formula: Formula) -> str:
    if not formula.description:
        return f'{name} = "{formula.text}"'
    unit = f', unit = "{formula.unit}"' if formula.unit else ""
    return f'{name} = {{ formula = "{formula.text}"{unit}, description = "{formula.description}" }}'
