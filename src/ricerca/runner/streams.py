"""Takes a stream of events, written by any program, into a study as a recorded run."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from ricerca.model.completeness import gaps_of_recording
from ricerca.model.errors import FileDamagedError
from ricerca.model.rounds import RECORDED, Round, Run, Subject
from ricerca.recording.stream import StreamHead, StreamReader, head_of
from ricerca.runner.machine import this_machine
from ricerca.runner.sources import gather
from ricerca.study.store import Study


def subject_of(head: StreamHead, folder: str) -> Subject:
    """What a stream is of, as a subject that rounds can be compared by."""
    program = head.program or (head.body or "stream",)
    return Subject("command", program, folder, "", roots=(folder,))


def take_stream(
    lines: Iterable[str], study_file: Path, name: str = "", case: str = "", folder: str = "", source: str = "the stream"
) -> Round:
    """Read a stream to its end and keep it as a recorded run in a round of its own.

    Raises
    ------
    FileDamagedError
        It is no stream, or there is no call in it.
    RicercaError
        The study cannot be written to.
    """
    rows = iter(lines)
    reader = StreamReader(head_of(next(rows, ""), source))
    reader.feed(line for line in rows if line.endswith("\n"))
    tables = reader.tables()
    if not tables.calls.any():
        raise FileDamagedError(f"There is no call in {source}.")
    folder = os.path.abspath(folder or os.getcwd())
    subject = subject_of(reader.head, folder)
    status = reader.exit_status
    ended = f"exit status {status}" if status is not None else "its end was not seen" if reader.cut else "its exit status was not said"
    run = Run(0, RECORDED, tables.facts.start_unix_ns, tables.facts.duration_ns, 0, status, ended,
              gaps_of_recording(tables.facts, None, 0), machine=this_machine())  # fmt: skip
    with Study.open(study_file, create=True) as study, study.transaction():
        round_ = study.add_round(subject, name, case=case)
        study.add_run(round_.id, replace(run, case=round_.case), tables, gather(tables.function_file, folder))
        return study.round(round_.number)
