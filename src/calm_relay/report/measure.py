"""What is not known of a plan, as a list of things to look up or measure, by the place where one goes for it."""

from __future__ import annotations

from collections.abc import Sequence

from calm_relay.rules.groups import group_of
from calm_relay.rules.registry import Finding

OPERATOR, SHEETS, ROOF, BOARD, WALL, BRIEF, JOB = (
    "Ask the network operator", "In data sheets and manuals, or from their makers", "On the roof",
    "At the board and along the cables", "Where the boxes stand or will stand", "From the customer", "In the job itself",
)  # fmt: skip
PLACES = (ROOF, BOARD, WALL, SHEETS, OPERATOR, BRIEF, JOB)
# Words that say where a thing is found, before the group of the check does.
_BY_WORDS = (
    ("operator", OPERATOR), ("data sheet", SHEETS), ("manual", SHEETS), ("maker", SHEETS), ("papers", SHEETS), ("the card", SHEETS),
    ("off grid", SHEETS), ("board", BOARD), ("run ", BOARD), ("breaker", BOARD), ("supply", BOARD), ("circuit", BOARD),
    ("its place", WALL), ("record low", JOB), ("design high", JOB),
)  # fmt: skip
_BY_GROUP = {
    "strings": ROOF, "array": SHEETS, "battery": SHEETS, "energy": SHEETS, "wiring": BOARD, "network": OPERATOR, "blackout": BOARD,
    "place": WALL, "money": BRIEF, "settings": SHEETS,
}  # fmt: skip


def missing_words(finding: Finding) -> str:
    """Return what a finding that is not known asks for."""
    return finding.arithmetic.removeprefix("not known: ")


def place_of(finding: Finding) -> str:
    """Return where one goes for what a finding asks for."""
    words = missing_words(finding).casefold()
    return next((place for text, place in _BY_WORDS if text in words), _BY_GROUP[group_of(finding.check)])


def to_measure(findings: Sequence[Finding]) -> dict[str, list[tuple[str, str]]]:
    """Return what is not known by place: (check's title and subject, what to look up or measure) each, each thing once."""
    out: dict[str, list[tuple[str, str]]] = {}
    for place in PLACES:
        seen: set[str] = set()
        for f in findings:
            words = missing_words(f)
            if f.verdict != "not known" or place_of(f) != place or words in seen:
                continue
            seen.add(words)
            name = f"{f.title}, {f.subject}" if f.subject else f.title
            out.setdefault(place, []).append((name, words))
    return out


def measure_text(findings: Sequence[Finding]) -> list[str]:
    """Return the list as lines to tick."""
    rows = to_measure(findings)
    if not rows:
        return ["   nothing is missing that a check asks for"]
    return [
        line for place, items in rows.items() for line in (f"   {place}", *(f"      [ ] {words} ({name})" for name, words in items))
    ]
