"""The modal requirements of MIL-F-8785C; the limits are data, beside this file, with their paragraphs."""

import math
from collections.abc import Collection
from dataclasses import replace
from typing import Any

from dravik.handling.criteria import NONE, Criterion
from dravik.handling.equivalent import EquivalentSystem
from dravik.handling.limits import boundaries, limits
from dravik.linear import LinearModel, Mode, Modes

__all__ = ["entry", "load_factor_sensitivity", "modal_criteria", "shared_short_period"]

SHARED = 0.1  # of a mode, by participation: from here on a law has its part in it
SIMPLER = "of the equivalent system: a law takes part in the roots"
SLOWEST = 3600.0  # s: roots that take longer to double (battery charge, altitude) count as neutral


def _data() -> dict[str, Any]:
    return boundaries("mil_f_8785c")


def entry(section: str, aircraft_class: str, category: str) -> dict[str, Any] | None:
    """Return the entry of a section of MIL-F-8785C for a class and category; None where it asks nothing."""
    for one in _data()[section]:
        if one["category"] == category and aircraft_class in one["classes"]:
            found: dict[str, Any] = one
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


def shared_short_period(modes: Modes, others: Collection[str]) -> bool:
    """Whether states that are neither the body's nor among ``others`` (actuators) take part in the short period.

    Then a law has mixed with it, and its roots are not those of a simple aircraft.
    """
    own = {"alpha", "w", "q", "theta", "u", "airspeed", "altitude", *others}
    shares = [
        sum(share for name, share in m.participation.items() if name not in own)
        for m in modes if m.name.startswith("short period")
    ]  # fmt: skip
    return max(shares, default=0.0) > SHARED


def modal_criteria(
    model: LinearModel, aircraft_class: str, category: str, *, equivalent: EquivalentSystem | None = None,
    modes: Modes | None = None,
) -> list[Criterion]:  # fmt: skip
    """Return every modal requirement that applies to a model with states in air coordinates and output nz.

    A mode that is not there, or a root that grows and that no requirement speaks of, brings a line that says so and
    has no level. Two real roots in the place of a pair are judged as that pair. An ``equivalent`` system of the
    pitch rate stands for the short period where a law has mixed with it (section 3.2.2.1 speaks of equivalent
    systems). ``modes`` are the model's own where they are known already.

    Parameters
    ----------
    model : LinearModel
        In air coordinates, with the output nz.
    aircraft_class : str
        ``"I"``, ``"II-L"``, ``"II-C"``, ``"III"`` or ``"IV"``.
    category : str
        Category of the flight phase: ``"A"``, ``"B"`` or ``"C"``.
    equivalent : EquivalentSystem, optional
        Of the pitch rate, in the place of the short period.
    modes : Modes, optional
        The model's own, where they are known already.

    Returns
    -------
    list of Criterion
    """
    modes = model.modes() if modes is None else modes
    found = [
        *_phugoid(modes),
        *_short_period(modes, load_factor_sensitivity(model), aircraft_class, category, equivalent),
        *_dutch_roll(modes, aircraft_class, category),
        *_roll_and_spiral(modes, aircraft_class, category),
    ]
    is_remembered = bool(_data().get("remembered"))
    document = _data()["title"]
    found = [replace(c, remembered=is_remembered and c.judged, document=document) for c in found]
    return [*found, *_unjudged(modes, {name for criterion in found for name in criterion.modes})]


def _unjudged(modes: Modes, judged: set[str]) -> list[Criterion]:
    """Return a line for each root that grows and that no criterion has judged."""
    return [
        Criterion(
            f"{m.name} grows", "-", m.time_to_double, "s", NONE, judged=False, modes=(m.name,),
            note=f"it doubles in {m.time_to_double:.3g} s and no requirement speaks of it: no level can be given",
        )
        for m in modes
        if m.name not in judged and 0.0 < m.time_to_double < SLOWEST
    ]  # fmt: skip


def _missing(name: str, paragraph: str) -> Criterion:
    note = "it is not among the modes: no level can be given"
    return Criterion(name, paragraph, math.nan, "", NONE, judged=False, note=note)


def _pair(modes: Modes, name: str) -> tuple[float, float, str, tuple[str, ...]] | None:
    """Return frequency (rad/s), damping, a note and the modes' names of a pair, or of two real roots in its place.

    Two real roots of opposite sign are no oscillation at any frequency: damping -1, frequency 0. None where there is
    neither the pair nor two real roots.
    """
    mode = modes.named(name)
    if mode is not None:
        return mode.frequency, mode.damping, "", (mode.name,)
    real = [m for m in modes if m.name.startswith(f"{name}, real root")]
    if len(real) != 2:
        return None
    a, b = (m.eigenvalue.real for m in real)
    names = (real[0].name, real[1].name)
    growing = [m for m in real if m.eigenvalue.real > 0.0]
    if a * b <= 0.0 or growing:
        time = min((m.time_to_double for m in growing), default=math.inf)
        return 0.0, -1.0, f"two real roots, one of which grows: it doubles in {time:.3g} s", names
    omega = math.sqrt(a * b)
    return omega, -(a + b) / (2.0 * omega), "two real roots, taken as one pair", names


def _phugoid(modes: Modes) -> list[Criterion]:
    data = _data()["phugoid"]
    paragraph = data["paragraph"]
    real = [m for m in modes if m.name.startswith("phugoid, real root")]
    growing = [m for m in real if m.eigenvalue.real > 0]
    longest = float(data["time_to_double_min"][2])
    if growing:
        time = min(m.time_to_double for m in growing)
        return [
            Criterion(
                "phugoid, time to double", paragraph, time, "s", (math.inf, math.inf, longest),
                note="no oscillation: a real root grows", modes=tuple(m.name for m in real),
            )
        ]  # fmt: skip
    pair = _pair(modes, "phugoid")
    if pair is None:
        return [_missing("phugoid", paragraph)]
    omega, damping, note, names = pair
    lows = limits(data["damping_min"])
    # level 3 of the phugoid is a least time to double: converted to the damping ratio that it corresponds to
    least = -math.log(2.0) / (longest * omega)
    return [Criterion("phugoid damping", paragraph, damping, "", (lows[0], lows[1], least), note=note, modes=names)]


def _short_period(
    modes: Modes, n_alpha: float, aircraft_class: str, category: str, equivalent: EquivalentSystem | None
) -> list[Criterion]:
    data = _data()
    damping, frequency = data["short_period_damping"], data["short_period_frequency"]
    pair = _pair(modes, "short period")
    if pair is None:
        return [_missing("short period", damping["paragraph"])]
    omega, zeta, note, names = pair
    if equivalent is not None:
        omega, zeta, note = equivalent.frequency, equivalent.damping, SIMPLER
    d, f = damping[category], frequency[category]
    found = [
        Criterion(
            "short-period damping", damping["paragraph"], zeta, "", limits(d["min"]), limits(d["max"]), note, names
        ),
        Criterion(
            "short-period frequency^2 / (n/alpha)", frequency["paragraph"], omega**2 / n_alpha if n_alpha > 0 else -1.0,
            "1/(g s^2)", limits(f["min"]), limits(f["max"]),
            f"frequency {omega:.3g} rad/s, n/alpha {n_alpha:.3g}" + (f"; {SIMPLER}" if equivalent else ""), names,
        ),
    ]  # fmt: skip
    floor = entry("short_period_floor", aircraft_class, category)
    if floor is not None:
        paragraph = floor["paragraph"]
        lows = limits(floor["frequency_min"])
        found.append(Criterion("short-period frequency", paragraph, omega, "rad/s", lows, modes=names))
        if limits(floor["n_alpha_min"]) != NONE:
            found.append(Criterion("n/alpha", paragraph, n_alpha, "1/rad", limits(floor["n_alpha_min"])))
    return found


def _dutch_roll(modes: Modes, aircraft_class: str, category: str) -> list[Criterion]:
    data = entry("dutch_roll", aircraft_class, category)
    pair = _pair(modes, "Dutch roll")
    assert data is not None  # the data file has an entry for every class and category
    if pair is None:
        return [_missing("Dutch roll", data["paragraph"])]
    omega, zeta, note, names = pair
    paragraph, extra = data["paragraph"], _data()["dutch_roll_increment"]
    mode = modes.named("Dutch roll")
    ratio = _bank_over_sideslip(mode) if mode is not None else 0.0
    excess = max(0.0, omega**2 * ratio - extra["threshold"])
    product = limits(data["product_min"])
    raised = tuple(
        factor * excess + (limit or 0.0) if limit is not None or excess else None
        for limit, factor in zip(product, extra["factor"], strict=True)
    )
    return [
        Criterion("Dutch roll damping", paragraph, zeta, "", limits(data["damping_min"]), note=note, modes=names),
        Criterion(
            "Dutch roll damping times frequency", paragraph, zeta * omega, "rad/s", (raised[0], raised[1], raised[2]),
            note=f"|phi/beta| {ratio:.3g}" if mode is not None else "", modes=names,
        ),
        Criterion("Dutch roll frequency", paragraph, omega, "rad/s", limits(data["frequency_min"]), modes=names),
    ]  # fmt: skip


def _bank_over_sideslip(mode: Mode) -> float:
    beta = abs(mode.vector.get("beta", 0.0))
    return abs(mode.vector.get("phi", 0.0)) / beta if beta else 0.0


def _roll_and_spiral(modes: Modes, aircraft_class: str, category: str) -> list[Criterion]:
    data = _data()
    found = []
    roll, coupled = modes.named("roll"), modes.named("roll-spiral")
    allowed = entry("roll", aircraft_class, category)
    assert allowed is not None
    if coupled is not None:
        lows = limits(data["roll_spiral"][category])
        if category == "A":
            lows = (math.inf, math.inf, math.inf)
        product = coupled.damping * coupled.frequency
        paragraph = data["roll_spiral"]["paragraph"]
        found.append(
            Criterion(
                "coupled roll-spiral, damping times frequency", paragraph, product, "rad/s", lows,
                modes=(coupled.name,),
            )
        )  # fmt: skip
    elif roll is None:
        found.append(_missing("roll", allowed["paragraph"]))
    if roll is not None:
        time = roll.time_constant if roll.eigenvalue.real < 0 else math.inf
        highs = limits(allowed["time_constant_max"])
        note = "" if roll.eigenvalue.real < 0 else f"it grows, and doubles in {roll.time_to_double:.3g} s"
        found.append(
            Criterion("roll mode time constant", allowed["paragraph"], time, "s", NONE, highs, note, modes=(roll.name,))
        )
    spirals = [m for m in modes if m.name == "spiral" or m.name.startswith("spiral ")]
    lows, paragraph = limits(data["spiral"][category]), data["spiral"]["paragraph"]
    if not spirals and coupled is None:
        found.append(_missing("spiral", paragraph))
    if spirals:
        # of several roots the fastest divergence decides
        time = min(m.time_to_double for m in spirals)
        note = "stable" if math.isinf(time) else ""
        names = tuple(m.name for m in spirals)
        found.append(Criterion("spiral, time to double", paragraph, time, "s", lows, note=note, modes=names))
    return found
