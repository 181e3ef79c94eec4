"""How work is shared out to cores, and that the threads of matrix libraries do not take the time of Dravik's own."""

import contextlib
import os
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NoReturn, TypeVar

__all__ = ["cores", "in_threads", "matrices_in_one_thread", "one_thread_for_matrices", "shared_out"]

T = TypeVar("T")
S = TypeVar("S")
MATRIX_THREADS = ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")  # what libraries read when they are loaded
MEMORY_THREADS = ("jemalloc_bg_thd",)  # only give memory back, for an allocator that knows of copies of a process


@dataclass
class _Limit:
    """How many keep the matrix libraries to one thread now, and what takes that back."""

    users: int = 0
    taken_back: Callable[[], object] = object
    modules: int = -1  # that were imported when the libraries were looked for, which takes a millisecond
    libraries: Any = None
    lock: threading.Lock = field(default_factory=threading.Lock)


_limit = _Limit()


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

    # one for the whole process: the first sets it, and the last one, which may be another, takes it back
    with _limit.lock:
        if _limit.modules != len(sys.modules):
            _limit.modules, _limit.libraries = len(sys.modules), threadpoolctl.ThreadpoolController()
        if not _limit.users:
            _limit.taken_back = _limit.libraries.limit(limits=1, user_api="blas").restore_original_limits
        _limit.users += 1
    try:
        yield
    finally:
        with _limit.lock:
            _limit.users -= 1
            if not _limit.users:
                _limit.taken_back()


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
    # each in the caller's context, in which it is said who is told of long work
    contexts = [copy_context() for _ in listed]
    with matrices_in_one_thread(), ThreadPoolExecutor(min(cores(), len(listed))) as pool:
        return list(pool.map(lambda context, item: context.run(act, item), contexts, listed))


def shared_out(act: Callable[[T], object], items: Iterable[T]) -> None:
    """Have ``act`` do for each item what remains when a process ends, such as writing a file, on all cores.

    For work that is Python itself, such as drawing, which threads do one at a time. Copies of this process take their
    shares where it has no other thread, which a copy would lack; elsewhere all is done here. What a copy fails in is
    done here again, so that the error is raised here.

    >>> shared_out(print, ["one"])
    one
    """
    listed = list(items)
    count = min(cores(), len(listed)) if _is_alone() else 1
    copies: dict[int, list[T]] = {}
    for k in range(1, count):
        share = listed[k::count]
        copy = os.fork()
        if copy == 0:
            _act_and_end(act, share)
        copies[copy] = share
    try:
        for item in listed[::count]:
            act(item)
    finally:
        failed = [share for copy, share in copies.items() if os.waitpid(copy, 0)[1] != 0]
    for share in failed:
        for item in share:
            act(item)


def _is_alone() -> bool:
    """Whether this process has no thread, those of libraries included, that a copy of it would miss."""
    tasks = Path("/proc/self/task")
    if not hasattr(os, "fork") or not tasks.is_dir():
        return False
    try:
        names = [(task / "comm").read_text().strip() for task in tasks.iterdir() if int(task.name) != os.getpid()]
    except OSError:  # one ended just now
        return False
    return all(name in MEMORY_THREADS for name in names)


def _act_and_end(act: Callable[[T], object], share: list[T]) -> NoReturn:
    """Do a copy's share, and end it without what the process itself does at its end."""
    code = 1
    try:
        for item in share:
            act(item)
        code = 0
    finally:
        os._exit(code)
