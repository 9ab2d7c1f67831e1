"""The recorder knows what it costs: measured before the program, watched while it runs."""

from __future__ import annotations

from pathlib import Path
from textwrap import dedent

from conftest import Recorder

from ricerca.model.rounds import RECORDED
from ricerca.study.store import Study

CALLS, SLOW_CALLS = 200_000, 20_000
PROGRAM = dedent("""\
    import os, sys
    def tiny(): pass
    def work():
        for _ in range(int(sys.argv[1])): tiny()
        for _ in range(int(sys.argv[1])): callable(None)
    work()
    for _ in range(int(sys.argv[2])):
        child = os.fork()
        if not child: os._exit(tiny() or 0)
        os.waitpid(child, 0)
    """)


def facts_of(counted: Recorder, folder: Path, *arguments: str):
    counted(PROGRAM, arguments=arguments)
    with Study.open(folder / "study.ricerca") as study:
        return study.tables(study.round().last_run(RECORDED).id).facts


def test_cost_and_work_of_each_kind_of_call_are_measured(counted, hook, tmp_path):
    facts = facts_of(counted, tmp_path, str(SLOW_CALLS if hook == "python" else CALLS), "0")
    assert facts.python_inside_ns + facts.python_outside_ns > 5
    assert facts.builtin_inside_ns + facts.builtin_outside_ns > 5
    if hook == "python":
        assert facts.python_watched == 0 and facts.python_slowness == 1.0  # it has no time to watch itself
        return
    assert 0 < facts.python_work_ns < facts.python_inside_ns + facts.python_outside_ns
    for times in (facts.python_watched, facts.builtin_watched):
        assert CALLS / 64 / 3 < times < CALLS / 64 * 3, "about one entry in 64 is timed"
    assert 0.5 <= facts.python_slowness <= 2.0


def test_a_forked_child_does_not_bring_what_its_parent_watched(counted, hook, tmp_path):
    if hook == "native":  # entries are chosen by the clock, so that a loop in step with it is timed some times as often
        children = 24
        watched = facts_of(counted, tmp_path, str(CALLS), str(children)).python_watched
        assert watched < CALLS / 64 * children / 2
