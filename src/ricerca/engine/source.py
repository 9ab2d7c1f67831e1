"""Where functions lie in a source file, told from its syntax tree."""

from __future__ import annotations

import ast
import os
import warnings
from functools import lru_cache

from ricerca.engine.blocks import block_span
from ricerca.model.languages import PYTHON


def _parsed(text: str) -> ast.Module | None:
    """The syntax tree, None where the text is not valid for this interpreter."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return None


def _first_line(node: ast.AST) -> int:
    """First line of a function or class as the interpreter counts it: with its decorators."""
    decorators = getattr(node, "decorator_list", [])
    return min([node.lineno, *(decorator.lineno for decorator in decorators)])  # type: ignore[attr-defined]


@lru_cache(maxsize=256)
def function_spans(text: str) -> dict[int, int]:
    """First line (as the interpreter counts it: with decorators) to last line of each function and class.

    A text that is not valid for this interpreter gives no spans.

    >>> function_spans("def f():\\n    return 1\\n")
    {1: 2}
    """
    tree = _parsed(text)
    if tree is None:
        return {}
    spans = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            spans[_first_line(node)] = node.end_lineno or node.lineno
        elif isinstance(node, ast.Lambda | ast.ListComp | ast.SetComp | ast.DictComp | ast.GeneratorExp):
            spans.setdefault(node.lineno, node.end_lineno or node.lineno)
    return spans


def qualified_names(text: str) -> dict[tuple[int, str, int], str]:
    """(first line, name, nesting) to qualified name of all functions, classes, lambdas and comprehensions.

    For interpreters whose code objects know their plain name only (before 3.11). *Nesting* tells those of one name on one line
    apart: how many of them lie inside each other within it.

    >>> qualified_names("class A:\\n    def m(self):\\n        return lambda: lambda: 1\\n")[3, "<lambda>", 1]
    'A.m.<locals>.<lambda>'
    """
    found: dict[tuple[int, str, int], str] = {}
    tree = _parsed(text)
    waiting: list[tuple[ast.AST, str]] = [] if tree is None else [(tree, "")]
    while waiting:
        node, prefix = waiting.pop()
        name, outside = _name_of(node), prefix
        if name:
            line = _first_line(node)
            found.setdefault((line, name, _nesting(node, line, name)), prefix + name)
            prefix += name + ("." if isinstance(node, ast.ClassDef) else ".<locals>.")
        without = _evaluated_outside(node)
        waiting += [(child, prefix) for child in reversed(list(ast.iter_child_nodes(node))) if child not in without]
        waiting += [(child, outside) for child in without]
    return found


def _evaluated_outside(node: ast.AST) -> list[ast.AST]:
    """What is written within a function but belongs to the code around it: default values and decorators."""
    arguments = getattr(node, "args", None)
    found = list(getattr(node, "decorator_list", []))
    if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.Lambda) and isinstance(arguments, ast.arguments):
        found.append(arguments)
    return found


def _nesting(node: ast.AST, line: int, name: str) -> int:
    """How many functions of this name and line lie inside each other within a node."""
    outside = _evaluated_outside(node)
    inner = [child for child in ast.iter_child_nodes(node) if child not in outside]
    own = [int(_name_of(child) == name and _first_line(child) == line) + _nesting(child, line, name) for child in inner]
    return max(own, default=0) if name.startswith("<") else 0


def _name_of(node: ast.AST) -> str:
    """Name of the code object that a node is compiled to, empty where it is none of its own."""
    if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
        return node.name
    kinds = {ast.Lambda: "<lambda>", ast.ListComp: "<listcomp>", ast.SetComp: "<setcomp>", ast.DictComp: "<dictcomp>",
             ast.GeneratorExp: "<genexpr>"}  # fmt: skip
    return kinds.get(type(node), "")


def is_body(name: str, file: str) -> bool:
    """Whether a function is all that a file does when it is run: a module's body, or that of a script.

    >>> is_body("<module>", "/w/a.py"), is_body("job.sh", "/w/job.sh"), is_body("job", "/w/job.sh")
    (True, True, False)
    """
    return name == "<module>" or (bool(file) and name == os.path.basename(file))


def span_of(text: str, first_line: int, module_body: bool = False, language: str = PYTHON) -> tuple[int, int]:
    """First and last line of a function; the whole file for a module's body. Lines count from 1."""
    count = text.count("\n") + 1
    if module_body or first_line < 1:
        return 1, count
    if language != PYTHON:
        return block_span(text, first_line)
    return first_line, min(function_spans(text).get(first_line, first_line), count)


def text_of(text: str, first_line: int, language: str = PYTHON) -> str:
    """A function's text with its first line."""
    first, last = span_of(text, first_line, language=language)
    return "\n".join(text.splitlines()[first - 1 : last])


def body_of(text: str) -> str:
    """A function's text after its first line, so that it can be told again under another name.

    >>> body_of("def f():\\n    return 1")
    '    return 1'
    """
    return text.partition("\n")[2]
