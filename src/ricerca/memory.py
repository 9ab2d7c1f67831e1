"""How this program asks the system for memory."""

from __future__ import annotations

import ctypes

# glibc's mallopt: which parameter, and what for. Large arrays come and go with every reading; memory that is
# given back each time comes again page by page, zeroed, which takes longer than the sums in it.
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
_SETTINGS = ((_TRIM_THRESHOLD, 256 << 20), (_MMAP_THRESHOLD, 32 << 20), (_ARENA_MAX, 1))


def keep_freed_memory() -> bool:
    """Use freed memory again instead of giving it back at once; to be called before threads begin.

    Returns whether the system's library could be told; nothing but speed depends on it.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    return mallopt is not None and all(mallopt(which, value) == 1 for which, value in _SETTINGS)
