"""What a person reads is plain present-day English: no text of the program, its docs or its code uses the words left behind."""

from __future__ import annotations

import ast
import io
import re
import tokenize
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
FOREIGN = ("tidebook",)  # the example stands for a person's own code
SOURCES = sorted(file for file in (ROOT / "src" / "ricerca").rglob("*.py") if not set(FOREIGN) & set(file.parts))
TEXTS = [ROOT / name for name in ("README.md", "ARCHITECTURE.md", "CONTRIBUTING.md")] + sorted((ROOT / "docs").rglob("*.md"))
LEFT_BEHIND = (
    r"\bdear(er|est)\b", r"\bpasses in\b", r"\bfree, the run", r"\bwere it\b", r"\bwould be \S+ as fast", r"\bgone on with\b",
    r"\bheld? [^.]{0,30}\bagainst\b", r"\bin hand\b", r"\ball without\b", r"\bin a ring\b", r"\bnot proved\b",
    r"\beverything, where it runs\b", r"\bread what a text\b", r"\bnot now\b", r"\btake it away\b", r"\blast words\b", r"\bleads back\b",
    r"\btill\b", r"\bwhom\b", r"\bmanieth\b", r"\bletter by letter\b", r"\bleading so far\b", r"\bhow far to believe\b",
    r"\bby night\b", r"\bnobody watches\b", r"\bbroken off\b",
)  # fmt: skip
WORD = re.compile("|".join(LEFT_BEHIND), re.IGNORECASE)
NO_TEXT = {"ONLY_IN_MESSAGES": re.compile(r"\bnoise\b|\brecall\b|'s own cost\b", re.IGNORECASE)}


def _docstrings(tree: ast.Module) -> set[int]:
    return {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)}


def messages(source: str) -> list[tuple[int, str]]:
    """Texts that a program shows: (line, text) of each literal that is no docstring; the values in a formatted one are left out."""
    tree = ast.parse(source)
    docs, inner = _docstrings(tree), set()
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            inner |= {id(part) for part in node.values}
            found.append((node.lineno, "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values)))
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs | inner:
            found.append((node.lineno, node.value))
    return found


def explanations(source: str) -> list[tuple[int, str]]:
    """What a reader of the code reads: (line, text) of each docstring and comment."""
    tree = ast.parse(source)
    docs = _docstrings(tree)
    found = [(node.lineno, node.value) for node in ast.walk(tree) if isinstance(node, ast.Constant) and id(node) in docs]
    comments = tokenize.generate_tokens(io.StringIO(source).readline)
    return found + [(token.start[0], token.string) for token in comments if token.type == tokenize.COMMENT]


def complaints(texts: list[tuple[int, str]], *patterns: re.Pattern[str]) -> list[str]:
    """Each text with a word that is left behind, with its line."""
    return [f"{line}: {match[0]!r} in {text.strip()[:120]!r}" for line, text in texts for pattern in patterns
            if isinstance(text, str) and (match := pattern.search(text))]  # fmt: skip


@pytest.mark.parametrize("file", SOURCES, ids=lambda file: str(file.relative_to(ROOT / "src" / "ricerca")))
def test_no_text_of_the_program_uses_a_word_left_behind(file):
    source = file.read_text()
    assert not complaints(messages(source), WORD, *NO_TEXT.values())
    assert not complaints(explanations(source), WORD)


@pytest.mark.parametrize("file", TEXTS, ids=lambda file: str(file.relative_to(ROOT)))
def test_no_document_uses_a_word_left_behind(file):
    assert not complaints(list(enumerate(file.read_text().splitlines(), 1)), WORD)


def test_the_check_itself_finds_what_it_looks_for():
    source = 'x = "the dearest function"\ny = f"{x} in hand"\n# till then\ndef f():\n    """Whom it calls."""\n'
    assert [line.split(":")[0] for line in complaints(messages(source), WORD)] == ["1", "2"]
    assert sorted(line.split(":")[0] for line in complaints(explanations(source), WORD)) == ["3", "5"]
    assert not complaints(messages('x = "the slowest function"'), WORD)
