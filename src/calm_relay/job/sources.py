"""Typing a value: the edits that put it there, and that take its 'assumed' mark away."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from calm_relay.job.edits import Edit
from calm_relay.job.models import FieldMark, Job
from calm_relay.job.template import assumed_weather

MONTHS_IN_ROW = 12
_WEATHER = ("site.weather.ghi_wh_per_m2_day", "site.weather.temperature_mean_c")


def base_path(path: str) -> str:
    """Return the path of the row that a month stands in; another path as it is."""
    return re.sub(r"\[\d+\]$", "", path)


def typed_edits(job: Job, path: str, value: Any) -> tuple[Edit, ...]:
    """Return the edits that type a value at a path.

    A latitude typed while the weather is still a guess moves the guess along.
    """
    edits = [Edit(path, value)]
    if path == "site.place.latitude_deg" and all(FieldMark(path=p, source="assumed") in job.marks for p in _WEATHER):
        guess = assumed_weather(float(value))
        edits += [Edit(_WEATHER[0], guess.ghi_wh_per_m2_day), Edit(_WEATHER[1], guess.temperature_mean_c)]
    marks = _without(job, path)
    if marks != job.marks:
        edits.append(Edit("marks", marks))
    return tuple(edits)


def typed_months(job: Job, path: str, first: int, values: Sequence[float]) -> tuple[Edit, ...]:
    """Return the edits that type several months of a row at once, from one on, counted from 0."""
    marked, edits = job, []
    for i, value in enumerate(values, start=first):
        edits.append(Edit(f"{path}[{i}]", value))
        marked = marked.model_copy(update={"marks": _without(marked, f"{path}[{i}]")})
    if marked.marks != job.marks:
        edits.append(Edit("marks", marked.marks))
    return tuple(edits)


def _without(job: Job, path: str) -> tuple[FieldMark, ...]:
    """Return the job's marks without that of a path; where one month of a marked row is typed, the other months stay marked."""
    base = base_path(path)
    out: list[FieldMark] = []
    for mark in job.marks:
        if mark.path == path or (path == base and base_path(mark.path) == base):
            continue
        if path != base and mark.path == base:
            rows = (f"{base}[{i}]" for i in range(MONTHS_IN_ROW))
            out += [FieldMark(path=row, source=mark.source) for row in rows if row != path]
        else:
            out.append(mark)
    return tuple(out)


def assumed_paths(job: Job) -> set[str]:
    """Return the paths of all that is assumed; a row of months as a whole, while one of them is."""
    return {base_path(mark.path) for mark in job.marks if mark.source == "assumed"}


def mark_edits(job: Job, path: str, source: str) -> tuple[Edit, ...]:
    """Return the edits that mark a value as 'typed', 'measured' or 'assumed'."""
    at = base_path(path)
    marks = list(_without(job, at))
    if source != "typed":
        marks.append(FieldMark.model_validate({"path": at, "source": source}))
    return (Edit("marks", tuple(marks)),)
