"""Programs that nobody here wrote: same output, and the same counts on two runs."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest
from conftest import RICERCA, ricerca

PROGRAMS = {
    "jinja2": """
        from jinja2 import Environment
        page = Environment().from_string(
            "{% macro row(n) %}<li>{{ n|upper }}</li>{% endmacro %}{% for n in names if n %}{{ row(n) }}{% endfor %}")
        for k in range(30):
            text = page.render(names=["a%d" % n for n in range(k)])
        print(len(text), text[:40])
        """,
    "docutils": """
        from docutils.core import publish_string
        source = "Title\\n=====\\n\\n* one\\n* *two*\\n\\n.. note:: x\\n\\n" + "A paragraph with ``code``.\\n\\n" * 20
        print(len(publish_string(source, writer_name="html", settings_overrides={"_disable_config": True, "datestamp": None})) > 1000)
        """,
    "networkx": """
        import networkx as nx
        graph = nx.gnm_random_graph(60, 150, seed=4)
        print(nx.number_connected_components(graph), sorted(nx.degree_centrality(graph).values())[-1])
        print(round(sum(nx.closeness_centrality(graph).values()), 6), len(list(nx.find_cliques(graph))))
        """,
    "numpy": """
        import numpy as np
        rng = np.random.default_rng(3)
        field = rng.normal(size=(80, 80))
        values = np.linalg.eigvalsh(field @ field.T)
        print(values.shape, bool((np.diff(values) >= 0).all()), np.median(field).round(6))
        """,
}


@pytest.mark.parametrize("name", PROGRAMS)
def test_same_output_and_the_same_counts_twice(name, tmp_path):
    import textwrap

    script = tmp_path / "program.py"
    script.write_text(textwrap.dedent(PROGRAMS[name]))
    env = {**os.environ, "PYTHONHASHSEED": "0", "OPENBLAS_NUM_THREADS": "1"}
    given = {"cwd": tmp_path, "capture_output": True, "env": env, "timeout": 120}
    plain = subprocess.run([sys.executable, "program.py"], **given)
    assert plain.returncode == 0, plain.stderr
    studies = tmp_path / "studies"
    studies.mkdir()
    found = []
    for number in (1, 2):
        recorded = subprocess.run([*RICERCA, "record", "--quiet", "--study", str(studies / f"{number}.ricerca"), "program.py"], **given)
        assert (recorded.stdout, recorded.returncode) == (plain.stdout, 0)
        facts = json.loads(ricerca("rank", studies / f"{number}.ricerca", "--json").stdout)
        found.append({
            (row["function"], row["module"], row["file"], row["line"]): (row["calls"], row["first_entry_calls"], row["resumes"])
            for row in facts["functions"]
        })  # fmt: skip
        assert facts["complete"]
    differing = {key for key in found[0].keys() | found[1].keys() if found[0].get(key) != found[1].get(key)}
    assert not differing
    assert len(found[0]) > 100
