"""What a program waits for, told from where it waits."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ricerca.engine.profile import build_profile
from ricerca.engine.waits import CHILD, CLASSES, FILE, LOCK, OTHER, SLEEP, SOCKET, held_up, wait_class, wait_classes, waiting_by_class

from .trees import tables_of


@pytest.mark.parametrize(
    ("module", "name", "expected"),
    [
        ("time", "sleep", SLEEP),
        ("signal", "sigwait", SLEEP),
        ("_thread", "lock.acquire", LOCK),
        ("_thread", "RLock.acquire", LOCK),
        ("_queue", "SimpleQueue.get", LOCK),
        ("_multiprocessing", "SemLock.acquire", LOCK),
        ("_socket", "socket.recv", SOCKET),
        ("select", "epoll.poll", SOCKET),
        ("_ssl", "_SSLSocket.read", SOCKET),
        ("posix", "read", FILE),
        ("_io", "BufferedReader.read", FILE),
        ("builtins", "open", FILE),
        ("posix", "waitpid", CHILD),
        ("posix", "system", CHILD),
        ("numpy", "dot", OTHER),
        ("math", "sleepy", OTHER),
    ],
)
def test_builtins_are_told_by_their_name(module, name, expected):
    assert wait_class(2, module, name) == expected


def test_python_code_waits_for_nothing_known_and_a_program_for_itself():
    assert wait_class(1, "time", "sleep") == OTHER
    assert wait_class(7, "", "make all") == CHILD


def profile():
    tables = tables_of([-1, 0, 1, 1, 1], [0, 1, 2, 3, 4], [0, 10, 100, 50, 30], names=["start", "main", "sleep", "dot", "digest"],
                       builtins=frozenset((2, 3, 4)))  # fmt: skip
    tables = replace(tables, function_module=("", "m", "time", "somepackage", "hashlib"), waiting_ns=np.asarray([0, 5, 100, 20, 30]))
    return build_profile(tables)


def test_waiting_is_summed_by_class_in_a_fixed_order():
    found = waiting_by_class(profile())
    assert found == {SLEEP: 100, OTHER: 55}
    assert list(found) == [name for name in CLASSES if name in found]


def test_every_function_has_a_class():
    assert wait_classes(profile()) == (OTHER, OTHER, SLEEP, OTHER, OTHER)


def test_what_waits_for_nothing_known_was_held_up_by_others_but_a_package_s_builtin_may_wait():
    assert held_up(profile()).tolist() == [True, True, False, False, True]


def test_a_run_that_never_waits_has_no_classes():
    still = replace(profile(), waiting_ns=np.zeros(5, np.int64))
    assert waiting_by_class(still) == {}
