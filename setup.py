"""The C part; everything else is in pyproject.toml."""

import sys
from pathlib import Path

from setuptools import Extension, setup

NATIVE = Path("src/ricerca/recorder/native")

NEWEST_TESTED = (3, 13)

FLAGS = ["-std=gnu11", "-O3", "-fvisibility=hidden", "-fno-plt", "-Wall", "-Wextra"]
if sys.version_info[:2] <= NEWEST_TESTED:
    FLAGS += ["-Werror"]
FLAGS += ["-Wno-missing-field-initializers", "-Wno-cast-function-type"]

setup(
    ext_modules=[
        Extension(
            "ricerca.recorder._native",
            sources=[str(NATIVE / "whole.c"), str(NATIVE / "sparse.c")],
            depends=sorted(map(str, NATIVE.glob("*.[ch]"))),
            extra_compile_args=FLAGS,
            optional=sys.version_info[:2] > NEWEST_TESTED,  # there the recorder in Python stands in
        )
    ]
)
