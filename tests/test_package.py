"""The wheel holds all that Ricerca needs, and works when it is installed into an empty environment."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import sysconfig
import venv
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def copied_sources(place: Path) -> Path:
    """A copy of what a wheel is built from."""
    files = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split("\0")
    for name in filter(None, files):
        if (ROOT / name).is_file() and name.split("/")[0] not in ("tests", "docs", "bench"):
            (place / "source" / name).parent.mkdir(parents=True, exist_ok=True)
            (place / "source" / name).write_bytes((ROOT / name).read_bytes())
    shutil.copytree(ROOT / "docs" / "guide", place / "source" / "src" / "ricerca" / "guide")  # there it is a link
    return place / "source"


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel as it is built from a copy of the sources."""
    place = tmp_path_factory.mktemp("wheel")
    source = copied_sources(place)
    words = ["-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation", "--no-cache-dir", "-w", str(place), str(source)]
    subprocess.run([sys.executable, *words], check=True)
    return next(place.glob("*.whl"))


def test_the_wheel_holds_sources_of_the_recorder_fonts_icons_and_the_example(wheel):
    names = zipfile.ZipFile(wheel).namelist()
    for wanted in ("ricerca/recorder/native/arena.c", "ricerca/recorder/native/layout.h", "ricerca/recorder/entry/sitecustomize.py",
                   "ricerca/recorder/pure/hook.py", "ricerca/desk/icons/down.svg", "ricerca/desk/fonts/OFL.txt",
                   "ricerca/examples/tidebook/1-baseline/tidebook.py", "ricerca/examples/harbour.ricerca", "ricerca/guide/2-record.md",
                   "ricerca/py.typed"):  # fmt: skip
        assert wanted in names
    assert any(name.startswith("ricerca/recorder/_native.") for name in names)
    assert not any(name.startswith(("tests/", "tools/", "bench/")) for name in names)


def test_installed_alone_it_records_ranks_and_exports(wheel, tmp_path):
    venv.create(tmp_path / "env", with_pip=False)
    bin_, site = tmp_path / "env" / "bin", next((tmp_path / "env" / "lib").glob("python*/site-packages"))
    subprocess.run([sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--target", str(site), str(wheel)], check=True)
    (site / "others.pth").write_text(sysconfig.get_paths()["purelib"] + "\n")  # what it depends on comes from here
    script = tmp_path / "p.py"
    script.write_text("def f(n):\n    return n\nprint(sum(f(n) for n in range(1000)))\n")
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}

    def ricerca(*words):
        command = [str(bin_ / "python"), "-m", "ricerca.cli", *words]
        return subprocess.run(command, cwd=tmp_path, env=env, capture_output=True, text=True, check=True).stdout

    where = subprocess.run([str(bin_ / "python"), "-c", "import ricerca; print(ricerca.__file__)"], cwd=tmp_path, capture_output=True,
                           text=True, check=True).stdout  # fmt: skip
    assert where.startswith(str(site))
    assert ricerca("record", "--study", "s.ricerca", "p.py") == "499500\n"
    rows = {row["function"]: row["calls"] for row in json.loads(ricerca("rank", "s.ricerca", "--json"))["functions"]}
    assert rows["f"] == 1000
    ricerca("export", "s.ricerca", "--to", "calls.svg")
    assert (tmp_path / "calls.svg").stat().st_size > 1000
