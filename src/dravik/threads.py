"""How many threads are used, and that those of matrix libraries do not take the time of Dravik's own."""

import contextlib
import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

__all__ = ["cores", "in_threads", "matrices_in_one_thread", "one_thread_for_matrices"]

T = TypeVar("T")
S = TypeVar("S")
MATRIX_THREADS = ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")  # what libraries read when they are loaded


def cores() -> int:
    """Return the cores that this process may use.

    >>> cores() >= 1
    True
    """
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def one_thread_for_matrices() -> None:
    """Have matrix libraries that are loaded from now on use one thread, unless the user has said how many."""
    for name in MATRIX_THREADS:
        os.environ.setdefault(name, "1")


@contextlib.contextmanager
def matrices_in_one_thread() -> Iterator[None]:
    """Keep matrix libraries to one thread for a while.

    The matrices here are small. A library's other threads would gain nothing with them, but wait for more in a loop
    that keeps a core from those who write a recording or fly beside.
    """
    import threadpoolctl

    with threadpoolctl.threadpool_limits(1, user_api="blas"):
        yield


def in_threads(act: Callable[[T], S], items: Iterable[T]) -> list[S]:
    """Return what ``act`` returns for each item, in order, with as many at once as there are cores.

    The kernel holds no lock of Python's, so flights run side by side; what is Python itself does not. Raises what
    ``act`` raises for the first item in order that fails.

    >>> in_threads(abs, [-1, 2])
    [1, 2]
    """
    listed = list(items)
    if len(listed) < 2 or cores() < 2:
        return [act(item) for item in listed]
    with matrices_in_one_thread(), ThreadPoolExecutor(min(cores(), len(listed))) as pool:
        return list(pool.map(act, listed))
