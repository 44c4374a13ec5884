"""Every check of the registry as a table: id, title, what is held against what, source. docs/checks.md holds it."""

from __future__ import annotations

import inspect

from calm_relay.rules.runner import all_checks

HEAD = "| id | check | what is held against what | source |\n|---|---|---|---|"


def check_rows() -> list[tuple[str, str, str, str]]:
    """Return id, title, what it holds against what, and source of every check, by id."""
    out = []
    for entry in sorted(all_checks(), key=lambda entry: entry.id):
        words = (inspect.getdoc(entry.run) or "").split("\n\n")[0].replace("\n", " ").strip()
        out.append((entry.id, entry.title, words.rstrip("."), entry.source))
    return out


def check_table() -> str:
    """Return the table in Markdown."""
    rows = (f"| `{check_id}` | {title} | {words} | {source} |" for check_id, title, words, source in check_rows())
    return "\n".join([HEAD, *rows])
