"""Streams of events: what any language may write, as far as it is whole."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections import Counter

import pytest
from conftest import facts_of, ricerca

from ricerca.model.errors import FileDamagedError, NewerFormatError
from ricerca.recording.stream import StreamReader, head_of, is_stream, read_stream

HEAD = {"ricerca": "events", "version": 1, "language": "Lua", "program": ["job.lua"], "start_unix_ns": 7, "pid": 3}


def stream(*events: dict, head: dict = HEAD) -> StreamReader:
    reader = StreamReader(head_of(json.dumps(head), "it"))
    reader.feed(json.dumps(event) for event in events)
    return reader


def counts(reader: StreamReader) -> Counter:
    tables, found = reader.tables(), Counter()
    for function, calls in zip(tables.function.tolist(), tables.calls.tolist(), strict=True):
        found[tables.function_name[function]] += calls
    return found


F, G = {"name": 1, "function": "f", "file": "/w/job.lua", "first_line": 3}, {"name": 2, "function": "g", "kind": "builtin"}


def test_calls_times_and_lines_of_a_nested_call():
    reader = stream(F, G, {"enter": 1, "at": 10, "line": 9}, {"line": 4, "at": 20}, {"enter": 2, "at": 30, "line": 4}, {"leave": 2, "at": 50},
                    {"leave": 1, "at": 60}, {"end": 70, "exit_status": 5})  # fmt: skip
    tables = reader.tables()
    by_name = {
        tables.function_name[f]: (int(c), int(s), int(line))
        for f, c, s, line in zip(tables.function, tables.calls, tables.self_ns, tables.line, strict=True)
    }
    assert by_name["f"] == (1, 30, 9)
    assert by_name["g"] == (1, 20, 4)
    assert (reader.cut, reader.exit_status, tables.facts.closed) == (False, 5, True)
    assert [(int(n), int(h), int(s)) for n, h, s in zip(tables.line_number, tables.line_hits, tables.line_self_ns, strict=True)] == [
        (4, 1, 10)
    ]
    assert tables.slice_self_ns.sum() == tables.self_ns.sum() == 50


def test_an_error_that_leaves_several_calls_closes_them_all():
    reader = stream(
        F,
        G,
        {"enter": 1, "at": 0},
        {"enter": 2, "at": 1},
        {"enter": 2, "at": 2},
        {"leave": 1, "at": 9},
        {"enter": 2, "at": 10},
        {"end": 11},
    )
    tables = reader.tables()
    assert counts(reader)["g"] == 3
    depth = [int(tables.parent[context]) for context in range(len(tables.parent)) if tables.function_name[tables.function[context]] == "g"]
    assert depth.count(0) == 1, "what came after is called from outside"


def test_threads_have_stacks_of_their_own_and_resumes_are_no_calls():
    reader = stream(F, {"thread": 1, "thread_name": "worker"}, {"enter": 1, "at": 0}, {"enter": 1, "at": 5, "thread": 1}, {"leave": 1, "at": 6},
                    {"enter": 1, "at": 7, "resumed": True, "thread": 1}, {"leave": 1, "at": 9, "thread": 1}, {"leave": 1, "at": 10, "thread": 1}, {"end": 12})  # fmt: skip
    tables = reader.tables()
    assert tables.thread_name == ("main", "worker")
    assert int(tables.resumes.sum()) == 1 and counts(reader)["f"] == 2


def test_what_runs_outside_all_calls_counts_to_the_body():
    reader = stream(F, {"enter": 1, "at": 10}, {"leave": 1, "at": 20}, {"end": 50}, head={**HEAD, "body": "/w/job.lua"})
    tables = reader.tables()
    body = next(context for context in range(len(tables.parent)) if tables.function_name[tables.function[context]] == "job.lua")
    assert int(tables.self_ns[body]) == 40 and int(tables.calls[body]) == 1


@pytest.mark.parametrize(
    "bad",
    [
        {"enter": 1, "at": -5},
        {"enter": 1, "at": 10**30},
        {"enter": 1, "at": 6, "line": -1},
        {"line": 10**12, "at": 6},
        {"end": -1},
        {"enter": 99, "at": 1},
        {"enter": 1},
        {"odd": 1},
        {"leave": 1, "at": "soon"},
        [1, 2],
        {"name": 4, "function": "x", "kind": "spell"},
    ],
)
def test_a_line_that_makes_no_sense_ends_the_run_and_keeps_what_came_before(bad):
    reader = stream(F, {"enter": 1, "at": 0}, {"leave": 1, "at": 5}, bad, {"enter": 1, "at": 6}, {"end": 9})
    assert reader.cut and counts(reader)["f"] == 1


def test_a_leave_without_a_call_and_time_that_runs_backwards_do_no_harm():
    reader = stream(F, G, {"leave": 1, "at": 3}, {"enter": 1, "at": 10}, {"leave": 2, "at": 8}, {"leave": 1, "at": 20}, {"end": 20})
    assert int(reader.tables().self_ns.sum()) == 10
    assert reader.strange == 1


@pytest.mark.parametrize("text", ["", "{}", "[]", "no json", '{"ricerca":"other"}', '{"ricerca":"events"}'])
def test_another_first_line_is_refused(text):
    with pytest.raises(FileDamagedError, match="not a stream of events"):
        head_of(text, "it")


def test_a_newer_version_is_refused():
    with pytest.raises(NewerFormatError):
        head_of(json.dumps({**HEAD, "version": 2}), "it")


def test_a_stream_that_is_cut_in_a_line_is_read_up_to_it(tmp_path):
    file = tmp_path / "x.events"
    rows = [HEAD, F, {"enter": 1, "at": 0}, {"leave": 1, "at": 5}]
    file.write_text("\n".join(json.dumps(row) for row in rows) + '\n{"enter": 1, "a')
    assert is_stream(file)
    reader = read_stream(file)
    assert reader.cut and counts(reader)["f"] == 1


def test_a_stream_is_taken_into_a_study_and_read_as_any_run(tmp_path):
    rows = [HEAD, F, {"enter": 1, "at": 1000, "line": 2}, {"leave": 1, "at": 5000}, {"end": 6000, "exit_status": 0}]
    (tmp_path / "one.events").write_text("".join(json.dumps(row) + "\n" for row in rows))
    done = ricerca("take", "one.events", "--study", "s.ricerca", "--round", "first", cwd=tmp_path)
    assert done.returncode == 0 and "round 1 is kept" in done.stderr
    with (tmp_path / "one.events").open() as given:
        assert ricerca("take", "-", "--study", "s.ricerca", cwd=tmp_path, stdin=given).returncode == 0
    facts = facts_of(tmp_path / "s.ricerca", "--round", "1")
    assert (facts["round_name"], facts["exit_status"], facts["complete"]) == ("first", 0, True)
    assert [(row["function"], row["calls"], row["self_ns"]) for row in facts["functions"] if row["calls"]] == [("f", 1, 4000)]
    assert ricerca("compare", "s.ricerca", "1", "2", cwd=tmp_path).returncode == 0


@pytest.mark.parametrize(("content", "says"), [("nonsense\n", "not a stream of events"), (json.dumps(HEAD) + "\n", "no call in")])
def test_what_cannot_be_taken_says_why_and_leaves_no_study(tmp_path, content, says):
    (tmp_path / "x.events").write_text(content)
    done = ricerca("take", "x.events", cwd=tmp_path)
    assert done.returncode == 2 and says in done.stderr
    assert not (tmp_path / "x.ricerca").exists()
    assert "cannot be read" in ricerca("take", "none.events", cwd=tmp_path).stderr


LUA = """
local function fib(n) if n < 2 then return n end return fib(n-1) + fib(n-2) end
print(fib(10))
local co = coroutine.wrap(function() for i = 1, 3 do coroutine.yield(i) end end)
print(co(), co())
print(pcall(function() error("x") end))
for _, word in ipairs(arg) do print(word) end
os.exit(4)
"""
PERL = """
use strict; use warnings;
sub fib { my $n = shift; return $n < 2 ? $n : fib($n - 1) + fib($n - 2) }
print fib(10), "\\n";
sub twice { return wantarray ? ($_[0] * 2) : 1 }
my @list = map { twice($_) } 1 .. 3; my $one = twice(4); print "@list $one\\n";
sub thrower { die "x\\n" }
for (1 .. 2) { eval { thrower() }; print "caught $@" }
my $f = sub { 7 }; print $f->(), "\\n", join(",", @ARGV), "\\n";
print join(" ", map { $_ // "" } @ENV{qw(PERL5OPT PERL5LIB RICERCA_EVENTS)}), "\\n";
exit 4;
"""
RUBY = """
def fib(n) n < 2 ? n : fib(n - 1) + fib(n - 2) end
puts fib(10)
class Tide; def each; yield 1; yield 2; end; end
Tide.new.each { |x| puts x }
def thrower; raise "x"; end
2.times { begin; thrower; rescue; puts "r"; end }
puts ARGV.inspect, [ENV["RUBYOPT"], ENV["RICERCA_EVENTS"]].inspect
exit 4
"""


@pytest.mark.parametrize(
    ("program", "name", "text", "expected"),
    [
        ("lua", "job.lua", LUA, {"fib": 177, "error": 1, "pcall": 1, "yield": 2}),
        ("perl", "job.pl", PERL, {"fib": 177, "twice": 4, "thrower": 2}),
        ("ruby", "job.rb", RUBY, {"fib": 177, "Tide.each": 1, "thrower": 2}),
    ],
)
def test_programs_in_other_languages_are_recorded_by_their_interpreters_and_do_not_notice(tmp_path, program, name, text, expected):
    if shutil.which(program) is None:
        pytest.skip(f"there is no {program} here")
    (tmp_path / name).write_text(text)
    plain = subprocess.run([program, name, "a", "b c"], cwd=tmp_path, capture_output=True, text=True)
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--plain", 1, "--", program, name, "a", "b c", cwd=tmp_path)
    assert (done.returncode, done.stdout, done.stderr) == (plain.returncode, plain.stdout, plain.stderr)
    facts = facts_of(tmp_path / "s.ricerca")
    calls = {row["function"]: row["calls"] for row in facts["functions"]}
    assert {name: calls[name] for name in expected} == expected
    assert facts["complete"] and facts["exit_status"] == 4
    again = ricerca("record", "--study", "t.ricerca", "--quiet", "--", name, "a", cwd=tmp_path)
    assert again.returncode == 4, "a script is started by its interpreter"


@pytest.mark.skipif(shutil.which("lua") is None, reason="there is no lua here")
def test_a_lua_that_a_lua_starts_leaves_its_parents_events_alone_and_start_code_has_its_turn(tmp_path):
    (tmp_path / "child.lua").write_text("local function small() end\nfor i = 1, 50 do small() end\nprint('child')\n")
    (tmp_path / "job.lua").write_text("function work() end\nwork()\nos.execute('lua child.lua')\nwork()\nprint(started)\n")
    env = {**os.environ, "LUA_INIT": "started = 'before'", "XDG_CACHE_HOME": str(tmp_path / "cache")}
    done = ricerca("record", "--study", "s.ricerca", "--quiet", "--", "lua", "job.lua", cwd=tmp_path, env=env)
    assert (done.returncode, done.stdout) == (0, "child\nbefore\n"), done.stderr
    calls = {row["function"]: row["calls"] for row in facts_of(tmp_path / "s.ricerca")["functions"]}
    assert calls["work"] == 2 and "small" not in calls
