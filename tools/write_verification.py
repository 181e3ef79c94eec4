"""Write docs/background/verification from the very cases that the tests run."""

import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

import tests.reference_engines  # noqa: E402
import tests.reference_flights  # noqa: E402
import tests.reference_linear  # noqa: E402, F401
from tests.reference import CASES  # noqa: E402

FOLDER = ROOT / "docs" / "background" / "verification"
#: Pages by name: the title, and how the names of their cases begin; what belongs to none is on the first.
PAGES = {
    "motion": ("Verification: motion, air and trim", ()),
    "aerodynamics": ("Verification: aerodynamics", ("Vortex lattice", "Flap hinge", "Slender bodies", "Finned bodies")),
    "engines": ("Verification: engines, the round Earth, wheels", ("Gyroscopic", "Rocket", "Gas turbine", "Electric", "Gravity of", "Flight over", "On wheels")),
    "linear": ("Verification: modes and transfer functions", ("Modes of", "A large transport", "Roots and", "Lateral transfer")),
}  # fmt: skip
HEAD = "Held against something outside the code. `make verification` writes this page from the cases in `tests/reference*.py`, which the tests run."


def page_of(name: str) -> str:
    """Return the page that a case stands on."""
    return next((p for p, (_, starts) in PAGES.items() if name.startswith(starts or ("?",))), "motion")


def main() -> int:
    """Run every case and write the pages; return 1 when a row does not hold."""
    lines = {page: [f"# {title}", "", HEAD, ""] for page, (title, _) in PAGES.items()}
    good = True
    for case in CASES:
        out = lines[page_of(case.name)]
        out += [f"## {case.name}", "", f"Held against: {case.source}", ""]
        out += ["| figure | expected | obtained | allowed difference |", "|---|---|---|---|"]
        for row in case.rows():
            good = good and row.holds
            mark = "" if row.holds else " **fails**"
            out.append(f"| {row.what} | {row.expected:.6g} | {row.obtained:.6g}{mark} | {row.tolerance:.1g} |")
        out.append("")
    FOLDER.mkdir(parents=True, exist_ok=True)
    for page, text in lines.items():
        (FOLDER / f"{page}.md").write_text("\n".join(text), encoding="utf-8")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
