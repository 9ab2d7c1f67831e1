"""Where functions lie in a source file, told from its syntax tree."""

from __future__ import annotations

import ast
import warnings
from functools import lru_cache


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


def qualified_names(text: str) -> dict[tuple[int, str], str]:
    """(first line, name) to qualified name of all functions, classes, lambdas and comprehensions.

    For interpreters whose code objects know their plain name only (before 3.11).

    >>> qualified_names("class A:\\n    def m(self):\\n        return lambda: 1\\n")[3, "<lambda>"]
    'A.m.<locals>.<lambda>'
    """
    found: dict[tuple[int, str], str] = {}
    tree = _parsed(text)
    waiting: list[tuple[ast.AST, str]] = [] if tree is None else [(tree, "")]
    while waiting:
        node, prefix = waiting.pop()
        name = _name_of(node)
        if name:
            found.setdefault((_first_line(node), name), prefix + name)
            prefix += name + ("." if isinstance(node, ast.ClassDef) else ".<locals>.")
        waiting += [(child, prefix) for child in reversed(list(ast.iter_child_nodes(node)))]
    return found


def _name_of(node: ast.AST) -> str:
    """Name of the code object that a node is compiled to, empty where it is none of its own."""
    if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
        return node.name
    kinds = {ast.Lambda: "<lambda>", ast.ListComp: "<listcomp>", ast.SetComp: "<setcomp>", ast.DictComp: "<dictcomp>",
             ast.GeneratorExp: "<genexpr>"}  # fmt: skip
    return kinds.get(type(node), "")


def span_of(text: str, first_line: int, module_body: bool = False) -> tuple[int, int]:
    """First and last line of a function; the whole file for a module's body. Lines count from 1."""
    count = text.count("\n") + 1
    if module_body or first_line < 1:
        return 1, count
    return first_line, min(function_spans(text).get(first_line, first_line), count)


def body_of(text: str, first_line: int) -> str:
    """A function's text after its first line, so that it can be told again under another name."""
    first, last = span_of(text, first_line)
    return "\n".join(text.splitlines()[first:last])
