"""Long work that nobody asked for, such as compiling: whoever wants to say so while people wait is told of it."""

import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from contextvars import ContextVar

__all__ = ["announced", "announcing"]

Teller = Callable[[str], AbstractContextManager[object]]

_teller: ContextVar[Teller | None] = ContextVar("teller", default=None)


def announced(what: str) -> AbstractContextManager[object]:
    """Return what such work is done in, with a word for it."""
    teller = _teller.get()
    if teller is None and "ipykernel" in sys.modules:
        print(f"compiling {what}, once for each user", file=sys.stderr)  # who waits in a notebook sees what for
    return teller(what) if teller is not None else nullcontext()


@contextmanager
def announcing(teller: Teller) -> Iterator[None]:
    """Have ``teller`` called with a word for each such work; the work is done in what it returns.

    >>> def printed(what):
    ...     print(what)
    ...     return nullcontext()
    >>> with announcing(printed), announced("compiling"):
    ...     pass
    compiling
    """
    before = _teller.set(teller)
    try:
        yield
    finally:
        _teller.reset(before)
