"""The notebook of the whole journey: made of ``examples/journey.py``, run in a kernel of its own, and shown as a page."""

import base64
import re
from pathlib import Path
from typing import Any

import nbformat
from nbclient import NotebookClient

from tools.docsite.running import ROOT

SCRIPT = ROOT / "examples" / "journey.py"
CELL = re.compile(r"^# %%(.*)$", re.MULTILINE)


def cells(script: str) -> list[Any]:
    """Return the cells of a script whose parts begin with ``# %%``, or ``# %% [markdown]`` for text."""
    parts = CELL.split(script)[1:]
    found = []
    for kind, body in zip(parts[::2], parts[1::2], strict=True):
        text = body.strip("\n").replace("  # fmt: skip", "")
        if "markdown" in kind:
            found.append(nbformat.v4.new_markdown_cell(re.sub(r"^# ?", "", text, flags=re.M)))
        else:
            found.append(nbformat.v4.new_code_cell(text))
    for number, cell in enumerate(found):
        cell["id"] = f"cell-{number}"
    return found


def run_notebook(folder: Path) -> Any:
    """Return the notebook with what its cells gave; raises nbclient's error where one fails."""
    notebook = nbformat.v4.new_notebook(cells=cells(SCRIPT.read_text(encoding="utf-8")))
    NotebookClient(
        notebook, timeout=300, kernel_name="python3", resources={"metadata": {"path": str(folder)}}
    ).execute()
    nbformat.validate(notebook)
    return notebook


def write_page(notebook: Any, folder: Path) -> None:
    """Write the notebook, and the page that shows it, into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    nbformat.write(notebook, folder / "journey.ipynb")
    lines: list[str] = []
    for number, cell in enumerate(notebook.cells):
        if cell.cell_type == "markdown":
            lines += [cell.source, ""]
            continue
        lines += ["```python", cell.source, "```", ""]
        for output in cell.outputs:
            lines += _shown(output, folder, f"journey-{number}")
    lines += ["Take it with you: {download}`journey.ipynb`.", ""]
    (folder / "journey.md").write_text("\n".join(lines), encoding="utf-8")


def _shown(output: Any, folder: Path, name: str) -> list[str]:
    """Return what a reader sees of an output: a picture, a table, or text."""
    data = output.get("data", {})
    if "image/png" in data:
        (folder / f"{name}.png").write_bytes(base64.b64decode(data["image/png"]))
        return [f"![what the cell above shows]({name}.png)", ""]
    if "text/html" in data:
        return ['<div class="shown">', data["text/html"], "</div>", ""]
    text = data.get("text/plain") or output.get("text", "")
    return ["```{code-block} text", ":class: output", "", str(text).rstrip(), "```", ""] if text else []
