"""Write docs/verification.md from the very cases that the tests run."""

import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

import tests.reference_engines  # noqa: E402
import tests.reference_flights  # noqa: E402
import tests.reference_linear  # noqa: E402, F401
from tests.reference import CASES  # noqa: E402


def main() -> int:
    """Run every case and write the page; return 1 when a row does not hold."""
    lines = [
        "# Verification",
        "",
        "Every check of Dravik against something outside its code: closed forms, published tables, conservation,",
        "independent methods. `tools/write_verification.py` writes this page from the cases in",
        "the files `tests/reference*.py`, which `tests/test_verification.py` runs.",
        "",
    ]
    good = True
    for case in CASES:
        lines += [f"## {case.name}", "", f"Held against: {case.source}", ""]
        lines += ["| figure | expected | obtained | allowed difference |", "|---|---|---|---|"]
        for row in case.rows():
            good = good and row.holds
            mark = "" if row.holds else " **fails**"
            lines.append(f"| {row.what} | {row.expected:.6g} | {row.obtained:.6g}{mark} | {row.tolerance:.1g} |")
        lines.append("")
    (ROOT / "docs" / "verification.md").write_text("\n".join(lines), encoding="utf-8")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
