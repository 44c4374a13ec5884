"""What every command says of the five plants, kept as files: a change of words or figures shows in review.

``python -m tests.telling`` writes them anew; look at what differs before it is committed.
"""

from __future__ import annotations

import contextlib
import io
import tempfile
from pathlib import Path

from calm_relay.cli import main
from calm_relay.job.container import job_json
from tests.plants import PLANTS

HERE = Path(__file__).parent / "told"
COMMANDS = (
    "measure", "check", "simulate", "compare", "site", "faces", "strings", "oversizing", "load", "bill", "limits", "chains", "when",
    "plan", "stations", "controls", "figures", "boxes", "ageing", "cost", "finance", "ranges", "decide", "drill", "ride-through",
    "frequency", "stays", "starts", "rules", "runs", "order",
)  # fmt: skip
MORE = {"drill": ("--start", "01-15T16", "--hours", "30")}


def told(job_path: str, command: str, *more: str) -> str:
    """Return what a command prints of a job, refusals after it, and its exit status."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = main([command, job_path, *MORE.get(command, ()), *more])
    return f"{out.getvalue()}{err.getvalue()}exit {status}\n".replace(job_path, "JOB")


def all_told(key: str) -> dict[str, str]:
    """Return what every command says of one of the plants."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{key}.json"
        path.write_bytes(job_json(PLANTS[key]()))
        return {command: told(str(path), command) for command in COMMANDS}


if __name__ == "__main__":
    for plant in PLANTS:
        for name, text in all_told(plant).items():
            file = HERE / plant / f"{name}.txt"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text, encoding="utf-8")
