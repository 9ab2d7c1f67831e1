"""Where functions lie in a text of a language that is not parsed here: told by braces, or by how lines are indented."""

from __future__ import annotations

import re
from functools import lru_cache

_TEXTS = re.compile(r"""'(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*"|\\[{}]""")
_ENDS = re.compile(r"\s*(?:\}|end\b|fi\b|done\b|esac\b)", re.IGNORECASE)
HEAD_LINES = 3
"""Within so many lines of its beginning a block opens its brace."""


def shell_function_line(text: str, name: str) -> int:
    """The line on which a shell's function is defined, 0 where it is not found; of several the first.

    >>> shell_function_line("x=1\\nfunction fit { :; }\\nread_all() {\\n}\\n", "read_all")
    3
    """
    defined = re.compile(rf"^\s*(?:function\s+{re.escape(name)}\b|{re.escape(name)}\s*\(\s*\))")
    return next((number for number, line in enumerate(text.splitlines(), 1) if defined.match(line)), 0)


@lru_cache(maxsize=256)
def block_span(text: str, first_line: int) -> tuple[int, int]:
    """First and last line of the block that begins on a line.

    >>> block_span("int f(int n)\\n{\\n    if (n) {\\n    }\\n}\\nint g;\\n", 1)
    (1, 5)
    >>> block_span("f() { echo '}'; }\\ng() {\\n:\\n}\\n", 1)
    (1, 1)
    >>> block_span("function f(n)\\n  return n\\nend\\nprint(1)\\n", 1)
    (1, 3)
    """
    lines = text.splitlines()
    if not 0 < first_line <= len(lines):
        return first_line, first_line
    bare = [_TEXTS.sub("", line) for line in lines[first_line - 1 :]]
    opened = next((row for row, line in enumerate(bare[:HEAD_LINES]) if "{" in line), None)
    if opened is not None:
        deep = 0
        for row, line in enumerate(bare):
            deep += line.count("{") - line.count("}")
            if row >= opened and deep <= 0:
                return first_line, first_line + row
    indent = _indent(lines[first_line - 1])
    for row, line in enumerate(bare[1:], 1):
        if line.strip() and _indent(line) <= indent:
            return first_line, first_line + row - (0 if _ENDS.match(line) else 1)
    return first_line, len(lines)


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip())
