"""Calls from Python into machine code: what each argument is, and how it is handed over.

Arrays and named tuples go as the addresses of their Python objects, from which the machine code takes what it needs:
asking an array for its own address takes longer than most of the calls that are made here.
"""

import ctypes
import struct
from typing import Any

import numpy as np

from dravik.compiled.objects import MachineCode

__all__ = ["DTYPES", "HEADER", "ITEMS", "Door", "Kinds", "classes", "is_tuple_class", "kinds_of"]

#: Kinds of arguments: "f", "i", "b" for numbers and flags, dtype and dimensions of an array, a class of named tuples
#: whose attribute ``kinds`` says what its items are.
Kinds = tuple[Any, ...]

HEADER = object.__basicsize__  # where what is an array's own begins: first the address of its numbers
ITEMS = tuple.__basicsize__  # where the items of a tuple begin
_ARRAYS = {
    (letter, n): f"{np.dtype(letter).kind}{np.dtype(letter).itemsize}:{n}" for letter in "dilqB" for n in (1, 2, 3)
}
#: Numbers that arrays may hold, in the order in which a door knows them.
DTYPES = ("f8", "i8", "i4", "u1")
_CALL = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_char_p, ctypes.c_void_p, ctypes.c_char_p)
_FORMATS: dict[Any, str] = {"f": "d", "i": "q", "b": "q"}


def is_tuple_class(value: Any) -> bool:
    """Whether a value is a class of named tuples that a door takes."""
    return isinstance(value, type) and issubclass(value, tuple) and hasattr(value, "kinds")


def kinds_of(args: tuple[Any, ...]) -> Kinds | None:
    """Return what arguments are; None if one is of no kind that a door takes."""
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


class Door:
    """A function's machine code, and how its arguments of some kinds are handed over.

    The machine code itself looks whether each argument is what it should be, and does nothing if one is not.
    """

    def __init__(self, code: MachineCode, kinds: Kinds) -> None:
        self._code = code  # keeps it in memory
        self.address = code.address(code.facts["function"])
        self._call = _CALL(code.address(code.facts["door"]))
        self._numbers = [k for k, kind in enumerate(kinds) if kind in _FORMATS]
        self._pack = struct.Struct("".join(_FORMATS.get(kind, "q") for kind in kinds)).pack
        known = [np.ndarray, *(np.dtype(d) for d in DTYPES), *classes(kinds)]
        self._known = struct.pack(f"{len(known)}q", *map(id, known))
        self._kinds = kinds  # keeps the classes in memory
        returned: str = code.facts["returns"]
        self._result = struct.Struct("".join(_FORMATS[r] for r in returned))
        self._is_one = code.facts["is_one"]
        self._flags = [k for k, r in enumerate(returned) if r == "b"]

    def __call__(self, args: tuple[Any, ...]) -> tuple[bool, Any]:
        """Return whether the arguments are of the kinds of this door, and what the function returns."""
        values: list[Any] = list(map(id, args))
        try:
            for k in self._numbers:
                values[k] = args[k]
            packed = self._pack(*values)
        except (IndexError, struct.error):
            return False, None
        if not self._result.size:
            return self._call(packed, None, self._known) == 0, None
        room = ctypes.create_string_buffer(self._result.size)
        if self._call(packed, room, self._known) != 0:
            return False, None
        found = list(self._result.unpack(room))
        for k in self._flags:
            found[k] = bool(found[k])
        return True, found[0] if self._is_one else tuple(found)


def classes(kinds: Kinds) -> list[type]:
    """Return the classes of named tuples among kinds, in order."""
    return [kind for kind in kinds if isinstance(kind, type)]
