"""Keeps the sources of what ran, and says where a round's code stood in version control."""

from __future__ import annotations

import subprocess
from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path

from ricerca.engine.blocks import shell_function_line
from ricerca.engine.source import qualified_names
from ricerca.model.languages import SHELLS
from ricerca.model.run_tables import RunTables

MOST_BYTES = 4 << 20


def gather(files: Iterable[str], cwd: str) -> dict[str, bytes]:
    """Contents of those files that are there to be read; names that mean no file are passed over."""
    found = {}
    for name in set(files):
        if not name or name.startswith("<"):
            continue
        try:
            path = Path(cwd, name)
            if path.is_file() and path.stat().st_size <= MOST_BYTES:
                found[name] = path.read_bytes()
        except (OSError, ValueError):
            continue
    return found


def with_qualified_names(tables: RunTables, sources: Mapping[str, bytes]) -> RunTables:
    """Tables of an interpreter before 3.11, whose code objects know plain names only, with qualified names."""
    if not tables.facts.python or tuple(int(part) for part in tables.facts.python.split(".")[:2]) >= (3, 11):
        return tables
    by_file = {file: qualified_names(text.decode("utf-8", "replace")) for file, text in sources.items()}
    names = tuple(
        by_file.get(file, {}).get((int(line), name, int(nesting)), name)
        for name, file, line, nesting in zip(
            tables.function_name, tables.function_file, tables.function_line, tables.function_nesting, strict=True
        )
    )
    return replace(tables, function_name=names)


def with_first_lines(tables: RunTables, sources: Mapping[str, bytes]) -> RunTables:
    """Tables with the lines on which functions of shells are defined: a shell tells the file only."""
    if not any(language in SHELLS for language in tables.languages):
        return tables
    texts = {file: text.decode("utf-8", "replace") for file, text in sources.items()}
    lines = tables.function_line.copy()
    for number, (language, name, file) in enumerate(zip(tables.languages, tables.function_name, tables.function_file, strict=True)):
        if language in SHELLS and not lines[number] and file in texts:
            lines[number] = shell_function_line(texts[file], name)
    return replace(tables, function_line=lines)


def revision(cwd: str) -> str:
    """Short name of the checked-out revision, with "+" where files differ from it; empty without one."""
    try:
        ask = ["git", "-C", cwd, "describe", "--always", "--dirty=+", "--abbrev=8", "--exclude=*"]
        answer = subprocess.run(ask, capture_output=True, text=True, timeout=5)
    except (OSError, subprocess.SubprocessError):
        return ""
    return answer.stdout.strip() if answer.returncode == 0 else ""
