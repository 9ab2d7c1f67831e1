"""Times snippets in the interpreter that runs this file; told what by JSON on standard input, answers in JSON on standard output.

Standard library only, Python 3.9 on. Each snippet stands in a function of its own, its set-up before the clock starts, so that names
made by the set-up are as quick as local names are. Blocks of all snippets are run in turn, first to last and back.
"""

import ast
import gc
import io
import json
import sys
import time
from contextlib import redirect_stdout
from typing import Any

LEAST_BLOCK_NS = 5_000_000
MOST_LOOPS = 1 << 40
LEAST_ROUNDS, MOST_ROUNDS = 8, 400
GIVES = (ast.Assign, ast.AugAssign, ast.AnnAssign)
SKELETON = "def block(_loops, _clock):\n _began = _clock()\n for _number in range(_loops):\n  pass\n return _clock() - _began\n"


def body_of(text, what):
    """The statements of a snippet."""
    try:
        return ast.parse(text, what).body
    except SyntaxError as problem:
        raise SystemExit(json.dumps({"error": f"{what} is no Python code: {problem}"})) from None


def block_of(setup, statements, namespace):
    """A function that runs the statements in a loop and says how long that took."""
    stars = [statement for statement in setup if isinstance(statement, ast.ImportFrom) and statement.names[0].name == "*"]
    tree = ast.parse(SKELETON)
    function: Any = tree.body[0]
    function.body[1].body = statements or [ast.Pass()]
    function.body[:0] = [statement for statement in setup if statement not in stars]
    tree.body[:0] = stars
    exec(compile(ast.fix_missing_locations(tree), "<snippet>", "exec"), namespace)
    return namespace["block"]


def name_given(statement):
    """The name that a statement, or a loop, gives a value last; empty where there is none."""
    names = [""]
    for node in ast.walk(statement) if statement is not None else ():
        targets = getattr(node, "targets", [getattr(node, "target", None)]) if isinstance(node, GIVES) else []
        names += [target.id for target in targets if isinstance(target, ast.Name)]
    return names[-1]


def answer_of(setup, statements):
    """What a snippet comes to: the value of its last expression, or what it last gave a name; and whether there is one."""
    last = statements[-1] if statements else None
    end: list[Any]
    if isinstance(last, ast.Expr):
        end = [ast.Assign([ast.Name("_answer", ast.Store())], last.value)]
    elif name_given(last):
        given: Any = ast.Assign([ast.Name("_answer", ast.Store())], ast.Name(name_given(last), ast.Load()))
        end = [last, given]
    else:
        return None, False
    tree = ast.Module([*setup, *statements[:-1], *end], [])
    namespace: dict[str, Any] = {}
    exec(compile(ast.fix_missing_locations(tree), "<snippet>", "exec"), namespace)
    return namespace["_answer"], True


def alike(first, second):
    """Whether two values are equal; None where that cannot be told."""
    try:
        found = first == second
        return bool(found.all()) if hasattr(found, "all") else bool(found)
    except Exception:
        return None


def same_answer(answers):
    """Whether all snippets come to the same; None where that cannot be told."""
    if not all(there for _value, there in answers) or len(answers) < 2:
        return None
    if any(hasattr(value, "__next__") for value, _there in answers):
        return None  # what an iterator comes to is seen only by using it up
    found = [alike(answers[0][0], value) for value, _there in answers[1:]]
    return None if None in found else all(found)


def loops_for(block, clock, least_ns):
    """As many loops as make a block last long enough for the clock, and what it took then."""
    loops = 1
    while True:
        took_ns = block(loops, clock)
        if took_ns >= least_ns or loops >= MOST_LOOPS:
            return loops, took_ns
        loops = max(loops * 2, min(int(loops * least_ns / max(took_ns, 1) * 1.1), loops * 100))


def measure(asked):
    """Times all snippets of a request."""

    def setup():
        return body_of(asked["setup"], "the set-up")

    clock = time.perf_counter_ns
    resolution_ns = max(time.get_clock_info("perf_counter").resolution * 1e9, 1)
    least_ns = max(LEAST_BLOCK_NS, 10_000 * resolution_ns)
    texts = asked["snippets"]
    bodies = [body_of(text, f"snippet {number}") for number, text in enumerate(texts, 1)]
    answers, blocks, number = [], [], 0
    try:
        for number, body in enumerate(bodies, 1):
            with redirect_stdout(io.StringIO()):
                answers.append(answer_of(setup(), body_of(texts[number - 1], "")))
            blocks.append(block_of(setup(), body, {}))
        blocks.append(block_of(setup(), [], {}))
        loops, took = [], []
        with redirect_stdout(io.StringIO()):
            if not asked["collect"]:
                gc.collect()
                gc.disable()
            for place, block in enumerate(blocks):
                number = place + 1
                count, took_ns = loops_for(block, clock, least_ns)
                loops.append(count)
                took.append(took_ns)
            rounds = int(min(max(asked["seconds"] * 1e9 / max(sum(took), 1), LEAST_ROUNDS), MOST_ROUNDS))
            times: list[list[float]] = [[] for _ in blocks]
            for turn in range(rounds):
                order = range(len(blocks)) if turn % 2 == 0 else range(len(blocks) - 1, -1, -1)
                for place in order:
                    number = place + 1
                    times[place].append(blocks[place](loops[place], clock) / loops[place])
    except Exception as problem:
        return {"error": f"snippet {number} ended with {type(problem).__name__}: {problem}"}
    empty = sorted(times.pop())[rounds // 2]
    loops.pop()
    return {
        "loops": loops, "empty_ns": empty, "same_answer": same_answer(answers), "python": sys.version.split()[0],
        "blocks": [[max(block_ns - empty, 1e-3) for block_ns in own] for own in times],
    }  # fmt: skip


if __name__ == "__main__":
    sys.stdout.write(json.dumps(measure(json.load(sys.stdin))))
