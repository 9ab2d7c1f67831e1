"""The kinds of failure. Only ``cli`` and ``desk`` show them to people."""

from __future__ import annotations


class RicercaError(Exception):
    """Root of all errors raised on purpose.

    Parameters
    ----------
    what : str
        What happened and why, one sentence.
    advice : str
        What the person can do about it; may be empty.
    """

    def __init__(self, what: str, advice: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.advice = advice

    def __str__(self) -> str:
        return f"{self.what} {self.advice}".strip()


class InputError(RicercaError, ValueError):
    """Something the person named, or their machine, does not allow what was asked."""


class FileDamagedError(InputError):
    """A study or recording cannot be read as what it says it is."""


class NewerFormatError(FileDamagedError):
    """A file was written by a later version of Ricerca."""


class EnvironmentProblem(RicercaError, OSError):  # noqa: N818 - it is the machine that has the problem
    """The machine refuses: no room, no permission, no compiler."""


class InternalError(RicercaError, RuntimeError):
    """Our own mistake."""
