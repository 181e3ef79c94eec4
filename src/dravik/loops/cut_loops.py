"""Loops of an aircraft with its laws, cut at a signal; laws that run at samples are analysed as sampled."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.definition.signals import signed_names
from dravik.errors import DravikError
from dravik.linear import linearise
from dravik.linear.sampled_laws import RatedLaw, linearise_as_run, rated_laws
from dravik.loops.several import one_of
from dravik.systems import LinearSystem
from dravik.systems.exact_steps import input_step
from dravik.trimming import TrimPoint

__all__ = ["cut_loop"]

Floats = NDArray[np.float64]


def cut_loop(
    craft: Aircraft, point: TrimPoint, at: str | Sequence[str], *, outputs: Sequence[str] = ()
) -> LinearSystem:  # fmt: skip
    """Return the open loop at a signal of an aircraft with its laws: what comes back of what is put in, sign turned.

    Everything that reads the signal reads what is injected; what is computed for it is the response. With the sign
    turned the loop is closed by negative feedback, as ``margins`` takes it. Several signals are cut at once, for
    ``several_margins``. More ``outputs`` follow the loop's own, with their own sign. With a law at a rate the loop
    is a sampled one, its hold and its computing delay exact; with laws at several rates each hold is a delay of
    half its period.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    at : str or sequence of str
        The signal, or several. A sum such as ``"elevon_left_command + elevon_right_command"`` is one loop: what moves
        both alike is cut, what moves them otherwise stays closed.
    outputs : sequence of str, default ()
        More outputs, with their own sign.

    Returns
    -------
    LinearSystem

    Raises
    ------
    DravikError
        For a signal that nothing reads, and one whose loop is not closed: no law leads back.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn", laws=["pitch_hold"])
    >>> loop = cut_loop(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), "elevator_command")
    >>> loop.inputs, loop.outputs
    (['elevator_command_injected'], ['elevator_command'])
    """
    if isinstance(at, str) and len(terms := signed_names(at, "at")) > 1:
        return _cut_sum(craft, point, at, terms, outputs)
    cut, more = arguments.names([at] if isinstance(at, str) else at, "at"), arguments.names(outputs, "outputs")
    if not cut:
        raise DravikError("there is no signal to cut the loop at", expected="one or more, such as 'elevator_command'")
    laws = rated_laws(craft)
    if len({law.period for law in laws}) == 1:
        found = _sampled(craft, point, laws, cut, more)
    else:
        model = linearise_as_run(craft, point, cut=cut, outputs=[*cut, *more])
        found = model.part(inputs=[f"{n}_injected" for n in cut], outputs=[*cut, *more])
    for k, name in enumerate(cut):
        if not found.part(outputs=[name]).minimal().states and not np.any(found.D[k]):
            raise DravikError(
                f"what is put in at {name} does not come back", hint="engage the law that closes this loop"
            )
    c, d, n = found.C.copy(), found.D.copy(), len(cut)
    c[:n], d[:n] = -c[:n], -d[:n]
    return LinearSystem(
        found.A, found.B, c, d, found.states, found.inputs, found.outputs, found.units, found.sample_time, found.title
    )


def _cut_sum(
    craft: Aircraft, point: TrimPoint, at: str, terms: dict[str, float], outputs: Sequence[str]
) -> LinearSystem:  # fmt: skip
    """Return the loop of what moves several signals together, each with its sign, the others' motion closed."""
    loop, n = cut_loop(craft, point, list(terms), outputs=outputs), len(terms)
    signs = np.array(list(terms.values()))
    # signals are the sum's share times their signs, plus what differs between them: the first signal stands for none
    to_signals = np.column_stack([signs, np.vstack([-signs[0] * signs[1:], np.eye(n - 1)])])
    to_shares = np.linalg.inv(to_signals)
    c, d = loop.C.copy(), loop.D @ to_signals
    c[:n], d[:n] = to_shares @ c[:n], to_shares @ d[:n]
    names = [at, *(f"difference {k}" for k in range(1, n))]
    shared = LinearSystem(
        loop.A, loop.B @ to_signals, c, d, loop.states, names, [*names, *loop.outputs[n:]], {}, loop.sample_time,
        loop.title,
    )  # fmt: skip
    return one_of(shared, 0)


class _Rows(NamedTuple):
    """What an output is of the states, and of the inputs: injected, samples, what laws give."""

    c: Floats
    b: Floats
    s: Floats
    v: Floats


def _sampled(craft: Aircraft, point: TrimPoint, laws: list[RatedLaw], cut: list[str], more: list[str]) -> LinearSystem:
    """Return what comes back at samples: all wires of the laws are cut, discretised with their holds, joined again."""
    reads = [n for law in laws for n in law.reads if n not in cut]
    gives = [n for law in laws for n in law.gives if n not in cut]
    late = {n: law.late for law in laws for n in law.gives}
    names = [*cut, *reads, *gives]
    model = linearise(craft, point, cut=names, outputs=[*names, *more]).part(inputs=[f"{n}_injected" for n in names])
    split = np.cumsum([len(cut), len(reads)])

    def rows(wanted: Sequence[str]) -> _Rows:
        k = [model.outputs.index(n) for n in wanted]
        return _Rows(model.C[k], *np.split(model.D[k], split, axis=1))

    seen, given, asked = rows(reads), rows(gives), rows([*cut, *more])
    # what is put in where the laws read begins at the sample, what is put in behind them when they have computed
    is_read = np.abs(seen.b).sum(axis=0) > 0.0
    behind = [max((late[g] for j, g in enumerate(gives) if row[j]), default=late.get(n, 0.0))
              for n, row in zip(cut, asked.v, strict=False)]  # fmt: skip
    times = [0.0 if read else time for read, time in zip(is_read, behind, strict=True)]
    times += [0.0] * len(reads) + [late[n] for n in gives]
    period = laws[0].period
    phi, new, old = _held(model.A, model.B, period, times)
    new_b, new_s, new_v = np.split(new, split, axis=1)
    # states: those of the model, then what was put in and given at the sample before
    n, nb, nv = len(model.states), len(cut), len(gives)
    old_bv = np.hstack([old[:, :nb], old[:, nb + len(reads) :]])
    now_b = seen.b * is_read  # in force at the sample itself
    before = np.hstack([seen.b * ~is_read, seen.v])
    solved = np.linalg.inv(np.eye(len(reads)) - seen.s)  # a law may sample what another has made of its samples
    s = solved @ np.hstack([seen.c, before, now_b])  # samples of (x, before, b)
    v = np.hstack([given.c, np.zeros((nv, nb + nv)), given.b]) + given.s @ s
    shift = n + nb + nv
    move = np.hstack([phi, old_bv, new_b]) + new_s @ s + new_v @ v
    y = np.hstack([asked.c, np.zeros((len(asked.c), nb + nv)), asked.b * is_read]) + asked.s @ s + asked.v @ v
    y[:, n : n + nb] += asked.b * ~is_read
    a = np.vstack([move[:, :shift], np.zeros((nb, shift)), v[:, :shift]])
    b = np.vstack([move[:, shift:], np.eye(nb), v[:, shift:]])
    states = [*model.states, *(f"{name}_before" for name in [*cut, *gives])]
    units = {k: u for k, u in model.units.items() if k in {*states, *cut, *more}}
    title = f"{model.title}, each {period:g} s"
    inputs = [f"{name}_injected" for name in cut]
    return LinearSystem(a, b, y[:, :shift], y[:, shift:], states, inputs, [*cut, *more], units, period, title)


def _held(a: Floats, b: Floats, period: float, late: Sequence[float]) -> tuple[Floats, Floats, Floats]:
    """Return a state over a period under held inputs that change ``late`` (s) after its beginning.

    The transition, and what the new and the old value of each input add.
    """
    phi, whole, _ = input_step(a, b, period)
    new = whole.copy()
    for time in {t for t in late if t > 0.0}:
        columns = [k for k, t in enumerate(late) if t == time]
        rest = period - time
        new[:, columns] = input_step(a, b[:, columns], rest)[1] if rest > 1e-12 * period else 0.0
    return phi, new, whole - new
