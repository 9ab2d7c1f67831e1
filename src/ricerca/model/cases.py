"""Cases: subjects with a name within a study, how often each is run, and the sizes it comes in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from ricerca.model.errors import InputError
from ricerca.model.rounds import Subject

Size = tuple[tuple[str, str], ...]
"""Names and values that a run's placeholders stood for, such as ``(("n", "1000"),)``."""

DAYS_A_WEEK = 7


def size_text(size: Size) -> str:
    """A size as it is shown and stored.

    >>> size_text((("n", "1000"), ("m", "3")))
    'n=1000 m=3'
    """
    return " ".join(f"{name}={value}" for name, value in size)


def size_from(text: str) -> Size:
    """A size from its text.

    >>> size_from("n=1000 m=3")
    (('n', '1000'), ('m', '3'))
    """
    return tuple((name, value) for name, _, value in (part.partition("=") for part in text.split()))


def size_number(text: str) -> float | None:
    """The number that a size stands for: the first of its values; None where it is no number.

    >>> size_number("n=2e3 m=3")
    2000.0
    """
    try:
        return float(size_from(text)[0][1])
    except (IndexError, ValueError):
        return None


@dataclass(frozen=True)
class Part:
    """What is looked at of each round: one case, in one size. Empty names mean a round's first case, in its largest size."""

    case: str = ""
    size: str = ""


WHOLE = Part()


@dataclass(frozen=True)
class Case:
    """A subject with a name. ``subject`` may hold placeholders such as ``{n}`` for which the values of ``sizes`` are put.

    ``prepare`` is a command that makes the input of a size before it is run. ``runs_per_day`` is None where nobody said.
    """

    name: str
    subject: Subject
    runs_per_day: float | None = None
    sizes: tuple[tuple[str, tuple[str, ...]], ...] = ()
    prepare: str = ""
    id: int = field(default=0, compare=False)

    @property
    def all_sizes(self) -> tuple[Size, ...]:
        """Each size in turn; one without names where the case has none.

        >>> Case("a", Subject("script", ("p.py", "{n}"), "/", "python3"), sizes=(("n", ("1", "2")), ("m", ("7",)))).all_sizes
        ((('n', '1'), ('m', '7')), (('n', '2'), ('m', '7')))
        """
        count = max((len(values) for _, values in self.sizes), default=1)
        return tuple(tuple((name, values[at] if len(values) > 1 else values[0]) for name, values in self.sizes) for at in range(count))

    def of_size(self, size: Size) -> Subject:
        """What is run for a size."""
        return sized(self.subject, size)


def sized(subject: Subject, size: Size) -> Subject:
    """A subject with a size put for its placeholders.

    >>> sized(Subject("script", ("p.py", "{n}"), "/", "python3"), (("n", "5"),)).program
    ('p.py', '5')
    """
    if not size:
        return subject

    def put(text: str) -> str:
        for name, value in size:
            text = text.replace(f"{{{name}}}", value)
        return text

    return replace(
        subject,
        program=tuple(put(word) for word in subject.program),
        env=tuple((name, put(value)) for name, value in subject.env),
        answer=tuple(put(file) for file in subject.answer),
        input=put(subject.input),
    )


def sizes_of(words: Sequence[str]) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Sizes from words such as ``n=1000,2000``.

    Raises
    ------
    InputError
        A word is no size, or two of them have another number of values.

    >>> sizes_of(["n=1000,2000"])
    (('n', ('1000', '2000')),)
    """
    found = []
    for word in words:
        name, _, values = word.partition("=")
        parts = tuple(part.strip() for part in values.split(",") if part.strip())
        if not name.isidentifier() or not parts or any(" " in part or "=" in part for part in parts):
            raise InputError(f"{word!r} is not a size.", "Write it as NAME=VALUE,VALUE,..., such as n=1000,2000,4000")
        found.append((name, parts))
    counts = {len(parts) for _, parts in found} - {1}
    if len(counts) > 1:
        raise InputError("The sizes have different numbers of values.", "Give each name as many values as the others, or one.")
    if len({name for name, _ in found}) < len(found):
        raise InputError("A size is given twice.")
    return tuple(found)


def refuse_unused(subject: Subject, sizes: Sequence[tuple[str, tuple[str, ...]]], prepare: str = "") -> None:
    """A size whose placeholder stands nowhere would run the same thing again and again.

    Raises
    ------
    InputError
        A name of the sizes is not used.
    """
    text = " ".join([*subject.program, *(value for _, value in subject.env), *subject.answer, subject.input, prepare])
    for name, _ in sizes:
        if f"{{{name}}}" not in text:
            raise InputError(f"The size {name} is used nowhere.", f"Put {{{name}}} where its value belongs, as in: -- script.py {{{name}}}")
