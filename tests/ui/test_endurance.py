"""Random edits by keys in a window of its own process: no box, no exception, the same job after undo, and its memory back."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

SCRIPT = Path(__file__).parents[2] / "benchmarks" / "endure.py"
EDITS = 15  # `./run bench` makes 400 of them


@pytest.mark.parametrize("demo", ["demo", "demo-kvist"])
def test_edits_at_random_leave_neither_boxes_nor_memory_behind(demo):
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run([sys.executable, SCRIPT, demo, str(EDITS), "7"], capture_output=True, text=True, check=False, env=env)
    assert done.returncode == 0, done.stderr[-2000:]
    made = json.loads(done.stdout.splitlines()[-1])
    assert (made["boxes"], made["exceptions"], made["equal"]) == (0, 0, 1), done.stderr[-2000:]
    assert made["after_undo_mb"] - made["began_mb"] < 50
