"""The work order's marks: how far each page has come, in one of four states, each with its reason in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from calm_relay.job.fields import all_fields, label_of
from calm_relay.job.models import Job
from calm_relay.rules.registry import Finding

State = Literal["untouched", "assumed", "complete", "over"]
PAGES: tuple[tuple[str, str], ...] = (
    ("brief", "Brief"), ("site", "Site & roof"), ("house", "House"), ("tariff", "Tariff & network"),
    ("plans", "Plans"), ("year", "Year"), ("decide", "Decide"),
)  # fmt: skip
# Which fields belong to a page, and whose checks it answers for.
FIELDS: dict[str, tuple[str, ...]] = {
    "brief": ("brief",),
    "site": ("site.place", "site.weather", "site.record_low", "site.design_high", "faces"),
    "house": ("house",),
    "tariff": ("site.supply", "site.export", "site.import", "site.network", "tariff"),
}
CHECKS: dict[str, tuple[str, ...]] = {
    "site": ("string.", "tracker.", "array."),
    "house": (),
    "tariff": ("network.",),
    "plans": ("battery.", "backup."),
}


@dataclass(frozen=True)
class PageMark:
    """A page's state and why."""

    page: str
    title: str
    state: State
    why: str


def work_order(job: Job, findings: Mapping[str, Sequence[Finding]]) -> tuple[PageMark, ...]:
    """Return a mark for every page that exists; `findings` are by plan id, of the plans computed so far."""
    assumed = {mark.path for mark in job.marks if mark.source == "assumed"}
    fields = all_fields(job)
    out = []
    for page, title in PAGES:
        mine = [path for path in fields if path.startswith(FIELDS.get(page, ("-",)))]
        guessed = [path for path in mine if path in assumed]
        missing = [path for path in ("site.record_low_c", "site.design_high_c") if page == "site" and _value(job, path) is None]
        over = [
            (plan.letter, f.title)
            for plan in job.plans[1:]
            for f in findings.get(plan.id, ())
            if f.verdict == "over" and not f.waived and f.check.startswith(CHECKS.get(page, ("-",)))
        ]
        if page in ("year", "decide"):
            candidates = len(job.plans) > 1 if page == "decide" else any(plan.nodes for plan in job.plans)
            known = [f for plan in job.plans for f in findings.get(plan.id, ())]
            gated = page == "decide" and all(
                any(f.verdict == "over" and not f.waived for f in findings.get(plan.id, ())) for plan in job.plans[1:]
            )
            if not candidates:
                out.append(
                    PageMark(page, title, "untouched", "there is nothing to compare yet" if page == "decide" else "no inverter yet")
                )
            elif gated and known:
                out.append(PageMark(page, title, "over", "every plan's gate is closed"))
            elif assumed:
                out.append(PageMark(page, title, "assumed", f"rests on {len(assumed)} assumed values"))
            else:
                out.append(PageMark(page, title, "complete", ""))
        elif over:
            letter, text = over[0]
            more = f", and {len(over) - 1} more" if len(over) > 1 else ""
            out.append(PageMark(page, title, "over", f"plan {letter}: {text} is over{more}"))
        elif mine and len(guessed) == len(mine):
            out.append(PageMark(page, title, "untouched", "everything here is assumed"))
        elif guessed or missing:
            names = ", ".join(dict.fromkeys(label_of(path) for path in (*missing, *guessed)))
            out.append(PageMark(page, title, "assumed", f"assumed or not known: {names}"))
        else:
            out.append(PageMark(page, title, "complete", ""))
    return tuple(out)


def _value(job: Job, path: str) -> object:
    here: object = job
    for name in path.split("."):
        here = getattr(here, name)
    return here
