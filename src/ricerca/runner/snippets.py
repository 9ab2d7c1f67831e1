"""Times snippets against each other, each interpreter in a process of its own."""

from __future__ import annotations

import json
import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ricerca.model.cases import Part
from ricerca.model.errors import InputError
from ricerca.model.rounds import RECORDED, Subject
from ricerca.runner import snippet_driver
from ricerca.runner.program import find_python
from ricerca.runner.session import Plan, Session, Streams
from ricerca.study.store import Study

SECONDS = 3.0
FEW, MANY = 2, 12
"""Loops of the two recorded runs whose difference is the calls of a loop, without those of the set-up."""


@dataclass(frozen=True)
class SnippetRequest:
    """What to time. ``collect`` leaves the garbage collector on."""

    texts: tuple[str, ...]
    setup: str = ""
    pythons: tuple[str, ...] = ()
    seconds: float = SECONDS
    collect: bool = False
    cwd: str = "."


@dataclass(frozen=True)
class SnippetTimes:
    """Blocks of one interpreter: for each snippet the loops of a block, and its times of one loop in ns, one a turn."""

    python: str
    version: str
    loops: tuple[int, ...]
    blocks_ns: tuple[tuple[float, ...], ...]
    same_answer: bool | None


class SnippetTiming:
    """Times snippets; any thread may call ``stop``."""

    def __init__(self, request: SnippetRequest) -> None:
        self.request = request
        self._process: subprocess.Popen[str] | None = None

    def stop(self) -> None:
        """End it; nothing is kept."""
        if self._process is not None:
            self._process.terminate()

    def run(self) -> list[SnippetTimes]:
        """The times in each interpreter.

        Raises
        ------
        InputError
            A snippet is no code, or ends with an exception; or an interpreter is not there.
        """
        pythons = [find_python(python) for python in self.request.pythons or ("",)]
        return [self._times(python) for python in pythons]

    def _times(self, python: str) -> SnippetTimes:
        request = self.request
        if not Path(request.cwd).is_dir():
            raise InputError(f"There is no folder {request.cwd} to work in.")
        asked = {"setup": request.setup, "snippets": request.texts, "seconds": request.seconds, "collect": request.collect}
        command = [python, "-c", Path(str(snippet_driver.__file__)).read_text("utf-8")]
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=request.cwd
        )
        answer, problems = self._process.communicate(json.dumps(asked))
        try:
            facts: dict[str, Any] = json.loads(answer.strip().splitlines()[-1] if answer.strip() else problems.strip().splitlines()[-1])
        except (ValueError, IndexError):
            last = problems.strip().splitlines()[-1] if problems.strip() else f"exit status {self._process.returncode}"
            raise InputError(f"The snippets could not be timed in {python}: {last}") from None
        if "error" in facts:
            error = str(facts["error"])
            raise InputError(error[0].upper() + error[1:] + ".")
        return SnippetTimes(
            python, facts["python"], tuple(facts["loops"]), tuple(tuple(own) for own in facts["blocks"]), facts["same_answer"]
        )


def snippet_that_calls(module: str, name: str, file: str, folder: str, own: bool = True) -> tuple[str, str]:
    """Set-up and snippet that call a function, its arguments left to be typed.

    Parameters
    ----------
    module, name, file : str
        Where the function is, as recorded; a builtin has no file.
    folder : str
        Working folder of the snippet; modules in it need no path.
    own : bool
        Whether it is the person's own code, so that its folder may have to be put on the path.

    Raises
    ------
    InputError
        It cannot be called by a name: a lambda, or a function inside another.

    >>> snippet_that_calls("tides.fit", "Station.speed_of", "/work/tides/fit.py", "/work")
    ('from tides.fit import Station', 'Station().speed_of()')
    >>> snippet_that_calls("math", "sqrt", "", "/work")
    ('from math import sqrt', 'sqrt()')
    """
    if "<" in name:
        raise InputError(f"{name} cannot be called from outside: it has no name in its module.", "Select the function around it.")
    outer, _dot, method = name.partition(".")
    text = f"{outer}().{method}()" if method else f"{outer}()"
    if module in ("", "builtins"):
        return "", text
    place = Path(file)
    if module == "__main__":
        module, root = place.stem, place.parent
    else:
        steps = module.count(".") + (place.stem == "__init__")
        root = place.parents[min(steps, len(place.parents) - 1)] if file else place
    path = f"import sys\nsys.path.insert(0, {str(root)!r})\n" if file and own and str(root) != folder else ""
    return f"{path}from {module} import {outer}", text


def calls_of_a_loop(request: SnippetRequest, text: str, python: str = "") -> float:
    """Calls that one loop of a snippet makes, exactly: two recorded runs with another number of loops, one taken from the other.

    Raises
    ------
    RicercaError
        It cannot be recorded.
    """
    counts = []
    cwd = str(Path(request.cwd).absolute())
    with tempfile.TemporaryDirectory(prefix="ricerca-") as place:
        script = Path(place, "snippet.py")
        body = "\n".join(f"    {line}" for line in text.splitlines())
        script.write_text(f"import sys\nsys.path[0] = {cwd!r}\n{request.setup}\nfor _ in range(int(sys.argv[1])):\n{body}\n", "utf-8")
        study_file = Path(place, "snippet.ricerca")
        executable = find_python(python)
        for number, loops in enumerate((FEW, MANY), 1):
            subject = Subject("script", (str(script), str(loops)), cwd, executable)
            with Path(place, "errors").open("wb") as errors:
                streams = Streams(subprocess.DEVNULL, subprocess.DEVNULL, errors)
                outcome = Session(Plan(subject, study_file, case=f"loops {number}"), streams).run()
            if outcome.recorded is None or outcome.recorded.exit_status:
                last = (Path(place, "errors").read_text("utf-8", "replace").strip().splitlines() or [outcome.problem])[-1]
                raise InputError(f"The snippet ended with an error while its calls were counted: {last}")
            with Study.open(study_file, part=Part(f"loops {number}")) as study:
                run = study.round(outcome.round_number).last_run(RECORDED)
                tables = study.tables(run.id) if run is not None else None
            if tables is None:
                raise InputError(f"The snippet could not be recorded: {outcome.problem}")
            counts.append(int(tables.calls.sum()))
    return (counts[1] - counts[0]) / (MANY - FEW)


def keep(study_file: Path, facts: dict[str, Any]) -> int:
    """Keep what came of snippets in a study. Returns their number."""
    with Study.open(study_file, create=True) as study:
        return study.add_snippets(json.dumps(facts))


def kept(study: Study) -> Sequence[dict[str, Any]]:
    """All snippets that are kept in a study."""
    return [json.loads(text) for text in study.snippets()]
