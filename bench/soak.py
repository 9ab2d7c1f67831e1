"""A long recording must not grow: python bench/soak.py [SECONDS] [PYTHON]

Records a busy program (threads, generators, exceptions, code made while running, collections) and
looks once a second at the memory of its process and the size of its recording. Prints both at a
tenth of the time and at the end; a growth of more than a tenth, and more than 8 MB, is a failure.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from ricerca.recording.reader import open_recording
from ricerca.runner.program import describe
from ricerca.runner.session import Plan, Session, Streams

PROGRAM = """
import sys, threading, time
def leaf(n): return n
def numbers(n):
    for i in range(n): yield leaf(i)
def fails():
    raise ValueError(1)
class Ring: pass
def work():
    total = sum(numbers(50))
    try: fails()
    except ValueError: pass
    exec(compile("def made(): return 1\\nmade()", "<made>", "exec"), {})
    a, b = Ring(), Ring(); a.b, b.a = b, a
    return sorted(range(20), key=leaf), total
def many(until):
    while time.time() < until: work()
until = time.time() + float(sys.argv[1])
while time.time() < until:
    pool = [threading.Thread(target=many, args=(min(until, time.time() + 5),)) for _ in range(3)]
    for thread in pool: thread.start()
    for thread in pool: thread.join()
"""


def resident_mb(pid: int) -> float:
    """Memory of a process that is its own: the recording is a file, counted apart."""
    for line in Path(f"/proc/{pid}/status").read_text().splitlines():
        if line.startswith("RssAnon"):
            return int(line.split()[1]) / 1024
    return 0.0


def main(seconds: float = 600.0, python: str | None = None) -> int:
    """Record, look, judge."""
    seen: list[tuple[float, float, float, int]] = []
    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder, "soak.py")
        script.write_text(PROGRAM)
        session = Session(Plan(describe([str(script), str(seconds)], folder, python), Path(folder, "soak.ricerca")), Streams())
        began = time.monotonic()

        def look() -> None:
            now = time.monotonic() - began
            if session.execution is None or (seen and now - seen[-1][0] < 1.0):
                return
            try:
                recording = open_recording(session.recording, check=False)
                memory = resident_mb(session.execution.process.pid)
            except Exception:
                return
            seen.append((now, memory, int(recording.header["allocated_bytes"]) / 2**20, int(recording.contexts["calls"].sum())))

        outcome = session.run(look)
    early = next(one for one in seen if one[0] >= seconds / 10)
    late = seen[-1]
    for words, one in (("early", early), ("late", late)):
        print(f"{words}: {one[0]:.0f} s, {one[1]:.1f} MB of memory, {one[2]:.1f} MB of recording, {one[3]:,} calls")
    grown = any(after > before * 1.1 and after - before > 8 for before, after in zip(early[1:3], late[1:3], strict=True))
    print("GROWS" if grown or outcome.run_id is None else "flat")
    return int(grown or outcome.run_id is None)


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 600.0, sys.argv[2] if len(sys.argv) > 2 else None))
