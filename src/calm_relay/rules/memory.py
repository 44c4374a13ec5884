"""What each check read when it was run, and found: it is run again only where something that it read is another.

An edit leaves most of a job as it was (`job.edits`), and most checks read little of it: after an edit of a price, those of strings
and wires stand as they are. Parts of the job are told apart at its top level, what else a check may read by the context's fields.
"""

from __future__ import annotations

import functools
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import fields
from typing import Any, cast

from calm_relay.job.models import Job
from calm_relay.rules.registry import Check, CheckContext, Finding
from calm_relay.units import SCALES

ALL = "*"  # in place of a part: the whole job
_PARTS = frozenset(Job.model_fields)
_FIELDS = frozenset(field.name for field in fields(CheckContext))
_BY_IDENTITY = (ALL, "facts")  # large: another one counts as changed
_MOST_PLANS = 16
_MOST_STATES = 3  # of a check and plan that are kept: with the year's facts and without, before an edit and after it
_Read = tuple[bool, str]  # whether of the job, and which part or field


class _WatchedJob:
    """A job that notes which of its parts are read, by its own methods too."""

    def __init__(self, job: Job, reads: set[_Read]) -> None:
        self._job, self._reads = job, reads

    __class__ = Job  # type: ignore[assignment] # for whoever asks what it is

    def __getattr__(self, name: str) -> Any:
        if name in _PARTS:
            self._reads.add((True, name))
            return getattr(self._job, name)
        method = vars(Job).get(name)
        if callable(method):
            return functools.partial(method, self)
        self._reads.add((True, ALL))
        return getattr(self._job, name)


class _WatchedContext(CheckContext):
    """A context that notes what is read of it."""

    def __getattribute__(self, name: str) -> Any:
        if name in _FIELDS or name in ("pack", "offered", "plant"):
            mine = object.__getattribute__(self, "__dict__")
            reads, whole = mine.get("_reads"), mine.get("_whole")
            if name in _FIELDS or name == "plant":
                if reads is not None and name != "job":  # a job notes what is read of it itself
                    reads.add((False, name))
                if name == "plant" and whole is not None:  # resolved once, of what is no proxy
                    return whole.context.plant
            elif whole is not None:
                value, read = whole.shared(name)
                reads |= read
                return value
        return object.__getattribute__(self, name)


class _Whole:
    """A context that checks are run on one after the other, with what they share, and what of it is as it was."""

    def __init__(self, context: CheckContext) -> None:
        self.context = context
        self._shared: dict[str, tuple[object, set[_Read]]] = {}
        self._like: dict[tuple[int, int], bool] = {}

    def watched(self, reads: set[_Read], *, whole: bool = True) -> CheckContext:
        """Return the context, noting in `reads` what is read of it."""
        c = self.context
        values = {name: getattr(c, name) for name in _FIELDS}
        values["job"] = cast("Job", _WatchedJob(c.job, reads))
        made = _WatchedContext(**values)
        vars(made).update(_reads=reads, _whole=self if whole else None)
        return made

    def shared(self, name: str) -> tuple[Any, set[_Read]]:
        """Return the pack in force or the cards on offer, worked out once, and what they rest on."""
        if name not in self._shared:
            reads: set[_Read] = set()
            self._shared[name] = getattr(self.watched(reads, whole=False), name), reads
        return self._shared[name]

    def now(self, read: _Read) -> object:
        """Return what stands at a place that was read."""
        of_job, name = read
        if not of_job:
            return getattr(self.context, name)
        return self.context.job if name == ALL else getattr(self.context.job, name)

    def is_like(self, read: _Read, before: object) -> bool:
        """Return whether the same stands there as before."""
        now = self.now(read)
        if now is before:
            return True
        if read[1] in _BY_IDENTITY:
            return False
        pair = id(before), id(now)
        if pair not in self._like:
            self._like[pair] = now == before
        return self._like[pair]


class _State:
    """What a check found, and all that it read: the answer as long as that stands."""

    def __init__(self, run: Callable[..., object], whole: _Whole, reads: set[_Read], found: tuple[Finding, ...]) -> None:
        self.run, self.found = run, found
        self._read = [(read, whole.now(read)) for read in sorted(reads, reverse=True)]

    def holds(self, run: Callable[..., object], whole: _Whole) -> bool:
        """Return whether the check would find the same now."""
        return self.run is run and all(whole.is_like(read, before) for read, before in self._read)


class Memory:
    """States of checks by plan, in one system of units; the plans looked at last only."""

    def __init__(self) -> None:
        self._units = dict(SCALES)
        self._kept: OrderedDict[str, dict[str, list[_State]]] = OrderedDict()
        self._lock = threading.Lock()

    def begin(self, context: CheckContext) -> Callable[[Check], tuple[Finding, ...]]:
        """Return what runs a check on a context, or remembers what it found; raises what the check raises."""
        with self._lock:
            if self._units != SCALES:  # texts are made in units
                self._units = dict(SCALES)
                self._kept.clear()
            mine = self._kept.setdefault(context.plan.id, {})
            self._kept.move_to_end(context.plan.id)
            while len(self._kept) > _MOST_PLANS:
                self._kept.popitem(last=False)
        whole = _Whole(context)

        def run(entry: Check) -> tuple[Finding, ...]:
            states = mine.get(entry.id, [])
            for state in states:
                if state.holds(entry.run, whole):
                    return state.found
            reads: set[_Read] = set()
            found = tuple(entry.run(whole.watched(reads)))
            mine[entry.id] = [_State(entry.run, whole, reads, found), *states[: _MOST_STATES - 1]]
            return found

        return run
