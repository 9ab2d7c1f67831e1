"""The program behaves exactly as without the recorder."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path
from textwrap import dedent

import pytest
from conftest import RICERCA, ricerca

PROGRAMS = {
    "output": "import sys\nprint('out')\nsys.stderr.write('err\\n')\nsys.stdout.buffer.write(b'\\xff\\x00raw')\n",
    "arguments": "import sys\nprint(sys.argv, sys.path[0], __name__, __file__, sorted(globals()))\n",
    "environment": "import os\nprint(sorted(k for k in os.environ))\nprint(os.environ.get('PYTHONPATH'))\n",
    "modules": "import sys\nprint('sitecustomize' in sys.modules, [p for p in sys.path if 'ricerca/recorder' in p])\n",
    "traceback": "def f(n):\n    return 1 / n\ndef g():\n    f(0)\ng()\n",
    "chained": "try:\n    {}['x']\nexcept KeyError as e:\n    raise ValueError('no') from e\n",
    "exit status": "import sys\nsys.exit(7)\n",
    "exit text": "raise SystemExit('gone wrong')\n",
    "hard exit": "import os, sys\nprint('x', flush=True)\nos._exit(9)\n",
    "syntax error": "def f(:\n    pass\n",
    "input": "import sys\nprint(sys.stdin.read().upper())\n",
    "recursion": dedent("""\
        import sys
        def deep(n):
            return deep(n + 1)
        try:
            deep(0)
        except RecursionError as e:
            print(e)
        """),
    "atexit": "import atexit\natexit.register(print, 'bye')\nprint('hi')\n",
    "thread error": "import threading\nt = threading.Thread(target=lambda: 1 / 0, name='t')\nt.start()\nt.join()\n",
    "fork": dedent("""\
        import os
        def f(): return 1
        f()
        pid = os.fork()
        if not pid:
            for _ in range(1000): f()
            os._exit(3)
        print(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))
        """),
    "child": "import subprocess, sys\nprint(subprocess.run([sys.executable, '-c', 'print(5)'], capture_output=True).stdout)\n",
    "own hook": "import sys\nseen = []\nsys.setprofile(lambda f, e, a: seen.append(a) if e == 'c_call' else 0)\nlen('x')\nsys.setprofile(None)\nprint(seen)\n",
    "list of its folder": "import os\nprint([name for name in os.listdir() if not name.endswith('.ricerca')])\n",
    "own start-up module": "import sys\nprint(sys.modules['sitecustomize'].MARK)\n",
}


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "own").mkdir()
    (tmp_path / "own" / "sitecustomize.py").write_text("MARK = 'mine'\n")
    return tmp_path


@pytest.mark.parametrize("name", ["output", "modules", "environment", "traceback", "atexit", "hard exit", "exit status"])
def test_plain_runs_are_the_program_alone(name, folder):
    from ricerca.runner import launch
    from ricerca.runner.program import describe

    script = folder / "program.py"
    script.write_text(PROGRAMS[name])
    plain = subprocess.run([sys.executable, "program.py"], cwd=folder, capture_output=True, env=dict(os.environ))
    with (folder / "out").open("wb") as out, (folder / "err").open("wb") as err:
        started = launch.start_plain(describe(["program.py"], str(folder), None), folder / "stamp", stdout=out, stderr=err)
        ended = started.wait()
    assert (folder / "out").read_bytes() == plain.stdout
    assert (folder / "err").read_bytes() == plain.stderr
    assert ended.exit_status == plain.returncode
    assert 0 < ended.wall_ns < 5e9


@pytest.mark.parametrize("name", PROGRAMS)
def test_output_traceback_and_exit_status_are_the_same_bytes(name, folder, monkeypatch, interpreter):
    script = folder / "program.py"
    script.write_text(PROGRAMS[name])
    if name == "own start-up module":
        monkeypatch.setenv("PYTHONPATH", str(folder / "own"))
    given = {"input": b"some text\n" * 1000, "cwd": folder, "capture_output": True, "timeout": 60}
    plain = subprocess.run([interpreter, "program.py", "a", "-b"], **given)
    recorded = subprocess.run([*RICERCA, "record", "--quiet", "--python", interpreter, "program.py", "a", "-b"], **given)
    assert recorded.stdout == plain.stdout
    assert recorded.stderr == plain.stderr
    assert recorded.returncode == plain.returncode


def test_module_runs_as_with_the_interpreter(folder):
    (folder / "pack").mkdir()
    (folder / "pack" / "__init__.py").write_text("print('init', __name__)\n")
    (folder / "pack" / "__main__.py").write_text("import sys\nprint(__name__, sys.argv[1:], sys.path[0])\n")
    plain = subprocess.run([sys.executable, "-m", "pack", "x"], cwd=folder, capture_output=True)
    recorded = subprocess.run([*RICERCA, "record", "--quiet", "-m", "pack", "x"], cwd=folder, capture_output=True)
    assert recorded.stdout == plain.stdout
    assert recorded.returncode == 0
    ranked = ricerca("rank", folder / "pack.ricerca", "--json")
    assert "<module>" in ranked.stdout


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGTERM, signal.SIGSEGV])
def test_a_signal_ends_both_alike_and_the_recording_is_kept(number, folder):
    script = folder / "program.py"
    script.write_text(
        f"import os, time\ndef f(): pass\nfor _ in range(500): f()\ntime.sleep(0.05)\nos.kill(os.getpid(), {int(number)})\ntime.sleep(9)\n"
    )
    plain = subprocess.run([sys.executable, "program.py"], cwd=folder, capture_output=True)
    recorded = subprocess.run([*RICERCA, "record", "--quiet", "program.py"], cwd=folder, capture_output=True)
    assert recorded.returncode == plain.returncode == -number
    import json

    facts = json.loads(ricerca("rank", folder / "program.ricerca", "--json").stdout)
    assert not facts["complete"]
    assert facts["exit_status"] == -number
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 500


def test_sigkill_in_a_long_call_books_the_time_on_it(folder, own_cache):
    script = folder / "program.py"
    script.write_text("import time\ntime.sleep(60)\n")
    running = subprocess.Popen([*RICERCA, "record", "--quiet", "program.py"], cwd=folder)
    parts = []
    while not parts:
        parts = [p for p in own_cache.glob("*.recording") if p.stat().st_size > 4096 and p.read_bytes()[24:28] == b"\1\0\0\0"]
    import time

    time.sleep(0.7)
    child = int.from_bytes(parts[0].read_bytes()[80:84], "little")
    subprocess.run(["kill", "-9", str(child)], check=True)
    assert running.wait(30) == -9
    import json

    facts = json.loads(ricerca("rank", folder / "program.ricerca", "--json").stdout)
    slept = next(row for row in facts["functions"] if row["function"] == "sleep")
    assert slept["self_ns"] > 0.3e9


def test_a_recording_left_by_a_killed_ricerca_is_taken_in_later(folder, own_cache):
    script = folder / "program.py"
    script.write_text("import time\ndef f(): pass\nfor _ in range(30): f()\nprint('on', flush=True)\ntime.sleep(0.6)\n")
    running = subprocess.Popen([*RICERCA, "record", "program.py"], cwd=folder, stdout=subprocess.PIPE)
    running.stdout.readline()
    running.kill()
    running.wait()
    running.stdout.close()
    left = list(own_cache.glob("*.recording"))
    assert len(left) == 1
    import json
    import time

    for _ in range(100):
        done = ricerca("rank", folder / "program.ricerca", "--json")
        if done.returncode == 0:
            break
        time.sleep(0.1)
    facts = json.loads(done.stdout)
    assert next(row["calls"] for row in facts["functions"] if row["function"] == "f") == 30
    assert not list(own_cache.glob("*.recording"))


def test_sets_of_the_interpreters_own_functions_still_hold_them(folder, interpreter):
    text = "import os\nprint([sorted(f.__name__ for f in s if f in s) for s in (os.supports_fd, os.supports_dir_fd)], os.execve in os.supports_fd)\n"
    (folder / "program.py").write_text(text)
    plain = subprocess.run([interpreter, "program.py"], cwd=folder, capture_output=True, text=True).stdout
    assert "execve" in plain
    assert ricerca("record", "--python", interpreter, "program.py", cwd=folder).stdout == plain
