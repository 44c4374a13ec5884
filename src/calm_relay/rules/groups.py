"""Groups of checks, as someone of the trade would sort them: what a list is filtered by."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from calm_relay.rules.registry import Finding

# key → (name, first parts of the ids)
GROUPS: dict[str, tuple[str, tuple[str, ...]]] = {
    "strings": ("Strings and roof", ("string", "tracker", "roof", "optimizer", "module-inverter")),
    "array": ("Array to inverter", ("array",)),
    "battery": ("Battery and inverter", ("battery", "inverter")),
    "energy": ("Energy through the year", ("energy", "car")),
    "wiring": ("Service and wiring", ("service", "cable")),
    "network": ("Network operator", ("network",)),
    "blackout": ("Blackout", ("backup", "generator", "island", "transfer")),
    "place": ("Places and protection", ("place",)),
    "money": ("Money and brief", ("money", "brief")),
    "settings": ("Settings", ("settings",)),
}
_OF = {part: key for key, (_, parts) in GROUPS.items() for part in parts}


def group_of(check_id: str) -> str:
    """Return the key of a check's group; raises KeyError for an id of none."""
    return _OF[check_id.partition(".")[0]]


def filtered(findings: Iterable[Finding], group: str = "", verdict: str = "", words: str = "") -> tuple[Finding, ...]:
    """Return the findings of a group, a verdict and with these words in title, subject or arithmetic; empty: all."""
    asked = words.casefold().split()
    out = []
    for f in findings:
        text = f"{f.title} {f.subject} {f.arithmetic} {f.check}".casefold()
        fits = (not group or group_of(f.check) == group) and (not verdict or verdict in (f.verdict, f.word))
        if fits and all(word in text for word in asked):
            out.append(f)
    return tuple(out)


def by_group(findings: Sequence[Finding]) -> dict[str, list[Finding]]:
    """Return the findings by the names of their groups, in the groups' order, each group as it was sorted."""
    out: dict[str, list[Finding]] = {}
    for key, (name, _) in GROUPS.items():
        rows = [f for f in findings if group_of(f.check) == key]
        if rows:
            out[name] = rows
    return out
