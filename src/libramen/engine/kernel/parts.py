"""How the parts of `advance` are compiled: only to be linked into it.

The compiler makes machine code of every function, and optimises it with all that it calls: of 180 functions that
only other compiled ones call, that was half of the time from an empty cache. A part is optimised a little at most,
so that it is small when it is linked, and never made machine code; the rest is done once, in the whole.

This goes deep into the compiler. Where another version of it is made otherwise, parts are compiled as everything is.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, Final

from numba.core import codegen
from numba.core.compiler import CompilerBase, DefaultPassBuilder
from numba.core.compiler_machinery import FunctionPass, register_pass
from numba.core.untyped_passes import TranslateByteCode

_USUAL: Final[Any] = getattr(codegen, "JITCodeLibrary", object)
_NEEDLESS: Final = {
    "WithLifting", "InlineClosureLikes", "RewriteSemanticConstants", "DeadBranchPrune", "RewriteDynamicRaises",
    "MakeFunctionToJitFunction", "InlineInlinables", "FindLiterallyCalls", "LiteralUnroll",
    "LiteralPropagationSubPipelinePass", "InlineOverloads", "NopythonRewrites", "AnnotateTypes",
    "DumpParforDiagnostics",
}  # fmt: skip
"""What the compiler does for code that parts do not have: `with`, functions in functions, arrays, loops in parallel."""
_REPLACED: Final = ("_optimize_final_module", "_finalize_final_module", "_finalize_dynamic_globals", "add_ir_module")


_optimised: Final = ContextVar("optimised", default=True)


@contextmanager
def optimised(*, all_of_them: bool) -> Iterator[None]:
    """Whether all parts compiled within this block are optimised before they are linked.

    Parts that are kept out of their callers always are. Leaving out the others saves an eighth of the time to compile
    the whole, and costs up to 2 % of its speed.
    """
    token = _optimised.set(all_of_them)
    try:
        yield
    finally:
        _optimised.reset(token)


class _Codegen:
    """That of the compiler, but that a part has no environment: it is never run alone."""

    def __init__(self, usual: Any) -> None:
        self._usual = usual

    def __getattr__(self, name: str) -> Any:
        return getattr(self._usual, name)

    def set_env(self, _name: str, _env: Any) -> None:
        """There is no address for it."""


class _Library(_USUAL):  # type: ignore[misc]
    """The code of a part, ready to be linked."""

    _stands_alone = False  # in the whole, too

    @property
    def codegen(self) -> Any:
        return _Codegen(self._codegen)

    def _optimize_final_module(self) -> None:
        how = {"opt": 2, "cost": "cheap"} if self._stands_alone or _optimised.get() else {"opt": 0}
        passes, builder = self._codegen._module_pass_manager(loop_vectorize=False, slp_vectorize=False, **how)
        passes.run(self._final_module, builder)

    def _finalize_final_module(self) -> None:
        self._finalize_dynamic_globals()
        self._finalized = True

    def get_pointer_to_function(self, _name: str) -> int:
        """Nothing calls it."""
        self._ensure_finalized()
        return 0


class _LibraryApart(_Library):
    """That of a part which is kept out of its callers."""

    _stands_alone = True

    def add_ir_module(self, ir_module: Any) -> None:
        for function in ir_module.functions:
            if not function.is_declaration:
                function.attributes.add("noinline")
        super().add_ir_module(ir_module)


def _compiled_as(library: type) -> dict[str, Any]:
    """The options of `numba.njit` for parts with such a library."""
    if not all(hasattr(_USUAL, name) for name in _REPLACED):
        return {}

    @register_pass(mutates_CFG=False, analysis_only=True)
    class AsPart(FunctionPass):
        """The first thing that is done to a part."""

        _name = f"as{library.__name__.lower()}"

        def __init__(self) -> None:
            FunctionPass.__init__(self)

        def run_pass(self, state: Any) -> bool:
            state.library = library(state.targetctx.codegen(), state.func_id.func_qualname)
            return False

    class Compiler(CompilerBase):
        """As usual, but for that."""

        def define_pipelines(self) -> list[Any]:
            passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
            passes.add_pass_after(AsPart, TranslateByteCode)
            passes.passes = [one for one in passes.passes if one[0].__name__ not in _NEEDLESS]
            passes.finalize()
            return [passes]

    return {"pipeline_class": Compiler}


PART: Final = _compiled_as(_Library)
APART: Final = _compiled_as(_LibraryApart)
"""For a part that is kept out of its callers."""
