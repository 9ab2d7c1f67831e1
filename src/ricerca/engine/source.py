"""Where functions lie in a source file, told from its syntax tree."""

from __future__ import annotations

import ast
import warnings
from functools import lru_cache


@lru_cache(maxsize=256)
def function_spans(text: str) -> dict[int, int]:
    """First line (as the interpreter counts it: with decorators) to last line of each function and class.

    A text that is not valid for this interpreter gives no spans.

    >>> function_spans("def f():\\n    return 1\\n")
    {1: 2}
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return {}
    spans = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            first = min([node.lineno, *(decorator.lineno for decorator in node.decorator_list)])
            spans[first] = node.end_lineno or node.lineno
        elif isinstance(node, ast.Lambda | ast.ListComp | ast.SetComp | ast.DictComp | ast.GeneratorExp):
            spans.setdefault(node.lineno, node.end_lineno or node.lineno)
    return spans


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
