"""The reference of signals: every signal of each sample, by kind, with unit and meaning."""

from pathlib import Path

import dravik as dv
from dravik.aircraft import sample_names
from tools.docsite.markdown import table, toctree


def write(folder: Path) -> None:
    """Write a page for each sample."""
    target = folder / "signals"
    target.mkdir(parents=True, exist_ok=True)
    names = sample_names()
    for name in names:
        craft = dv.sample(name)
        by_kind: dict[str, list[tuple[str, str, str]]] = {}
        for signal in craft.signals.values():
            by_kind.setdefault(signal.kind, []).append((f"`{signal.name}`", signal.unit, signal.meaning))
        lines = [
            f"# Signals of the {craft.name}",
            "",
            f"`dravik signals {name}` prints them. {craft.definition.description}",
            "",
        ]
        for kind, rows in by_kind.items():
            lines += [f"## {kind}", "", *table(("signal", "SI unit", "meaning"), rows)]
        (target / f"{name}.md").write_text("\n".join(lines), encoding="utf-8")
    lines = [
        "# Signals",
        "",
        "All that can be recorded, plotted, held in a trim or made an output of a linear model.",
        "",
    ]
    (target / "index.md").write_text("\n".join([*lines, *toctree(names)]), encoding="utf-8")
