"""Typing a value: the edits that put it there, and that take its 'assumed' mark away."""

from __future__ import annotations

import re
from typing import Any

from calm_relay.job.edits import Edit
from calm_relay.job.models import FieldMark, Job
from calm_relay.job.template import assumed_weather

_WEATHER = ("site.weather.ghi_wh_per_m2_day", "site.weather.temperature_mean_c")


def base_path(path: str) -> str:
    """Return the path a mark stands at: a row of twelve is marked as a whole."""
    return re.sub(r"\[\d+\]$", "", path)


def typed_edits(job: Job, path: str, value: Any) -> tuple[Edit, ...]:
    """Return the edits that type a value at a path.

    A latitude typed while the weather is still a guess moves the guess along.
    """
    edits = [Edit(path, value)]
    if path == "site.place.latitude_deg" and all(job.mark_of(p) == "assumed" for p in _WEATHER):
        guess = assumed_weather(float(value))
        edits += [Edit(_WEATHER[0], guess.ghi_wh_per_m2_day), Edit(_WEATHER[1], guess.temperature_mean_c)]
    marks = tuple(mark for mark in job.marks if mark.path != base_path(path))
    if len(marks) != len(job.marks):
        edits.append(Edit("marks", marks))
    return tuple(edits)


def mark_edits(job: Job, path: str, source: str) -> tuple[Edit, ...]:
    """Return the edits that mark a value as 'typed', 'measured' or 'assumed'."""
    at = base_path(path)
    marks = [mark for mark in job.marks if mark.path != at]
    if source != "typed":
        marks.append(FieldMark.model_validate({"path": at, "source": source}))
    return (Edit("marks", tuple(marks)),)
