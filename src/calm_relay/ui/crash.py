"""When something unforeseen goes wrong: the job is kept, the fault is logged, and the window says so and goes on."""

from __future__ import annotations

import logging
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

import platformdirs

from calm_relay.errors import CalmRelayError

log = logging.getLogger(__name__)
Hook = Callable[[type[BaseException], BaseException, TracebackType | None], None]


def log_path() -> Path:
    """Return the log file (``XDG_STATE_HOME``)."""
    return Path(platformdirs.user_state_dir("calm-relay")) / "log.txt"


def write_log(text: str) -> Path | None:
    """Append to the log; returns where, or None where it cannot be written."""
    path = log_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("a", encoding="utf-8") as out:
            out.write(text + "\n")
    except OSError:
        return None
    return path


def install(keep: Callable[[], bool], say: Callable[[str, str], None]) -> Hook:
    """Catch what nobody caught: keep the job with `keep`, log, and tell with `say`; returns the hook put in place."""
    telling = False

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        nonlocal telling
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        if issubclass(kind, CalmRelayError):  # a fault of what was asked for, not of the program
            say("That did not work", str(error))
            return
        text = "".join(traceback.format_exception(kind, error, trace))
        log.error("%s", text)
        where = write_log(text)
        kept = keep()
        if telling:  # one dialog at a time: a fault while painting would come again and again
            return
        telling = True
        try:
            words = (
                "Your work is kept and can be taken up again, even if the program ends."
                if kept
                else "Save your work under another name now."
            )
            logged = f" The log is in {where}." if where else ""
            say("Something went wrong", f"{kind.__name__}: {error}\n\n{words}{logged}")
        finally:
            telling = False

    sys.excepthook = hook
    return hook
