"""From a function to a module in LLVM's language: Numba compiles it, and a door for Python is put before it."""

from typing import Any

import llvmlite.binding as llvm
import numpy as np
from llvmlite import ir
from numba import types

from dravik.compiled.doors import DTYPES, HEADER, ITEMS, Kinds, classes

__all__ = ["machine_text", "numba_types"]

INT, SMALL, BYTE = ir.IntType(64), ir.IntType(32), ir.IntType(8)
WHOLE = 0x101  # flags of an array: without gaps in C's order, and aligned
_DTYPES = {"f8": types.float64, "i8": types.int64, "i4": types.int32, "u1": types.uint8}
_SCALARS = {"f": types.float64, "i": types.int64, "b": types.boolean}


def numba_types(kinds: Kinds) -> tuple[Any, ...]:
    """Return Numba's types of arguments of some kinds."""
    named: Any = types.NamedTuple
    found: list[Any] = []
    for kind in kinds:
        if isinstance(kind, type):
            found.append(named(numba_types(kind.kinds), kind))  # type: ignore[attr-defined]
        elif kind in _SCALARS:
            found.append(_SCALARS[kind])
        else:
            dtype, _, dimensions = kind.partition(":")
            found.append(types.Array(_DTYPES[dtype], int(dimensions), "C"))
    return tuple(found)


def machine_text(dispatcher: Any, kinds: Kinds) -> tuple[str, dict[str, Any]]:
    """Return a module with a function compiled for arguments of some kinds and with its door, and their names.

    The door takes the address of the packed arguments, and of the room for what is returned.
    """
    arguments = numba_types(kinds)
    dispatcher.compile(arguments)
    made = dispatcher.overloads[arguments]
    context = made.target_context
    returned = made.signature.return_type
    kind = context.call_conv.get_function_type(returned, arguments)
    name = made.fndesc.llvm_func_name
    module = ir.Module("door")
    function = ir.Function(module, kind, name)
    door = _door(module, "door_" + made.fndesc.mangled_name)
    writer = _Writer(door, kinds)
    values = [v for k, one in enumerate(kinds) for v in writer.unpacked(writer.at(door.args[0], 8 * k), one)]
    builder = writer.builder
    room, problem = builder.alloca(kind.args[0].pointee), builder.alloca(kind.args[1].pointee)
    passed = [writer.given(value, wanted) for value, wanted in zip(values, kind.args[2:], strict=True)]
    builder.call(function, [room, problem, *passed])
    results = _results(returned)
    if results:
        writer.give_back(builder.load(room), len(results))
    builder.ret(ir.Constant(SMALL, 0))
    whole = llvm.parse_assembly(made.library.get_llvm_str())
    whole.link_in(llvm.parse_assembly(str(module)))
    facts = {
        "function": name,
        "door": door.name,
        "returns": "".join(results),
        "is_one": not isinstance(returned, types.BaseTuple),
    }
    return str(whole), facts


def _door(module: ir.Module, name: str) -> ir.Function:
    return ir.Function(module, ir.FunctionType(SMALL, [BYTE.as_pointer()] * 3), name)


def _results(returned: Any) -> list[str]:
    """Return what is returned, as kinds."""
    if returned == types.none:
        return []
    parts: list[Any] = [*returned] if isinstance(returned, types.BaseTuple) else [returned]  # type: ignore[misc]
    return ["b" if p == types.boolean else "f" if isinstance(p, types.Float) else "i" for p in parts]


class _Writer:
    """Writes a door: its arguments are the packed values, the room for what is returned, and the known objects.

    Each object is looked at before it is used: its class, and of an array dtype, dimensions and flags.
    """

    def __init__(self, door: ir.Function, kinds: Kinds) -> None:
        self.builder, self.door = ir.IRBuilder(door.append_basic_block()), door
        self.known: dict[Any, int] = {np.ndarray: 0} | {d: k for k, d in enumerate(DTYPES, 1)}
        self.known |= {c: k for k, c in enumerate(classes(kinds), 1 + len(DTYPES))}
        refused = door.append_basic_block()
        ir.IRBuilder(refused).ret(ir.Constant(SMALL, 1))
        self.refused = refused

    def at(self, address: Any, offset: int) -> Any:
        """Return an address so many bytes on."""
        return self.builder.gep(address, [ir.Constant(INT, offset)])

    def load(self, address: Any, offset: int, kind: Any) -> Any:
        """Return what stands at an address."""
        return self.builder.load(self.builder.bitcast(self.at(address, offset), kind.as_pointer()))

    def demand(self, condition: Any) -> None:
        """Go on only if a condition holds."""
        onward = self.door.append_basic_block()
        self.builder.cbranch(condition, onward, self.refused)
        self.builder.position_at_end(onward)

    def demand_known(self, address: Any, what: Any) -> None:
        """Go on only if an address is that of an object that is known."""
        wanted = self.load(self.door.args[2], 8 * self.known[what], INT)
        self.demand(self.builder.icmp_signed("==", address, wanted))

    def unpacked(self, place: Any, kind: Any) -> list[Any]:
        """Return the values that Numba passes for an argument, whose number or object's address stands at a place."""
        if kind == "f":
            return [self.load(place, 0, ir.DoubleType())]
        if kind in _SCALARS:
            return [self.load(place, 0, INT)]
        found = self.load(place, 0, BYTE.as_pointer())
        # of every object of Python, the word before its own is the address of its class
        self.demand_known(self.load(found, HEADER - 8, INT), kind if isinstance(kind, type) else np.ndarray)
        if isinstance(kind, type):
            items: Kinds = kind.kinds  # type: ignore[attr-defined]
            return [v for k, item in enumerate(items) for v in self.unpacked(self.at(found, ITEMS + 8 * k), item)]
        return self._array(found, kind)

    def _array(self, found: Any, kind: str) -> list[Any]:
        """Return what Numba passes for an array without gaps: owner, parent, counts, address, shape and strides."""
        builder, (dtype, dimensions) = self.builder, kind.split(":")
        # NumPy's array: address, count of dimensions, dimensions, strides, owner, dtype, flags
        numbers, sizes = (self.load(found, HEADER + 8 * k, BYTE.as_pointer()) for k in (0, 2))
        self.demand_known(self.load(found, HEADER + 40, INT), dtype)
        self.demand(builder.icmp_signed("==", self.load(found, HEADER + 8, SMALL), ir.Constant(SMALL, int(dimensions))))
        flags = builder.and_(self.load(found, HEADER + 48, SMALL), ir.Constant(SMALL, WHOLE))
        self.demand(builder.icmp_signed("==", flags, ir.Constant(SMALL, WHOLE)))
        shape = [self.load(sizes, 8 * k, INT) for k in range(int(dimensions))]
        size, nobody = ir.Constant(INT, np.dtype(dtype).itemsize), ir.Constant(BYTE.as_pointer(), None)
        strides: list[Any] = [size]
        for length in reversed(shape):
            strides.insert(0, builder.mul(strides[0], length))
        return [nobody, nobody, builder.sdiv(strides[0], size), size, numbers, *shape, *strides[1:]]

    def given(self, value: Any, wanted: Any) -> Any:
        """Return a value as Numba's function takes it."""
        kind = wanted if isinstance(wanted, ir.Type) else wanted.type
        if isinstance(kind, ir.PointerType):
            return self.builder.bitcast(value, kind)
        if isinstance(kind, ir.IntType) and kind.width < INT.width:
            return self.builder.trunc(value, kind)
        return value

    def give_back(self, value: Any, count: int) -> None:
        """Put what is returned into the room for it."""
        builder, is_many = self.builder, isinstance(value.type, ir.LiteralStructType | ir.ArrayType)
        for k in range(count):
            part = builder.extract_value(value, k) if is_many else value
            if isinstance(part.type, ir.IntType) and part.type.width < INT.width:
                part = builder.zext(part, INT)
            builder.store(part, builder.bitcast(self.at(self.door.args[1], 8 * k), part.type.as_pointer()))
