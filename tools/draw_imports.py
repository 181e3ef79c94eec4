"""Draw who imports whom into docs/background/imports.svg: rooms by layer, the numbers of imports between them.

``circles()`` and ``graph()`` are what the tests look at: imports at any place, for type checking too.
"""

import ast
import sys
from collections import Counter
from functools import cache
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import matplotlib
from matplotlib.figure import Figure

ROOT = Path(__file__).resolve().parents[1]
PACKAGE = ROOT / "src" / "dravik"
#: The layers from the ground up, each with its rooms in order: a room imports only from rooms that stand before it.
LAYERS: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "ground",
        (
            "errors", "constants", "version", "frames", "units", "host", "definition", "compiled", "plants", "tables",
            "formula", "systems", "kernel", "surroundings", "motion",
        ),
    ),
    ("builders", ("mass", "contact", "aero", "propulsion", "mode_logic", "sensors")),
    ("aircraft", ("aircraft",)),
    ("analysis", ("trimming", "linear", "loops")),
    ("over time", ("recording", "estimation", "flight", "guidance", "scenarios")),
    ("studies", ("performance", "checks", "validation", "handling")),
    ("faces", ("link", "real_time", "live_page", "report", "book", "cli", "__main__")),
)  # fmt: skip
#: Modules of the root, which every room uses; they are drawn as one.
ROOT_MODULES = ("errors", "constants", "version", "frames", "plants")
MOST = 6  # rooms side by side


def _rows() -> list[tuple[str, tuple[str, ...]]]:
    """Return the rows of the drawing from the top: the layer's name and its rooms; a wide layer takes two rows."""
    rows: list[tuple[str, tuple[str, ...]]] = []
    for name, rooms in reversed(LAYERS):
        own = tuple(r for r in rooms if r not in (*ROOT_MODULES, "__main__"))
        own = ("root", *own) if name == "ground" else own
        if len(own) > MOST:
            rows.append((name, own[MOST:]))
            own = own[:MOST]
        rows.append((name, own))
    return rows


ROWS = tuple(rooms for _, rooms in _rows())
NAMES = tuple(name for name, _ in _rows())
COLOURS = ("#55606e", "#7a4fa3", "#0b6e8f", "#3d8b5f", "#d0632f", "#8a7a5c", "#22303a", "#22303a")


@cache
def graph() -> dict[str, set[str]]:
    """Return each module's imports within the package."""
    modules = {}
    for path in sorted(PACKAGE.rglob("*.py")):
        name = ".".join(("dravik", *path.relative_to(PACKAGE).with_suffix("").parts))
        modules[name.removesuffix(".__init__")] = path
    found: dict[str, set[str]] = {}
    for name, path in modules.items():
        targets = set()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module and node.module.split(".")[0] == "dravik":
                for alias in node.names:
                    whole = f"{node.module}.{alias.name}"
                    targets.add(whole if whole in modules else node.module)
        found[name] = {t for t in targets if t in modules and t not in (name, "dravik")}
    return found


def circles() -> list[str]:
    """Return a circle of imports, if there is one: the modules on it."""
    try:
        list(TopologicalSorter(graph()).static_order())
    except CycleError as error:
        return list(error.args[1])
    return []


def room(module: str) -> str:
    """Return the room of a module: its folder, or ``root``."""
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and any(parts[1] in row for row in ROWS) else "root"


def main() -> int:
    """Draw."""
    counts: Counter[tuple[str, str]] = Counter()
    for module, targets in graph().items():
        counts.update((room(module), room(t)) for t in targets if room(t) != room(module) and module != "dravik")
    sizes = Counter(room(m) for m in graph() if m != "dravik")
    place = {
        name: ((i + 0.5) / len(row), len(ROWS) - 1.0 - k) for k, row in enumerate(ROWS) for i, name in enumerate(row)
    }
    with matplotlib.rc_context({"svg.hashsalt": "dravik", "font.family": "DejaVu Sans", "svg.fonttype": "none"}):
        figure = Figure(figsize=(11, 7.5))
        axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
        axes.set_xlim(-0.12, 1.02)
        axes.set_ylim(-1.1, len(ROWS) - 0.4)
        axes.axis("off")
        for (source, target), count in sorted(counts.items()):
            if target == "root":  # every room uses those modules
                continue
            (x0, y0), (x1, y1) = place[source], place[target]
            bend = 0.18 if y0 == y1 else 0.06 * (1.0 if x1 >= x0 else -1.0)
            axes.annotate(
                "", (x1, y1 + 0.2), (x0, y0 - 0.2), zorder=1,
                arrowprops={
                    "arrowstyle": "-|>", "color": COLOURS[len(ROWS) - 1 - int(y0)], "lw": 0.5 + 0.28 * count**0.5,
                    "alpha": 0.45, "connectionstyle": f"arc3,rad={bend}",
                },
            )  # fmt: skip
        for name, (x, y) in place.items():
            axes.text(
                x, y, f"{name}\n{sizes[name]} modules", ha="center", va="center", fontsize=11, zorder=3, color="white",
                bbox={"boxstyle": "round,pad=0.45", "fc": COLOURS[len(ROWS) - 1 - int(y)], "ec": "none"},
            )  # fmt: skip
        for k, name in enumerate(NAMES):
            axes.text(-0.11, len(ROWS) - 1.0 - k, name, fontsize=10, color="#55606e", va="center")
        figure.savefig(ROOT / "docs" / "background" / "imports.svg", metadata={"Date": None})
        if "--png" in sys.argv:
            figure.savefig(sys.argv[sys.argv.index("--png") + 1], dpi=110)
    return 0


if __name__ == "__main__":
    sys.exit(main())
