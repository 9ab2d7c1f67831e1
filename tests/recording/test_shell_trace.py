"""A shell's trace: read line by line, whole or cut, and what is made of it without a shell."""

from __future__ import annotations

from collections import Counter

import pytest

from ricerca.model.errors import FileDamagedError
from ricerca.model.run_tables import RunTables
from ricerca.recording.one_tree import Process, one_tree
from ricerca.recording.parts import read_parts
from ricerca.recording.shell import FOREVER, ShellReader
from ricerca.recording.shell_trace import MARK, PART, is_trace, read_trace

START = 1_000_000


def head(pid: int = 10, parent: int = 1, at: str = "1.000000", name: str = "/w/job.sh") -> str:
    return MARK.join(["#ricerca bash 1", at, str(pid), str(parent), "5.2.15(1)-release", "/w", name]) + "\n"


def event(ms: int, text: str, line: int = 1, depth: int = 1, function: str = "", pid: int = 10, level: int = 0, status: int = 0, file: str = "job.sh",
          plus: str = "+") -> str:  # fmt: skip
    at = f"{1 + ms / 1000:.6f}"
    return plus + MARK + PART.join([at, "10", str(pid), str(level), str(status), str(line), str(depth), function, file, text]) + "\n"


@pytest.fixture
def trace(tmp_path):
    def write(*lines: str, end: str = "", **of_head):
        file = tmp_path / "r.recording.10.bash"
        file.write_text(head(**of_head) + "".join(lines) + end)
        return read_trace(file)

    return write


def calls(tables: RunTables) -> Counter:
    found: Counter = Counter()
    for function, count in zip(tables.function.tolist(), tables.calls.tolist(), strict=True):
        found[tables.function_name[function]] += count
    return found


def times(tables: RunTables) -> Counter:
    found: Counter = Counter()
    for function, ns in zip(tables.function.tolist(), tables.self_ns.tolist(), strict=True):
        found[tables.function_name[function]] += ns // START
    return found


def test_each_command_lasts_until_the_next_and_the_last_until_the_end(trace):
    found = trace(event(2, "x=1"), event(3, "date +%s", 2), event(13, "f 1", 3), event(14, ":", 1, 2, "f"), event(16, "echo hi", 4))
    tables = ShellReader(found, 0, 1_020_000_000).read()
    assert times(tables) == Counter({"date": 10, "f": 1, ":": 2, "echo": 4, "job.sh": 3})
    assert calls(tables) == Counter({"job.sh": 1, "date": 1, "f": 1, ":": 1, "echo": 1, "<thread start>": 0})
    assert int(tables.slice_self_ns.sum()) == int(tables.self_ns.sum()) == 20 * START


def test_the_cost_of_tracing_is_known_command_by_command_and_never_more_than_the_time(trace):
    found = trace(event(1, "x=1"), event(2, "x=2"), event(3, "x=3"))
    tables = ShellReader(found, 400_000, 1_003_100_000).read()
    assert int(tables.cost_ns.sum()) == 400_000 * 2 + 100_000


def test_commands_of_several_lines_stay_whole(trace):
    found = trace(event(1, "z='two\nlines +\x1eno event'"), event(2, "echo"))
    assert [one.text for one in found.events] == ["z='two\nlines +\x1eno event'", "echo"]
    assert not found.cut


def test_a_trace_that_is_cut_keeps_what_is_whole(trace):
    found = trace(event(1, "x=1"), event(2, "date"), end="+\x1e1.0030")
    assert found.cut and [one.text for one in found.events] == ["x=1", "date"]
    assert not ShellReader(found).read().facts.closed


def test_lines_that_make_no_sense_are_passed_over_and_said(trace):
    found = trace("+\x1enot a time\x1f1\x1f2\n", event(1, "x=1"), "+\x1e1.5\x1fa\x1fb\x1fc\x1fd\x1fe\x1ff\x1fg\x1fh\x1fi\n")
    assert found.cut and len(found.events) == 1


@pytest.mark.parametrize("first", ["", "#ricerca", "#ricerca bash 1\x1ex\x1e1\x1e2\x1e5\x1e/w\x1ea", "nonsense"])
def test_a_first_line_that_makes_no_sense_is_damage(tmp_path, first):
    file = tmp_path / "r.10.bash"
    file.write_text(first + "\n")
    with pytest.raises(FileDamagedError, match="first line makes no sense"):
        read_trace(file)


def test_a_trace_is_told_from_other_recordings(tmp_path):
    (tmp_path / "a").write_text(head())
    (tmp_path / "b").write_bytes(b"RICERCA\0")
    assert is_trace(tmp_path / "a") and not is_trace(tmp_path / "b") and not is_trace(tmp_path / "none")


def test_a_clock_that_is_set_back_makes_no_time_before_the_start(trace):
    found = trace(event(-500, "x=1", -3), event(2, "date"))
    assert [one.at_ns for one in found.events] == [1_000_000_000, 1_002_000_000] and found.events[0].line == 0
    tables = ShellReader(found, 0, 1_003_000_000).read()
    assert int(tables.self_ns.sum()) == 3 * START and (tables.slice_number >= 0).all()


def test_an_empty_script_has_its_body_and_its_time(trace):
    tables = ShellReader(trace(), 0, 1_005_000_000).read()
    assert times(tables)["job.sh"] == 5 and calls(tables)["job.sh"] == 1


def test_pipelines_run_beside_each_other_and_substitutions_one_after_the_other(trace):
    pipeline = trace(event(1, "echo a", 5, pid=11), event(1, "cat", 5, pid=12), event(9, "x=1", 6))
    tables = ShellReader(pipeline, 0, 1_010_000_000).read()
    assert len(tables.thread_name) == 2
    assert times(tables)["cat"] == times(tables)["echo"] == 8
    after = trace(event(1, "echo a", 5, pid=11, level=1, plus="++"), event(4, "echo b", 5, pid=12, level=1, plus="++"), event(9, "x=ab", 5))
    tables = ShellReader(after, 0, 1_010_000_000).read()
    assert len(tables.thread_name) == 1
    assert int(tables.self_ns.sum()) == 10 * START
    assert calls(tables)["(subshell)"] == 2


def test_programs_are_told_with_what_came_of_them_and_when_they_ran(trace):
    found = trace(event(1, "false", 1), event(2, "/bin/date", 2, status=1), event(3, "/bin/date", 3, status=7), event(5, "x=1", 4))
    reader = ShellReader(found, 0, 1_006_000_000)
    assert reader.read().facts.commands == (("/bin/date", 2, 3_000_000, 1),)
    assert [(call.start_ns // START, call.end_ns // START) for call in reader.started] == [(2, 3), (3, 5)]


def test_a_program_that_runs_when_its_shell_was_last_heard_of_has_no_end(trace):
    reader = ShellReader(trace(event(1, "python3 x.py")))
    reader.read()
    assert [call.end_ns for call in reader.started] == [FOREVER]


def test_a_script_that_another_started_hangs_below_the_command_and_takes_its_time(tmp_path):
    outer = tmp_path / "r.recording.10.bash"
    inner = tmp_path / "r.recording.20.bash"
    outer.write_text(head() + event(1, "bash inner.sh", 3) + event(9, "x=1", 4))
    inner.write_text(head(20, 10, "1.002000", "/w/inner.sh") + event(3, "sleep 1", 1, file="inner.sh", pid=20))
    main = tmp_path / "r.recording"
    main.touch()
    processes, unreadable = read_parts(main, [outer, inner], lambda _language: 0, 1_010_000_000)
    assert unreadable == 0 and [process.tables.facts.pid for process in processes] == [10, 20]
    found = one_tree(processes)
    names = {
        found.function_name[found.function[c]]: found.function_name[found.function[found.parent[c]]] for c in range(1, len(found.parent))
    }
    assert names["inner.sh"] == "bash" and names["sleep"] == "inner.sh"
    assert times(found) == Counter({"job.sh": 2, "bash": 1, "inner.sh": 1, "sleep": 6})
    assert int(found.self_ns.sum()) == 10 * START


def test_nothing_written_at_all_is_said(tmp_path):
    main, empty = tmp_path / "r.recording", tmp_path / "r.recording.10"
    main.touch()
    empty.touch()
    with pytest.raises(FileDamagedError, match="ended before it began"):
        read_parts(main, [empty], lambda _language: 0)


def test_one_process_alone_is_its_own_tree(trace):
    tables = ShellReader(trace(event(1, "date"), event(3, "x=1")), 0, 1_004_000_000).read()
    assert calls(one_tree([Process(tables)])) == calls(tables) - Counter({"<thread start>": 0})
