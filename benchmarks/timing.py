"""The time of an action: the least of several takes, since what else the machine does only adds."""

import time
from collections.abc import Callable


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
