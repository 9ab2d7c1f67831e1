"""What a program waits for, told from the function in which it waits."""

from __future__ import annotations

import re
import sys

import numpy as np

from ricerca.engine.profile import Profile, group_sums
from ricerca.model.marks import KIND_BUILTIN, KIND_CHILD

SLEEP, LOCK, SOCKET, FILE, CHILD, OTHER = "sleep", "lock", "socket", "file", "child process", "other"
CLASSES = (SLEEP, LOCK, SOCKET, FILE, CHILD, OTHER)

# Qualified names of builtins, with their module in front.
_BUILTINS = tuple(
    (name, re.compile(pattern))
    for name, pattern in (
        (SLEEP, r"time\.sleep|posix\.(pause)|signal\.(pause|sigwait\w*|sigtimedwait)"),
        (CHILD, r"posix\.(wait\w*|system|spawn\w+|posix_spawnp?)|_posixsubprocess\.\w+"),
        (LOCK, r".*\b(lock|RLock|_RLock|LockType|SemLock|_ThreadHandle)\.\w+|_queue\..*|_thread\..*|_multiprocessing\..*"),
        (SOCKET, r"(_?socket|select|_ssl|_socket)\..*|.*\b(poll|epoll|devpoll|_SSLSocket|_SSLContext)\.\w+"),
        (FILE, r"_?io\..*|posix\..*|mmap\..*|fcntl\..*|_sqlite3\..*|sqlite3\..*|_?gdbm\..*|_?dbm\..*|builtins\.(open|input|print)"),
    )
)


def wait_class(kind: int, module: str, name: str) -> str:
    """What a function that waits waits for.

    >>> wait_class(2, "time", "sleep"), wait_class(2, "_thread", "lock.acquire"), wait_class(1, "harmonics", "fit")
    ('sleep', 'lock', 'other')
    """
    if kind == KIND_CHILD:
        return CHILD
    if kind != KIND_BUILTIN:
        return OTHER
    full = f"{module}.{name}"
    return next((found for found, pattern in _BUILTINS if pattern.fullmatch(full)), OTHER)


def wait_classes(profile: Profile) -> tuple[str, ...]:
    """The class of each function's own waiting."""
    table = profile.functions
    return tuple(wait_class(int(kind), module, name) for kind, module, name in zip(table.kind, table.module, table.name, strict=True))


def held_up(profile: Profile) -> np.ndarray:
    """Which functions do not wait of themselves: time they did not run in was taken by others on the machine.

    These are all but what waits for something known, and the builtins of packages, of which nobody
    knows what they do; (functions,) bool array.
    """
    table = profile.functions
    own = [
        name == OTHER and (kind != KIND_BUILTIN or not module or module.partition(".")[0] in sys.stdlib_module_names)
        for name, kind, module in zip(wait_classes(profile), table.kind.tolist(), table.module, strict=True)
    ]
    return np.asarray(own, bool)


def worked_ns(profile: Profile) -> np.ndarray:
    """Self time of each context without what others on the machine took of it; (contexts,) int array in ns."""
    stolen = np.where(held_up(profile)[profile.function], np.minimum(profile.waiting_ns, profile.self_ns), 0)
    return profile.self_ns - stolen


def waiting_by_class(profile: Profile) -> dict[str, int]:
    """Waiting time of the whole by class in ns; classes without any are left out."""
    by_function = group_sums(profile.function, profile.waiting_ns, len(profile.functions))
    found: dict[str, int] = {}
    for name, waiting_ns in zip(wait_classes(profile), by_function.tolist(), strict=True):
        if waiting_ns:
            found[name] = found.get(name, 0) + waiting_ns
    return {name: found[name] for name in CLASSES if name in found}
