"""Kernels: the code that turns bytes of whole records into tapes.

In come bytes and options, out go tapes; pure, with no state. Two kernels read JSON, by one contract:
`python`, the readable reference, and `compiled`; XML goes through lxml or the compiled scanner.
`chunk_reading` chooses. Begin with `contract`.
"""

from __future__ import annotations

from importlib.util import find_spec
from typing import Literal

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.contract import Kernel

KernelName = Literal["auto", "compiled", "python"]


def is_compiled() -> bool:
    """Say whether the compiled kernel is there: its build needs a C compiler."""
    return find_spec("tessaron.core.compiled._fastjson") is not None


def choose_kernel(name: str = "auto") -> Kernel:
    """Return the JSON kernel of that name; `auto` is the compiled one where it is there.

    Raises:
        UsageError: When there is no kernel of that name, or it was not compiled.
    """
    if name == "auto":
        name = "compiled" if is_compiled() else "python"
    if name == "python":
        from tessaron.core.kernel.json_kernel import read_json

        return read_json
    if name != "compiled":
        raise UsageError(f"expected a kernel of auto, compiled, python, got {in_quotes(name)}")
    if not is_compiled():
        raise UsageError("the compiled kernel was not built; install Tessaron with a C compiler at hand")
    from tessaron.core.kernel.fast_kernel import read_json_fast

    return read_json_fast
