"""Functions that remember something from step to step: what each gives, and what its cells hold next.

Cells change between the integrator's steps only, all at once, from the signals of that instant. Outside a flight, in a
trim or a linear model, a function with a value at rest gives that (a hold passes its argument), and ``previous`` is a
lag with its period as time constant: where a difference equation stands still, and its look-alike at low frequencies.
"""

from dravik.formula import dynamics, readings
from dravik.formula.functions import FUNCTIONS
from dravik.formula.layout import Cell
from dravik.formula.parse import Node, name_node
from dravik.formula.readings import Builder

__all__ = ["MEMORY", "changes", "value"]

MEMORY = (
    "sampled", "previous", "moving_average", "hold_while", "latch", "hysteresis", "debounce", "counter", "timer",
    "blend", *readings.NAMES,
)  # fmt: skip
MOST_SAMPLES = 200  # of an average: each is a cell of its own
EDGE = 1e-9  # s: a time that is over within this is over


def _number(b: Builder, node: Node, i: int, least: float, strictly: bool = True) -> float:
    """Return a constant argument of a call; raises FormulaError for one that is none, or not ``least`` or above."""
    register, name = b.compile(node.args[i]), FUNCTIONS[node.name].arguments[i]
    # cells are laid out once, before the flight: a period or a count cannot change on the way
    if not b.is_constant(register):
        b.fail(f"the {name} of {node.name} must be a constant", node.args[i].position)
    number = b.values[register]
    if number < least or (strictly and number == least):
        # in a law with a rate the period is put in for the reader, so the hint tells where it would come from
        words = "above" if strictly else "at least"
        hint = "in a law with a rate it is that rate's unless given" if name == "period" else ""
        b.fail(f"the {name} of {node.name} must be {words} {least:g}", node.args[i].position, hint)
    return number


def _true(b: Builder, node: Node, i: int) -> int:
    """Return a register that is 1 where an argument is true, 0 elsewhere."""
    # any number that is not zero is true; cells hold 0 or 1 only, so that sums and comparisons of them work
    return b.emit("ne", b.compile(node.args[i]), b.constant(0.0))


def value(b: Builder, node: Node) -> int:
    """Add the cells of one call and return the register of its value."""
    if node.name in readings.NAMES:
        return readings.value(b, node)
    match node.name:
        case "sampled":
            return _hold(b, node)
        case "previous":
            # the lag of the look-alike is a state, which a flight carries along and does not read
            period = _number(b, node, 1, 0.0)
            cell, sample = b.new_cell("", node), b.new_cell("sample", node)
            cell.period = sample.period = period
            # it is taken after all others have changed, so that a difference equation reads its own new value
            sample.last = True
            cell.start = sample.start = dynamics.value(b, Node("call", node.position, "lag", args=node.args))
            return _ranked(b, b.emit("remembered", cell.register, cell.start), 1)
        case "moving_average":
            return _average(b, node)
        case "hold_while":
            cell = b.new_cell("held", node)
            x, held = b.compile(node.args[0]), b.compile(node.args[1])
            return b.emit("if_else", held, b.emit("remembered", cell.register, x), x)
        case "latch" | "hysteresis" | "debounce":
            cell = b.new_cell("", node)
            cell.initial = float(_number(b, node, 2 if node.name != "hysteresis" else 3, 0.0, strictly=False) != 0.0)
            if node.name == "debounce":
                b.new_cell("since", node).quiet = True
            return cell.register
        case "counter":
            cell = b.new_cell("", node)
            b.new_cell("before", node).quiet = True
            return cell.register
        case "timer":
            since, before = b.new_cell("since", node), b.new_cell("before", node)
            since.quiet = before.quiet = True
            # nought until the condition is remembered: in the step in which it becomes true, since is that of last time
            running = b.emit("and", b.compile(node.args[0]), before.register)
            return b.emit("if_else", running, b.emit("sub", _time(b), since.register), b.constant(0.0))
    return _blend(b, node)


def _time(b: Builder) -> int:
    return b.compile(name_node("time"))


def _hold(b: Builder, node: Node) -> int:
    x = b.compile(node.args[0])
    period, late = _number(b, node, 1, 0.0), _number(b, node, 2, 0.0, strictly=False)
    # a second sample would be taken before the first is read; the share allows for rounding of the two times
    if late > period * (1.0 + 1e-9):
        b.fail(f"the delay of {late:g} s is longer than the period of {period:g} s", node.args[2].position)
    sample = b.new_cell("sample", node)
    sample.period, sample.rank = period, b.ranks[x]
    if late == 0.0:
        return _ranked(b, b.emit("remembered", sample.register, x), sample.rank + 1)
    out = b.new_cell("held", node)
    out.period, out.late, sample.quiet = period, late, True
    return _ranked(b, b.emit("remembered", out.register, x), 1)


def _ranked(b: Builder, register: int, rank: int) -> int:
    """Return a register, with its rank raised."""
    b.ranks[register] = max(rank, b.ranks[register])
    return register


def _average(b: Builder, node: Node) -> int:
    count, period = _number(b, node, 1, 1.0, strictly=False), _number(b, node, 2, 0.0)
    if count != int(count) or count > MOST_SAMPLES:
        b.fail(
            f"an average of {count:g} samples cannot be formed",
            node.args[1].position,
            f"a whole number up to {MOST_SAMPLES}",
        )
    x, total = b.compile(node.args[0]), -1
    for _ in range(int(count)):
        cell = b.new_cell("sample", node)
        # a sample of a sample is taken after it at the same instant: an average of filtered values lags by nothing more
        cell.period, cell.rank = period, b.ranks[x]
        total = cell.register if total < 0 else b.emit("add", total, cell.register)
    # the sum is formed anew each time: a running one would gather rounding over hours
    mean = b.emit("div", total, b.constant(count))
    return _ranked(b, b.emit("remembered", mean, x), b.ranks[x] + 1)


def _blend(b: Builder, node: Node) -> int:
    """Return the register of x + difference exp(-(time since the key changed)/time constant)."""
    x, key, fade = (b.compile(a) for a in node.args)
    if b.is_constant(fade) and not b.values[fade] > 0.0:
        b.fail("blend needs a time_constant above zero", node.args[2].position)
    difference, since = b.new_cell("difference", node), b.new_cell("since", node)
    last, last_key = b.new_cell("last", node), b.new_cell("key", node)
    since.quiet = last.quiet = last_key.quiet = True
    last_key.start = key
    # since minus time is negative: the exponential falls from 1 when the key changes
    passed = b.emit("div", b.emit("sub", since.register, _time(b)), fade)
    left = b.emit("mul", difference.register, b.emit("exp", passed))
    # while a new key is not remembered yet, the value is the last one
    settled = b.emit("eq", key, last_key.register)
    last.start = b.emit("remembered", b.emit("if_else", settled, b.emit("add", x, left), last.register), x)
    return last.start


def changes(b: Builder, cells: list[Cell], node: Node) -> None:
    """Compile what the cells of one call hold next; ``cells`` in the order in which ``value`` made them."""
    first = cells[0]
    if node.name in readings.NAMES:
        readings.changes(b, cells, node)
        return
    match node.name:
        case "sampled":
            first.next = first.start = b.compile(node.args[0])
            if len(cells) > 1:
                cells[1].next, cells[1].start = first.register, first.next
        case "previous":
            # the sample is taken when everything has changed: with this function's own new value in it
            first.next, cells[1].next = cells[1].register, b.compile(node.args[0])
        case "moving_average":
            x = b.compile(node.args[0])
            # each takes over from the one before it: a shift register, newest first
            for cell, before in zip(cells, [x, *(c.register for c in cells)], strict=False):
                cell.next, cell.start = before, x
        case "hold_while":
            first.start = b.compile(node.args[0])
            first.next = b.emit("if_else", b.compile(node.args[1]), first.register, first.start)
        case "latch":
            on, off = _true(b, node, 0), _true(b, node, 1)
            first.next = b.emit("and", b.emit("or", on, first.register), b.emit("not", off))
        case "hysteresis":
            x, low, high = (b.compile(a) for a in node.args[:3])
            if b.is_constant(low) and b.is_constant(high) and b.values[low] >= b.values[high]:
                b.fail("the lower threshold of hysteresis is not below its upper one", node.args[1].position)
            # once on it stays on at the lower threshold itself, and goes off only below it
            kept = b.emit("and", first.register, b.emit("ge", x, low))
            first.next = b.emit("or", b.emit("gt", x, high), kept)
        case "debounce":
            _debounce(b, first, cells[1], node)
        case "counter":
            x = _true(b, node, 0)
            # counts the moment of becoming true, not the steps in which it is true
            risen = b.emit("and", x, b.emit("not", cells[1].register))
            first.next = b.emit(
                "if_else", b.compile(node.args[1]), b.constant(0.0), b.emit("add", first.register, risen)
            )
            cells[1].next = cells[1].start = x
        case "timer":
            x = _true(b, node, 0)
            first.next = b.emit("if_else", b.emit("and", x, cells[1].register), first.register, _time(b))
            first.start, cells[1].next, cells[1].start = _time(b), x, x
        case "blend":
            _blended(b, cells, node)


def _debounce(b: Builder, out: Cell, since: Cell, node: Node) -> None:
    now, time = _true(b, node, 0), _time(b)
    same = b.emit("eq", now, out.register)
    since.next, since.start = b.emit("if_else", same, time, since.register), time
    # the time is a sum of steps: without the allowance it would come one step late for some step lengths
    lasted = b.emit("ge", b.emit("sub", time, since.register), b.emit("sub", b.compile(node.args[1]), b.constant(EDGE)))
    out.next = b.emit("if_else", lasted, now, out.register)


def _blended(b: Builder, cells: list[Cell], node: Node) -> None:
    difference, since, last, last_key = cells
    x, key = b.compile(node.args[0]), b.compile(node.args[1])
    changed = b.emit("ne", key, last_key.register)
    difference.next = b.emit("if_else", changed, b.emit("sub", last.register, x), difference.register)
    since.next, since.start = b.emit("if_else", changed, _time(b), since.register), _time(b)
    # while the key is new, the last value is still that of the old one
    last.next = b.emit("if_else", changed, last.register, last.start)
    last_key.next = key
