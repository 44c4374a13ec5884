"""Bytes of a file that someone hands in: the one place that says why there are none."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from calm_relay.errors import BadInput, Fault

Watch = Callable[[str, float], None]  # what is being done and how far, 0 to 1; raises Cancelled where it shall stop


def unwatched(_words: str, _frac: float) -> None:
    """Watch over nothing."""


def handed_in(path: Path, most_bytes: int, larger: str, remedy: str) -> bytes:
    """Return a file's bytes.

    Parameters
    ----------
    path : Path
    most_bytes : int
        Above this size the file is not read at all.
    larger, remedy : str
        What is said then, and what would be right; ``{mb:.1f}`` in `larger` stands for the file's size.

    Raises
    ------
    BadInput
        One line: there is no such file, it cannot be read, or it is far too large.
    """
    try:
        size = path.stat().st_size
        if size > most_bytes:
            raise BadInput([Fault(str(path), "", larger.format(mb=size / 1e6), remedy)])
        return path.read_bytes()
    except FileNotFoundError:
        raise BadInput([Fault(str(path), "", "there is no such file", "check the name")]) from None
    except OSError as error:
        raise BadInput([Fault(str(path), "", f"it cannot be read ({error.strerror})", "check its rights")]) from error


def first_bytes(path: Path, count: int) -> bytes | None:
    """Return the first bytes of a file, by which its kind is told; None where it cannot be read."""
    try:
        with path.open("rb") as file:
            return file.read(count)
    except OSError:
        return None


def bad(path: Path | str, where: str, problem: str, remedy: str) -> BadInput:
    """Return one fault of a handed-in file, on one line."""
    return BadInput([Fault(str(path), where, " ".join(str(problem).split())[:300], remedy)])
