"""What a run answered and where it was made, as the study file keeps it: JSON."""

from __future__ import annotations

import base64
import json
import zlib
from dataclasses import asdict, fields
from typing import Any

from ricerca.model.answers import HEAD_BYTES, Answer, Output
from ricerca.model.machine import Machine


def answer_text(answer: Answer) -> str:
    """An answer as JSON."""
    return json.dumps({name: _packed(output) for name, output in answer.outputs})


def _packed(output: Output | None) -> dict[str, Any] | None:
    if output is None:
        return None
    head = base64.b64encode(zlib.compress(output.head)).decode("ascii")
    return {"bytes": output.size, "pieces": list(output.pieces), "head": head}


def answer_from(text: str) -> Answer:
    """An answer from JSON.

    Raises
    ------
    ValueError, TypeError, KeyError
        It is damaged.
    """
    return Answer(tuple((str(name), _unpacked(output)) for name, output in json.loads(text).items()))


def _unpacked(kept: dict[str, Any] | None) -> Output | None:
    if kept is None:
        return None
    try:
        head = zlib.decompressobj().decompress(base64.b64decode(kept["head"]), HEAD_BYTES)
    except zlib.error as problem:
        raise ValueError(problem) from None
    return Output(int(kept["bytes"]), tuple(str(piece) for piece in kept["pieces"]), head)


def machine_text(machine: Machine) -> str:
    """A machine as JSON."""
    return json.dumps(asdict(machine))


def machine_from(text: str) -> Machine:
    """A machine from JSON; what a later version added is left out.

    Raises
    ------
    ValueError, TypeError
        It is damaged.
    """
    kept, known = json.loads(text), {field.name for field in fields(Machine)}
    packages = tuple((str(name), str(version)) for name, version in kept.pop("packages", ()))
    return Machine(**{name: value for name, value in kept.items() if name in known}, packages=packages)
