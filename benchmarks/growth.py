"""Print how time and memory grow with tables, formulas, engines and flights: in proportion, or there is a mistake."""

import resource
import sys
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from shown import show
from timing import in_turns

import dravik as dv
from dravik.aircraft import LawDefinition
from dravik.tables import Axis

TARN = dv.sample("tarn")
MANY = 200
SIZES = (50, 100, 200, 400)
MINUTES = (1, 2, 4, 6)  # longer ones are flown as machine code


def with_formulas(count: int) -> dv.Aircraft:
    """Return the Tarn with so many formulas more, each of another shape."""
    formulas = {f"extra_{k}": f"sin({k} + alpha)*q + {k}*extra_{k - 1}" if k else "alpha" for k in range(count)}
    return TARN.with_law(LawDefinition.model_validate({"format": 1, "name": "more", "formulas": formulas}))


def with_tables(count: int) -> dv.Aircraft:
    """Return the Tarn with so many tables more, each on a grid of its own."""
    tables = {
        f"extra_table_{k}": dv.Table(
            f"extra_table_{k}", (Axis("alpha", np.linspace(-1.0 - 0.001 * k, 1.0, 20), "rad"),), np.arange(20.0)
        )
        for k in range(count)
    }
    formulas = {f"extra_{k}": f"extra_table_{k}(alpha)" for k in range(count)}
    return TARN.with_law(LawDefinition.model_validate({"format": 1, "name": "more", "formulas": formulas}), tables)


def with_engines(count: int) -> dv.Aircraft:
    """Return the Tarn with so many pairs of its engines."""
    engines = TARN.definition.engines
    more = {f"{name}_{k}" if k else name: engine for k in range(count) for name, engine in engines.items()}
    return dv.Aircraft(TARN.definition.model_copy(update={"engines": more}), TARN.tables, path=TARN.path)


def evaluations(craft: dv.Aircraft) -> Callable[[], object]:
    """Return what evaluates an aircraft MANY times."""
    running: dict[str, str | float] = {n: 0.3 for n in craft.function_states if n.startswith("power")}
    x = craft.state(velocity=(62.0, 0.0, 2.0), position=(0.0, 0.0, 300.0), functions=running)
    u, work = craft.default_inputs(), craft.workspace()

    def act() -> None:
        for _ in range(MANY):
            craft.registers(x, u, workspace=work)

    return act


def resident() -> float:
    """Return the largest memory of this process so far, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def grown(what: str, times: list[float], sizes: Sequence[int]) -> tuple[str, ...]:
    """Return a row: times of the least and of the most, and what each one more costs from size to size."""
    steps = zip(times, times[1:], sizes, sizes[1:], strict=False)
    each = ", ".join(f"{1e6 * (b - a) / (n - m):.3g}" for a, b, m, n in steps)
    return f"{what}, {sizes[0]} to {sizes[-1]}", f"{1e3 * times[0]:.3g} to {1e3 * times[-1]:.3g} ms", each


def main() -> int:
    """Measure and print."""
    point = dv.trim(TARN, airspeed=62.0, altitude=300.0)
    kinds: tuple[tuple[str, Callable[[int], dv.Aircraft], Sequence[int]], ...] = (
        ("formulas", with_formulas, SIZES), ("tables on grids of their own", with_tables, SIZES),
        ("pairs of engines", with_engines, (1, 2, 4, 8)),
    )  # fmt: skip
    actions: dict[tuple[str, int], Callable[[], object]] = {}
    for what, make, sizes in kinds:
        for count in sizes:
            actions[f"{what}: built", count] = lambda n=count, m=make: m(n).compiled()  # type: ignore[misc]
            actions[f"{what}: evaluated", count] = evaluations(make(count))
    for m in MINUTES:
        actions["minutes flown", m] = partial(dv.fly, TARN, start=point, duration=60.0 * m, record=["altitude"])
    taken = in_turns(actions)
    rows: list[tuple[str, ...]] = []
    for what in dict.fromkeys(what for what, _ in actions):
        own = {n: t / (MANY if "evaluated" in what else 1) for (other, n), t in taken.items() if other == what}
        rows.append(grown(what, list(own.values()), list(own)))
    before = resident()
    for _ in range(300):
        dv.fly(TARN, start=point, duration=5.0)
    rows.append(("300 flights more: largest memory", f"{before:.0f} to {resident():.0f} MB", ""))
    show("growth", ("the Tarn with more", "from the least to the most", "each one more, µs, from size to size"), rows)
    return 0


if __name__ == "__main__":
    sys.exit(main())
