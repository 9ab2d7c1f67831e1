"""The recording file's layout is described once; all that is made from the description is up to date."""

from __future__ import annotations

import importlib.util
from pathlib import Path

import numpy as np

from ricerca.model import marks
from ricerca.recording import layout

TOOL = Path(__file__).parents[2] / "tools" / "make_layout.py"


def _tool():
    spec = importlib.util.spec_from_file_location("make_layout", TOOL)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_no_made_file_is_stale():
    stale = [str(path) for path, text in _tool().made_files().items() if path.read_text("utf-8") != text]
    assert not stale, f"run make layout: {stale}"


def test_a_changed_description_makes_another_header():
    tool = _tool()
    about = tool.tomllib.loads(tool.DESCRIPTION.read_text("utf-8"))
    about["kinds"]["KERNEL"] = [99, "compiled kernel"]
    assert "KIND_KERNEL = 99" in tool.c_header(about)
    assert "KIND_KERNEL = 99" in tool.marks(about)


def test_a_field_out_of_line_is_refused():
    tool = _tool()
    try:
        tool.offsets([["a", "u4"], ["b", "u8"]])
    except ValueError as problem:
        assert "b is not aligned" in str(problem)
    else:
        raise AssertionError("accepted")


def test_records_have_the_sizes_that_formats_md_tells():
    assert {name: record.itemsize for name, record in layout.RECORDS.items()} == {
        "strings": 1, "functions": 64, "threads": 64, "lines": 32, "contexts": 64, "slices": 32, "spans": 24,
    }  # fmt: skip
    assert layout.HEADER.itemsize <= layout.DIRECTORY_OFFSET
    assert isinstance(np.zeros(1, layout.CONTEXTS)["calls"][0], np.uint64)


def test_flags_are_single_bits():
    flags = [value for name, value in vars(marks).items() if name.startswith("FLAG_")]
    assert len(set(flags)) == len(flags) and all(value & (value - 1) == 0 for value in flags)
