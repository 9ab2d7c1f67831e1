"""Programs that do with frames, threads and hooks what no recorder expects; each from outside, on each interpreter."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from textwrap import dedent

import pytest
from conftest import RICERCA, facts_of, ricerca

GREEN = dedent("""\
    from greenlet import greenlet, getcurrent
    def leaf(n): return n + 1
    def deeper(n, other):
        leaf(n)
        other.switch()
        return leaf(n)
    def a():
        for i in range(300):
            leaf(i)
            second.switch()
            leaf(i)
            deeper(i, second)
    def b():
        while True:
            leaf(0)
            first.switch()
            leaf(1)
    first, second = greenlet(a), greenlet(b)
    first.switch()
    main = getcurrent()
    def worker(n):
        for i in range(20):
            leaf(i)
            main.switch()
    many = [greenlet(worker) for _ in range(100)]
    for turn in range(20):
        for one in many:
            one.switch(1) if turn == 0 else one.switch()
    """)


def test_green_threads_that_switch_in_loops_are_followed_each_by_itself(counted, packages, hook):
    if hook == "python":
        pytest.skip("the recorder in Python keeps one stack a thread")
    counts = counted(GREEN, "--env", f"PYTHONPATH={packages}")
    assert counts.facts["exit_status"] == 0
    assert counts.calls("leaf") == 300 * 4 + 600 * 2 - 1 + 2000
    assert counts.calls("deeper") == 300
    assert counts.calls("worker") == 100
    assert counts.edge("worker", "leaf", 23) == 2000  # by itself, not below whoever switched to it
    assert counts.edge("deeper", "leaf", 4) == counts.edge("deeper", "leaf", 6) == 300
    assert counts.edge("worker", "greenlet.switch", 24) == 2000


FOREIGN = dedent("""\
    import ctypes, threading
    lib = ctypes.CDLL(None)
    kind = ctypes.CFUNCTYPE(ctypes.c_void_p, ctypes.c_void_p)
    def step(n): return n + 1
    def run(_):
        for i in range(500): step(i)
        return 0
    callback = kind(run)
    threads = []
    for _ in range(10):
        threads.append(ctypes.c_ulong())
        lib.pthread_create(ctypes.byref(threads[-1]), None, callback, None)
    for one in threads: lib.pthread_join(one, None)
    ordinary = threading.Thread(target=run, args=(None,))
    ordinary.start()
    ordinary.join()
    """)


MANY_FOREIGN = dedent("""\
    import ctypes
    lib = ctypes.CDLL(None)
    kind = ctypes.CFUNCTYPE(ctypes.c_void_p, ctypes.c_void_p)
    def step(n): return n + 1
    def run(_):
        for i in range(20): step(i)
        return 0
    callback = kind(run)
    for _ in range(60):
        threads = [ctypes.c_ulong() for _ in range(8)]
        for one in threads:
            lib.pthread_create(ctypes.byref(one), None, callback, None)
            for i in range(30): step(i)  # frames begin here while thread states are made there
        for one in threads: lib.pthread_join(one, None)
    """)


def test_threads_that_are_made_while_python_runs_are_all_followed(counted, hook, version):
    if hook == "python" and version < (3, 12):
        pytest.skip("the recorder in Python does not see them")
    counts = counted(MANY_FOREIGN)
    assert counts.facts["exit_status"] == 0
    assert counts.calls("run") == 480
    assert counts.calls("step") == 480 * 20 + 480 * 30


def test_threads_made_outside_of_python_are_followed_from_their_first_call(counted, hook, version):
    if hook == "python" and version < (3, 12):
        pytest.skip("the recorder in Python does not see them")
    counts = counted(FOREIGN)
    assert counts.calls("run") == 11
    assert counts.edge("run", "step", 6) == 5500
    assert counts.facts["complete"]


def test_a_thread_that_calls_back_again_and_again_stays_one_thread(counted, hook, version):
    if hook == "python" and version < (3, 12):
        pytest.skip("the recorder in Python does not see them")
    counts = counted(
        dedent("""\
        import ctypes, ctypes.util
        kind = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_void_p)
        outer = ctypes.CFUNCTYPE(ctypes.c_void_p, ctypes.c_void_p)
        lib = ctypes.CDLL(None)
        lib.qsort.restype = None
        def order(a, b): return 0
        compare = kind(order)
        sort = ctypes.cast(lib.qsort, ctypes.c_void_p).value
        # a thread of compiled code that does nothing but call back: qsort itself, started through a trampoline of ctypes
        def body(_):
            data = (ctypes.c_int * 64)()
            lib.qsort(data, 64, 4, compare)
            return 0
        start = outer(body)
        one = ctypes.c_ulong()
        lib.pthread_create(ctypes.byref(one), None, start, None)
        lib.pthread_join(one, None)
        """)
    )
    assert counts.calls("order") > 60
    assert counts.calls("body") == 1
    assert len(counts.facts["threads"]) == 2


def test_own_hooks_come_and_go_and_recording_goes_on_after_them(counted, version, hook):
    counts = counted(
        dedent("""\
        import sys
        seen = []
        def f(): pass
        def put_in():
            sys.setprofile(lambda *a: seen.append(a[1]))
        f(); f()
        put_in()
        f()
        sys.setprofile(None)
        assert sys.getprofile() is None
        f(); f(); f()
        assert seen[0] != "c_return" or sys.version_info >= (3, 12), seen
        """)
        if hook == "native"
        else "import sys\ndef f(): pass\nf(); f()\nsys.setprofile(lambda *a: None)\nf()\nsys.setprofile(None)\nf(); f(); f()\n"
    )
    assert counts.facts["exit_status"] == 0
    if version >= (3, 12):
        assert counts.calls("f") == 6
        assert counts.facts["complete"]
    else:
        assert counts.calls("f") == (5 if hook == "native" else 2)
        assert not counts.facts["complete"]
        assert "profile hook of its own" in counts.facts["incomplete_because"][0]


def test_subinterpreters_are_said_to_be_missing(counted):
    counts = counted(
        dedent("""\
        try:
            import _xxsubinterpreters as sub
        except ImportError:
            import _interpreters as sub
        one = sub.create()
        sub.run_string(one, "def f(): pass\\nf()")
        sub.destroy(one)
        def g(): pass
        g()
        """)
    )
    assert counts.calls("g") == 1
    assert not counts.facts["complete"]
    assert counts.facts["incomplete_because"] == ["1 subinterpreter could not be followed"]


MAKER = """
#include <Python.h>
static PyObject *make(PyObject *self, PyObject *count)
{
    PyThreadState *before = PyThreadState_Get();
    for (long i = 0; i < PyLong_AsLong(count); i++) {
        PyThreadState *made = Py_NewInterpreter();
        PyRun_SimpleString("def f(): pass\\nf()");
        Py_EndInterpreter(made);
        PyThreadState_Swap(before);
    }
    Py_RETURN_NONE;
}
static PyMethodDef methods[] = {{"make", make, METH_O, NULL}, {NULL, NULL, 0, NULL}};
static PyModuleDef module = {PyModuleDef_HEAD_INIT, "maker", NULL, -1, methods};
PyMODINIT_FUNC PyInit_maker(void) { return PyModule_Create(&module); }
"""


@pytest.mark.skipif(not shutil.which("gcc"), reason="no gcc on this machine")
def test_subinterpreters_made_by_compiled_code_are_said_to_be_missing(tmp_path, interpreter):
    include = subprocess.check_output([interpreter, "-c", "import sysconfig; print(sysconfig.get_paths()['include'])"], text=True).strip()
    (tmp_path / "maker.c").write_text(MAKER)
    subprocess.run(["gcc", "-fPIC", "-shared", f"-I{include}", "-o", "maker.so", "maker.c"], cwd=tmp_path, check=True)
    (tmp_path / "p.py").write_text("import maker\ndef g(): pass\nmaker.make(3)\ng()\n")
    done = ricerca("record", "--python", interpreter, "--study", "s.ricerca", "p.py", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    facts = facts_of(tmp_path / "s.ricerca")
    assert facts["incomplete_because"] == ["3 subinterpreters could not be followed"]
    assert [row["calls"] for row in facts["functions"] if row["function"] == "g"] == [1]


def test_nested_lambdas_on_one_line_are_told_apart(counted):
    counts = counted("f = lambda a: (lambda b: (lambda: a + b))\nfor i in range(3):\n    f(i)(1)()\n    f(i)\n")
    assert counts.calls("<lambda>") == 6
    assert counts.calls("<lambda>.<locals>.<lambda>") == 3
    assert counts.calls("<lambda>.<locals>.<lambda>.<locals>.<lambda>") == 3


CALLABLES = dedent("""\
    import functools, operator
    class Made:
        def __init__(self, x): self.x = x
    class Bare: pass
    class Wrong(ValueError): pass
    class Called:
        def __call__(self): return 3
    half = functools.partial(pow, 2)
    first = operator.itemgetter(0)
    called = Called()
    def work():
        for i in range(50):
            Made(i); Bare(); dict(a=i); half(3); first([1]); called(); Wrong("x"); object.__init__(called)
        try: dict(1)
        except TypeError: pass
    work()
    """)


def test_calls_of_anything_are_counted_where_the_interpreter_tells_of_them(counted, version):
    counts = counted(CALLABLES)
    assert counts.edge("work", "Made.__init__", 13) == 50
    assert counts.edge("work", "Called.__call__", 13) == 50
    if version >= (3, 12):
        for name in ("Made", "Bare", "Wrong", "dict", "partial.__call__", "itemgetter.__call__", "object.__init__"):
            assert counts.edge("work", name, 13) == 50, name
        assert counts.edge("work", "dict", 14) == 1  # one that raises, too


def test_code_that_others_attach_data_to_is_left_alone_at_the_end(counted):
    counts = counted(
        dedent("""\
        import ctypes
        api = ctypes.pythonapi
        prefix = b"PyUnstable_Eval_" if hasattr(api, "PyUnstable_Eval_RequestCodeExtraIndex") else b"_PyEval_"
        free = ctypes.CFUNCTYPE(None, ctypes.c_void_p)(lambda _: None)
        request = getattr(api, (prefix + b"RequestCodeExtraIndex").decode())
        request.restype = ctypes.c_ssize_t
        index = request(free)
        assert index >= 0
        space = {}
        exec("def late(): return 1", space)
        space["late"]()
        del free
        """)
    )
    assert counts.facts["exit_status"] == 0
    assert counts.calls("late") == 1


@pytest.mark.skipif("libasan" in os.environ.get("LD_PRELOAD", ""), reason="looking for faults of memory takes address space itself")
def test_a_program_with_little_address_space_is_recorded(counted):
    counts = counted(
        "import resource\nresource.setrlimit(resource.RLIMIT_AS, (600 << 20, 600 << 20))\nx = bytearray(250 << 20)\n"
        "def f(n): return f(n - 1) if n else 0\nfor i in range(200): f(100)\n"
    )
    assert counts.facts["exit_status"] == 0
    assert counts.calls("f") == 200 * 101


@pytest.mark.parametrize("limit", ["100G", "300G"])
def test_a_very_large_limit_is_no_problem(tmp_path, limit):
    (tmp_path / "p.py").write_text("def f(): pass\nfor _ in range(9): f()\n")
    done = ricerca("record", "--limit", limit, "--study", "s.ricerca", "p.py", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert {row["function"]: row["calls"] for row in facts_of(tmp_path / "s.ricerca")["functions"]}["f"] == 9


def test_no_descriptor_of_ours_stays_open_in_the_program(tmp_path, interpreter):
    text = "import os\ndef f(n): return f(n - 1) if n else 0\nfor i in range(300): f(i)\nprint(sorted(os.listdir('/proc/self/fd')))\n"
    (tmp_path / "p.py").write_text(text)
    plain = subprocess.run([interpreter, "p.py"], cwd=tmp_path, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    done = ricerca("record", "--python", interpreter, "--study", "s.ricerca", "p.py", cwd=tmp_path, stdin=subprocess.DEVNULL)
    assert done.stdout == plain.stdout


@pytest.mark.parametrize("version_", ["3.12", "3.13"])
def test_an_interpreter_that_nobody_knows_is_recorded_by_its_public_interfaces(tmp_path, version_):
    from conftest import python_of

    python = python_of(version_)
    (tmp_path / "p.py").write_text(
        dedent("""\
        import subprocess, threading
        def gen():
            for i in range(3): yield leaf(i)
        def leaf(n): return n
        def down(n): return down(n - 1) if n else leaf(0)
        class C:
            def __del__(self): leaf(1)
        def work():
            for i in range(10): down(5)
            list(gen())
            sorted([3, 1, 2], key=leaf)
            C()
            try: boom()
            except ZeroDivisionError: pass
        def boom(): 1 / 0
        work()
        t = threading.Thread(target=work)
        t.start(); t.join()
        """)
    )
    counts = {}
    for hook in ("public", "native"):
        study = tmp_path / f"{hook}.ricerca"
        done = ricerca("record", "--hook", hook, "--python", python, "--study", study, "p.py", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        facts = facts_of(study, "--edges")
        edges = {(e["caller"]["function"], e["callee"]["function"], e["line"]): e["calls"] for e in facts["edges"]}
        counts[hook] = ({(row["function"], row["line"]): (row["calls"], row["resumes"]) for row in facts["functions"]}, edges)
        assert facts["public_interfaces_only"] is (hook == "public")
    for hook in counts:
        counts[hook][0].pop(("garbage collection", 0), None)
    assert counts["public"][0] == counts["native"][0]
    inner = ("work", "down", "gen", "boom", "C.__del__")
    assert {k: v for k, v in counts["public"][1].items() if k[0] in inner} == {
        k: v for k, v in counts["native"][1].items() if k[0] in inner
    }


def test_time_after_a_limit_goes_to_what_ran_then(tmp_path):
    (tmp_path / "p.py").write_text(
        dedent("""\
        import sys
        sys.setrecursionlimit(100_000)
        def down(n, left):
            if n: (a if left & 1 else b)(n - 1, left >> 1)
        def a(n, left): down(n, left)
        def b(n, left): down(n, left)
        def outer():
            for pattern in range(3000): down(12, pattern)
            late()
        def late():
            for _ in range(3000): work()
        def work(): sum(range(2000))
        outer()
        """)
    )
    done = ricerca("record", "--limit", "1M", "--study", "s.ricerca", "p.py", cwd=tmp_path)
    assert "size limit of the recording was reached" in done.stderr
    facts = facts_of(tmp_path / "s.ricerca")
    rows = {row["function"]: row for row in facts["functions"]}
    assert rows["work"]["calls"] == rows["sum"]["calls"] == 3000
    assert rows["down"]["calls"] == 39_000
    assert rows["sum"]["raw_self_ns"] > 10 * rows["outer"]["raw_self_ns"]  # which was open all the time
    assert not facts["complete"]


def test_damaged_recordings_of_children_are_counted(tmp_path):
    (tmp_path / "p.py").write_text(
        "import os, glob, subprocess, sys\n"
        "subprocess.run([sys.executable, '-c', 'def f(): pass\\nf()'])\n"
        "folder = os.path.join(os.environ['CACHE'], 'ricerca', 'recordings')\n"
        "for name in glob.glob(folder + '/*.recording.*[0-9]'):\n"
        "    open(name, 'r+b').write(b'damaged!' * 200)\n"
    )
    cache = os.environ["XDG_CACHE_HOME"]
    done = subprocess.run(
        [*RICERCA, "record", "--env", f"CACHE={cache}", "--study", "s.ricerca", "p.py"], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    facts = facts_of(tmp_path / "s.ricerca")
    assert facts["incomplete_because"] == ["the recording of 1 child process could not be read"]
    json.dumps(facts)
    assert sys.executable
