"""What puts Ricerca into the desktop: all of it is written, valid for the system's own validators, and goes away again."""

from __future__ import annotations

import shutil
import subprocess
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from conftest import ricerca

from ricerca.cli import main
from ricerca.integration import COMPLETIONS, MANUAL, PLACES, manual


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Path:
    place = tmp_path_factory.mktemp("share")
    done = ricerca("integrate", "--into", place)
    assert done.returncode == 0, done.stderr
    assert len(done.stdout.splitlines()) == len(PLACES) + len(COMPLETIONS) + 1
    return place


def validate(*words):
    """Run a validator of the system, where there is one."""
    if shutil.which(words[0]) is None:
        pytest.skip(f"{words[0]} is not installed")
    done = subprocess.run(list(map(str, words)), capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr


def test_the_menu_entry_is_valid_and_opens_what_it_says(folder):
    entry = folder / PLACES["ricerca.desktop"] / "ricerca.desktop"
    keys = dict(line.split("=", 1) for line in entry.read_text().splitlines() if "=" in line)
    kind = ET.parse(folder / PLACES["ricerca-study.xml"] / "ricerca-study.xml").getroot().find("{*}mime-type").get("type")
    assert keys["MimeType"] == f"{kind};"
    assert keys["Exec"].split()[1] in main.commands
    validate("desktop-file-validate", entry)


def test_the_description_for_software_centres_is_valid(folder):
    validate(
        "appstreamcli", "validate", "--no-net", folder / PLACES["org.ricerca.Ricerca.metainfo.xml"] / "org.ricerca.Ricerca.metainfo.xml"
    )


def test_the_icon_is_a_picture(folder):
    from PyQt6.QtGui import QImage

    assert not QImage(str(folder / PLACES["ricerca.svg"] / "ricerca.svg")).isNull()


def test_the_kind_of_file_reaches_the_system_s_database(folder):
    if shutil.which("update-mime-database") is None:
        pytest.skip("update-mime-database is not installed")
    assert "*.ricerca" in (folder / "mime" / "globs").read_text()


def test_bash_completes_commands(folder):
    file = folder / COMPLETIONS["bash"]
    validate("bash", "-n", file)
    assert (folder / COMPLETIONS["zsh"]).read_text().startswith("#compdef ricerca")


def test_the_manual_page_has_every_command_and_option(folder):
    text = (folder / MANUAL).read_text()
    for name, command in main.commands.items():
        assert f".SH {name.upper()}" in text
        for param in command.params:
            for option in getattr(param, "opts", []):
                if option.startswith("--"):
                    assert option.replace("-", r"\-") in text
    assert not [
        line
        for line in manual(main, "1").splitlines()
        if line.startswith((".", "'")) and line.split()[0] not in (".TH", ".SH", ".TP", ".B")
    ]
    if shutil.which("man"):
        done = subprocess.run(
            ["man", "--warnings", "-l", str(folder / MANUAL)],
            capture_output=True,
            text=True,
            env={"LC_ALL": "C.UTF-8", "PATH": "/usr/bin:/bin"},
        )
        if done.returncode == 0:  # a system without its own manual pages has a man that only says so
            assert "warning" not in done.stderr


def test_it_goes_away_again(folder, tmp_path):
    copy = tmp_path / "share"
    shutil.copytree(folder, copy)
    done = ricerca("integrate", "--into", copy, "--remove")
    assert done.returncode == 0
    assert not [file for file in copy.rglob("*") if file.is_file() and "ricerca" in file.name.lower() and "mime" not in file.parts]
    assert not (copy / PLACES["ricerca-study.xml"] / "ricerca-study.xml").exists()


def test_a_folder_that_cannot_be_written_is_said(tmp_path):
    (tmp_path / "applications").write_text("")
    done = ricerca("integrate", "--into", tmp_path)
    assert done.returncode == 2 and "cannot be written" in done.stderr
