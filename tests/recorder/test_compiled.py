"""Compiled programs: exact counts for what compiled code does, names and lines, and clear words where it cannot be recorded."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import pytest
from conftest import ricerca

from ricerca.loading import edited_since
from ricerca.model.errors import InputError
from ricerca.model.rounds import RECORDED, Subject
from ricerca.model.run_tables import RunTables
from ricerca.recording.symbols import CPP, FORTRAN, C, ObjectFile, readable
from ricerca.runner.compiled import CALLS, FLAGS, SHARED, flags_for, why_not
from ricerca.runner.launch import writes_main_recording
from ricerca.runner.native import SOURCES
from ricerca.runner.restoring import why_not_here
from ricerca.study.store import Study

pytestmark = pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no gcc here")

TRAPS = """
#include <pthread.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>
static jmp_buf back;
static int fib(int n) { return n < 2 ? n : fib(n - 1) + fib(n - 2); }
static void thrower(int deep) { if (deep == 0) longjmp(back, 1); thrower(deep - 1); }
static void after(void) { }
static inline int small(int x) { return x * 2; }
static int vla(int n) { char room[n]; room[0] = 1; after(); return room[0] + n; }
__attribute__((constructor)) static void before_main(void) { after(); }
static void at_end(void) { after(); }
static void on_signal(int number) { (void)number; after(); }
static void *worker(void *p) { return (void *)(long)fib((int)(long)p); }
int main(int argc, char **argv) {
    (void)argv;
    atexit(at_end);
    signal(SIGUSR1, on_signal);
    printf("%d\\n", fib(15));
    for (int i = 0; i < 3; i++) { if (setjmp(back) == 0) thrower(2); after(); }
    raise(SIGUSR1);
    int sum = argc; for (int i = 0; i < 10; i++) sum += small(i) + vla(i + 1);
    pthread_t threads[3];
    for (int i = 0; i < 3; i++) pthread_create(&threads[i], 0, worker, (void *)10);
    for (int i = 0; i < 3; i++) pthread_join(threads[i], 0);
    fflush(stdout);
    if (fork() == 0) { fib(5); _exit(0); }
    wait(0);
    printf("%d\\n", sum);
    return 3;
}
"""


@dataclass
class Built:
    """A program that was built and recorded."""

    tables: RunTables
    stdout: str
    status: int

    @property
    def calls(self) -> Counter[str]:
        """Calls by name."""
        found: Counter[str] = Counter()
        for function, calls in zip(self.tables.function.tolist(), self.tables.calls.tolist(), strict=True):
            found[self.tables.function_name[function]] += calls
        return found

    @property
    def edges(self) -> Counter[tuple[str, str, int]]:
        """Calls by caller, callee and line."""
        found: Counter[tuple[str, str, int]] = Counter()
        tables = self.tables
        for parent, function, line, calls in zip(
            tables.parent.tolist(), tables.function.tolist(), tables.line.tolist(), tables.calls.tolist(), strict=True
        ):
            if parent >= 0 and calls:
                found[tables.function_name[tables.function[parent]], tables.function_name[function], line] += calls
        return found


def build(folder: Path, text: str, *flags: str, name: str = "prog", compiler: str = "gcc", suffix: str = ".c") -> Path:
    source = folder / f"{name}{suffix}"
    source.write_text(text)
    done = subprocess.run(
        [compiler, *flags, "-o", str(folder / name), str(source), "-lpthread"], cwd=folder, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    return folder / name


def recorded(folder: Path, *words: str) -> Built:
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", *words, cwd=folder)
    with Study.open(folder / "s.ricerca") as study:
        return Built(study.tables(study.round().last_run(RECORDED).id), done.stdout, done.returncode)


@pytest.mark.parametrize("level", ["-O0", "-O2"])
def test_counts_are_exact_through_jumps_threads_forks_signals_and_around_main(tmp_path, level):
    build(tmp_path, TRAPS, level, *FLAGS.split())
    found = recorded(tmp_path, "./prog")
    assert (found.status, found.stdout) == (3, "610\n156\n")
    calls = found.calls
    assert calls["fib"] == 1973 + 3 * 177 + 15
    assert (calls["thrower"], calls["small"], calls["vla"], calls["worker"]) == (9, 10, 10, 3)
    assert calls["after"] == 1 + 3 + 1 + 10 + 1
    assert (calls["main"], calls["before_main"], calls["at_end"], calls["on_signal"]) == (1, 1, 1, 1)
    callers = {(caller, callee) for caller, callee, _line in found.edges}
    assert {("fib", "fib"), ("thrower", "thrower"), ("main", "after"), ("vla", "after"), ("before_main", "after")} <= callers
    assert ("thrower", "after") not in callers, "a jump has left it"


def test_names_files_and_lines_come_from_debugging_information(tmp_path):
    text = "static int leaf(int n) { return n; }\nint twice(int n)\n{\n    return leaf(n)\n         + leaf(n);\n}\nint main(void)\n{\n    return twice(0);\n}\n"
    build(tmp_path, text, "-O0", *FLAGS.split())
    found = recorded(tmp_path, "./prog")
    assert found.edges == {("<thread start>", "main", 0): 1, ("main", "twice", 9): 1, ("twice", "leaf", 4): 1, ("twice", "leaf", 5): 1}
    tables = found.tables
    places = {tables.function_name[n]: (tables.function_file[n], int(tables.function_line[n])) for n in range(len(tables.function_name))}
    assert places["twice"] == (str(tmp_path / "prog.c"), 3)
    assert set(tables.languages) == {C, "Python"} or set(tables.languages) == {C}


def test_without_debugging_information_the_symbol_stays_and_without_symbols_the_address(tmp_path):
    text = "int leaf(int n) { return n; }\nint main(void) { return leaf(0); }\n"
    build(tmp_path, text, "-O0", "-finstrument-functions")
    assert recorded(tmp_path, "./prog").calls["leaf"] == 1
    subprocess.run(["strip", str(tmp_path / "prog")], check=True)
    names = [name for name, calls in recorded(tmp_path, "./prog").calls.items() if calls]
    assert len(names) == 2 and all(name.startswith("0x") and name.endswith(" in prog") for name in names)


def test_functions_of_one_name_in_two_files_and_in_a_library_are_told_apart(tmp_path):
    (tmp_path / "one.c").write_text("static int same(void) { return 1; }\nint one(void) { return same(); }\n")
    (tmp_path / "two.c").write_text("static int same(void) { return 2; }\nint two(void) { return same() + same(); }\n")
    (tmp_path / "main.c").write_text("int one(void); int two(void);\nint main(void) { return one() + two() - 5; }\n")
    library = ["gcc", "-O0", *FLAGS.split(), "-fPIC", "-shared", "-o", "libtwo.so", "two.c"]
    program = ["gcc", "-O0", *FLAGS.split(), "-o", "prog", "main.c", "one.c", "-L.", "-ltwo", f"-Wl,-rpath,{tmp_path}"]
    for command in (library, program):
        subprocess.run(command, cwd=tmp_path, check=True)
    tables = recorded(tmp_path, "./prog").tables
    counts = Counter()
    for function, calls in zip(tables.function.tolist(), tables.calls.tolist(), strict=True):
        counts[tables.function_name[function], Path(tables.function_file[function]).name] += calls
    assert (counts["same", "one.c"], counts["same", "two.c"]) == (1, 2)


@pytest.mark.skipif(shutil.which("g++") is None, reason="there is no g++ here")
def test_cpp_names_are_readable_and_exceptions_unwind(tmp_path):
    build(tmp_path, """
        #include <stdexcept>
        namespace tide {
        struct Station { int n; int fit(int k); };
        int deep(int k) { if (k == 0) throw std::runtime_error("x"); return deep(k - 1) + 1; }
        int after() { return 0; }
        int Station::fit(int k) { try { return deep(k); } catch (std::exception &) { return after(); } }
        template <class T> T twice(T x) { return x + x; }
        }
        int main() { tide::Station s{3}; int sum = 0; for (int i = 0; i < 5; i++) sum += s.fit(2); return sum + tide::twice(0); }
        """, "-O1", *FLAGS.split(), "-finstrument-functions-exclude-file-list=/usr/", compiler="g++", suffix=".cpp")  # fmt: skip
    found = recorded(tmp_path, "./prog")
    assert found.calls["tide::deep(int)"] == 15
    assert found.calls["tide::Station::fit(int)"] == found.calls["tide::after()"] == 5
    assert {caller for caller, callee, _line in found.edges if callee == "tide::after()"} == {"tide::Station::fit(int)"}
    assert CPP in found.tables.languages


@pytest.mark.skipif(shutil.which("gfortran") is None, reason="there is no gfortran here")
def test_fortran_procedures_have_their_names(tmp_path):
    build(tmp_path, """
module waves
contains
  recursive integer function fib(n) result(r)
    integer, intent(in) :: n
    if (n < 2) then
      r = n
    else
      r = fib(n - 1) + fib(n - 2)
    end if
  end function
end module
program tide
  use waves
  print *, fib(10)
end program
""", "-O2", *FLAGS.split(), compiler="gfortran", suffix=".f90")  # fmt: skip
    found = recorded(tmp_path, "./prog")
    assert found.calls["waves.fib"] == 177
    assert found.calls["main program"] == 1
    assert FORTRAN in found.tables.languages


def test_a_recursion_with_two_sites_has_one_context_for_each_level(tmp_path):
    build(
        tmp_path,
        "static int f(int n) { return n < 2 ? n : f(n - 1) + f(n - 2); }\nint main(void) { return f(20) != 6765; }\n",
        "-O0",
        *FLAGS.split(),
    )
    found = recorded(tmp_path, "./prog")
    assert found.calls["f"] == 21891
    assert len(found.tables.parent) < 30


def test_shell_python_and_compiled_code_are_one_tree(tmp_path):
    build(tmp_path, "static int leaf(int n) { return n; }\nint main(void) { int s = 0; for (int i = 0; i < 7; i++) s += leaf(i); return s != 21; }\n",
          "-O0", *FLAGS.split())  # fmt: skip
    (tmp_path / "run.py").write_text("import subprocess\ndef start(): subprocess.run(['./prog'], check=True)\nstart()\n")
    (tmp_path / "job.sh").write_text(f"#!/bin/bash\nnight() {{ ./prog; {sys.executable} run.py; }}\nnight\n")
    (tmp_path / "job.sh").chmod(0o755)
    found = recorded(tmp_path, "./job.sh")
    assert found.status == 0
    assert found.calls["leaf"] == 14
    tables = found.tables

    def path(context):
        names = []
        while context >= 0:
            names.insert(0, tables.function_name[tables.function[context]])
            context = int(tables.parent[context])
        return names

    leaves = [path(context) for context in range(len(tables.parent)) if tables.function_name[tables.function[context]] == "leaf"]
    assert len(leaves) == 2
    assert all(names[1:3] == ["job.sh", "night"] for names in leaves)
    assert sum("start" in names for names in leaves) == 1


@pytest.mark.parametrize(
    ("flags", "says"),
    [(("-O0",), "not built to tell its calls"), (("-O0", "-static", *FLAGS.split()), "linked statically")],
)
def test_what_cannot_be_recorded_says_why_and_what_to_do(tmp_path, flags, says):
    build(tmp_path, "int main(void) { return 0; }\n", *flags)
    done = ricerca("record", "--", "./prog", cwd=tmp_path)
    assert done.returncode == 2
    assert says in done.stderr and "ricerca flags" in done.stderr
    assert not list(tmp_path.glob("*.ricerca"))


def test_a_damaged_program_is_refused_in_a_sentence(tmp_path):
    (tmp_path / "prog").write_bytes(b"\x7fELF" + bytes(50))
    (tmp_path / "prog").chmod(0o755)
    assert "cannot be read" in why_not(tmp_path / "prog")
    done = ricerca("record", "--", "./prog", cwd=tmp_path)
    assert done.returncode == 2 and "cannot be recorded" in done.stderr


def test_a_program_for_another_machine_is_refused(tmp_path):
    program = build(tmp_path, "int main(void) { return 0; }\n", "-O0", *FLAGS.split())
    content = bytearray(program.read_bytes())
    content[18:20] = (183 if content[18] == 62 else 62).to_bytes(2, "little")  # the machine of the header
    program.write_bytes(content)
    assert "another machine" in why_not(program)


def test_flags_are_printed_for_the_compiler_and_unknown_languages_refused():
    assert ricerca("flags").stdout == ricerca("flags", "c++").stdout == FLAGS + "\n"
    with pytest.raises(InputError, match="no flags for 'cobol'"):
        flags_for("cobol")


def test_a_missing_compiler_is_said(tmp_path):
    build(tmp_path, "int main(void) { return 0; }\n", "-O0", *FLAGS.split())
    done = ricerca(
        "record",
        "--",
        "./prog",
        cwd=tmp_path,
        env={"PATH": "/nonexistent", "HOME": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path / "cache")},
    )
    assert done.returncode == 2
    assert "Install gcc" in done.stderr


@pytest.mark.parametrize(
    ("symbol", "language", "name"),
    [
        ("_ZN4tide3fitEi", CPP, "tide::fit(int)"),
        ("__waves_MOD_height", FORTRAN, "waves.height"),
        ("MAIN__", FORTRAN, "main program"),
        ("sum_", FORTRAN, "sum"),
        ("sum_", C, "sum_"),
        ("fit.constprop.0", C, "fit"),
        ("_Znonsense", CPP, "_Znonsense"),
    ],
)
def test_symbols_are_written_as_their_language_does(symbol, language, name):
    assert readable(symbol, language) == name


def test_a_file_that_is_gone_leaves_addresses():
    gone = ObjectFile("/no/such/program", [16])
    assert gone.function(16).name == "0x10 in program"
    assert gone.line_of_call(16) == 0


def test_only_a_python_writes_the_main_recording(tmp_path):
    build(tmp_path, "int main(void) { return 0; }\n", "-O0", *FLAGS.split())
    assert not writes_main_recording(Subject("command", ("./prog",), str(tmp_path), ""))
    assert writes_main_recording(Subject("script", ("p.py",), str(tmp_path), "python3"))


EXTENSION = """
#include <Python.h>
static long fib(long n) { return n < 2 ? n : fib(n - 1) + fib(n - 2); }
static PyObject *py_fib(PyObject *self, PyObject *arg) { (void)self; return PyLong_FromLong(fib(PyLong_AsLong(arg))); }
static long helper(long n) { return n + 1; }
static PyObject *each(PyObject *self, PyObject *args) {
    PyObject *function; long count; (void)self;
    if (!PyArg_ParseTuple(args, "Ol", &function, &count)) return NULL;
    for (long i = 0; i < count; i++) {
        PyObject *found = PyObject_CallFunction(function, "l", helper(i));
        if (found == NULL) return NULL;
        Py_DECREF(found);
    }
    Py_RETURN_NONE;
}
static PyMethodDef methods[] = {{"fib", py_fib, METH_O, ""}, {"each", each, METH_VARARGS, ""}, {NULL, NULL, 0, NULL}};
static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "kern", "", -1, methods, NULL, NULL, NULL, NULL};
PyMODINIT_FUNC PyInit_kern(void) { return PyModule_Create(&module); }
"""
CALLER = """
import os, threading
import kern
def back(x): return kern.fib(3) if x == 2 else x
def boom(x): raise ValueError(x)
def main():
    print(kern.fib(15), os.environ.get("LD_PRELOAD"))
    kern.each(back, 4)
    try: kern.each(boom, 4)
    except ValueError as problem: print("caught", problem)
def run(): kern.fib(10)
main()
threads = [threading.Thread(target=run) for _ in range(2)]
for thread in threads: thread.start()
for thread in threads: thread.join()
"""


def test_an_extension_module_shows_its_functions_below_the_builtin_that_was_called(tmp_path, interpreter):
    include = subprocess.check_output([interpreter, "-c", "import sysconfig; print(sysconfig.get_paths()['include'])"], text=True).strip()
    (tmp_path / "kern.c").write_text(EXTENSION)
    build_it = ["gcc", "-O1", *FLAGS.split(), "-fPIC", "-shared", f"-I{include}", "-o", "kern.so", "kern.c"]
    subprocess.run(build_it, cwd=tmp_path, check=True)
    (tmp_path / "job.py").write_text(CALLER)
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--python", interpreter, "--", "job.py", cwd=tmp_path)
    assert (done.returncode, done.stdout) == (0, "610 None\ncaught 1\n"), done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        tables = study.tables(study.round().last_run(RECORDED).id)
    calls: Counter[tuple[str, str]] = Counter()
    for function, count in zip(tables.function.tolist(), tables.calls.tolist(), strict=True):
        calls[tables.function_name[function], tables.languages[function]] += count
    assert calls["fib", C] == 1973 + 5 + 2 * 177
    assert calls["py_fib", C] == 4 and calls["fib", "Python"] == 4
    assert (calls["helper", C], calls["back", "Python"], calls["boom", "Python"]) == (5, 4, 1)

    def path(context: int) -> list[str]:
        names: list[str] = []
        while context >= 0:
            names.insert(0, tables.function_name[tables.function[context]])
            context = int(tables.parent[context])
        return names

    paths = {tuple(path(context)) for context in range(len(tables.parent)) if tables.calls[context]}
    assert any(one[-5:] == ("main", "each", "back", "fib", "py_fib") for one in paths), "compiled code below Python below compiled code"
    assert any(one[-4:] == ("run", "fib", "py_fib", "fib") for one in paths)
    assert any("import kern" in one and one[-1] == "PyInit_kern" for one in paths)
    assert {tables.thread_name[thread] for thread in tables.thread[tables.calls > 0].tolist()} >= {"MainThread"}


def test_the_recorder_of_compiled_programs_has_no_fault_of_memory_or_arithmetic(tmp_path):
    watch = [subprocess.check_output(["gcc", f"-print-file-name=lib{name}.so"], text=True).strip() for name in ("asan", "ubsan")]
    if not all("/" in place for place in watch):
        pytest.skip("gcc has no sanitizers here")
    library = tmp_path / "watched.so"
    flags = [
        "-std=gnu11",
        "-O1",
        "-g",
        "-fsanitize=address,undefined",
        "-fno-sanitize-recover=undefined",
        "-fPIC",
        "-shared",
        "-fvisibility=hidden",
    ]
    sources = [str(CALLS), *(str(SOURCES / f"{name}.c") for name in SHARED)]
    subprocess.run(["gcc", *flags, "-o", str(library), *sources, "-ldl", "-lpthread"], check=True)
    program = build(tmp_path, TRAPS, "-O1", *FLAGS.split())
    env = {**os.environ, "RICERCA_RECORDING": str(tmp_path / "r.recording"), "LD_PRELOAD": " ".join([*watch, str(library)]),
           "ASAN_OPTIONS": "detect_leaks=0:exitcode=99", "UBSAN_OPTIONS": "exitcode=98"}  # fmt: skip
    done = subprocess.run([str(program)], env=env, capture_output=True, text=True)
    assert (done.returncode, done.stdout, done.stderr) == (3, "610\n156\n", "")
    assert list(tmp_path.glob("r.recording.*"))


def test_the_earlier_binary_is_run_again_beside_the_new_one(tmp_path):
    if why_not_here():
        pytest.skip(why_not_here())
    text = "static int work(int n) {{ volatile long s = 0; for (long i = 0; i < {loops}; i++) s += i; return (int)(s + n); }}\nint main(void) {{ return work(0) == 1; }}\n"
    for loops, name in ((60_000_000, "slow"), (600_000, "quick")):
        build(tmp_path, text.format(loops=loops), "-O1", *FLAGS.split())
        done = ricerca("record", "--study", "s.ricerca", "--quiet", "--plain", 8, "--round", name, "--", "./prog", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    with Study.open(tmp_path / "s.ricerca") as study:
        kept = study.sources(study.round(1).last_run(RECORDED).id)
        assert study.source_bytes(kept[str(tmp_path / "prog")]).startswith(b"\x7fELF")
        assert edited_since(study, study.rounds())[2] == (str(tmp_path / "prog"), str(tmp_path / "prog.c"))
    verdict = json.loads(ricerca("compare", "s.ricerca", "--json", cwd=tmp_path).stdout)
    assert verdict["pairs"] == 8, "runs made in turn, the earlier binary in its place"
    assert verdict["verdict"] == "faster" and verdict["speedup"] > 1.5, "a hundredth of the loops, beside the start of the program"
