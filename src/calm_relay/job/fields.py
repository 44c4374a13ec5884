"""What the document's models say of a field: its label, kind of quantity, bounds, choices. Fields, go-to and tables agree."""

from __future__ import annotations

import re
import types
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo as ModelField

from calm_relay.cache import Last
from calm_relay.errors import BadInput, Fault
from calm_relay.job.field_words import CHOICES, CHOICES_AT, LABELS
from calm_relay.job.models import Job
from calm_relay.units import Quantity

UNMARKED = ("name", "calendar_year")  # what is never assumed


@dataclass(frozen=True)
class FieldInfo:
    """What is known of one field. `least`, `most` are in core units, None: no bound; `choices` are (value, words)."""

    path: str
    label: str
    kind: str | None
    optional: bool
    integer: bool
    least: float | None
    most: float | None
    choices: tuple[tuple[str, str], ...]


@lru_cache(maxsize=8192)
def pattern_of(path: str) -> str:
    """Return a path with its ids and numbers taken out: ``faces[north].tilt_deg`` → ``faces[].tilt_deg``."""
    return re.sub(r"\[[^\]]*\](?!\[)", "[]", re.sub(r"\[\d+\]$", "", path))


def label_of(path: str) -> str:
    """Return a field's label; the last part of the path where it has none."""
    pattern = pattern_of(path)
    return LABELS.get(pattern, pattern.rpartition(".")[2].replace("_", " "))


def describe(job: Job, path: str) -> FieldInfo:
    """Return what the models say of the field at a path of this job.

    Raises
    ------
    BadInput
        When there is no such field in this job.
    """
    here: Any = job
    annotation: Any = Job
    metadata: list[Any] = []
    for name, index in _steps(path):
        if isinstance(here, BaseModel):
            model = type(here).model_fields.get(name)
            if model is None:
                raise BadInput([Fault("", path, f"there is no field '{name}'", "name a field that is there")])
            annotation, metadata = model.annotation, list(model.metadata)
            here = getattr(here, name)
        if index is not None:
            here = _item(here, index, path)
            annotation, metadata = _inner(annotation), []
    return _read(path, annotation, metadata)


def _steps(path: str) -> list[tuple[str, str | None]]:
    out: list[tuple[str, str | None]] = []
    for part in re.split(r"\.(?![^\[]*\])", path):
        name, *indices = re.split(r"[\[\]]+", part.rstrip("]"))
        out.append((name, indices[0] if indices else None))
    return out


def _item(rows: Any, index: str, path: str) -> Any:
    for row in rows:
        if getattr(row, "id", None) == index:
            return row
    if index.isdigit() and int(index) < len(rows):
        return rows[int(index)]
    raise BadInput([Fault("", path, f"there is no '{index}'", "name an item that is there")])


def _inner(annotation: Any) -> Any:
    """Return what a tuple holds."""
    for part in (annotation, *get_args(annotation)):
        if get_origin(part) is Annotated:
            part = get_args(part)[0]
        if get_origin(part) is tuple:
            return get_args(part)[0]
    return annotation


def _read(path: str, annotation: Any, metadata: list[Any]) -> FieldInfo:
    optional = False
    kinds: list[Any] = list(metadata)
    base = annotation
    if get_origin(base) in (Union, types.UnionType):
        parts = [part for part in get_args(base) if part is not type(None)]
        optional = len(parts) < len(get_args(base))
        base = parts[0]
    while get_origin(base) is Annotated:
        kinds += base.__metadata__
        base = get_args(base)[0]
    if get_origin(base) is tuple:  # a row of twelve: its items say what they are
        return _read(path, get_args(base)[0], [])
    least = most = None
    kind = None
    for item in kinds:
        parts = item.metadata if isinstance(item, ModelField) else [item]
        for part in parts:
            kind = part.kind if isinstance(part, Quantity) else kind
            least = _bound(part, ("ge", "gt"), least)
            most = _bound(part, ("le", "lt"), most)
    words = CHOICES | next((more for end, more in CHOICES_AT.items() if path.endswith(end)), {})
    choices = tuple((str(c), words.get(str(c), str(c))) for c in get_args(base)) if get_origin(base) is Literal else ()
    return FieldInfo(
        path=path, label=label_of(path), kind=kind, optional=optional, integer=base is int, least=least, most=most, choices=choices
    )


def _bound(part: Any, names: tuple[str, str], found: float | None) -> float | None:
    for name in names:
        value = getattr(part, name, None)
        if isinstance(value, int | float):
            return float(value)
    return found


def all_fields(job: Job) -> tuple[str, ...]:
    """Return the path of every field of the job that has a label, in the document's order."""
    out: list[str] = []
    for name, last in _PARTS.items():
        part = getattr(job, name)
        out += last.get((part,), partial(_all_labelled, part, name))
    return tuple(out)


# The window asks several times for each state of a job, and an edit leaves most parts of it as they were.
_PARTS: dict[str, Last[tuple[str, ...]]] = {name: Last() for name in Job.model_fields}


def _all_labelled(here: Any, path: str) -> tuple[str, ...]:
    return tuple(_labelled(here, path))


def _labelled(here: Any, path: str) -> Iterator[str]:
    """Return the paths of what has a label in one part of the job."""
    if isinstance(here, BaseModel):
        for name in type(here).model_fields:
            yield from _labelled(getattr(here, name), f"{path}.{name}")
    elif isinstance(here, tuple) and here and isinstance(here[0], BaseModel):
        for i, item in enumerate(here):
            yield from _labelled(item, f"{path}[{getattr(item, 'id', i)}]")
    elif pattern_of(path) in LABELS:
        yield path
