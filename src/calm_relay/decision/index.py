"""What the go-to box finds: pages, plans, checks, fields and cards, by words in any order."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from calm_relay.job.fields import all_fields, label_of
from calm_relay.job.models import Job
from calm_relay.job.pages import PAGES, page_of, page_spec
from calm_relay.rules.registry import Finding

MOST = 40


@dataclass(frozen=True)
class Entry:
    """One thing to go to: `kind` is page, plan, check, field or card; `target` says which."""

    kind: str
    title: str
    detail: str
    target: tuple[str, ...]

    @property
    def words(self) -> str:
        """Everything it is found by."""
        return f"{self.title} {self.detail} {self.kind}".casefold()


def entries(job: Job, chosen: str, findings: Mapping[str, Sequence[Finding]]) -> tuple[Entry, ...]:
    """Return everything that can be gone to; fields of plans only of the chosen one."""
    out = [Entry("page", spec.title, "", ("page", spec.key)) for spec in PAGES]
    out += [
        Entry("plan", f"{plan.letter}  {plan.name}" if plan.letter != "Today" else "Today's system", "", ("plan", plan.id))
        for plan in job.plans
    ]
    for f in findings.get(chosen, ()):
        out.append(Entry("check", f.title, f"{f.subject} · {f.word}", ("check", f.check, f.subject)))
    for path in all_fields(job):
        if path.startswith("plans[") and not path.startswith(f"plans[{chosen}]"):
            continue
        out.append(Entry("field", label_of(path), _where(job, path), ("field", path)))
    out += [Entry("card", card.name, card.kind.replace("_", " "), ("card", card.id)) for card in job.library]
    return tuple(out)


def search(found: Sequence[Entry], text: str) -> tuple[Entry, ...]:
    """Return entries that hold every word typed, those whose title begins with the text first."""
    wanted = text.casefold().split()
    hits = [entry for entry in found if all(word in entry.words for word in wanted)]
    start = text.casefold().strip()
    return tuple(sorted(hits, key=lambda e: (not e.title.casefold().startswith(start), start not in e.title.casefold())))[:MOST]


def _where(job: Job, path: str) -> str:
    """Return in words what a field belongs to: the names of the items on its path."""
    names = []
    known = {
        **{f"faces[{f.id}]": f.name for f in job.faces},
        **{f"house.appliances[{a.id}]": a.name for a in job.house.appliances},
        **{f"plans[{p.id}]": f"plan {p.letter}" if p.letter != "Today" else "today" for p in job.plans},
    }
    for plan in job.plans:
        for node in plan.nodes:
            known[f"plans[{plan.id}].nodes[{node.id}]"] = node.name
            for group in node.strings:
                known[f"plans[{plan.id}].nodes[{node.id}].strings[{group.id}]"] = f"string {group.id}"
    parts = [match.end() for match in re.finditer(r"\]", path)]
    for end in parts:
        name = known.get(path[:end])
        if name:
            names.append(name)
    if names:
        return ", ".join(names)
    return page_spec(page_of(path)).title
