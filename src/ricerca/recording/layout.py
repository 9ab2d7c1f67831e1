"""The recording file, field by field: the twin of ``recorder/native/layout.h`` (see docs/formats.md)."""

from __future__ import annotations

import numpy as np

MAGIC = b"RICERCA\0"
FORMAT = 1
ENDIAN = 0x01020304
HEADER_BYTES = 4096
DIRECTORY_OFFSET = 1024

STATE_RECORDING, STATE_CLOSED = 1, 2

FLAG_CONTEXTS_FULL = 1 << 0
FLAG_FUNCTIONS_FULL = 1 << 1
FLAG_STRINGS_FULL = 1 << 2
FLAG_DISK_FULL = 1 << 3
FLAG_LIMIT_REACHED = 1 << 4
FLAG_LINES = 1 << 5
FLAG_HOOK_TAKEN = 1 << 6
FLAG_THREADS_FULL = 1 << 7
FLAG_LINES_FULL = 1 << 8
FLAG_SLICES_FULL = 1 << 9
FLAG_SPANS_FULL = 1 << 10
FLAG_PAUSED = 1 << 11
CUT_FLAGS = (
    FLAG_CONTEXTS_FULL
    | FLAG_FUNCTIONS_FULL
    | FLAG_STRINGS_FULL
    | FLAG_DISK_FULL
    | FLAG_LIMIT_REACHED
    | FLAG_HOOK_TAKEN
    | FLAG_THREADS_FULL
    | FLAG_LINES_FULL
)

KIND_PYTHON, KIND_BUILTIN, KIND_THREAD = 1, 2, 3
KIND_IMPORT, KIND_COLLECTION, KIND_REGION, KIND_CHILD = 4, 5, 6, 7

HOOKS = {1: "profile", 2: "monitoring", 3: "python"}
MOST_SLICES = 512
LIGHT_UNKNOWN = 0xFFFF

WORK = np.dtype([("times", "<u8"), ("ticks", "<u8")])

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
        ("spare", "<u4"),
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
