"""The one way to the compiler: functions compiled once per user, kept on disk as machine code, called without it.

Numba compiles; what it makes is loaded from disk by llvmlite alone, so that who only uses the kernel does not wait
half a second for the compiler to load.
"""

from dravik.compiled.functions import address_of, compiled, inlined, intrinsic
from dravik.compiled.object_files import MachineCode, host_machine, kept

__all__ = [
    "MachineCode",
    "address_of",
    "compiled",
    "host_machine",
    "inlined",
    "intrinsic",
    "kept",
]
