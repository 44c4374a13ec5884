"""The one history of a document: snapshots with names, undo and redo. Edits are validated before they are recorded."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from calm_relay.job.container import validate_job
from calm_relay.job.models import Job, LogEntry

Change = Callable[[Job], Job]


def _shared(old: Job, new: Job) -> Job:
    """Return `new` with every branch that is equal to the old one's in its place, so that a long history holds each but once."""
    same: dict[str, Any] = {}
    for name in type(new).model_fields:
        before, after = getattr(old, name), getattr(new, name)
        if before is after:
            continue
        if before == after:
            same[name] = before
        elif isinstance(after, tuple) and isinstance(before, tuple):
            known = {getattr(item, "id", i): item for i, item in enumerate(before)}
            rows = tuple(
                known[key] if (key := getattr(item, "id", i)) in known and known[key] == item else item
                for i, item in enumerate(after)
            )
            same[name] = rows
    return new.model_copy(update=same) if same else new


@dataclass(frozen=True)
class Snapshot:
    """One state of the document and the name of the edit that led to it."""

    job: Job
    label: str


class Document:
    """The open job with its history.

    The log is append-only and outside undo: :meth:`append_log` writes it into every snapshot. `forgotten` counts the oldest edits
    that are past the limit and cannot be undone any more.
    """

    def __init__(self, job: Job, *, limit: int = 2000) -> None:
        self._snapshots = [Snapshot(job, "")]
        self._index = 0
        self._saved: Job | None = job
        self._limit = limit
        self.forgotten = 0
        self._merge_key: str | None = None
        self._observers: list[Callable[[], None]] = []

    @property
    def job(self) -> Job:
        """The present state."""
        return self._snapshots[self._index].job

    def __len__(self) -> int:
        """How many states are kept."""
        return len(self._snapshots)

    @property
    def dirty(self) -> bool:
        """Whether the present state differs from the last saved one."""
        return self.job != self._saved

    @property
    def undo_label(self) -> str | None:
        """Name of the edit that :meth:`undo` takes back, or None."""
        return self._snapshots[self._index].label if self._index else None

    @property
    def redo_label(self) -> str | None:
        """Name of the edit that :meth:`redo` brings back, or None."""
        following = self._index + 1
        return self._snapshots[following].label if following < len(self._snapshots) else None

    def observe(self, callback: Callable[[], None]) -> Callable[[], None]:
        """Call `callback` after each change; returns the function that stops it."""
        self._observers.append(callback)

        def stop() -> None:
            if callback in self._observers:
                self._observers.remove(callback)

        return stop

    def edit(self, label: str, change: Change, *, merge: str | None = None, validated: bool = False) -> bool:
        """Apply `change` and record it as `label`; returns False when nothing differs.

        Edits with the same `merge` key that follow each other become one entry, until :meth:`end_merge`. `validated` says
        that `change` itself returns a validated job, as :func:`calm_relay.rules.edits.apply_edits` does.

        Raises
        ------
        BadInput
            When the changed job is not valid; the document is then as it was.
        """
        job = change(self.job)
        if not validated:
            job = validate_job(job.model_dump(), "")
        if job == self.job:
            return False
        job = _shared(self.job, job)
        del self._snapshots[self._index + 1 :]
        if merge is not None and merge == self._merge_key and self._index:
            self._snapshots[self._index] = Snapshot(job, label)
        else:
            self._snapshots.append(Snapshot(job, label))
            self._index += 1
        if len(self._snapshots) > self._limit:
            del self._snapshots[0]
            self._index -= 1
            self.forgotten += 1
        self._merge_key = merge
        self._tell()
        return True

    def append_log(self, entry: LogEntry) -> None:
        """Add a line to the log of every snapshot, so that no undo takes it out."""
        self._snapshots = [
            Snapshot(kept.job.model_copy(update={"log": (*kept.job.log, entry)}), kept.label) for kept in self._snapshots
        ]
        self._tell()

    def end_merge(self) -> None:
        """Make the next edit an entry of its own."""
        self._merge_key = None

    def undo(self) -> str | None:
        """Go one entry back; returns its name, or None at the start."""
        label = self.undo_label
        if label is not None:
            self._index -= 1
            self._merge_key = None
            self._tell()
        return label

    def redo(self) -> str | None:
        """Go one entry forward; returns its name, or None at the end."""
        label = self.redo_label
        if label is not None:
            self._index += 1
            self._merge_key = None
            self._tell()
        return label

    def mark_saved(self, job: Job) -> None:
        """Remember `job` as what the file holds."""
        self._saved = job
        self._tell()

    def _tell(self) -> None:
        for callback in tuple(self._observers):
            callback()
