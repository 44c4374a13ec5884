"""Edits as data: a path into the job and a value. Remedies, the window and the command line all change a job this way.

A path names list items by id: ``plans[hybrid].nodes[inv].strings[ne].modules_per_string``. ``library[+]`` adds a card
unless one of its id is there, ``controls.slots[+]`` a slot.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from pydantic import BaseModel

from calm_relay.cache import Last
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import validate_job
from calm_relay.job.models import Job

_STEP = re.compile(r"([a-z_0-9]+)((?:\[[^\]]+\])*)")


@dataclass(frozen=True)
class Edit:
    """One value put at one path."""

    path: str
    value: Any

    def as_dict(self) -> dict[str, Any]:
        """Return the edit as plain data."""
        return {"path": self.path, "value": self.value}


@lru_cache(maxsize=4096)
def _steps(path: str) -> tuple[tuple[str, bool], ...]:
    out: list[tuple[str, bool]] = []
    for part in re.split(r"\.(?![^\[]*\])", path):
        match = _STEP.fullmatch(part)
        if not match:
            raise BadInput([Fault("", path, "this is no path", "write it like 'faces[north].tilt_deg'")])
        out.append((match.group(1), False))
        out += [(name, True) for name in re.findall(r"\[([^\]]+)\]", match.group(2))]
    return tuple(out)


def _find(rows: list[Any], name: str, path: str) -> int:
    for index, row in enumerate(rows):
        if isinstance(row, dict) and row.get("id") == name:
            return index
    if name.isdigit() and int(name) < len(rows):
        return int(name)
    raise BadInput([Fault("", path, f"there is no '{name}'", "name an item that is there")])


def apply_edits(job: Job, edits: Iterable[Edit]) -> Job:
    """Return the job with all edits applied, validated as a whole; raises BadInput and changes nothing on a fault.

    Parts of the job that no edit names stay the very same.
    """
    edits = list(edits)
    touched = {_steps(edit.path)[0][0] for edit in edits}
    data = {name: _plain(getattr(job, name)) if name in touched else _kept_plain(job, name) for name in _PLAIN}
    for edit in edits:
        steps = _steps(edit.path)
        here: Any = data
        for name, in_list in steps[:-1]:
            here = here[_find(here, name, edit.path)] if in_list else _field(here, name, edit.path)
        name, in_list = steps[-1]
        if in_list and name == "+":
            own = edit.value.get("id")
            if own is None or not any(isinstance(row, dict) and row.get("id") == own for row in here):
                here.append(_plain(edit.value))
        elif in_list:
            here[_find(here, name, edit.path)] = _plain(edit.value)
        else:
            _field(here, name, edit.path)
            here[name] = _plain(edit.value)
    return validate_job(data, "", {name: getattr(job, name) for name in data if name not in touched})


_PLAIN: dict[str, Last[Any]] = {name: Last() for name in Job.model_fields}  # parts of the job that was edited last


def _kept_plain(job: Job, name: str) -> Any:
    part = getattr(job, name)
    return _PLAIN[name].get((part,), lambda: _plain(part))


def read_path(job: Job, path: str) -> Any:
    """Return the value at a path; raises BadInput."""
    here: Any = job
    for name, in_list in _steps(path):
        if in_list:
            here = here[_index(here, name, path)]
        elif isinstance(here, BaseModel) and name in type(here).model_fields:
            here = getattr(here, name)
        else:
            raise BadInput([Fault("", path, f"there is no field '{name}' there", "check the path")])
    return _plain(here)


def _index(rows: Any, name: str, path: str) -> int:
    for index, row in enumerate(rows):
        if getattr(row, "id", None) == name:
            return index
    if name.isdigit() and int(name) < len(rows):
        return int(name)
    raise BadInput([Fault("", path, f"there is no '{name}'", "name an item that is there")])


def _field(here: Any, name: str, path: str) -> Any:
    if not isinstance(here, dict) or name not in here:
        raise BadInput([Fault("", path, f"there is no field '{name}' there", "check the path")])
    return here[name]


def _plain(value: Any) -> Any:
    """Return tuples as lists and records as dicts, all new."""
    if hasattr(value, "model_dump"):
        value = value.model_dump()
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    return value
