"""The recording file as NumPy records: made from model/format.toml by make layout (see docs/formats.md)."""

from __future__ import annotations

import numpy as np

MAGIC = b"RICERCA\0"
FORMAT = 1
ENDIAN = 0x01020304
HEADER_BYTES = 4096
DIRECTORY_OFFSET = 1024

WORK = np.dtype(
    [
        ("times", "<u8"),
        ("ticks", "<u8"),
    ]
)

HEADER = np.dtype(
    [
        ("magic", "S8"),
        ("format", "<u4"),
        ("endian", "<u4"),
        ("file_bytes", "<u8"),
        ("state", "<u4"),
        ("flags", "<u4"),
        ("start_ticks", "<u8"),
        ("start_mono_ns", "<u8"),
        ("last_ticks", "<u8"),
        ("last_mono_ns", "<u8"),
        ("start_unix_ns", "<u8"),
        ("ns_per_tick", "<f8"),
        ("pid", "<u4"),
        ("python_hex", "<u4"),
        ("clock", "<u4"),
        ("table_count", "<u4"),
        ("limit_bytes", "<u8"),
        ("allocated_bytes", "<u8"),
        ("end_mono_ns", "<u8"),
        ("python_inside_ns", "<f8"),
        ("python_outside_ns", "<f8"),
        ("callback_inside_ns", "<f8"),
        ("callback_outside_ns", "<f8"),
        ("builtin_inside_ns", "<f8"),
        ("builtin_outside_ns", "<f8"),
        ("line_ns", "<f8"),
        ("bytecode_factor", "<f8"),
        ("names_factor", "<f8"),
        ("hook", "<u4"),
        ("control", "<u4"),
        ("slice_ticks", "<u8"),
        ("span_ticks", "<u8"),
        ("lookup_factor", "<f8"),
        ("lookup_share", "<f8"),
        ("python_work_ns", "<f8"),
        ("builtin_work_ns", "<f8"),
        ("python_watched", WORK),
        ("builtin_watched", WORK),
        ("unseen_threads", "<u4"),
        ("unseen_interpreters", "<u4"),
        ("taken_hooks", "<u4"),
        ("strange_stacks", "<u4"),
        ("unwatched_call_ns", "<f8"),
        ("unwatched_deep_ns", "<f8"),
        ("deep_calls", "<u4"),
        ("parent_pid", "<u4"),
        ("setup_ns", "<u8"),
        ("unwatched_resume_ns", "<f8"),
    ]
)

TABLE_ROW = np.dtype(
    [
        ("name", "S16"),
        ("offset_bytes", "<u8"),
        ("record_bytes", "<u8"),
        ("capacity", "<u8"),
        ("count", "<u8"),
        ("allocated_bytes", "<u8"),
        ("spare", "<u8"),
    ]
)

FUNCTIONS = np.dtype(
    [
        ("kind", "<u4"),
        ("first_line", "<u4"),
        ("name_offset", "<u4"),
        ("name_bytes", "<u4"),
        ("module_offset", "<u4"),
        ("module_bytes", "<u4"),
        ("file_offset", "<u4"),
        ("file_bytes", "<u4"),
        ("code_flags", "<u4"),
        ("chosen", "<u4"),
        ("overflow_calls", "<u8"),
        ("overflow_resumes", "<u8"),
        ("lookups", "<u2"),
        ("light", "<u2"),
        ("nesting", "<u4"),
    ]
)

THREADS = np.dtype(
    [
        ("native_id", "<u8"),
        ("root", "<u4"),
        ("top", "<u4"),
        ("name_offset", "<u4"),
        ("name_bytes", "<u4"),
        ("ended", "<u4"),
        ("depth", "<u4"),
        ("start_ticks", "<u8"),
        ("last_ticks", "<u8"),
        ("ident", "<u8"),
        ("spare", "<u8"),
    ]
)

LINES = np.dtype(
    [
        ("function", "<u4"),
        ("line", "<u4"),
        ("hits", "<u8"),
        ("self_ticks", "<u8"),
        ("waiting_ticks", "<u8"),
    ]
)

CONTEXTS = np.dtype(
    [
        ("parent", "<u4"),
        ("function", "<u4"),
        ("line", "<u4"),
        ("slice_row", "<u4"),
        ("calls", "<u8"),
        ("resumes", "<u8"),
        ("self_ticks", "<u8"),
        ("waiting_ticks", "<u8"),
        ("thread", "<u4"),
        ("hint", "<u4"),
        ("long_ticks", "<u8"),
    ]
)

SLICES = np.dtype(
    [
        ("context", "<u4"),
        ("slice", "<u4"),
        ("calls", "<u8"),
        ("self_ticks", "<u8"),
        ("waiting_ticks", "<u8"),
    ]
)

SPANS = np.dtype(
    [
        ("context", "<u4"),
        ("thread", "<u4"),
        ("start_ticks", "<u8"),
        ("end_ticks", "<u8"),
    ]
)

RECORDS = {
    "strings": np.dtype("u1"),
    "functions": FUNCTIONS,
    "threads": THREADS,
    "lines": LINES,
    "contexts": CONTEXTS,
    "slices": SLICES,
    "spans": SPANS,
}
