"""The command score: how every change of a target was followed in a recording, and in another one beside it."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from dravik.cli.flying import show_landing
from dravik.cli.shared.common import AsJson, emit, say, show_rows
from dravik.definition.settings import read_settings
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.recording import Recording
    from dravik.validation import TargetResponse

__all__ = ["score"]

BUSIEST = 3  # controls that are named


def score(
    recording: Annotated[str, typer.Argument(metavar="RECORDING", help="written by dravik fly --out")],
    beside: Annotated[
        list[str] | None, typer.Option(metavar="RECORDING", help="another flight; may be repeated")
    ] = None,
    target: Annotated[
        list[str] | None, typer.Option(metavar="TARGET=SIGNAL", help="what follows a target, if its name does not tell")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Say how each change of a target was followed: rise, overshoot, settling, steady-state error, control activity.

    Of a flight that lands also the landing, over every touch.
    """
    from dravik.recording import read_recording
    from dravik.validation import landing_in, scorecard

    pairs = {n: str(v) for n, v in read_settings(target, "--target").items()} if target else None
    runs = {path: read_recording(path) for path in [recording, *(beside or [])]}
    found = {path: scorecard(run, pairs) for path, run in runs.items()}
    if as_json:
        landings = {path: landing_in(run) for path, run in runs.items()}
        emit({"flights": [
            {"recording": path, "changes": [c.row() for c in own],
             **({"landing": land.as_data()} if (land := landings[path]) is not None else {})}
            for path, own in found.items()
        ]})  # fmt: skip
        return
    several = len(found) > 1
    rows: list[list[Any]] = []
    for path, own in found.items():
        rows += [[*([path] if several else []), *_cells(runs[path], c)] for c in own]
    rows.sort(key=lambda r: float(r[1 if several else 0]))
    heads = [
        "at [s]",
        "target",
        "from",
        "to",
        "unit",
        "rise [s]",
        "overshoot",
        "settling [s]",
        "steady-state error",
        "activity",
        "why a dash",
    ]
    _once(rows, len(heads) - 2 + several)
    if not any(r[-1] for r in rows):
        heads, rows = heads[:-1], [r[:-1] for r in rows]
    show_rows("changes of targets and how they were followed", [*(["flight"] if several else []), *heads], rows)
    for path, run in runs.items():
        if several and landing_in(run) is not None:
            say(path)
        show_landing(run)


def _cells(run: "Recording", c: "TargetResponse") -> list[Any]:
    unit, factor, _ = from_si(run.units.get(c.actual, ""))
    busy = []
    for name, value in sorted(c.activity.items(), key=lambda item: -item[1])[:BUSIEST]:
        if value == 0.0:
            continue
        of, per, _ = from_si(run.units.get(name, ""))
        busy.append(f"{name} {value * per:.3g}{f' {of}/s' if of else ' 1/s'}")
    return [
        c.begins, c.target, c.before * factor, c.after * factor, unit, c.rise, c.overshoot, c.settling,
        0.0 if abs(c.steady_error) < 1e-9 * abs(c.after - c.before) else c.steady_error * factor, ", ".join(busy),
        c.why,
    ]  # fmt: skip


def _once(rows: list[list[Any]], column: int) -> None:
    """Say what several changes at the same time have in common in the first of them alone."""
    before = ""
    for row in rows:
        text = str(row[column])
        if text and text == before:
            row[column] = "the same"
        before = text
