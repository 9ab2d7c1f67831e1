"""The C part; everything else is in pyproject.toml."""

from pathlib import Path

from setuptools import Extension, setup

NATIVE = Path("src/ricerca/recorder/native")

FLAGS = ["-std=gnu11", "-O3", "-fvisibility=hidden", "-fno-plt", "-Wall", "-Wextra", "-Werror"]
FLAGS += ["-Wno-missing-field-initializers", "-Wno-cast-function-type"]

setup(
    ext_modules=[
        Extension(
            "ricerca.recorder._native",
            sources=sorted(map(str, NATIVE.glob("*.c"))),
            depends=sorted(map(str, NATIVE.glob("*.h"))),
            extra_compile_args=FLAGS,
        )
    ]
)
