"""Runs in which only chosen functions are timed, from outside, on each interpreter: the program must not notice."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from textwrap import dedent

import pytest

from ricerca.model.run_tables import RunTables
from ricerca.runner import launch
from ricerca.runner.native import hook_setting
from ricerca.runner.program import describe
from ricerca.runner.taking import tables_of


@dataclass(frozen=True)
class SparseRun:
    """What a sparse run told, and what the program wrote and how it ended."""

    tables: RunTables
    output: str
    status: int

    def entries(self, name: str) -> tuple[int, int]:
        """Calls and resumes of a function."""
        rows = [n for n in range(len(self.tables.parent)) if self.tables.function_name[self.tables.function[n]].rpartition(".")[2] == name]
        return sum(int(self.tables.calls[n]) for n in rows), sum(int(self.tables.resumes[n]) for n in rows)

    def chains(self) -> set[tuple[str, ...]]:
        """All chains of timed functions below the program's beginning."""
        names = []
        for n in range(len(self.tables.parent)):
            parent = int(self.tables.parent[n])
            above = names[parent] if parent >= 0 else ()
            names.append((*above, self.tables.function_name[self.tables.function[n]].rpartition(".")[2]))
        return {name[2:] for name in names if len(name) > 2}


def codes(code):
    """A code object and all within it."""
    yield code
    for inner in code.co_consts:
        if hasattr(inner, "co_consts"):
            yield from codes(inner)


@pytest.fixture
def timed(tmp_path, interpreter):
    """Runs a text with the functions of these names timed alone; and plain, to hold it beside."""

    def run(text: str, *names: str, env: tuple[tuple[str, str], ...] = ()) -> SparseRun:
        script = tmp_path / "program.py"
        script.write_text(text)
        keys = [(one.co_firstlineno, one.co_name, str(script)) for one in codes(compile(text, str(script), "exec")) if one.co_name in names]
        assert {key[1] for key in keys} == set(names)
        subject = describe([str(script)], str(tmp_path), interpreter, env)
        ended = []
        for recording in (None, tmp_path / "one.recording"):
            out = (tmp_path / "out").open("w+b")
            if recording is None:
                execution = launch.start_plain(subject, tmp_path / "stamp", stdin=subprocess.DEVNULL, stdout=out, stderr=out)
            else:
                recording.unlink(missing_ok=True)
                launch.write_keys(tmp_path / "keys", keys)
                native = hook_setting(interpreter, "native")
                execution = launch.start_recorded(subject, recording, native, 1 << 26, timed=tmp_path / "keys", stdin=subprocess.DEVNULL,
                                                  stdout=out, stderr=out)  # fmt: skip
            done = execution.wait()
            assert not done.problem
            out.seek(0)
            ended.append((out.read().decode(), done.exit_status))
            out.close()
        assert ended[0] == ended[1]
        tables, _unreadable = tables_of(tmp_path / "one.recording")
        return SparseRun(tables, *ended[1])

    return run


PLAIN = dedent("""\
    def leaf(n):
        return n + 1
    def work(n):
        return sum(leaf(k) for k in range(n))
    def outer():
        return [work(50) for _ in range(7)]
    def rest():
        return leaf(1)
    print(sum(outer()), rest())
    """)


def test_only_what_was_chosen_is_timed_and_counted_exactly(timed):
    run = timed(PLAIN, "work", "outer")
    assert run.entries("work") == (7, 0)
    assert run.entries("outer") == (1, 0)
    assert run.entries("leaf") == run.entries("rest") == (0, 0)
    assert run.chains() == {("<module>",), ("<module>", "outer"), ("<module>", "outer", "work")} - {("<module>",)} or run.chains() == {
        ("outer",), ("outer", "work")}  # fmt: skip
    assert run.tables.facts.timed_only
    assert (run.tables.self_ns >= 0).all()
    assert int(run.tables.self_ns.sum()) <= run.tables.facts.duration_ns


HARD = dedent("""\
    import sys
    def recursive(n):
        return 0 if n == 0 else 1 + recursive(n - 1)
    def numbers(n):
        for k in range(n):
            got = yield k
    def thrown(n):
        try:
            if n == 0:
                raise KeyError(n)
            return thrown(n - 1)
        finally:
            seen.append(n)
    def catches():
        try:
            thrown(5)
        except KeyError:
            return "caught"
    async def awaits(n):
        for _ in range(n):
            await Stop()
        return n
    class Stop:
        def __await__(self):
            yield 1
    def drive(coroutine):
        try:
            while True:
                coroutine.send(None)
        except StopIteration as done:
            return done.value
    seen = []
    print(recursive(40))
    print(sum(numbers(10)))
    closed = numbers(3)
    next(closed)
    closed.close()
    never = numbers(3)
    try:
        never.throw(ValueError)
    except ValueError as problem:
        print("thrown", type(problem).__name__)
    thrower = numbers(3)
    next(thrower)
    try:
        thrower.throw(RuntimeError("x"))
    except RuntimeError as problem:
        print("into", problem)
    print(catches(), seen)
    print(drive(awaits(4)))
    try:
        thrown(2)
    except KeyError as problem:
        trace, depth = problem.__traceback__, 0
        while trace:
            trace, depth = trace.tb_next, depth + 1
        print("depth", depth)
    print(sys.getrefcount(seen) < 10)
    """)


def test_recursion_generators_exceptions_and_coroutines(timed, version):
    run = timed(HARD, "recursive", "numbers", "thrown", "catches", "awaits")
    assert run.entries("recursive") == (41, 0)
    assert run.entries("thrown") == (9, 0)
    assert run.entries("catches") == (1, 0)
    calls, resumes = run.entries("awaits")
    assert calls + resumes == 5
    calls, resumes = run.entries("numbers")
    assert calls in (3, 4)  # what was thrown into before it began may count
    assert 11 <= resumes <= 13
    assert ("catches",) + ("thrown",) * 6 in run.chains() or ("<module>", "catches") + ("thrown",) * 6 in run.chains()


DEEP = dedent("""\
    import sys, threading
    sys.setrecursionlimit(200_000)
    def deep(n):
        return 0 if n == 0 else 1 + deep(n - 1)
    def starts(n):
        return deep(n)
    print(starts(@))
    result = []
    threading.stack_size(256 * 1024)
    thread = threading.Thread(target=lambda: result.append(starts(200)))
    thread.start()
    thread.join()
    print(result, starts(30))
    """)


def test_a_recursion_that_goes_well_without_us_goes_well_with_us(timed, version):
    levels = 60_000 if version >= (3, 11) else 9_000  # before, each level takes room on the C stack without us, too
    run = timed(DEEP.replace("@", str(levels)), "starts")
    assert run.output.splitlines() == [str(levels), "[200] 30"]
    assert run.entries("starts")[0] == 3


THREADS = dedent("""\
    import threading, _thread, os, subprocess, sys, time, warnings
    warnings.simplefilter("ignore")  # whether threads are still there when it forks is a matter of chance
    def work(n):
        return sum(k * k for k in range(n))
    def many():
        for _ in range(20):
            work(200)
    threads = [threading.Thread(target=many) for _ in range(4)]
    for one in threads: one.start()
    for one in threads: one.join()
    lock = _thread.allocate_lock()
    lock.acquire()
    _thread.start_new_thread(lambda: (many(), lock.release()), ())
    lock.acquire()
    child = os.fork()
    if child == 0:
        many()
        os._exit(7)
    print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
    print(subprocess.run([sys.executable, "-c", "print('child')"], capture_output=True, text=True).stdout.strip())
    many()
    """)


def test_threads_forks_and_children(timed):
    run = timed(THREADS, "work", "many")
    assert run.output.splitlines() == ["7", "child"]
    assert run.entries("many") == (7, 0)
    assert run.entries("work") == (140, 0)


def test_a_program_that_is_killed_or_fails(timed):
    run = timed("import os\ndef work():\n    raise SystemExit(3)\nwork()\n", "work")
    assert (run.status, run.entries("work")) == (3, (1, 0))
    run = timed("import os, signal\ndef work():\n    os.kill(os.getpid(), signal.SIGKILL)\nwork()\n", "work")
    assert (run.status, run.entries("work")) == (-9, (1, 0))


def test_green_threads_each_have_their_own_chain(timed, packages):
    text = dedent("""\
        from greenlet import greenlet
        def inner(n):
            other.switch()
            return n
        def first():
            for k in range(50):
                inner(k)
        def second():
            while True:
                long()
                one.switch()
        def long():
            return sum(range(100))
        one, other = greenlet(first), greenlet(second)
        one.switch()
        print("done")
        """)
    run = timed(text, "inner", "first", "second", "long", env=(("PYTHONPATH", packages),))
    assert run.entries("inner") == (50, 0)
    assert run.entries("long") == (50, 0)
    assert not any(chain[-2:] == ("inner", "long") for chain in run.chains())  # it ran beside it, not below


def test_the_programs_own_tools_still_work(timed, version):
    text = dedent("""\
        import sys
        lines = []
        def work(n):
            return n + 1
        def trace(frame, event, arg):
            lines.append(event)
            return trace
        sys.settrace(trace)
        work(1)
        sys.settrace(None)
        calls = []
        sys.setprofile(lambda frame, event, arg: calls.append(event))
        work(2)
        sys.setprofile(None)
        print(lines, calls.count("call"), sys.getprofile(), sys.gettrace())
        """)
    run = timed(text, "work")
    assert run.entries("work") == (2, 0)


def test_code_whose_name_no_sane_person_gives(timed):
    run = timed("def caf\u00e9(n):\n    return n\nfor k in range(3): caf\u00e9(k)\nprint('ok')\n", "caf\u00e9")
    assert run.entries("caf\u00e9") == (3, 0)


def test_without_a_compiler_a_round_says_why_there_are_no_sparse_runs(tmp_path):
    from conftest import ricerca

    (tmp_path / "p.py").write_text("def f():\n    return sum(range(300000))\nf()\n")
    done = ricerca("record", "--hook", "python", "--plain", 2, "p.py", cwd=tmp_path)
    assert done.returncode == 0
    assert "no sparse runs: they need the native recorder" in done.stderr


@pytest.mark.skipif(sys.platform != "linux", reason="Linux only")
def test_keys_of_functions_can_be_anything(tmp_path):
    launch.write_keys(tmp_path / "keys", [(1, "f", "/a b\tc.py"), (2, "g\nh", "/x.py"), (3, "h", "/y\udcff.py")])
    assert Path(tmp_path / "keys").read_bytes() == b"1\tf\t/a b\tc.py\n3\th\t/y\xff.py\n"
