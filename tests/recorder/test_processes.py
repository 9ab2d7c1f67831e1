"""One run holds all its processes: forks, worker pools of every kind, other Pythons that are started."""

from __future__ import annotations

from textwrap import dedent

import pytest

MANY = dedent("""\
    import concurrent.futures, multiprocessing, os, subprocess, sys
    def work(n):
        for i in range(n):
            step(i)
    def step(i):
        return i
    if __name__ == "__main__":
        pid = os.fork()
        if pid == 0:
            work(10)
            os._exit(0)
        os.waitpid(pid, 0)
        for how in ("fork", "spawn", "forkserver"):
            with multiprocessing.get_context(how).Pool(2) as pool:
                pool.map(work, [100, 100, 100])
                pool.close()
                pool.join()
        with concurrent.futures.ProcessPoolExecutor(2) as pool:
            list(pool.map(work, [50, 50]))
        subprocess.run([sys.executable, "-c", "def other(): pass\\nfor _ in range(7): other()"], check=True)
        work(5)
    """)


def test_calls_of_all_processes_are_counted(counted, interpreter):
    counts = counted(MANY)
    calls = {}
    for row in counts.facts["functions"]:
        calls[row["function"]] = calls.get(row["function"], 0) + row["calls"]
    assert calls["work"] == 1 + 3 * 3 + 2 + 1
    assert calls["step"] == 10 + 3 * 300 + 100 + 5
    assert calls["other"] == 7
    assert counts.facts["complete"]
    assert len({thread["process"] for thread in counts.facts["threads"]}) >= 1 + 1 + 3 + 1 + 1


def test_a_child_counts_from_the_fork_on(counted):
    counts = counted(
        dedent("""\
        import os
        def f(): pass
        def both():
            for _ in range(100): f()
            pid = os.fork()
            for _ in range(10): f()
            return pid
        pid = both()
        if pid:
            os.waitpid(pid, 0)
        """)
    )
    assert counts.calls("f") == 100 + 10 + 10
    assert counts.calls("both") == 1
    assert sum(row["self_ns"] for row in counts.facts["functions"]) == counts.facts["total_ns"]
    names = [(thread["name"], thread["process"]) for thread in counts.facts["threads"]]
    assert len(set(names)) == len(names) == 2


def test_programs_started_by_hand_with_an_environment_of_their_own_are_followed(counted, hook):
    if hook == "python":
        pytest.skip("the recorder in Python sees those of the library's module alone")
    counts = counted(
        dedent("""\
        import os, sys
        own = {**os.environ, "MARK": "mine"}
        code = "import os\\ndef child_work(): pass\\nfor _ in range(7): child_work()\\nassert os.environ['MARK'] == 'mine'\\n" \\
            "assert not [name for name in os.environ if name.startswith('RICERCA')]"
        def start():
            words = [sys.executable, "-c", code]
            first = os.fork()
            if not first:
                os.execve(sys.executable, words, own)
            second = os.posix_spawn(sys.executable, words, own)
            return [os.waitpid(pid, 0)[1] for pid in (first, second)]
        assert start() == [0, 0]
        assert not [name for name in own if name.startswith("RICERCA")]
        """)
    )
    assert counts.facts["exit_status"] == 0
    assert counts.calls("child_work") == 14


def test_an_empty_module_path_given_to_a_child_stays_empty(counted):
    counts = counted(
        dedent("""\
        import os, subprocess, sys
        code = "import os, sys; print(os.environ.get('PYTHONPATH'), os.getcwd() in sys.path[1:])"
        for value in ("", None):
            env = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
            if value is not None:
                env["PYTHONPATH"] = value
            said = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True).stdout
            assert said == f"{value} False\\n", said
        """)
    )
    assert counts.facts["exit_status"] == 0
