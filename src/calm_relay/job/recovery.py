"""Recovery after a crash or a kill: each edit is kept beside the job, and found again when its owner is gone.

One entry is ``<id>.json`` with the job, and ``<id>.lock`` that its window holds locked while it lives. Series are kept once,
by content, in ``series/``.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import time
import uuid
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import IO, Any

import platformdirs

from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, validate_job, write_atomically
from calm_relay.job.migrations import migrate
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore, read_csv_column, write_csv_gz


def recovery_folder() -> Path:
    """Return where recoverable work is kept (``XDG_STATE_HOME``)."""
    return Path(platformdirs.user_state_dir("calm-relay")) / "recovery"


@dataclass(frozen=True)
class Found:
    """Work whose window is gone: the job, the file it belongs to (None: never saved), and when it was last edited."""

    id: str
    opened: OpenedJob
    path: Path | None
    edited: float

    @property
    def when(self) -> str:
        """When it was last edited, in words."""
        return datetime.fromtimestamp(self.edited).strftime("%d %b %H:%M")


class Recovery:
    """Keeps one window's work. A folder that cannot be written is done without: recovery must never stop an edit."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or recovery_folder()
        self.id = uuid.uuid4().hex[:12]
        self._lock: IO[str] | None = None

    def keep(self, job: Job, store: SeriesStore, path: Path | None, stamp: tuple[int, int] | None = None) -> bool:
        """Write the present state; returns whether it could be. `stamp` is the file's as it was read or saved last."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._hold()
            for ref in job.series_refs().values():
                target = self.folder / "series" / f"{ref.sha256}.csv.gz"
                if ref.sha256 and ref.sha256 in store and not target.exists():
                    target.parent.mkdir(exist_ok=True)
                    write_atomically(target, write_csv_gz(store.get(ref.sha256), ref.column))
            entry = {
                "path": None if path is None else str(path.absolute()),
                "stamp": stamp,
                "edited": time.time(),
                "job": job.model_dump(mode="json"),
            }
            write_atomically(self.folder / f"{self.id}.json", json.dumps(entry).encode())
        except OSError:
            return False
        return True

    def _hold(self) -> None:
        if self._lock is None:
            self._lock = (self.folder / f"{self.id}.lock").open("w")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def release(self) -> None:
        """Let go of the entry, as a window does that is gone; what was kept stays."""
        if self._lock is not None:
            self._lock.close()
            self._lock = None

    def drop(self) -> None:
        """Forget the work: it was saved, or left on purpose."""
        _remove(self.folder, self.id)
        self.release()


def find_recoverable(folder: Path | None = None) -> tuple[Found, ...]:
    """Return work whose window is gone, newest first; entries that cannot be read are left where they are."""
    place = folder or recovery_folder()
    out = []
    for file in place.glob("*.json"):
        if _alive(place, file.stem):
            continue
        with contextlib.suppress(OSError, ValueError, KeyError, TypeError, BadInput):
            out.append(_read(place, file))
    return tuple(sorted(out, key=lambda found: -found.edited))


def forget(found_id: str, folder: Path | None = None) -> None:
    """Remove an entry that was taken up or refused."""
    _remove(folder or recovery_folder(), found_id)


def _read(place: Path, file: Path) -> Found:
    entry: dict[str, Any] = json.loads(file.read_text(encoding="utf-8"))
    data, came_in = migrate(entry["job"], str(file))
    job = validate_job(data, str(file))
    store = SeriesStore()
    for field, ref in job.series_refs().items():
        name = f"{ref.sha256}.csv.gz"
        store.put(read_csv_column((place / "series" / name).read_bytes(), ref, name, field))
    path = None if entry["path"] is None else Path(entry["path"])
    stamp = entry.get("stamp")
    opened = OpenedJob(job, store, came_in, None if stamp is None else (int(stamp[0]), int(stamp[1])))
    return Found(file.stem, opened, path, float(entry["edited"]))


def unsaved_of(path: Path, folder: Path | None = None) -> Found | None:
    """Return the newest unsaved work of a job file whose window is gone; None where there is none."""
    there = path.absolute()
    return next((found for found in find_recoverable(folder) if found.path is not None and found.path.absolute() == there), None)


def _alive(place: Path, found_id: str) -> bool:
    try:
        with (place / f"{found_id}.lock").open("r+") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False


def _remove(place: Path, found_id: str) -> None:
    for suffix in (".json", ".lock"):
        with contextlib.suppress(OSError):
            os.unlink(place / f"{found_id}{suffix}")  # noqa: PTH108 - missing_ok would hide nothing more
