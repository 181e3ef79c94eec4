"""A way on where a release of Numba has other internals: its own compiler, in memory, nothing kept on disk."""

import warnings
from collections.abc import Callable
from functools import cache
from typing import Any

from dravik.compiled.call_wrappers import Kinds

__all__ = ["PlainCall", "internals_work"]


@cache
def internals_work() -> bool:
    """Whether the parts of Numba that are used here are as they were; a warning, once, where they are not.

    Only asked for where something is to be compiled: what lies on disk was made by the same release.
    """
    try:
        import numba

        from dravik.compiled.compiler import TextOnly
        from dravik.compiled.modules import machine_text

        options: dict[str, Any] = {"pipeline_class": TextOnly, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
        machine_text(numba.njit(**options)(_tried), ("f",))
    except Exception as error:  # whatever a release has changed: nothing that it can raise is known
        warnings.warn(
            f"this release of Numba has other internals ({type(error).__name__}: {error}): functions are compiled anew "
            "in each process, which takes a minute; pip install 'dravik' with the releases that it names",
            RuntimeWarning,
            stacklevel=2,
        )
        return False
    return True


def _tried(x: float) -> float:
    return 2.0 * x


class PlainCall:
    """A function compiled by Numba as it comes; what ``CallWrapper`` gives, without machine code of our own."""

    def __init__(self, dispatcher: Any, kinds: Kinds) -> None:
        from dravik.compiled.modules import numba_types

        arguments = numba_types(kinds)
        dispatcher.compile(arguments)
        made = dispatcher.overloads[arguments]
        self.address = int(made.library.get_pointer_to_function(made.fndesc.llvm_func_name))
        self.call: Callable[..., Any] = dispatcher
        self.last_call: Callable[..., Any] = dispatcher
