"""Calls of compiled functions at an address: what calls them is compiled without them, in a fraction of the time.

Numba links the machine code of a function into each of its callers. The interpreter and ``evaluate``, which nearly
all of the kernel calls, would be compiled a dozen times; their addresses stand in a program's ``layout`` instead.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import inlined, intrinsic
from dravik.kernel.program import EVALUATE, Program, Workspace

__all__ = [
    "DEVICE_KINDS",
    "EVALUATE_KINDS",
    "RUN_TAPE_KINDS",
    "call_device",
    "call_evaluate",
    "call_own_code",
    "call_run_tape",
    "matrix_at",
]

Floats = NDArray[np.float64]

#: Kinds of the arguments of ``interpreter.run_tape``, of a device and of ``motion.evaluate``, called at addresses.
RUN_TAPE_KINDS = (*Program.kinds, "f8:1", "i8:1", "f8:2", "i", "i", "b")
DEVICE_KINDS = ("f8:1", "f8:1", "f")
EVALUATE_KINDS = (Program, Workspace, "f", "f8:1", "f8:1", "f8:1", "b", "i")


def _call(arguments: tuple[Any, ...]) -> Any:
    """Return the code generator of a call by Numba's own convention; the first argument is the address."""
    from numba import types
    from numba.core import cgutils as _cgutils

    cgutils: Any = _cgutils

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        kind = context.call_conv.get_function_type(types.none, arguments)
        function = builder.inttoptr(args[0], kind.as_pointer())
        # errors of the callee go on to the caller, as if it had been linked
        status, _ = context.call_conv.call_function(builder, function, types.none, arguments, args[1:])
        with cgutils.if_unlikely(builder, status.is_error):
            context.call_conv.return_status_propagate(builder, status)
        return context.get_dummy_value()

    return generate


@intrinsic
def call_run_tape(
    typing: Any, address: Any, code: Any, layout: Any, numbers: Any, reg: Any, counters: Any, worst: Any,
    start: Any, stop: Any, steady: Any,
) -> Any:  # fmt: skip
    """Call the interpreter at its address."""
    from numba import types

    from dravik.compiled.modules import numba_types

    arguments = numba_types(RUN_TAPE_KINDS)
    return types.void(address, code, layout, numbers, reg, counters, worst, *arguments[6:]), _call(arguments)


@intrinsic
def _evaluate_at(
    typing: Any, address: Any, program: Any, work: Any, t: Any, x: Any, u: Any, dx: Any, steady: Any, extent: Any
) -> Any:
    """Call ``motion.evaluate`` at an address."""
    from numba import types

    from dravik.compiled.modules import numba_types

    # numbers are turned into the kinds that the callee was compiled for; arrays are of these kinds already
    arguments = numba_types(EVALUATE_KINDS)
    return types.void(address, program, work, arguments[2], x, u, dx, *arguments[6:]), _call(arguments)


@intrinsic
def call_own_code(typing: Any, address: Any, reg: Any, numbers: Any, counters: Any, worst: Any, steady: Any) -> Any:
    """Call a stage's machine code at its address."""
    from llvmlite import ir
    from numba import types

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        arrays = zip(signature.args[1:5], args[1:5], strict=True)
        # the code knows its sizes: it takes bare addresses, not arrays with shape and strides
        pointers = [context.make_array(kind)(context, builder, value).data for kind, value in arrays]
        whole = ir.IntType(64)
        kind = ir.FunctionType(ir.VoidType(), [*(p.type for p in pointers), whole])
        function = builder.inttoptr(args[0], kind.as_pointer())
        builder.call(function, [*pointers, builder.zext(args[5], whole)])
        return context.get_dummy_value()

    return types.void(address, reg, numbers, counters, worst, steady), generate


@intrinsic
def call_device(typing: Any, address: Any, own: Any, registers: Any, t: Any) -> Any:
    """Call a device of compiled code at its address."""
    from numba import types

    from dravik.compiled.modules import numba_types

    arguments = numba_types(DEVICE_KINDS)
    return types.void(address, own, registers, arguments[2]), _call(arguments)


@intrinsic
def matrix_at(typing: Any, numbers: Any, start: Any, rows: Any, columns: Any) -> Any:
    """Return a matrix that stands in an array of numbers; Numba's own reshape needs Numba's library in the process."""
    from numba import types
    from numba.np import arrayobj as _arrayobj

    arrayobj: Any = _arrayobj
    kind = types.Array(types.float64, 2, "C")

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        source = context.make_array(signature.args[0])(context, builder, args[0])
        found = context.make_array(kind)(context, builder)
        size = context.get_constant(types.intp, 8)
        arrayobj.populate_array(
            found, data=builder.gep(source.data, [args[1]]), shape=[args[2], args[3]],
            strides=[builder.mul(args[3], size), size], itemsize=size, meminfo=None,
        )  # fmt: skip
        return found._getvalue()

    return kind(numbers, types.intp, types.intp, types.intp), generate


@inlined
def call_evaluate(
    program: Program, work: Workspace, t: float, x: Floats, u: Floats, dx: Floats, steady: bool, extent: int
) -> None:
    """Do what ``motion.evaluate`` does, by the address in the program."""
    _evaluate_at(program.layout[EVALUATE], program, work, t, x, u, dx, steady, extent)  # type: ignore[call-arg]
