"""The C part; everything else is in pyproject.toml."""

from glob import glob

from setuptools import Extension, setup

setup(
    ext_modules=[
        Extension(
            "ricerca.recorder._native",
            sources=sorted(glob("src/ricerca/recorder/native/*.c")),
            depends=sorted(glob("src/ricerca/recorder/native/*.h")),
            extra_compile_args=["-std=gnu11", "-O3", "-Wall", "-Wextra", "-Werror", "-Wno-missing-field-initializers",
                                "-Wno-cast-function-type"],
        )
    ]
)  # fmt: skip
