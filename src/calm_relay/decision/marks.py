"""The work order's marks: how far each page has come, in one of four states, each with its reason in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from calm_relay.cache import Last
from calm_relay.job.brief_models import Brief
from calm_relay.job.fields import UNMARKED, all_fields, label_of
from calm_relay.job.models import Job
from calm_relay.job.pages import PAGES, PageSpec
from calm_relay.job.sources import assumed_paths
from calm_relay.job.template import FIRST_BRIEF
from calm_relay.rules.registry import Finding

State = Literal["untouched", "assumed", "complete", "over"]


@dataclass(frozen=True)
class PageMark:
    """A page's state and why."""

    page: str
    title: str
    state: State
    why: str


def work_order(job: Job, findings: Mapping[str, Sequence[Finding]]) -> tuple[PageMark, ...]:
    """Return a mark for every page; `findings` are by plan id, of the plans computed so far."""
    assumed = _ASSUMED.get((job,), lambda: assumed_paths(job))
    fields = _by_page(all_fields(job))
    return tuple(
        _plans_mark(spec, job, findings, assumed)
        if spec.about_plans
        else _field_mark(spec, job, findings, assumed, fields[spec.key])
        for spec in PAGES
    )


@lru_cache(maxsize=2)  # most edits leave the job the same fields
def _by_page(every: tuple[str, ...]) -> dict[str, list[str]]:
    """Return by page those of its fields that may be marked."""
    marked = [path for path in every if path not in UNMARKED]
    return {spec.key: [path for path in marked if spec.paths and path.startswith(spec.paths)] for spec in PAGES}


_ASSUMED: Last[set[str]] = Last()


def _field_mark(
    spec: PageSpec, job: Job, findings: Mapping[str, Sequence[Finding]], assumed: set[str], mine: Sequence[str]
) -> PageMark:
    """Return the mark of a page that has fields: what is over among its checks, else what is assumed or not known."""
    guessed = [path for path in mine if path in assumed]
    missing = [path for path in spec.wanted if _value(job, path) is None]
    over = [
        (plan.letter, f.title)
        for plan in job.plans[1:]
        for f in findings.get(plan.id, ())
        if f.verdict == "over" and not f.waived and f.page == spec.key
    ]
    if over:
        letter, text = over[0]
        more = f", and {len(over) - 1} more" if len(over) > 1 else ""
        return PageMark(spec.key, spec.title, "over", f"plan {letter}: {text} is over{more}")
    if spec.key == "brief" and job.brief in (Brief(), FIRST_BRIEF):
        return PageMark(spec.key, spec.title, "untouched", "nothing is said yet of what the customer wants")
    if spec.key == "plans" and len(job.plans) < 2:
        return PageMark(spec.key, spec.title, "untouched", "there is no candidate plan yet")
    if mine and len(guessed) == len(mine):
        return PageMark(spec.key, spec.title, "untouched", "everything here is assumed")
    if guessed or missing:
        names = ", ".join(dict.fromkeys(label_of(path) for path in (*missing, *guessed)))
        return PageMark(spec.key, spec.title, "assumed", f"assumed or not known: {names}")
    return PageMark(spec.key, spec.title, "complete", "")


def _plans_mark(spec: PageSpec, job: Job, findings: Mapping[str, Sequence[Finding]], assumed: set[str]) -> PageMark:
    """Return the mark of a page that shows results of the plans: Year needs an inverter, Decide a candidate."""
    if spec.key == "decide" and len(job.plans) < 2:
        return PageMark(spec.key, spec.title, "untouched", "there is nothing to compare yet")
    if spec.key != "decide" and not any(plan.nodes for plan in job.plans):
        return PageMark(spec.key, spec.title, "untouched", "no inverter yet")
    known = any(findings.get(plan.id) for plan in job.plans)
    closed = all(any(f.verdict == "over" and not f.waived for f in findings.get(plan.id, ())) for plan in job.plans[1:])
    if spec.key == "decide" and closed and known:
        return PageMark(spec.key, spec.title, "over", "every plan's gate is closed")
    if assumed:
        return PageMark(spec.key, spec.title, "assumed", f"rests on {len(assumed)} assumed values")
    return PageMark(spec.key, spec.title, "complete", "")


def _value(job: Job, path: str) -> object:
    here: object = job
    for name in path.split("."):
        here = getattr(here, name)
    return here
