"""What a run answered: its exit status, what it wrote, and the files that hold its answer."""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import blake2b

STDOUT, STDERR = "standard output", "standard error"
HEAD_BYTES = 1 << 16
"""So much of an output is kept to show where another differs; of the rest, digests of pieces of this size."""

SAME, ANOTHER, VARIES = "same", "another", "varies by itself"


@dataclass(frozen=True)
class Output:
    """One output of a run. ``pieces`` are digests of its pieces of HEAD_BYTES each; ``head`` is the first of them."""

    size: int
    pieces: tuple[str, ...]
    head: bytes

    @classmethod
    def of(cls, content: bytes) -> Output:
        """That of some content.

        >>> Output.of(b"").size, len(Output.of(b"x" * 70000).pieces)
        (0, 2)
        """
        pieces = tuple(piece_digest(content[at : at + HEAD_BYTES]) for at in range(0, len(content), HEAD_BYTES))
        return cls(len(content), pieces, content[:HEAD_BYTES])


def piece_digest(content: bytes) -> str:
    """Digest of one piece of an output."""
    return blake2b(content, digest_size=12).hexdigest()


@dataclass(frozen=True)
class Answer:
    """All outputs of a run by name: ``STDOUT``, ``STDERR`` or the path of a file. A file that was not there is None."""

    outputs: tuple[tuple[str, Output | None], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.outputs)

    def difference(self, other: Answer) -> str:
        """The first difference of two answers, in words; empty where there is none.

        >>> one, two = (Answer(((STDOUT, Output.of(text)),)) for text in (b"a\\nb\\n", b"a\\nc\\n"))
        >>> one.difference(two)
        'standard output, line 2: “b”, then “c”'
        """
        mine, theirs = dict(self.outputs), dict(other.outputs)
        for name in mine.keys() & theirs.keys():
            if mine[name] != theirs[name]:
                return f"{name}, {_first_difference(mine[name], theirs[name])}"
        return ""


def _first_difference(one: Output | None, two: Output | None) -> str:
    if one is None or two is None:
        return "there before, missing then" if two is None else "missing before, there then"
    if one.head != two.head:
        before, after = one.head.split(b"\n"), two.head.split(b"\n")
        for number, (left, right) in enumerate(zip(before, after, strict=False)):
            if left != right:
                return f"line {number + 1}: “{_shown(left)}”, then “{_shown(right)}”"
        longer = max(before, after, key=len)
        return f"line {min(len(before), len(after)) + 1}: “{_shown(longer[min(len(before), len(after))])}” is only in one of them"
    for number, (left_digest, right_digest) in enumerate(zip(one.pieces, two.pieces, strict=False)):
        if left_digest != right_digest:
            return f"somewhere after byte {number * HEAD_BYTES:,}"
    return f"{one.size:,} bytes, then {two.size:,}"


def _shown(line: bytes, most: int = 60) -> str:
    text = line.decode("utf-8", "replace").replace("\t", " ")
    text = "".join(sign if sign.isprintable() else "·" for sign in text)
    return text if len(text) <= most else text[: most - 1] + "…"


@dataclass(frozen=True)
class AnswerVerdict:
    """Whether two rounds answer the same: SAME, ANOTHER, VARIES, or empty where nobody knows. ``difference`` is the first, in words."""

    verdict: str
    difference: str = ""

    @property
    def same(self) -> bool | None:
        """As the JSON contract has it: None where it is not known, or where the answer varies by itself."""
        return {SAME: True, ANOTHER: False}.get(self.verdict)


def compare_answers(base: list[Answer], new: list[Answer]) -> AnswerVerdict:
    """Whether two rounds answer the same, from the answers of their runs.

    An output that differs among the runs of one round varies by itself, and says nothing of a change.
    """
    base, new = [answer for answer in base if answer], [answer for answer in new if answer]
    if not base or not new:
        return AnswerVerdict("")
    names = [name for name, _ in base[0].outputs if name in dict(new[0].outputs)]
    steady, unsteady = [], ""
    for name in names:
        own = next(
            (found for side in (base, new) for answer in side[1:] if (found := _only(side[0], name).difference(_only(answer, name)))), ""
        )
        if own:
            unsteady = unsteady or own
        else:
            steady.append(name)
    for name in steady:
        found = _only(base[0], name).difference(_only(new[0], name))
        if found:
            return AnswerVerdict(ANOTHER, found)
    return AnswerVerdict(VARIES, unsteady) if unsteady else AnswerVerdict(SAME)


def _only(answer: Answer, name: str) -> Answer:
    return Answer(tuple(pair for pair in answer.outputs if pair[0] == name))
