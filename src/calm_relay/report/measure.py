"""What is not known of a plan, as a list of things to look up or measure on site, by the page that answers for it."""

from __future__ import annotations

from collections.abc import Sequence

from calm_relay.job.pages import PAGES
from calm_relay.rules.registry import Finding


def to_measure(findings: Sequence[Finding]) -> dict[str, list[tuple[str, str]]]:
    """Return what is not known by page title: (check's title and subject, what to look up) each, each thing once."""
    out: dict[str, list[tuple[str, str]]] = {}
    for spec in PAGES:
        seen: set[str] = set()
        for f in findings:
            words = f.arithmetic.removeprefix("not known: ")
            if f.verdict != "not known" or f.page != spec.key or words in seen:
                continue
            seen.add(words)
            name = f"{f.title}, {f.subject}" if f.subject else f.title
            out.setdefault(spec.title, []).append((name, words))
    return out


def measure_text(findings: Sequence[Finding]) -> list[str]:
    """Return the list as lines to tick."""
    rows = to_measure(findings)
    if not rows:
        return ["   nothing is missing that a check asks for"]
    return [
        line for page, items in rows.items() for line in (f"   {page}", *(f"      [ ] {words} ({name})" for name, words in items))
    ]
