"""Calls from Python into machine code: what each argument is, and how it is handed over.

A wrapper is a function of Python's own kind, as a module written in C would have it: it is given the objects, takes
from them what the machine code needs, and makes an object of what is returned. Through ctypes a call would take 3 us
more.
"""

import ctypes
from collections.abc import Callable
from typing import Any

import numpy as np

from dravik.compiled.object_files import MachineCode

__all__ = ["HEADER", "ITEMS", "KNOWN", "CallWrapper", "Kinds", "classes", "is_tuple_class", "kinds_of", "numbers_as"]

#: Kinds of arguments: "f", "i", "b" for numbers and flags, dtype and dimensions of an array, a class of named tuples
#: whose attribute ``kinds`` says what its items are.
Kinds = tuple[Any, ...]

HEADER = object.__basicsize__  # where what is an object's own begins: of an array first the address of its numbers
ITEMS = tuple.__basicsize__  # where the items of a tuple begin
_ARRAYS = {
    (letter, n): f"{np.dtype(letter).kind}{np.dtype(letter).itemsize}:{n}" for letter in "dilqB" for n in (1, 2, 3)
}
#: Objects that every wrapper knows, by the names under which its instructions speak of them.
KNOWN: dict[str, Any] = {
    "array": np.ndarray, **{d: np.dtype(d) for d in ("f8", "i8", "i4", "u1")},
    "float": float, "float64": np.float64, "int": int, "true": True, "false": False, "none": None,
}  # fmt: skip
_NUMBERS: dict[Any, Callable[[Any], Any]] = {"f": float, "i": int, "b": bool}
_ARGUMENTS_IN_A_ROW = 0x80  # a flag of a method: the addresses of its arguments stand one behind the other
_NEW = ctypes.PYFUNCTYPE(ctypes.py_object, ctypes.c_void_p, ctypes.py_object, ctypes.c_void_p)


class _Method(ctypes.Structure):
    """What Python asks of a method written in C."""

    _fields_ = (("name", ctypes.c_char_p), ("code", ctypes.c_void_p), ("flags", ctypes.c_int), ("doc", ctypes.c_char_p))


def is_tuple_class(value: Any) -> bool:
    """Whether a value is a class of named tuples that a wrapper takes."""
    return isinstance(value, type) and issubclass(value, tuple) and hasattr(value, "kinds")


def kinds_of(args: tuple[Any, ...]) -> Kinds | None:
    """Return what arguments are; None if one is of no kind that a wrapper takes."""
    found = []
    for value in args:
        kind: Any
        if isinstance(value, np.ndarray):
            kind = _ARRAYS.get((value.dtype.char, value.ndim)) if value.flags.c_contiguous else None
        elif isinstance(value, bool | np.bool_):
            kind = "b"
        elif isinstance(value, float):
            kind = "f"
        elif isinstance(value, int | np.integer):
            kind = "i"
        else:
            kind = type(value) if hasattr(value, "kinds") else None
        if kind is None:
            return None
        found.append(kind)
    return tuple(found)


def numbers_as(kinds: Kinds, args: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return arguments of these kinds, their numbers of Python's own classes, which a wrapper takes."""
    return tuple(_NUMBERS[k](a) if k in _NUMBERS else a for k, a in zip(kinds, args, strict=True))


class CallWrapper:
    """A function's machine code, and the functions of Python by which it is called with arguments of some kinds.

    They look at each argument themselves. If one is not what it should be, ``call`` hands all of them to ``otherwise``,
    and ``last_call`` to ``by_compiler``.
    """

    def __init__(
        self, code: MachineCode, kinds: Kinds, otherwise: Callable[..., Any], by_compiler: Callable[..., Any]
    ) -> None:
        self.address = code.address(code.facts["function"])
        method = _Method(b"compiled", code.address(code.facts["wrapper"]), _ARGUMENTS_IN_A_ROW, None)
        new = _NEW(("PyCFunction_NewEx", ctypes.pythonapi))
        calls = []
        for refused in (otherwise, by_compiler):
            # the first items are read by their places; the machine code and the method are only kept in memory
            items = (refused, *KNOWN.values(), *classes(kinds), code, method)
            calls.append(new(ctypes.addressof(method), items, None))
        self.call: Callable[..., Any] = calls[0]
        self.last_call: Callable[..., Any] = calls[1]


def classes(kinds: Kinds) -> list[type]:
    """Return the classes of named tuples among kinds, in order."""
    return [kind for kind in kinds if isinstance(kind, type)]
