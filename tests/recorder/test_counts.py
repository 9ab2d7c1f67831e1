"""Counts follow exactly from reading the program."""

from textwrap import dedent


def test_recursion_counts_every_call_and_one_entry_from_outside(counted):
    counts = counted(
        dedent("""\
        def fib(n):
            if n < 2:
                return n
            return fib(n - 1) + fib(n - 2)
        fib(12)
        fib(3)
        """)
    )
    assert counts.calls("fib") == 465 + 5
    assert counts.first("fib") == 2
    assert counts.edge("fib", "fib", 4) == 468
    assert counts.edge("<module>", "fib", 5) == 1
    row = counts.rows["fib"]
    assert row["inclusive_ns"] <= counts.facts["total_ns"]


def test_mutual_recursion_counts_entries_of_both(counted):
    counts = counted(
        dedent("""\
        def even(n):
            return True if n == 0 else odd(n - 1)
        def odd(n):
            return False if n == 0 else even(n - 1)
        even(10)
        odd(4)
        """)
    )
    assert (counts.calls("even"), counts.calls("odd")) == (6 + 2, 5 + 3)
    assert (counts.first("even"), counts.first("odd")) == (1 + 1, 1 + 1)


def test_generators_start_once_and_resume_for_each_value(counted, version):
    counts = counted(
        dedent("""\
        def numbers(n):
            for i in range(n):
                yield i
        def outer(n):
            yield from numbers(n)
        sum(numbers(7))
        list(outer(3))
        never = numbers(9)
        half = numbers(9)
        next(half)
        half.close()
        """)
    )
    assert counts.calls("numbers") == 1 + 1 + 1
    closed = 0 if version >= (3, 13) else 1  # there a suspended generator may be closed without entering it
    assert counts.resumes("numbers") == 7 + 3 + closed
    assert counts.calls("outer") == 1
    assert counts.resumes("outer") == 3
    assert counts.edge("sum", "numbers") == 1


def test_exception_thrown_into_a_generator_that_never_began_is_no_call(counted):
    counts = counted(
        dedent("""\
        def numbers():
            yield 1
        fresh = numbers()
        try:
            fresh.throw(ValueError)
        except ValueError:
            pass
        numbers().close()
        begun = numbers()
        next(begun)
        try:
            begun.throw(ValueError)
        except ValueError:
            pass
        """)
    )
    assert counts.calls("numbers") == 1
    assert counts.resumes("numbers") == 1


def test_coroutines_count_starts_and_resumptions(counted):
    counts = counted(
        dedent("""\
        import asyncio
        async def leaf(n):
            await asyncio.sleep(0)
            return n
        async def agen():
            for i in range(3):
                yield i
                await asyncio.sleep(0)
        async def main():
            for n in range(4):
                await leaf(n)
            async for _ in agen():
                pass
        asyncio.run(main())
        """)
    )
    assert (counts.calls("leaf"), counts.resumes("leaf")) == (4, 4)
    assert (counts.calls("agen"), counts.resumes("agen")) == (1, 6)
    assert (counts.calls("main"), counts.resumes("main")) == (1, 7)


def test_exceptions_close_what_they_leave(counted):
    counts = counted(
        dedent("""\
        def deep(n):
            if n == 0:
                raise KeyError(n)
            deep(n - 1)
        def catch():
            try:
                deep(5)
            except KeyError:
                after()
        def after():
            pass
        for _ in range(3):
            catch()
        """)
    )
    assert counts.calls("deep") == 18
    assert counts.first("deep") == 3
    assert counts.edge("catch", "after", 9) == 3
    assert counts.edge("deep", "after") == 0


def test_builtins_are_functions_with_their_qualified_names(counted):
    counts = counted(
        dedent("""\
        words = ["b", "a"]
        for word in words:
            len(word)
            word.upper()
        class Mine(list):
            pass
        Mine().append(1)
        words.append("c")
        dict.fromkeys(words)
        try:
            int.from_bytes("x", "big")
        except TypeError:
            pass
        """)
    )
    assert counts.calls("len") == 2
    assert counts.calls("str.upper") == 2
    assert counts.calls("list.append") == 1
    assert counts.calls("Mine.append") == 1
    assert counts.calls("dict.fromkeys") == 1
    assert counts.calls("int.from_bytes") == 1
    assert counts.rows["len"]["file"] == ""
    assert counts.rows["len"]["line"] == 0
    assert counts.rows["len"]["layer"] == "builtins"


def test_callbacks_from_builtins_have_the_builtin_as_caller(counted):
    counts = counted(
        dedent("""\
        import re
        def key(x):
            return -x
        def twice(x):
            return 2 * x
        def sub(m):
            return m.group(0).upper()
        sorted([3, 1, 2], key=key)
        list(map(twice, range(5)))
        re.sub("[ab]", sub, "abcab")
        max([1, 2], key=lambda x: x)
        """)
    )
    assert counts.edge("sorted", "key") == 3
    assert counts.calls("twice") == 5
    assert counts.edge("Pattern.sub", "sub") + counts.edge("sub", "sub") == 4
    assert counts.edge("max", "<lambda>") == 2
    assert counts.calls("Match.group") == 4


def test_same_named_functions_and_closures_are_told_apart_by_their_place(counted):
    counts = counted(
        dedent("""\
        def make(n):
            def inner():
                return n
            return inner
        a, b = make(1), make(2)
        a(); a(); b()
        class A:
            def run(self): pass
        class B:
            def run(self): pass
        A().run(); B().run(); B().run()
        def twin(): pass
        twin()
        first = twin
        def twin(): pass
        twin(); twin()
        """)
    )
    assert counts.calls("make.<locals>.inner") == 3
    assert counts.calls("A.run") == 1
    assert counts.calls("B.run") == 2
    twins = sorted((row["line"], row["calls"]) for row in counts.facts["functions"] if row["function"] == "twin")
    assert twins == [(12, 1), (15, 2)]


def test_class_bodies_comprehensions_and_lambdas_are_functions(counted, version):
    counts = counted(
        dedent("""\
        class Shape:
            sides = [n for n in range(3)]
            def area(self): return 0
        squares = {n: n * n for n in range(4)}
        total = sum(n for n in range(5))
        f = lambda: 1
        f(); f()
        """)
    )
    assert counts.calls("Shape") == 1
    inlined = version >= (3, 12)  # comprehensions are part of their function there
    assert counts.calls("Shape.<listcomp>") == (0 if inlined else 1)
    assert counts.calls("<dictcomp>") == (0 if inlined else 1)
    assert (counts.calls("<genexpr>"), counts.resumes("<genexpr>")) == (1, 5)
    assert counts.calls("<lambda>") == 2


def test_threads_are_recorded_apart_however_they_are_started(counted):
    counts = counted(
        dedent("""\
        import _thread, threading
        def work(n):
            for _ in range(n):
                step()
        def step(): pass
        threads = [threading.Thread(target=work, args=(10,), name=f"worker {i}") for i in range(3)]
        for t in threads: t.start()
        for t in threads: t.join()
        done = threading.Lock()
        done.acquire()
        def low():
            work(7)
            done.release()
        _thread.start_new_thread(low, ())
        done.acquire()
        """)
    )
    assert counts.calls("step") == 37
    assert counts.first("work") == 4
    names = [thread["name"] for thread in counts.facts["threads"]]
    assert names[0] == "MainThread"
    assert {"worker 0", "worker 1", "worker 2"} <= set(names)
    assert len(names) == 5


def test_calls_on_incoming_edges_sum_to_the_calls(counted):
    counts = counted("import json\nfor n in range(20):\n    json.loads(json.dumps({'n': [n, str(n)]}))\n")
    incoming = {}
    for edge in counts.facts["edges"]:
        callee = (edge["callee"]["function"], edge["callee"]["file"], edge["callee"]["line"])
        incoming[callee] = incoming.get(callee, 0) + edge["calls"]
    own = {}
    for row in counts.facts["functions"]:
        key = (row["function"], row["file"], row["line"])
        own[key] = own.get(key, 0) + row["calls"]
    assert incoming == {key: calls for key, calls in own.items() if key in incoming}
    assert sum(incoming.values()) == counts.facts["calls"]


def test_total_is_the_sum_of_self_times_and_of_threads(counted):
    facts = counted("def f(n):\n    return sum(range(n))\nfor n in range(200):\n    f(n)\n").facts
    assert sum(row["self_ns"] for row in facts["functions"]) == facts["total_ns"]
    assert sum(row["raw_self_ns"] for row in facts["functions"]) == facts["raw_total_ns"]
    assert sum(thread["total_ns"] for thread in facts["threads"]) == facts["total_ns"]


def test_time_of_calls_is_known_by_line_without_following_lines(counted):
    facts = counted("import time\ndef f():\n    time.sleep(0.03)\n    time.sleep(0.01)\nf()\n").facts
    by_line = {(row["function"], row["line"]): row for row in facts["lines"]}
    assert 25e6 < by_line["f", 3]["call_ns"] < 200e6
    assert by_line["f", 3]["call_ns"] > by_line["f", 4]["call_ns"]
    assert by_line["f", 3]["hits"] is None
    assert next(row for row in facts["functions"] if row["function"] == "sleep")["waiting_ns"] > 30e6


def test_line_run_counts_hits_of_chosen_functions_only(counted):
    counts = counted(
        dedent("""\
        def chosen(n):
            total = 0
            for i in range(n):
                if i % 2:
                    total += i
            return total
        def other():
            return 1
        chosen(10)
        chosen(4)
        other()
        """),
        "--lines",
        "chosen",
    )
    hits = {row["line"]: row["hits"] for row in counts.facts["lines"] if row["function"] == "chosen"}
    assert hits == {2: 2, 3: 2 + 14, 4: 14, 5: 7, 6: 2}
    assert all(row["hits"] is None for row in counts.facts["lines"] if row["function"] != "chosen")
    assert counts.calls("chosen") == 2


def test_inside_a_function_only_what_happens_below_it_is_recorded(counted):
    counts = counted(
        dedent("""\
        def leaf():
            return len("x")
        def part(n):
            if n:
                part(n - 1)
            leaf()
        def numbers():
            yield leaf()
        leaf()
        part(2)
        leaf()
        list(numbers())
        part(0)
        """),
        "--inside",
        "part",
    )
    assert counts.calls("part") == 4
    assert counts.first("part") == 2
    assert counts.calls("leaf") == 4
    assert counts.calls("len") == 4
    assert counts.calls("<module>") == 0
    assert counts.edge("<thread start>", "part") == 2
