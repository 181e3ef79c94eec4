"""Numba's compiler, told to leave out what Dravik does not need of it: a third of the time that it takes."""

from functools import cache
from typing import Any

from numba.core import compiler, compiler_machinery, typed_passes, types
from numba.core.codegen import JITCodeLibrary
from numba.core.typing.context import Context

__all__ = ["TextOnly"]


class _Library(JITCodeLibrary):
    """A function's module, with those of the functions that it calls: it is read, and never run."""

    def _finalize_final_module(self) -> None:
        self._finalized = True


class _Typing(Context):
    """Numba's knowledge of types, shared with it; what an operation on some types gives is found once only."""

    __slots__ = ("_found",)

    def __init__(self, whole: Context) -> None:
        object.__setattr__(self, "__dict__", whole.__dict__)
        self._found: dict[Any, Any] = {}

    def resolve_function_type(self, func: Any, args: Any, kws: Any) -> Any:
        """Return the signature of a call."""
        if not isinstance(func, types.Function) or kws:
            return super().resolve_function_type(func, args, kws)
        key = (func, tuple(args))
        if key not in self._found:
            signature = super().resolve_function_type(func, args, kws)
            if signature is None:
                return None
            self._found[key] = signature
        return self._found[key]


@compiler_machinery.register_pass(mutates_CFG=True, analysis_only=False)
class _Lowering(typed_passes.NativeLowering):
    """Numba's last pass but for machine code: of each function by itself it is not needed."""

    _name = "lowering_to_text"

    def run_pass(self, state: Any) -> bool:
        """Make the module of a function and make the function known."""
        context = state.targetctx
        state.library = _Library(context.codegen(), state.func_id.func_qualname)
        state.flags.no_compile = True
        super().run_pass(state)
        state.library.finalize()
        lowered = state["cr"]
        # Numba knows a function by something that can be called; nothing calls this
        name = [state.library].append
        context.insert_user_function(name, lowered.fndesc, [state.library])
        state["cr"] = lowered._replace(cfunc=name)
        return True


class TextOnly(compiler.CompilerBase):
    """Numba's compiler with these parts in place of its own."""

    def __init__(self, typingctx: Any, *others: Any) -> None:
        super().__init__(typingctx, *others)
        self.state.typingctx = _typing(typingctx)

    def define_pipelines(self) -> list[Any]:
        """Return the passes."""
        usual = compiler.DefaultPassBuilder.define_nopython_pipeline(self.state)
        found = compiler_machinery.PassManager("text only")
        for one, words in usual.passes:
            found.add_pass(_Lowering if one is typed_passes.NativeLowering else one, words)
        found.finalize()
        return [found]


@cache
def _typing(whole: Any) -> _Typing:
    return _Typing(whole)
