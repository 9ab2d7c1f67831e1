"""Interpreters of other languages: which program is one, and the variables by which it writes what it does."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Mapping
from importlib.resources import files
from pathlib import Path

from ricerca.model.rounds import Subject
from ricerca.runner.shells import first_line_words

FOLDER = Path(str(files("ricerca.recorder").joinpath("writers")))
EVENTS = "RICERCA_EVENTS"
LUA, PERL, RUBY = "Lua", "Perl", "Ruby"
_NAMES = ((LUA, re.compile(r"lua(-?\d(\.\d)?)?$")), (PERL, re.compile(r"perl(5[\d.]*)?$")), (RUBY, re.compile(r"ruby(\d[\d.]*)?$")))
_SUFFIXES = {".lua": "lua", ".pl": "perl", ".rb": "ruby"}


def language_named(program: str) -> str:
    """The language that a program's name means; empty where it means none of these.

    >>> language_named("/usr/bin/lua5.4"), language_named("perl"), language_named("awk")
    ('Lua', 'Perl', '')
    """
    name = os.path.basename(program)
    return next((language for language, pattern in _NAMES if pattern.match(name)), "")


def interpreter_of_file(path: Path) -> str:
    """The interpreter that runs a script, by its first line, else by its name; empty where it is none of these."""
    words = first_line_words(path)
    if words and os.path.basename(words[0]) == "env":
        words = words[1:]
    if words:
        return words[0] if language_named(words[0]) else ""
    return _SUFFIXES.get(path.suffix, "") if path.is_file() else ""


def language_of(subject: Subject) -> str:
    """The language of what a subject runs, of those that have a writer; empty for others."""
    if subject.kind != "command" or not subject.program:
        return ""
    program = subject.program[0]
    found = shutil.which(program) if "/" not in program else os.path.join(subject.cwd, program)
    return language_named(program) or (language_named(interpreter_of_file(Path(found))) if found else "")


def writer_environment(language: str, recording: Path, before: Mapping[str, str]) -> dict[str, str]:
    """Variables by which an interpreter loads its writer; those it had stay in force."""
    given = {EVENTS: f"{recording}.0.events"}
    if language == LUA:
        given["LUA_INIT"], given["RICERCA_LUA_INIT"] = f"@{FOLDER / 'writer.lua'}", before.get("LUA_INIT", "")
        for name in [name for name in before if name.startswith("LUA_INIT_")]:  # a variable of its version comes first
            given["RICERCA_LUA_INIT"], given[name] = before[name], given["LUA_INIT"]
    elif language == PERL:
        options, folders = before.get("PERL5OPT", ""), before.get("PERL5LIB", "")
        given |= {"RICERCA_PERL5OPT": options, "RICERCA_PERL5LIB": folders}
        given |= {"PERL5OPT": f"-d:RicercaWriter {options}".strip(), "PERL5LIB": f"{FOLDER}:{folders}".strip(":")}
    elif language == RUBY:
        options = before.get("RUBYOPT", "")
        given |= {"RICERCA_RUBYOPT": options, "RUBYOPT": f"-r{FOLDER / 'writer.rb'} {options}".strip()}
    return given
