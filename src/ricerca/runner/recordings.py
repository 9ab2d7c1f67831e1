"""Recordings that are not in a study yet: where they lie, what they are of, why; each carries what it belongs to."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from hashlib import blake2b
from pathlib import Path
from typing import Any

from platformdirs import user_cache_path

from ricerca.model.errors import EnvironmentProblem, FileDamagedError, InputError, RicercaError
from ricerca.model.rounds import LINE, RECORDED, Round, Subject

ABOUT = ".about"
_PART = re.compile(r"\d+(\.\d+)?(\.(bash|zsh|events))?")


@dataclass(frozen=True)
class About:
    """What a recording belongs to, and how its program ended. It lies beside the recording as JSON.

    ``exit_status`` is None while the program runs, or where nobody saw its end. ``why`` says why it was not taken in.
    """

    study: str
    round_id: int
    round_number: int
    round_name: str
    subject: Subject
    runner: int
    case: str = ""
    created_unix_ns: int = 0
    exit_status: int | None = None
    wall_ns: int = 0
    cpu_ns: int = 0
    ended_unix_ns: int = 0
    why: str = ""
    size: str = ""
    moved: tuple[str, str] | None = None
    """The folder that stood for another while it ran, and that other."""

    @property
    def kind(self) -> str:
        """Kind of the run."""
        return LINE if self.subject.lines else RECORDED


@dataclass(frozen=True)
class Waiting:
    """A recording that waits to be taken in. ``running`` says that its program, or the Ricerca that waits for it, is still there."""

    file: Path
    about: About
    bytes: int = field(compare=False, default=0)
    running: bool = field(compare=False, default=False)

    @property
    def name(self) -> str:
        """Short name by which it is taken or dropped."""
        return self.file.name.removesuffix(".recording")

    @property
    def why(self) -> str:
        """Why it is not in its study, in words."""
        if self.running:
            return "its program is still running"
        return self.about.why or "Ricerca was stopped before it could take it in"


def recordings_folder() -> Path:
    """Where recordings lie until they are taken into their study: out of the program's sight."""
    return user_cache_path("ricerca") / "recordings"


def recording_path(study: Path, round_id: int) -> Path:
    """Where a round's recording lies until it is taken into the study."""
    mark = blake2b(str(study.absolute()).encode("utf-8", "surrogateescape"), digest_size=4).hexdigest()
    return recordings_folder() / f"{mark}-{round_id}-{os.getpid()}-{time.time_ns() // 1_000_000 % 1_000_000}.recording"


def about_round(study: Path, round_: Round, subject: Subject, moved: tuple[str, str] | None = None) -> About:
    """What a recording that is about to be made belongs to."""
    return About(str(study.absolute()), round_.id, round_.number, round_.name, subject, os.getpid(), round_.case, time.time_ns(),
                 size=round_.size, moved=moved)  # fmt: skip


def note(recording: Path, about: About) -> None:
    """Write beside a recording what it belongs to, whole or not at all.

    Raises
    ------
    OSError
        It cannot be written.
    """
    place = Path(f"{recording}{ABOUT}")
    part = place.with_name(place.name + ".part")
    part.write_text(json.dumps(asdict(about)), "utf-8", "surrogateescape")
    part.replace(place)


def about(recording: Path) -> About:
    """What a recording belongs to.

    Raises
    ------
    FileDamagedError
        Nothing readable lies beside it.
    """
    try:
        facts: dict[str, Any] = json.loads(Path(f"{recording}{ABOUT}").read_text("utf-8", "surrogateescape"))
        subject = facts.pop("subject")
        pairs = tuple((str(name), str(value)) for name, value in subject.pop("env"))
        lists: dict[str, Any] = {name: tuple(map(str, subject.pop(name))) for name in ("program", "roots", "lines", "inside")}
        lists["answer"] = tuple(map(str, subject.pop("answer", ())))
        return About(subject=Subject(env=pairs, **lists, **subject), **facts)
    except (OSError, ValueError, TypeError, KeyError, AttributeError) as problem:
        raise FileDamagedError(f"{recording} does not say what it belongs to ({problem}).") from None


def parts(recording: Path) -> list[Path]:
    """The recordings of processes that a program started."""
    found = recording.parent.glob(f"{recording.name}.*")
    return sorted(file for file in found if _PART.fullmatch(file.name.removeprefix(f"{recording.name}.")))


def remove(recording: Path) -> None:
    """Remove a recording with those of other processes, and what they said of their problems."""
    for file in (*recording.parent.glob(f"{recording.name}.*"), recording):
        file.unlink(missing_ok=True)


def alive(pid: int) -> bool:
    """Whether a process is there."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _is_recorded_still(recording: Path) -> bool:
    from ricerca.recording.reader import open_recording

    try:
        found = open_recording(recording, check=False)
    except RicercaError:
        return False
    return not found.closed and not int(found.header["end_mono_ns"]) and alive(int(found.header["pid"]))


def waiting() -> Iterator[Waiting]:
    """All recordings that lie in the cache, the oldest first."""
    folder = recordings_folder()
    files = sorted(folder.glob("*.recording"), key=lambda file: file.stat().st_mtime) if folder.is_dir() else []
    for file in files:
        size = sum(part.stat().st_blocks * 512 for part in (file, *parts(file)))
        try:
            found = about(file)
        except FileDamagedError as problem:
            nobody = Subject("", (), "", "")
            yield Waiting(file, About("", 0, 0, "", nobody, 0, why=problem.what), size)
            continue
        yield Waiting(file, found, size, (alive(found.runner) and found.exit_status is None) or _is_recorded_still(file))


def find(name: str) -> Waiting:
    """A waiting recording by its short name.

    Raises
    ------
    InputError
        There is none of that name.
    """
    known = list(waiting())
    for recording in known:
        if name in (recording.name, recording.file.name, str(recording.file)):
            return recording
    names = ", ".join(recording.name for recording in known) or "none"
    raise InputError(f"There is no recording {name!r}.", f"These are waiting: {names}.")


def drop(recording: Waiting) -> None:
    """Remove a waiting recording.

    Raises
    ------
    InputError
        Its program is still running.
    """
    if recording.running:
        raise InputError(f"The program of {recording.name} is still running.", "Drop the recording when it has ended.")
    try:
        remove(recording.file)
    except OSError as problem:
        raise EnvironmentProblem(f"{recording.file} cannot be removed ({problem.strerror}).") from None


def say_why(recording: Path, why: str) -> None:
    """Note why a recording could not be taken in; where not even that can be written, it stays as it is."""
    try:
        note(recording, replace(about(recording), why=why))
    except (OSError, FileDamagedError):
        return
