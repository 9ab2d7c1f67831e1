"""One run holds all its processes: forks, worker pools of every kind, other Pythons that are started."""

from __future__ import annotations

from textwrap import dedent

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
