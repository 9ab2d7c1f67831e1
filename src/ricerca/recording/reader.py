"""Opens a recording: checks it, then gives its tables as arrays over the mapped file, without copies."""

from __future__ import annotations

import errno
import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ricerca.model import marks
from ricerca.model.errors import EnvironmentProblem, FileDamagedError, InputError, NewerFormatError, RicercaError
from ricerca.recording import layout

# Shorter than this, the rate measured at the start is the better one.
LEAST_RATE_NS = 20_000_000


@dataclass(frozen=True)
class Recording:
    """A recording as it stood when it was opened.

    ``functions``, ``threads``, ``lines``, ``contexts``, ``slices`` and ``spans`` are structured arrays (see ``layout``);
    row 0 of each is a placeholder. They lie over the mapped file: while the program runs, figures
    go on rising under the reader, but the number of rows stays.
    """

    path: Path
    header: np.void
    strings: np.ndarray
    functions: np.ndarray
    threads: np.ndarray
    lines: np.ndarray
    contexts: np.ndarray
    slices: np.ndarray
    spans: np.ndarray

    def text(self, offset: int, length: int) -> str:
        """The string stored at offset (bytes) with this length (bytes)."""
        return self.strings[offset : offset + length].tobytes().decode("utf-8", "replace")

    @property
    def closed(self) -> bool:
        """Whether the recorder wrote its closing mark."""
        return int(self.header["state"]) == marks.STATE_CLOSED

    @property
    def ns_per_tick(self) -> float:
        """Nanoseconds per clock tick, over the whole recording where it is long enough."""
        head = self.header
        ticks = int(head["last_ticks"]) - int(head["start_ticks"])
        passed_ns = int(head["last_mono_ns"]) - int(head["start_mono_ns"])
        if ticks > 0 and passed_ns > LEAST_RATE_NS:
            return passed_ns / ticks
        return float(head["ns_per_tick"])


def _damaged(path: Path, why: str) -> FileDamagedError:
    return FileDamagedError(f"{path.name} is not a recording that can be read: {why}.")


def _read_header(path: Path, data: np.ndarray) -> np.void:
    if len(data) < layout.HEADER_BYTES:
        raise _damaged(path, "it is shorter than a recording's header")
    header = data[: layout.HEADER.itemsize].view(layout.HEADER)[0]
    if header["magic"] != layout.MAGIC.rstrip(b"\0"):
        raise _damaged(path, "it does not begin like one, or its program never began")
    if int(header["endian"]) != layout.ENDIAN:
        raise _damaged(path, "it was written on a machine with another byte order")
    if int(header["format"]) > layout.FORMAT:
        raise NewerFormatError(f"{path.name} was recorded by a newer Ricerca.", "Update Ricerca to open it.")
    if int(header["format"]) != layout.FORMAT or int(header["table_count"]) > 64:
        raise _damaged(path, "its header makes no sense")
    return header


def _mapped(path: Path, offset: int, size: int) -> np.ndarray:
    """A piece of the file; the whole may be larger than what may be mapped at once."""
    return np.memmap(path, dtype=np.uint8, mode="r", offset=offset, shape=(size,))


def _read_tables(path: Path, data: np.ndarray, count: int, file_bytes: int) -> dict[str, np.ndarray]:
    first = layout.DIRECTORY_OFFSET
    last = first + count * layout.TABLE_ROW.itemsize
    if last > layout.HEADER_BYTES:
        raise _damaged(path, "its table of contents makes no sense")
    tables = {}
    for row in data[first:last].view(layout.TABLE_ROW):
        name = row["name"].decode("ascii", "replace")
        if name not in layout.RECORDS:
            continue
        record = layout.RECORDS[name]
        offset, rows = int(row["offset_bytes"]), int(row["count"])
        if int(row["record_bytes"]) != record.itemsize or offset % 8:
            raise _damaged(path, f"its table of {name} makes no sense")
        if offset + rows * record.itemsize > file_bytes or rows < 1:
            raise _damaged(path, f"its table of {name} runs past the end of the file")
        tables[name] = _mapped(path, offset, rows * record.itemsize).view(record)
    missing = set(layout.RECORDS) - set(tables)
    if missing:
        raise _damaged(path, f"its table of {min(missing)} is missing")
    return tables


def _check_references(recording: Recording) -> None:
    contexts, functions, path = recording.contexts, recording.functions, recording.path
    own = np.arange(len(contexts))
    if (contexts["parent"][1:] >= own[1:]).any():
        raise _damaged(path, "a context comes before its caller")
    for table in (contexts, recording.lines):
        if (table["function"] >= len(functions)).any():
            raise _damaged(path, "a context names a function that is not there")
    for table in (recording.slices, recording.spans):
        if (table["context"] >= len(contexts)).any():
            raise _damaged(path, "a slice or a span names a context that is not there")
    if (recording.slices["slice"] >= 2 * marks.MOST_SLICES).any():
        raise _damaged(path, "it has more slices than there can be")
    if (contexts["thread"] >= len(recording.threads)).any():
        raise _damaged(path, "a context names a thread that is not there")
    if (recording.threads["top"] >= len(contexts)).any():
        raise _damaged(path, "a thread names a context that is not there")
    for part in ("name", "module", "file"):
        ends = functions[f"{part}_offset"].astype(np.int64) + functions[f"{part}_bytes"]
        if (ends > len(recording.strings)).any():
            raise _damaged(path, "a name lies outside the table of strings")
    ends = recording.threads["name_offset"].astype(np.int64) + recording.threads["name_bytes"]
    if (ends > len(recording.strings)).any():
        raise _damaged(path, "a thread's name lies outside the table of strings")


def open_recording(path: str | os.PathLike[str], check: bool = True) -> Recording:
    """Open the recording at path, also one that is still being written or was cut short.

    Parameters
    ----------
    path : path-like
    check : bool
        Whether to follow all references; off for looks at a recording that is being written.

    Raises
    ------
    InputError
        There is no such file, or it cannot be read.
    FileDamagedError
        It is no recording, or its tables contradict each other.
    """
    place = Path(path)
    try:
        size = place.stat().st_size
        data = _mapped(place, 0, min(size, layout.HEADER_BYTES))
        return _opened(place, data, size, check)
    except FileNotFoundError:
        raise InputError(f"There is no recording {place}.") from None
    except MemoryError:
        raise EnvironmentProblem(f"There is not enough memory to read {place.name}.", "Raise the limit: ulimit -v unlimited") from None
    except OSError as problem:
        if problem.errno == errno.ENOMEM:
            raise EnvironmentProblem(f"There is not enough memory to read {place.name}.", "Raise the limit: ulimit -v unlimited") from None
        raise _damaged(place, str(problem)) from None
    except ValueError as problem:
        if isinstance(problem, RicercaError):
            raise
        raise _damaged(place, str(problem)) from None


def _opened(place: Path, data: np.ndarray, size: int, check: bool) -> Recording:
    header = _read_header(place, data)
    # Contexts are counted first and refer to functions and strings that were counted before them,
    # so on a live file the other tables are read again after it.
    tables = _read_tables(place, data, int(header["table_count"]), size)
    if not check:
        contexts = tables["contexts"]
        tables = _read_tables(place, data, int(header["table_count"]), size)
        tables["contexts"] = contexts
    recording = Recording(path=place, header=header, **tables)
    if check:
        _check_references(recording)
    return recording
