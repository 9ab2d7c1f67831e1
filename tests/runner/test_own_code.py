"""What is the person's own code: the folders named, working copies, projects installed in place."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from ricerca.engine.own_layers import OwnLayer, claimed, with_own_layers
from ricerca.runner.own_code import in_place, own_roots, working_copy


@pytest.fixture
def environment(tmp_path):
    """A virtual environment's folders, with one project installed in place."""
    place = tmp_path / "venv" / "lib" / "python3.12" / "site-packages"
    place.mkdir(parents=True)
    (tmp_path / "venv" / "bin").mkdir()
    project = tmp_path / "my project"
    project.mkdir()

    def install(name, facts):
        info = place / f"{name}-1.0.dist-info"
        info.mkdir()
        (info / "direct_url.json").write_text(facts if isinstance(facts, str) else json.dumps(facts))

    install("tides", {"url": project.as_uri(), "dir_info": {"editable": True}})
    install("copied", {"url": project.as_uri(), "dir_info": {}})
    install("fetched", {"url": "https://example.org/x.whl", "archive_info": {}})
    install("damaged", "{")
    install("gone", {"url": (tmp_path / "gone").as_uri(), "dir_info": {"editable": True}})
    return tmp_path / "venv" / "bin" / "python", project


def test_projects_installed_in_place_are_found_and_nothing_else(environment):
    python, project = environment
    assert in_place(str(python)) == [str(project)]


def test_a_link_of_the_old_kind_counts_too(environment):
    python, project = environment
    place = python.parent.parent / "lib" / "python3.12" / "site-packages"
    (place / "old.egg-link").write_text(f"{project}\n../\n")
    (place / "bad.egg-link").write_bytes(b"\xff\xfe")
    assert in_place(str(python)) == [str(project), str(project)]
    assert own_roots([str(project)], str(python)) == (str(project),)


def test_the_root_of_a_working_copy_is_found_but_not_a_whole_home_folder(tmp_path, monkeypatch):
    inner = tmp_path / "work" / "src" / "deep"
    inner.mkdir(parents=True)
    assert working_copy(str(inner)) == ""
    (tmp_path / "work" / ".git").mkdir()
    assert working_copy(str(inner)) == str(tmp_path / "work")
    monkeypatch.setenv("HOME", str(tmp_path / "work"))
    assert working_copy(str(inner)) == ""


def test_the_root_folder_of_the_system_is_nobodys(environment):
    python, project = environment
    assert own_roots(["/"], str(python)) == (str(project),)


def test_the_latest_word_on_what_is_mine_counts():
    own = claimed(claimed((OwnLayer("numbers", ("numpy",)),), "tides", True), "harbour", True)
    rows = ["tides.fit", "harbour", "numpy.linalg", "json"], ["solve", "main", "svd", "loads"], ["", "", "", ""]
    found = ["packages", "packages", "packages", "standard library"]
    assert with_own_layers(found, own, *rows) == ("mine", "mine", "numbers", "standard library")
    own = claimed(own, "tides", False)
    assert with_own_layers(found, own, *rows) == ("packages", "mine", "numbers", "standard library")
    own = claimed(own, "tides.fit", True)
    assert with_own_layers(found, own, *rows)[0] == "mine"


def test_a_tool_run_by_its_name_from_elsewhere_is_read_as_its_users_would_expect(tmp_path):
    """A package beside the working folder is one's own; the modules it uses from the library are not."""
    (tmp_path / "tool").mkdir()
    (tmp_path / "tool" / "__init__.py").write_text("")
    (tmp_path / "tool" / "__main__.py").write_text(
        "import json\ndef work(n):\n    return sum(k * k for k in range(n))\n"
        "def text(n):\n    return json.dumps([work(50)] * n)\nfor n in range(300):\n    text(n)\n"
    )
    ricerca = [sys.executable, "-m", "ricerca.cli"]
    subprocess.run([*ricerca, "record", "--quiet", "--study", "s.ricerca", "--", "-m", "tool"], cwd=tmp_path, check=True)
    from ricerca.loading import load
    from ricerca.study.store import Study

    with Study.open(tmp_path / "s.ricerca") as study:
        loaded = load(study)
    table = loaded.whole.functions
    layer = dict(zip(table.name, table.layer, strict=True))
    assert layer["work"] == layer["text"] == "mine"
    assert layer["dumps"] == "standard library"
    assert loaded.first_look.reading.text == "charged to my code; imports folded"
