"""Builds the compiled kernels, passes and CSV; without a C compiler Python and Arrow do the work."""

import os

from setuptools import Extension, setup

_TAPE_HEADERS = ("_tape", "_readings", "_learning", "_emission", "_row_order", "_columns", "_digests")
_XML_HEADERS = ("_tape", "_fastxml", "_xml_names", "_xml_order")

setup(
    ext_modules=[
        Extension(
            "tessaron.core.compiled._fastjson",
            ["src/tessaron/core/compiled/_fastjson.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=[f"src/tessaron/core/compiled/{name}.h" for name in _XML_HEADERS],
            extra_compile_args=["-O3"],
        ),
        Extension(
            "tessaron.core.compiled._passes",
            ["src/tessaron/core/compiled/_passes.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=[f"src/tessaron/core/compiled/{name}.h" for name in _TAPE_HEADERS],
            extra_compile_args=["-O3"],
        ),
        Extension(
            "tessaron.core.compiled._csv",
            ["src/tessaron/core/compiled/_csv.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=["src/tessaron/core/compiled/_tape.h"],
            extra_compile_args=["-O3"],
        ),
    ]
)
