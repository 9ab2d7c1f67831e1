"""Large arrays as compressed little-endian columns."""

from __future__ import annotations

import zlib

import numpy as np

from ricerca.model.errors import FileDamagedError

# Enough for any run that a recording can hold; a damaged count must not ask for all memory.
MOST_ENTRIES = 1 << 32
DTYPES = {"<i4", "<i8"}
LEVEL = 1


def pack(values: np.ndarray) -> tuple[str, int, bytes]:
    """Type, count and compressed bytes of an integer array."""
    dtype = "<i4" if values.dtype.itemsize <= 4 else "<i8"
    flat = np.ascontiguousarray(values, dtype=dtype)
    return dtype, len(flat), zlib.compress(flat.tobytes(), LEVEL)


def unpack(dtype: str, count: int, data: bytes) -> np.ndarray:
    """The array that ``pack`` was given.

    Raises
    ------
    FileDamagedError
        Type, count and bytes do not fit together.
    """
    if dtype not in DTYPES or not isinstance(count, int) or not 0 <= count < MOST_ENTRIES:
        raise FileDamagedError("A column of the study makes no sense.")
    wanted = count * np.dtype(dtype).itemsize
    try:
        inflater = zlib.decompressobj()
        raw = inflater.decompress(data, wanted + 1)
    except (zlib.error, TypeError) as problem:
        raise FileDamagedError(f"A column of the study cannot be unpacked: {problem}.") from None
    if len(raw) != wanted:
        raise FileDamagedError("A column of the study has another length than it says.")
    return np.frombuffer(raw, dtype=dtype)
