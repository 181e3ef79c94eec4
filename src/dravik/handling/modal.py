"""The modal requirements of MIL-F-8785C; the limits are data, beside this file, with their paragraphs."""

import math
import tomllib
from functools import lru_cache
from pathlib import Path
from typing import Any

from dravik.handling.criteria import Criterion
from dravik.linear import LinearModel, Mode, Modes

__all__ = ["load_factor_sensitivity", "modal_criteria"]

Limits = tuple[float | None, float | None, float | None]
NONE: Limits = (None, None, None)


@lru_cache(maxsize=1)
def _data() -> dict[str, Any]:
    return tomllib.loads((Path(__file__).parent / "mil_f_8785c.toml").read_text(encoding="utf-8"))


def _limits(values: list[float | str]) -> Limits:
    a, b, c = (None if isinstance(v, str) else float(v) for v in values)
    return a, b, c


def _entry(section: str, aircraft_class: str, category: str) -> dict[str, Any] | None:
    for entry in _data()[section]:
        if entry["category"] == category and aircraft_class in entry["classes"]:
            found: dict[str, Any] = entry
            return found
    return None


def load_factor_sensitivity(model: LinearModel) -> float:
    """Return n/alpha, the steady load factor for each rad of angle of attack at constant speed.

    Section 6.2.2 of the specification: the change that a small step of the pitch control brings. The control is
    taken as a pure pitching moment, so that alpha's own equation ties pitch rate to angle of attack; the
    elevator's lift, left out, changes the figure by a few per cent. The model needs states alpha, q and output nz.
    """
    alpha, q, nz = model.states.index("alpha"), model.states.index("q"), model.outputs.index("nz")
    pitch_rate = -model.A[alpha, alpha] / model.A[alpha, q]
    return float(model.C[nz, alpha] + model.C[nz, q] * pitch_rate)


def modal_criteria(model: LinearModel, aircraft_class: str, category: str) -> list[Criterion]:
    """Return every modal requirement that applies to a model with states in air coordinates and output nz.

    A mode that is not there brings a line that says so, at the level that follows (a missing phugoid
    pair is judged by its real roots).
    """
    modes = model.modes()
    return [
        *_phugoid(modes),
        *_short_period(modes, load_factor_sensitivity(model), aircraft_class, category),
        *_dutch_roll(modes, aircraft_class, category),
        *_roll_and_spiral(modes, aircraft_class, category),
    ]


def _phugoid(modes: Modes) -> list[Criterion]:
    data = _data()["phugoid"]
    mode = modes.named("phugoid")
    paragraph = data["paragraph"]
    if mode is None:
        real = [m for m in modes if m.name.startswith("phugoid, real root")]
        growing = [m for m in real if m.eigenvalue.real > 0]
        time = min((m.time_to_double for m in growing), default=math.inf)
        worst: Limits = (math.inf, math.inf, float(data["time_to_double_min"][2]))
        if not growing:
            return []
        return [
            Criterion(
                "phugoid, time to double",
                paragraph,
                time,
                "s",
                worst,
                note="no oscillation: a real root grows",
            )
        ]
    lows = _limits(data["damping_min"])
    # level 3 allows a growing phugoid that takes long enough to double: put as the damping that this means
    least = -math.log(2.0) / (float(data["time_to_double_min"][2]) * mode.frequency)
    return [Criterion("phugoid damping", paragraph, mode.damping, "", (lows[0], lows[1], least))]


def _short_period(modes: Modes, n_alpha: float, aircraft_class: str, category: str) -> list[Criterion]:
    data = _data()
    mode = modes.named("short period")
    damping, frequency = data["short_period_damping"], data["short_period_frequency"]
    if mode is None:
        real = [m for m in modes if m.name.startswith("short period, real root")]
        if len(real) < 2:
            worst = math.inf
            note = "no short period among the modes"
            return [
                Criterion(
                    "short-period damping",
                    damping["paragraph"],
                    math.nan,
                    "",
                    (worst, worst, worst),
                    note=note,
                )
            ]
        product = real[0].eigenvalue.real * real[1].eigenvalue.real
        omega = math.sqrt(abs(product))
        zeta = -(real[0].eigenvalue.real + real[1].eigenvalue.real) / (2.0 * omega)
        zeta, omega = (zeta, omega) if product > 0 else (-1.0, 0.0)
        note = "two real roots, taken as one pair"
    else:
        omega, zeta, note = mode.frequency, mode.damping, ""
    d, f = damping[category], frequency[category]
    found = [
        Criterion("short-period damping", damping["paragraph"], zeta, "", _limits(d["min"]), _limits(d["max"]), note),
        Criterion(
            "short-period frequency^2 / (n/alpha)", frequency["paragraph"], omega**2 / n_alpha if n_alpha > 0 else -1.0,
            "1/(g s^2)", _limits(f["min"]), _limits(f["max"]), f"frequency {omega:.3g} rad/s, n/alpha {n_alpha:.3g}",
        ),
    ]  # fmt: skip
    floor = _entry("short_period_floor", aircraft_class, category)
    if floor is not None:
        paragraph = floor["paragraph"]
        found.append(Criterion("short-period frequency", paragraph, omega, "rad/s", _limits(floor["frequency_min"])))
        if _limits(floor["n_alpha_min"]) != NONE:
            found.append(Criterion("n/alpha", paragraph, n_alpha, "1/rad", _limits(floor["n_alpha_min"])))
    return found


def _dutch_roll(modes: Modes, aircraft_class: str, category: str) -> list[Criterion]:
    data = _entry("dutch_roll", aircraft_class, category)
    mode = modes.named("Dutch roll")
    if mode is None or data is None:
        return []
    paragraph, extra = data["paragraph"], _data()["dutch_roll_increment"]
    ratio = _bank_over_sideslip(mode)
    excess = max(0.0, mode.frequency**2 * ratio - extra["threshold"])
    product = _limits(data["product_min"])
    raised = tuple(
        factor * excess + (limit or 0.0) if limit is not None or excess else None
        for limit, factor in zip(product, extra["factor"], strict=True)
    )
    return [
        Criterion("Dutch roll damping", paragraph, mode.damping, "", _limits(data["damping_min"])),
        Criterion(
            "Dutch roll damping times frequency", paragraph, mode.damping * mode.frequency, "rad/s",
            (raised[0], raised[1], raised[2]), note=f"|phi/beta| {ratio:.3g}",
        ),
        Criterion("Dutch roll frequency", paragraph, mode.frequency, "rad/s", _limits(data["frequency_min"])),
    ]  # fmt: skip


def _bank_over_sideslip(mode: Mode) -> float:
    beta = abs(mode.vector.get("beta", 0.0))
    return abs(mode.vector.get("phi", 0.0)) / beta if beta else 0.0


def _roll_and_spiral(modes: Modes, aircraft_class: str, category: str) -> list[Criterion]:
    data = _data()
    found = []
    roll, spiral, coupled = modes.named("roll"), modes.named("spiral"), modes.named("roll-spiral")
    limits = _entry("roll", aircraft_class, category)
    if roll is not None and limits is not None:
        time = roll.time_constant if roll.eigenvalue.real < 0 else math.inf
        highs = _limits(limits["time_constant_max"])
        found.append(Criterion("roll mode time constant", limits["paragraph"], time, "s", NONE, highs))
    if spiral is not None:
        lows = _limits(data["spiral"][category])
        note = "stable" if math.isinf(spiral.time_to_double) else ""
        paragraph = data["spiral"]["paragraph"]
        found.append(Criterion("spiral, time to double", paragraph, spiral.time_to_double, "s", lows, note=note))
    if coupled is not None:
        lows = _limits(data["roll_spiral"][category])
        if category == "A":
            lows = (math.inf, math.inf, math.inf)
        product = coupled.damping * coupled.frequency
        paragraph = data["roll_spiral"]["paragraph"]
        found.append(Criterion("coupled roll-spiral, damping times frequency", paragraph, product, "rad/s", lows))
    return found
