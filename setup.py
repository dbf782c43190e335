"""Builds the compiled kernels, passes and CSV; without a C compiler Python and Arrow do the work."""

import os

from setuptools import Extension, setup

_TAPE_HEADERS = ("_tape", "_readings", "_learning", "_emission", "_row_order", "_columns", "_digests")
_XML_HEADERS = ("_tape", "_fastxml", "_xml_names", "_xml_order", "_cells")

_KERNELS = {"_fastjson": _XML_HEADERS, "_passes": _TAPE_HEADERS, "_csv": ("_tape",)}
"""What is compiled, with the headers that each is made of."""
_FOLDER = "src/tessaron/core/compiled"


def _extension(name: str, headers: tuple[str, ...]) -> Extension:
    return Extension(
        f"tessaron.core.compiled.{name}",
        [f"{_FOLDER}/{name}.c"],
        # Without a compiler the build goes on, unless the compiled code is demanded.
        optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
        depends=[f"{_FOLDER}/{header}.h" for header in headers],
        extra_compile_args=["-O3"],
    )


_is_plain = bool(os.environ.get("TESSARON_WITHOUT_COMPILED"))
setup(ext_modules=[] if _is_plain else [_extension(name, headers) for name, headers in _KERNELS.items()])
