"""Recordings that were cut short, damaged, or are still being written."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ricerca.model.errors import FileDamagedError, InputError, NewerFormatError, RicercaError
from ricerca.model.marks import END_MONO_NS_OFFSET
from ricerca.recording import layout
from ricerca.recording.live import glance
from ricerca.recording.reader import open_recording
from ricerca.recording.tables import take
from ricerca.runner import launch
from ricerca.runner.native import ENTRY, native_setting

PROGRAM = "def f(n):\n    return n\nfor n in range(50):\n    f(n)\n"


@pytest.fixture(scope="module")
def recorded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A recording, made by the recorder alone."""
    folder = tmp_path_factory.mktemp("recorded")
    (folder / "p.py").write_text(PROGRAM)
    path = folder / "p.recording"
    path.touch()
    env = {**os.environ, "PYTHONPATH": str(ENTRY), "RICERCA_RECORDING": str(path), "RICERCA_LIMIT": str(4 << 20),
           "RICERCA_NATIVE": native_setting(sys.executable)}  # fmt: skip
    subprocess.run([sys.executable, "p.py"], cwd=folder, env=env, check=True)
    return path


def test_layout_has_the_sizes_of_the_native_part():
    assert layout.CONTEXTS.itemsize == 64
    assert layout.TABLE_ROW.itemsize == 64
    assert layout.HEADER.fields["end_mono_ns"][1] == END_MONO_NS_OFFSET
    assert layout.HEADER.itemsize <= layout.DIRECTORY_OFFSET


def test_tables_lie_over_the_file_without_copies(recorded):
    recording = open_recording(recorded)
    assert isinstance(recording.contexts.base, np.memmap | np.ndarray)
    assert not recording.contexts.flags.owndata
    assert recording.closed
    assert glance(recording).calls == take(recording).calls.sum()


def test_ticks_become_nanoseconds(recorded):
    recording = open_recording(recorded)
    assert 0.05 < recording.ns_per_tick <= 1.0 or recording.ns_per_tick == 1.0
    assert take(recording).self_ns.sum() < 10e9


def test_a_missing_or_foreign_file_is_refused(tmp_path):
    with pytest.raises(InputError, match="There is no recording"):
        open_recording(tmp_path / "none")
    (tmp_path / "empty").touch()
    (tmp_path / "text").write_bytes(b"x" * 9000)
    for name in ("empty", "text"):
        with pytest.raises(FileDamagedError):
            open_recording(tmp_path / name)


def test_a_newer_format_is_refused(recorded, tmp_path):
    raw = bytearray(recorded.read_bytes()[:9000])
    raw[8] = 200
    (tmp_path / "new").write_bytes(raw)
    with pytest.raises(NewerFormatError):
        open_recording(tmp_path / "new")


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_damage_gives_an_error_or_a_recording(data, recorded, tmp_path):
    raw = bytearray(recorded.read_bytes())
    recording = open_recording(recorded)
    directory = np.frombuffer(raw, layout.TABLE_ROW, int(recording.header["table_count"]), layout.DIRECTORY_OFFSET)
    rows = [int(row["offset_bytes"]) for row in directory]
    start = data.draw(st.sampled_from([0, layout.DIRECTORY_OFFSET, *rows]))
    for _ in range(data.draw(st.integers(1, 6))):
        raw[min(start + data.draw(st.integers(0, 400)), len(raw) - 1)] = data.draw(st.integers(0, 255))
    if data.draw(st.booleans()):
        raw = raw[: data.draw(st.integers(0, len(raw)))]
    (tmp_path / "wrong").write_bytes(raw)
    try:
        take(open_recording(tmp_path / "wrong"))
    except RicercaError as problem:
        assert "wrong" in str(problem)


def test_no_room_is_said_before_the_program_starts(tmp_path, monkeypatch):
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "posix_fallocate", full)
    with pytest.raises(RicercaError, match="no room for a recording"):
        launch.make_room(tmp_path / "x.recording")
    assert not (tmp_path / "x.recording").exists()


def test_full_tables_of_time_are_said():
    from ricerca.model import marks
    from ricerca.model.run_tables import RunFacts

    assert RunFacts().not_by_time == ""
    both = RunFacts(flags=marks.FLAG_SLICES_FULL | marks.FLAG_SPANS_FULL).not_by_time
    assert both == "only the first part of the run is known by time; only the first long calls are known one by one"


def test_what_kept_the_recorder_from_starting_is_said_with_what_to_do():
    assert "ulimit -v unlimited" in launch._in_words("OSError: [Errno 12] Cannot allocate memory: '/x'")
    assert "Free some space" in launch._in_words("OSError: [Errno 28] No space left on device")
    assert launch._in_words("RuntimeError: no monitoring tool number is free") == "RuntimeError: no monitoring tool number is free"
