"""Compiled code below the interpreter's contexts: where it hangs, and whose time it is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ricerca.model.errors import FileDamagedError
from ricerca.model.marks import KIND_ABOVE, KIND_BUILTIN, KIND_PYTHON, KIND_THREAD
from ricerca.model.run_tables import RunFacts, RunTables
from ricerca.recording.growing_tree import FunctionKey, GrowingTree
from ricerca.recording.one_tree import Process, one_tree
from ricerca.recording.parts import _named


def python_part(builtin_ns: int = 100, called_back_ns: int = 0) -> RunTables:
    """main calls a builtin, which may call back."""
    tree = GrowingTree()
    root = tree.thread("MainThread", 7)
    main = tree.below(root, tree.function(FunctionKey("main", file="/w/p.py", line=1)), 0)
    builtin = tree.below(main, tree.function(FunctionKey("kern", kind=KIND_BUILTIN)), 4)
    back = tree.below(builtin, tree.function(FunctionKey("back", file="/w/p.py", line=9)), 0)
    for context, ns in ((main, 50), (builtin, builtin_ns), (back, called_back_ns)):
        tree.call(context, 0)
        tree.spend(context, 0, ns)
    return tree.tables(RunFacts(python="3.11.7", pid=7, start_unix_ns=1000, duration_ns=500))


def compiled_part(self_ns: int, number: int = 3) -> RunTables:
    """One function below the interpreter's context of a number, as its recording counts them."""
    tree = GrowingTree()
    root = tree.thread("", 7)
    above = tree.below(root, tree.function(FunctionKey(str(number), kind=KIND_ABOVE)), 0)
    fib = tree.below(above, tree.function(FunctionKey("fib", file="/w/k.c", line=3, language="C")), 0)
    for _ in range(5):
        tree.call(fib, 0)
    tree.spend(fib, 0, self_ns)
    tree.spend(above, 0, 999)
    return tree.tables(RunFacts(pid=7, start_unix_ns=1100, hook="compiled", language="C"))


def by_name(tables: RunTables) -> dict[str, tuple[int, int, str]]:
    """Calls, self time and caller of each function."""
    return {
        tables.function_name[tables.function[context]]: (
            int(tables.calls[context]), int(tables.self_ns[context]),
            tables.function_name[tables.function[tables.parent[context]]] if tables.parent[context] >= 0 else "",
        )
        for context in range(len(tables.parent))
    }  # fmt: skip


def test_a_compiled_function_hangs_below_the_builtin_and_its_time_is_taken_off_it():
    found = one_tree([Process(python_part()), Process(compiled_part(60))])
    names = by_name(found)
    assert names["fib"] == (5, 60, "kern")
    assert names["kern"] == (1, 40, "main")
    assert int(found.self_ns.sum()) == 150
    assert int(found.slice_self_ns.sum()) == 150
    assert set(found.thread[found.calls > 0].tolist()) == {0}, "it ran on the interpreter's thread"
    assert "3" not in names


def test_time_of_python_that_is_called_back_is_not_counted_twice():
    found = one_tree([Process(python_part(builtin_ns=100, called_back_ns=70)), Process(compiled_part(160))])
    names = by_name(found)
    assert names["back"] == (1, 70, "kern")
    assert names["kern"][1] + names["fib"][1] == 100
    assert int(found.self_ns.sum()) == 220


@pytest.mark.parametrize("number", [0, 99])
def test_a_context_that_is_not_there_is_passed_over(number):
    found = one_tree([Process(python_part()), Process(compiled_part(60, number))])
    assert by_name(found)["kern"] == (1, 100, "main")


def test_a_thread_that_no_interpreter_called_stays_a_thread():
    alone = replace(compiled_part(60), function_kind=np.asarray([KIND_THREAD, KIND_PYTHON, KIND_PYTHON], np.int32))
    names = by_name(one_tree([Process(python_part()), Process(alone)]))
    assert names["fib"][0] == 5 and names["kern"] == (1, 100, "main")


@pytest.mark.parametrize("first_language", ["python", "bash"])
def test_what_went_unseen_in_any_process_is_said_of_the_whole_run(first_language):
    first, second = python_part(), python_part()
    shell = replace(first, facts=replace(first.facts, language=first_language, pid=7, unseen_threads=1, strange_stacks=4))
    python = replace(second, facts=replace(second.facts, pid=8, start_unix_ns=first.facts.start_unix_ns + 1, unseen_threads=2))
    facts = one_tree([Process(shell), Process(python)]).facts
    assert (facts.unseen_threads, facts.strange_stacks, facts.pid, facts.language) == (3, 4, 7, first_language)


def test_an_address_that_is_none_is_a_damaged_recording(tmp_path):
    with pytest.raises(FileDamagedError, match="an address in it is none"):
        _named(tmp_path / "r.recording.7.0", compiled_part(60))
