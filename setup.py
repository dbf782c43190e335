"""Builds the compiled kernels, passes and CSV; without a C compiler Python and Arrow do the work."""

import os

from setuptools import Extension, setup

_TAPE_HEADERS = ("_tape", "_readings", "_learning", "_emission", "_row_order", "_columns", "_digests")

setup(
    ext_modules=[
        Extension(
            "tessaron.core.kernel._fastjson",
            ["src/tessaron/core/kernel/_fastjson.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=["src/tessaron/core/kernel/_fastxml.h", "src/tessaron/core/tape/_tape.h"],
            extra_compile_args=["-O3"],
        ),
        Extension(
            "tessaron.core.tape._passes",
            ["src/tessaron/core/tape/_passes.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=[f"src/tessaron/core/tape/{name}.h" for name in _TAPE_HEADERS],
            extra_compile_args=["-O3"],
        ),
        Extension(
            "tessaron.sinks._csv",
            ["src/tessaron/sinks/_csv.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=["src/tessaron/core/tape/_tape.h"],
            extra_compile_args=["-O3"],
        ),
    ]
)
