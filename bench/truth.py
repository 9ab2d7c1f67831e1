"""Blocks of work of known duration, recorded on every interpreter: how far the told times are from the true ones.

    python bench/truth.py [PYTHON ...]

The truth is what plain runs of the program measure themselves, the middle of those that were made in the same round.
"""

from __future__ import annotations

import json
import math
import statistics
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ricerca.engine.agreement import cost_of_untimed_ns
from ricerca.loading import load
from ricerca.measure.estimates import mean_interval
from ricerca.runner.program import describe
from ricerca.runner.session import Plan, Session, Streams
from ricerca.study.store import Study

PROGRAM = Path(__file__).parent / "workloads" / "known_blocks.py"
RUNS = 8


@dataclass(frozen=True)
class Truth:
    """How far one round is from the truth. ``shares`` in points, ``blocks`` and ``total`` as shares; ``swing`` of the plain runs."""

    worst_share: float
    worst_block: float
    worst_name: str
    total: float
    swing: float
    outside: int
    blocks: dict[str, tuple[float, float]]
    halves: dict[str, float]
    sparse_cost: float
    """A sparse run against a plain one: the least times of all blocks, the cost of its calls deducted."""


def measure(python: str, runs: int = RUNS, sparse: bool = True) -> Truth:
    """Record the program with plain and sparse runs, and hold what is told beside what the plain runs say."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        subject = describe([str(PROGRAM), "blocks.json"], place, python)
        session = Session(Plan(subject, folder / "truth.ricerca", plain_runs=runs, sparse=sparse), Streams(*[subprocess.DEVNULL] * 3))
        told: list[dict[str, int]] = []
        kept = session._quiet.plain

        def plain(*words, **more):
            run = kept(*words, **more)
            told.append(json.loads((folder / "blocks.json").read_text()))
            return run

        beside: list[dict[str, int]] = []
        kept_sparse = session._quiet.sparse

        def sparse_too(*words, **more):
            why = kept_sparse(*words, **more)
            beside.append(json.loads((folder / "blocks.json").read_text()))
            return why

        session._quiet.plain, session._quiet.sparse = plain, sparse_too  # type: ignore[method-assign]
        session.run()
        with Study.open(folder / "truth.ricerca") as study:
            loaded = load(study)
            tables = study.tables(loaded.run.id)
            untimed_ns = [cost_of_untimed_ns(tables, study.tables(run.id)) for run in loaded.round.sparse_runs]
    least = [sum(min(one[name] for one in runs) for name in told[0]) for runs in (told, beside) if runs]
    sparse_cost = (least[1] - statistics.median(untimed_ns)) / least[0] if beside else 1.0
    true = {name: statistics.median(one[name] for one in told) for name in told[0]}
    table, figures = loaded.profile.functions, loaded.figures
    found = {table.name[n]: n for n in range(len(table)) if table.file[n] == str(PROGRAM)}
    says = {name: int(figures.inclusive_ns[found[name]]) for name in true}
    all_true, all_says = loaded.plain_ns or 0, loaded.profile.total_ns
    shares = {name: 100 * (says[name] / all_says - true[name] / all_true) for name in true}
    blocks = {name: says[name] / true[name] - 1 for name in true}
    worst = max(blocks, key=lambda name: abs(blocks[name]))
    half = figures.inclusive_half_ns
    # the truth is a middle of few runs itself
    own = {name: mean_interval(np.log([one[name] for one in told]))[1] * true[name] for name in true}
    outside = sum(abs(says[name] - true[name]) > math.hypot(half[found[name]], own[name]) for name in true)
    plain = loaded.round.plain_ns
    return Truth(
        max(map(abs, shares.values())), blocks[worst], worst, loaded.profile.total_ns / all_true - 1, max(plain) / min(plain) - 1, outside,
        {name: (blocks[name], shares[name]) for name in blocks},
        {name: half[found[name]] / max(says[name], 1) for name in blocks}, sparse_cost,
    )  # fmt: skip


def main() -> None:
    """Measure all interpreters that are named."""
    for python in sys.argv[1:] or [sys.executable]:
        for sparse in (True, False):
            one = measure(python, sparse=sparse)
            print(f"{python} {'with' if sparse else 'without'} sparse runs: worst share {one.worst_share:.1f} points, worst block "
                  f"{one.worst_block:+.0%} ({one.worst_name}), total {one.total:+.1%}; plain runs differ by {one.swing:.0%}; "
                  f"{one.outside} of 16 outside their interval; sparse / plain {one.sparse_cost:.3f}")  # fmt: skip
            for name, (block, share) in one.blocks.items():
                print(f"    {name:16} {block:+7.1%} {share:+6.2f}  ±{one.halves[name]:.0%}")


if __name__ == "__main__":
    main()
