"""Takes recordings into the round they were made for, and into no other."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from ricerca.model.cases import WHOLE, Part
from ricerca.model.completeness import Gap, gaps_of_recording
from ricerca.model.errors import FileDamagedError, InputError, RicercaError
from ricerca.model.rounds import Round, Run
from ricerca.runner import recordings
from ricerca.runner.launch import Ended
from ricerca.runner.machine import packages_of, this_machine
from ricerca.runner.recordings import About, Waiting
from ricerca.runner.revisions import Moved
from ricerca.study.store import Study

if TYPE_CHECKING:
    from ricerca.model.run_tables import RunTables


@dataclass(frozen=True)
class Taken:
    """A run that is in the study now. ``round_number`` may be another than it was made for: then ``own_round`` is true."""

    run_id: int
    round_number: int
    gaps: tuple[Gap, ...]
    own_round: bool = False


def take_in(recording: Path, about: About) -> Taken:
    """Take a recording into its study and remove it; it is removed only after the study holds the run.

    Raises
    ------
    FileDamagedError
        There is nothing in it that can be read.
    RicercaError
        The study cannot be written to.
    """
    from ricerca.runner.sources import gather, with_first_lines, with_qualified_names

    moved = Moved(about.moved[1], about.moved[0]) if about.moved else None
    tables, unreadable = tables_of(recording, about.ended_unix_ns)
    tables = replace(tables, facts=replace(tables.facts, inside=" ".join(about.subject.inside)))
    status = about.exit_status
    ended = Ended(0 if status is None else status, 0, about.wall_ns, about.cpu_ns)
    words = ended.words if status is not None else "its end was not seen"
    gaps = gaps_of_recording(tables.facts, ended.by_signal, unreadable)
    machine = replace(this_machine(), python=tables.facts.python, packages=packages_of(tables.function_file))
    run = Run(0, about.kind, tables.facts.start_unix_ns, tables.facts.duration_ns, about.cpu_ns, status, words, gaps, machine=machine,
              case=about.case, size=about.size)  # fmt: skip
    sources = gather((*tables.function_file, *_own_binaries(tables, about)), moved.there(about.subject.cwd) if moved else about.subject.cwd)
    if moved:
        tables, sources = moved.tables_back(tables), {moved.back(file): text for file, text in sources.items()}
    with Study.open(about.study, part=Part(about.case, about.size)) as study, study.transaction():
        round_, own = _round_for(study, about)
        run = replace(run, case=round_.case)
        run_id = study.add_run(round_.id, run, with_first_lines(with_qualified_names(tables, sources), sources), sources)
    recordings.remove(recording)
    return Taken(run_id, round_.number, gaps, own)


def _own_binaries(tables: RunTables, about: About) -> list[str]:
    """The person's own compiled programs and libraries: they are kept, so that an earlier state can be run again."""
    folders = [os.path.join(root, "") for root in (about.subject.cwd, *about.subject.roots)]
    return [path for path in tables.facts.binaries if any(path.startswith(folder) for folder in folders)]


def _round_for(study: Study, about: About) -> tuple[Round, bool]:
    """The round a recording was made for where it is still there, else a new one of its own."""
    for round_ in study.rounds():
        same = round_.id == about.round_id and round_.number == about.round_number
        if same and not round_.subject.not_alike(about.subject):
            return round_, False
    name = about.round_name or about.case
    study = study.of(WHOLE)
    return study.add_round(about.subject, name, "Taken in later; the round it was made for is gone."), True


def tables_of(recording: Path, end_unix_ns: int = 0) -> tuple[RunTables, int]:
    """A run with all its processes, and how many of their recordings could not be read.

    ``end_unix_ns`` is when the program had ended, 0 where that was not seen.
    """
    from ricerca.recording.one_tree import one_tree
    from ricerca.recording.parts import read_parts
    from ricerca.runner.shells import cost_of_a_command

    processes, unreadable = read_parts(recording, recordings.parts(recording), cost_of_a_command, end_unix_ns)
    tables = one_tree(processes) if len(processes) > 1 else processes[0].tables
    if not (tables.parent >= 0).any():
        raise FileDamagedError("the program ended before it began")
    return tables, unreadable


def take_waiting(waiting: Waiting) -> Taken:
    """Take in a recording that was left behind.

    Raises
    ------
    InputError
        Its program is still running, its study is gone, or it does not say what it belongs to.
    """
    about = waiting.about
    if waiting.running:
        raise InputError(f"The program of {waiting.name} is still running.", "Take the recording in when it has ended.")
    if not about.study:
        raise InputError(f"{waiting.name} does not say what it belongs to.", f"Remove it with: ricerca recordings drop {waiting.name}")
    if not Path(about.study).exists():
        with Study.open(about.study, create=True):
            pass
    return take_in(waiting.file, about)


def recover(study_path: Path) -> list[Taken]:
    """Take in what was left behind of a study whose Ricerca was stopped, or could not write then. What cannot be taken in stays."""
    taken = []
    for recording in recordings.waiting():
        if recording.running or recording.about.study != str(study_path.absolute()):
            continue
        try:
            taken.append(take_in(recording.file, recording.about))
        except FileDamagedError as problem:
            if recording.bytes == 0 or "before it began" in problem.what:
                recordings.remove(recording.file)  # there is nothing in it
            else:
                recordings.say_why(recording.file, problem.what)
        except RicercaError as problem:
            recordings.say_why(recording.file, problem.what)
    return taken


def ended_about(about: About, ended: Ended) -> About:
    """The same with how the program ended."""
    return replace(about, exit_status=ended.exit_status, wall_ns=ended.wall_ns, cpu_ns=ended.cpu_ns, ended_unix_ns=time.time_ns())
