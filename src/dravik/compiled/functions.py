"""Functions that are compiled: when first called, or when another that calls them is."""

import functools
import threading
import types
from collections.abc import Callable, Iterator
from hashlib import sha256
from typing import Any, ClassVar, TypeVar, cast

import numpy as np

from dravik.compiled.call_wrappers import CallWrapper, Kinds, is_tuple_class, kinds_of, numbers_as
from dravik.compiled.object_files import kept
from dravik.compiled.without_internals import PlainCall
from dravik.host.notices import announced

__all__ = ["address_of", "compiled", "inlined", "intrinsic"]

F = TypeVar("F", bound=Callable[..., object])
OPTIONS: dict[str, Any] = {"error_model": "numpy", "nogil": True, "_nrt": False}
BARE: dict[str, Any] = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}


class _OtherInternalsError(Exception):
    """Numba has other internals than those that are used here."""


class ForCompiler:
    """A function that Numba compiles where another that it compiles calls it."""

    _options: ClassVar[dict[str, Any]] = {**OPTIONS, **BARE}

    def __init__(self, function: Callable[..., object]) -> None:
        self.function = cast(types.FunctionType, function)
        self.__name__, self.__doc__, self.__module__ = function.__name__, function.__doc__, function.__module__
        self.__wrapped__ = function

    @functools.cached_property
    def dispatcher(self) -> Any:
        """Numba's object of the function."""
        import numba
        from numba.core import types as numba_types

        from dravik.compiled.without_internals import internals_work

        if not internals_work():
            return numba.njit(**self._options)(self.function)
        from dravik.compiled.compiler import TextOnly

        made = numba.njit(pipeline_class=TextOnly, **self._options)(self.function)
        call_template = made.get_call_template

        def without_literals(args: Any, kws: Any) -> Any:
            # for every constant among its arguments a function would be compiled anew, which inlining makes up for
            unliteral: Any = numba_types.unliteral
            return call_template(tuple(map(unliteral, args)), {k: unliteral(v) for k, v in kws.items()})

        made.get_call_template = without_literals
        return made

    @property
    def _numba_type_(self) -> Any:
        # what Numba asks of a global that it does not know
        return self.dispatcher._numba_type_


class Inlined(ForCompiler):
    """A function that only compiled ones can call, and that is compiled into each of them."""

    _options: ClassVar[dict[str, Any]] = {**OPTIONS, **BARE, "forceinline": True}

    def __call__(self, *args: Any) -> Any:
        """Raise TypeError."""
        raise TypeError(f"{self.__name__} is called from compiled functions only")


class Compiled(ForCompiler):
    """A function that Python can call, with numbers, arrays without gaps, and named tuples of those."""

    def __init__(self, function: Callable[..., object]) -> None:
        super().__init__(function)
        self._wrappers: dict[Kinds, CallWrapper | PlainCall] = {}
        self._lock = threading.Lock()
        self._call: Callable[..., Any] = self._otherwise

    def __call__(self, *args: Any) -> Any:
        return self._call(*args)

    def _otherwise(self, *args: Any) -> Any:
        """Call it with arguments that the wrapper used last does not take."""
        kinds = kinds_of(args)
        if kinds is None:
            return self._by_numba(*args)
        kinds = self._nearest(kinds)
        call_wrapper = self.call_wrapper(kinds)
        self._call = call_wrapper.call
        return call_wrapper.last_call(*numbers_as(kinds, args))

    def _nearest(self, kinds: Kinds) -> Kinds:
        """Return kinds for which there is a wrapper and whose numbers are wider, or else the same kinds."""
        if kinds not in self._wrappers:
            for known in self._wrappers:
                if len(known) == len(kinds) and all(map(_takes, known, kinds)):
                    return known
        return kinds

    def call_wrapper(self, kinds: Kinds) -> CallWrapper | PlainCall:
        """Return the way into the machine code for arguments of these kinds; loads it, or compiles it first."""
        with self._lock:  # two threads that need it at once compile it once
            found = self._wrappers.get(kinds)
            if found is None:
                found = self._wrappers[kinds] = self._wrapped(kinds)
        return found

    def _wrapped(self, kinds: Kinds) -> CallWrapper | PlainCall:
        try:
            code = kept(self.__name__, self._key(kinds), lambda: self._make(kinds))
        except _OtherInternalsError:
            with announced(self.__name__):
                return PlainCall(self._by_numba, kinds)
        return CallWrapper(code, kinds, self._otherwise, lambda *args: self._by_numba(*args))

    @functools.cached_property
    def _meaning(self) -> str:
        """What it compiles to depends on this alone: its own instructions, and those of all that it calls."""
        found = sha256()
        for text in _instructions(self.function, set()):
            found.update(text.encode())
        return found.hexdigest()[:16]

    def _key(self, kinds: Kinds) -> str:
        # of a named tuple the places and kinds of its items count, which its name does not tell
        spelled = [(k.__qualname__, k._fields, k.kinds) if is_tuple_class(k) else k for k in kinds]
        return f"{self._meaning}-{sha256(repr(spelled).encode()).hexdigest()[:8]}"

    def _make(self, kinds: Kinds) -> tuple[str, dict[str, Any]]:
        from dravik.compiled.without_internals import internals_work

        if not internals_work():
            raise _OtherInternalsError
        from dravik.compiled.modules import machine_text

        with announced(self.__name__):
            return machine_text(self.dispatcher, kinds)

    @functools.cached_property
    def _by_numba(self) -> Any:
        """The function as Numba calls it, for arguments that no wrapper takes, such as arrays with gaps."""
        import numba

        return numba.njit(**OPTIONS)(self.function)


class Intrinsic:
    """A function whose instructions are written out for the compiler; only compiled functions call it."""

    def __init__(self, function: Callable[..., object]) -> None:
        self.function = cast(types.FunctionType, function)
        self.__name__, self.__doc__, self.__module__ = function.__name__, function.__doc__, function.__module__

    @functools.cached_property
    def _made(self) -> Any:
        from numba.extending import intrinsic as made

        return made(self.function)

    @property
    def _numba_type_(self) -> Any:
        from numba.core.registry import cpu_target

        made, context = self._made, cpu_target.typing_context
        context.refresh()
        return context.resolve_value_type(made)


def compiled(function: F) -> F:
    """Compile ``function`` with Numba: kept on disk, IEEE division, free of the interpreter lock.

    Compiled functions work in arrays that their callers own and never allocate, so reference counting
    is left out: counted, the handing of a dozen arrays from function to function takes two thirds of
    a derivative evaluation.
    """
    return cast(F, Compiled(function))


def inlined(function: F) -> F:
    """Compile a ``function`` that only compiled ones call, into each of them: a call costs more than most do."""
    return cast(F, Inlined(function))


def intrinsic(function: F) -> F:
    """Make a function known to the compiler that returns a signature and a generator of its instructions."""
    return cast(F, Intrinsic(function))


def address_of(function: Any, kinds: Kinds) -> int:
    """Return where a compiled function begins in memory, for arguments of these kinds."""
    return int(function.call_wrapper(kinds).address)


def _takes(wide: Any, kind: Any) -> bool:
    """Whether an argument of a kind can be handed over as one of another: a whole number as any, a flag as a number."""
    return wide == kind or (wide, kind) in (("f", "i"), ("f", "b"), ("i", "b"))


def _instructions(function: types.FunctionType, seen: set[int]) -> Iterator[str]:
    """Yield the instructions and constants of a function, and of all that it calls: with them its meaning changes."""
    if id(function) in seen:
        return
    seen.add(id(function))
    codes = [function.__code__]
    for cell in function.__closure__ or ():
        if isinstance(cell.cell_contents, int | float | str):
            yield repr(cell.cell_contents)
    while codes:
        code = codes.pop()
        yield code.co_code.hex()
        for constant in code.co_consts:
            if isinstance(constant, types.CodeType):
                codes.append(constant)
            elif constant != function.__doc__:
                # a set of constants stands in another order in each process
                yield repr(sorted(map(repr, constant)) if isinstance(constant, frozenset) else constant)
        for name in code.co_names:
            value = function.__globals__.get(name)
            yield name
            if isinstance(value, ForCompiler | Intrinsic):
                yield from _instructions(value.function, seen)
            elif isinstance(value, types.FunctionType) and value.__module__.startswith("dravik."):
                yield from _instructions(value, seen)
            elif isinstance(value, int | float | str | tuple):
                yield repr(value)
            elif isinstance(value, np.ndarray):
                yield value.tobytes().hex()
            elif is_tuple_class(value):
                yield repr(getattr(value, "kinds", ()))
