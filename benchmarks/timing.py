"""The time of an action: the least of several takes, since what else the machine does only adds."""

import time
from collections.abc import Callable, Mapping


def least(action: Callable[[], object], takes: int, inner: int = 1) -> float:
    """Return the least time of one action over several takes, s: what else the machine does only adds."""
    action()
    times = []
    for _ in range(takes):
        begun = time.perf_counter()
        for _ in range(inner):
            action()
        times.append((time.perf_counter() - begun) / inner)
    return min(times)


def in_turns(
    actions: Mapping[str, Callable[[], object]], rounds: int = 12, *, before: Callable[[], object] = lambda: None
) -> dict[str, float]:
    """Return the least time of each action, s; they take turns, so that a slow minute of the machine hits them all.

    ``before`` is called before each, and not measured.
    """
    found = dict.fromkeys(actions, float("inf"))
    for _ in range(rounds):
        for name, action in actions.items():
            before()
            begun = time.perf_counter()
            action()
            found[name] = min(found[name], time.perf_counter() - begun)
    return found
