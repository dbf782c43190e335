"""Builds the compiled JSON kernel; without a C compiler the Python kernel does the work."""

import os

from setuptools import Extension, setup

setup(
    ext_modules=[
        Extension(
            "tessaron.core.kernel._fastjson",
            ["src/tessaron/core/kernel/_fastjson.c"],
            optional=not os.environ.get("TESSARON_DEMAND_COMPILED"),
            depends=["src/tessaron/core/kernel/_fastxml.h"],
            extra_compile_args=["-O3"],
        )
    ]
)
