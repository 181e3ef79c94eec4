"""From a function to a module in LLVM's language: Numba compiles it, and a wrapper for Python is put before it."""

import contextlib
import gc
from collections.abc import Iterator
from typing import Any

import llvmlite.binding as llvm
import numpy as np
from llvmlite import ir
from numba import types

from dravik.compiled.call_wrappers import HEADER, ITEMS, KNOWN, Kinds, classes

__all__ = ["machine_text", "numba_types"]

INT, SMALL = ir.IntType(64), ir.IntType(32)
OBJECT = ir.IntType(8).as_pointer()  # the address of an object, or of anything
NULL = ir.Constant(OBJECT, None)
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
    """Return a module with a function compiled for arguments of some kinds and with its wrapper, and their names.

    The wrapper is a method as Python calls it: a tuple of known objects, the addresses of the arguments, their count.
    """
    arguments = numba_types(kinds)
    with _nothing_collected():
        dispatcher.compile(arguments)
    made = dispatcher.overloads[arguments]
    context = made.target_context
    kind = context.call_conv.get_function_type(made.signature.return_type, arguments)
    name = made.fndesc.llvm_func_name
    module = ir.Module("wrapper")
    function = ir.Function(module, kind, name)
    writer = _Writer(module, "door_" + made.fndesc.mangled_name, kinds)
    builder = writer.builder
    values = [v for k, one in enumerate(kinds) for v in writer.unpacked(writer.object(writer.args, 8 * k), one)]
    room, problem = builder.alloca(kind.args[0].pointee), builder.alloca(kind.args[1].pointee)
    passed = [writer.given(value, wanted) for value, wanted in zip(values, kind.args[2:], strict=True)]
    thread = writer.python("PyEval_SaveThread", OBJECT, [])  # others may run meanwhile
    builder.call(function, [room, problem, *passed])
    writer.python("PyEval_RestoreThread", ir.VoidType(), [thread])
    writer.give_back(builder.load(room), made.signature.return_type)
    whole = llvm.parse_assembly(made.library.get_llvm_str())
    whole.link_in(llvm.parse_assembly(str(module)))
    return str(whole), {"function": name, "wrapper": writer.wrapper.name}


@contextlib.contextmanager
def _nothing_collected() -> Iterator[None]:
    """Leave rubbish where it is for a while: a compiler makes millions of objects that it still needs.

    To look through them again and again for some that are not needed takes an eighth of its time.
    """
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


class _Writer:
    """Writes a wrapper. Each object is looked at before it is used: its class; dtype, dimensions, flags of an array.

    ``places`` says where in the tuple of known objects each stands; the first is called if an argument is refused.
    """

    def __init__(self, module: ir.Module, name: str, kinds: Kinds) -> None:
        self.module = module
        self.wrapper = ir.Function(module, ir.FunctionType(OBJECT, [OBJECT, OBJECT, INT]), name)
        self.known, self.args, count = self.wrapper.args
        self.places: dict[Any, int] = {k: place for place, k in enumerate([*KNOWN, *classes(kinds)], 1)}
        self.builder = ir.IRBuilder(self.wrapper.append_basic_block("wrapper"))
        self.refused, self.failed = (
            self.wrapper.append_basic_block("refused"),
            self.wrapper.append_basic_block("failed"),
        )
        self.demand(self.builder.icmp_signed("==", count, ir.Constant(INT, len(kinds))))
        onward = self.builder.block
        self.builder.position_at_end(self.refused)
        given = [self.object(self.known, ITEMS), self.args, count, NULL]
        self.builder.ret(self.python("PyObject_Vectorcall", OBJECT, given))
        self.builder.position_at_end(self.failed)
        self.builder.ret(NULL)
        self.builder.position_at_end(onward)

    def python(self, name: str, returned: Any, values: list[Any]) -> Any:
        """Call a function that Python offers to modules written in C."""
        function = self.module.globals.get(name)
        if function is None:
            function = ir.Function(self.module, ir.FunctionType(returned, [v.type for v in values]), name)
        return self.builder.call(function, values)

    def at(self, address: Any, offset: int) -> Any:
        """Return an address so many bytes on."""
        return self.builder.gep(address, [ir.Constant(INT, offset)])

    def load(self, address: Any, offset: int, kind: Any) -> Any:
        """Return what stands at an address."""
        return self.builder.load(self.builder.bitcast(self.at(address, offset), kind.as_pointer()))

    def object(self, address: Any, offset: int) -> Any:
        """Return the address of an object, which stands at an address."""
        return self.load(address, offset, OBJECT)

    def demand(self, condition: Any, otherwise: Any = None) -> None:
        """Go on only if a condition holds."""
        onward = self.wrapper.append_basic_block()
        self.builder.cbranch(condition, onward, otherwise or self.refused)
        self.builder.position_at_end(onward)

    def known_object(self, what: Any) -> Any:
        """Return the address of an object that is known."""
        return self.object(self.known, ITEMS + 8 * self.places[what])

    def is_known(self, address: Any, what: Any) -> Any:
        """Return whether an address is that of an object that is known."""
        return self.builder.icmp_unsigned("==", address, self.known_object(what))

    def class_of(self, found: Any) -> Any:
        """Return the address of an object's class: the last word before what is its own."""
        return self.object(found, HEADER - 8)

    def unpacked(self, found: Any, kind: Any) -> list[Any]:
        """Return the values that Numba passes for an argument, which is an object."""
        if isinstance(kind, type):
            self.demand(self.is_known(self.class_of(found), kind))
            items: Kinds = kind.kinds  # type: ignore[attr-defined]
            return [v for k, i in enumerate(items) for v in self.unpacked(self.object(found, ITEMS + 8 * k), i)]
        return [self._number(found, kind)] if kind in _SCALARS else self._array(found, kind)

    def _number(self, found: Any, kind: str) -> Any:
        builder = self.builder
        if kind == "b":
            true, false = self.is_known(found, "true"), self.is_known(found, "false")
            self.demand(builder.or_(true, false))
            return true
        own = self.class_of(found)
        if kind == "f":
            # NumPy's own class of numbers derives from Python's, and begins like it
            self.demand(builder.or_(self.is_known(own, "float"), self.is_known(own, "float64")))
            return self.load(found, HEADER, ir.DoubleType())
        self.demand(self.is_known(own, "int"))
        value = self.python("PyLong_AsLongLong", INT, [found])
        doubtful, onward = self.wrapper.append_basic_block(), self.wrapper.append_basic_block()
        builder.cbranch(builder.icmp_signed("==", value, ir.Constant(INT, -1)), doubtful, onward)
        builder.position_at_end(doubtful)
        problem = self.python("PyErr_Occurred", OBJECT, [])
        builder.cbranch(builder.icmp_unsigned("==", problem, NULL), onward, self.failed)
        builder.position_at_end(onward)
        return value

    def _array(self, found: Any, kind: str) -> list[Any]:
        """Return what Numba passes for an array without gaps: owner, parent, counts, address, shape and strides."""
        builder, (dtype, dimensions) = self.builder, kind.split(":")
        self.demand(self.is_known(self.class_of(found), "array"))
        # NumPy's array: address, count of dimensions, dimensions, strides, owner, dtype, flags
        numbers, sizes = (self.object(found, HEADER + 8 * k) for k in (0, 2))
        # NumPy gives each array that was unpickled a dtype object of its own: what it says counts, not which it is.
        # Behind its class: kind, letter, byte order, flags, and its number among the dtypes
        said, wanted = (
            self.load(one, HEADER + 8, INT) for one in (self.object(found, HEADER + 40), self.known_object(dtype))
        )
        self.demand(builder.icmp_unsigned("==", said, wanted))
        self.demand(builder.icmp_signed("==", self.load(found, HEADER + 8, SMALL), ir.Constant(SMALL, int(dimensions))))
        flags = builder.and_(self.load(found, HEADER + 48, SMALL), ir.Constant(SMALL, WHOLE))
        self.demand(builder.icmp_signed("==", flags, ir.Constant(SMALL, WHOLE)))
        shape = [self.load(sizes, 8 * k, INT) for k in range(int(dimensions))]
        size = ir.Constant(INT, np.dtype(dtype).itemsize)
        strides: list[Any] = [size]
        for length in reversed(shape):
            strides.insert(0, builder.mul(strides[0], length))
        return [NULL, NULL, builder.sdiv(strides[0], size), size, numbers, *shape, *strides[1:]]

    def given(self, value: Any, wanted: Any) -> Any:
        """Return a value as Numba's function takes it."""
        kind = wanted if isinstance(wanted, ir.Type) else wanted.type
        if isinstance(kind, ir.PointerType):
            return self.builder.bitcast(value, kind)
        if isinstance(kind, ir.IntType) and kind.width > value.type.width:
            return self.builder.zext(value, kind)
        return value

    def give_back(self, value: Any, returned: Any) -> None:
        """Return an object made of what the function returned: a number, a flag, None, or a tuple of such."""
        builder = self.builder
        if not isinstance(returned, types.BaseTuple):
            builder.ret(self._object_of(value, returned))
            return
        parts: list[Any] = [*returned]  # type: ignore[misc]
        made = self.python("PyTuple_New", OBJECT, [ir.Constant(INT, len(parts))])
        self.demand(builder.icmp_unsigned("!=", made, NULL), self.failed)
        for k, kind in enumerate(parts):
            part = self._object_of(builder.extract_value(value, k), kind)
            self.python("PyTuple_SetItem", SMALL, [made, ir.Constant(INT, k), part])
        builder.ret(made)

    def _object_of(self, value: Any, kind: Any) -> Any:
        if kind == types.none:
            none = self.known_object("none")
            self.python("Py_IncRef", ir.VoidType(), [none])
            return none
        if kind == types.boolean:
            wide = self.builder.zext(value, INT) if value.type.width < INT.width else value
            return self.python("PyBool_FromLong", OBJECT, [wide])
        if isinstance(kind, types.Float):
            return self.python("PyFloat_FromDouble", OBJECT, [value])
        return self.python("PyLong_FromLongLong", OBJECT, [value])
