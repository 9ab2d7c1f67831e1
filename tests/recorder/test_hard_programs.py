"""Programs that ask a lot of a recorder; on each interpreter."""

from textwrap import dedent


def test_threads_that_start_threads_at_the_same_moment(counted):
    counts = counted(
        dedent("""\
        import sys, threading
        sys.setswitchinterval(1e-6)
        def step(): pass
        def work():
            for _ in range(20): step()
        def all_of(threads):
            for t in threads: t.start()
            for t in threads: t.join()
        def starts(): all_of([threading.Thread(target=work) for _ in range(40)])
        all_of([threading.Thread(target=starts) for _ in range(8)])
        """)
    )
    assert counts.calls("step") == 6400
    assert counts.calls("work") == 320
    assert [row["function"] for row in counts.facts["functions"]].count("step") == 1


def test_two_hundred_threads(counted):
    counts = counted(
        dedent("""\
        import threading
        def step(): pass
        def work():
            for _ in range(20): step()
        threads = [threading.Thread(target=work) for _ in range(200)]
        for t in threads: t.start()
        for t in threads: t.join()
        """)
    )
    assert counts.calls("step") == 4000
    assert counts.calls("work") == 200
    assert len(counts.facts["threads"]) == 201


def test_code_that_is_made_while_running_is_one_function_by_its_name_and_place(counted):
    counts = counted(
        dedent("""\
        space = {}
        for i in range(300):
            exec(f"def made(): return {i}\\nmade()", space)
        eval("len('x')")
        """)
    )
    assert counts.calls("made") == 300
    assert counts.calls("exec") == 300
    assert counts.calls("eval") == 1


def test_deep_recursion_to_the_limit(counted):
    counts = counted(
        dedent("""\
        import sys
        sys.setrecursionlimit(3000)
        def down(n):
            return 0 if n == 0 else down(n - 1)
        down(2500)
        depth = 0
        def endless():
            global depth
            depth += 1
            endless()
        try:
            endless()
        except RecursionError:
            pass
        assert depth > 2900
        """)
    )
    assert counts.calls("down") == 2501
    assert counts.first("down") == 1
    assert counts.calls("endless") > 2900


def test_finalizers_and_exit_handlers_are_recorded(counted):
    counts = counted(
        dedent("""\
        import atexit
        class Thing:
            def __del__(self): note()
        def note(): pass
        @atexit.register
        def goodbye(): note()
        things = [Thing() for _ in range(5)]
        del things
        """)
    )
    assert counts.calls("Thing.__del__") == 5
    assert counts.calls("goodbye") == 1
    assert counts.calls("note") == 6


def test_a_daemon_thread_at_the_end_does_no_harm(counted):
    counts = counted(
        dedent("""\
        import threading, time
        def tick(): pass
        def forever():
            while True:
                tick()
                time.sleep(0.001)
        threading.Thread(target=forever, daemon=True).start()
        time.sleep(0.05)
        """)
    )
    assert counts.calls("tick") > 3
    assert counts.facts["complete"]


def test_decorators_properties_and_operators_call_from_their_line(counted, version):
    counts = counted(
        dedent("""\
        import functools
        def wrap(f):
            @functools.wraps(f)
            def wrapper(*a):
                return f(*a)
            return wrapper
        class V:
            @property
            def p(self): return 1
            def __add__(self, other): return self.p
            @wrap
            def m(self): return 2
            def __iter__(self): yield 1
        v = V()
        v + v
        v.p
        v.m()
        list(v)
        """)
    )
    assert counts.edge("<module>", "V.__add__", 15) == 1
    assert counts.edge("<module>", "V.p", 16) == 1
    assert counts.edge("V.__add__", "V.p", 10) == 1
    assert counts.calls("wrap.<locals>.wrapper") == 1
    assert counts.edge("wrap.<locals>.wrapper", "V.m", 5) == 1
    if version < (3, 12):
        assert counts.edge("<module>", "V.__iter__", 18) == 1
    else:  # the call of list is told of, too
        assert counts.edge("<module>", "list", 18) == counts.edge("list", "V.__iter__") == 1


def test_a_program_that_puts_its_own_hook_in_runs_on_and_is_marked(counted, version, hook):
    counts = counted(
        dedent("""\
        import sys
        def f(): pass
        f(); f()
        sys.setprofile(lambda *a: None)
        f()
        sys.setprofile(None)
        f()
        """)
    )
    if version < (3, 12):  # from there on the two do not get into each other's way
        assert counts.calls("f") == (3 if hook == "native" else 2)  # the native one goes on when theirs is gone
        assert not counts.facts["complete"]
    else:
        assert counts.calls("f") == 4
