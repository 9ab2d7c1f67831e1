"""How rounds are called in the reading line and where they are chosen."""

from __future__ import annotations

from ricerca.model.rounds import Round


def round_words(round_: Round) -> str:
    """A round as it is named in the sentence."""
    return f"round {round_.number} “{round_.name}”"
