"""The launcher and the start without a display: folders of any name, and folders that cannot be written."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from calm_relay.ui.start import _place_for

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("folder", ["plain", "with space", "a & b | c", "100 % done", 'say "hi" `now` $HOME', "back\\slash"])
def test_any_folder_name_stands_in_the_launcher_as_the_standard_reads_it(folder):
    """Desktop Entry Specification 1.5, from memory: read back by its own rules, word for word."""
    path = f"/home/someone/{folder}/run"
    template = (ROOT / "packaging" / "calm-relay.desktop").read_text(encoding="utf-8")
    command = [sys.executable, str(ROOT / "packaging" / "launcher.py"), path]
    made = subprocess.run(command, input=template, capture_output=True, text=True, check=True).stdout
    (line,) = [row for row in made.splitlines() if row.startswith("Exec=")]
    value = line.removeprefix("Exec=").replace("\\\\", "\\")  # first the string's own escapes
    assert value.startswith('"')
    word, at = "", 1
    while value[at] != '"':  # then the quoting of the argument
        at += value[at] == "\\"
        word += value[at]
        at += 1
    assert word.replace("%%", "%") == path
    assert value[at + 1 :] == " app %f"
    assert made.count("\n") == template.count("\n")


def test_a_picture_goes_elsewhere_where_its_folder_cannot_be_made(tmp_path, capsys):
    assert _place_for(tmp_path / "out" / "a.png") == tmp_path / "out" / "a.png"
    (tmp_path / "file").write_text("not a folder")
    other = _place_for(tmp_path / "file" / "out" / "a.png")
    assert other.name == "a.png"
    assert os.access(other.parent, os.W_OK)
    assert "goes elsewhere" in capsys.readouterr().err


def test_the_script_keeps_your_folder_and_may_be_linked(tmp_path):
    link = tmp_path / "relay"
    link.symlink_to(ROOT / "run")
    out = subprocess.run([str(link)], cwd=tmp_path, capture_output=True, text=True)
    assert out.returncode == 0
    assert "usage: ./run COMMAND" in out.stdout
    text = (ROOT / "run").read_text(encoding="utf-8")
    assert text.index("readlink -f") < text.index("usage()")
    for command in ("demo)", "app)", "cli)"):
        (line,) = [row for row in text.splitlines() if row.strip().startswith(command)]
        assert "cd " not in line, "paths that a person types are theirs"
