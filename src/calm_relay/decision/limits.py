"""What limits cost in a year: hours at each and energy it held back, in words, dearest first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.job.models import Plan
from calm_relay.units import hours_a_year

if TYPE_CHECKING:
    from calm_relay.year.facts import YearFacts

WORDS = {"ac_limit": "inverter AC limit", "charge": "charge limit", "discharge": "discharge limit"}


@dataclass(frozen=True)
class LimitCost:
    """One limit of a plan's year. [h], [Wh]"""

    key: str
    text: str
    hours_h: float
    held_wh: float


PASSED = {
    "unserved": "Not served", "export_cap": "Export cap", "import": "Import limit", "transfer": "Transfer device",
    "peak": "Peak target",
}  # fmt: skip


def passed_words(facts: YearFacts) -> list[str]:
    """Return each limit that the year passed, with its hours; phases and legs by name."""
    out = [
        f"{PASSED[key].lower()} {hours_a_year(e.hours_h)}"
        for key, e in facts.exceeded.items()
        if e.hours_h > 0 and key != "unserved"
    ]
    for row in facts.amps:
        out += [f"main fuse on {row.name} {hours_a_year(row.fuse_hours_h)}"] if row.fuse_hours_h > 0 else []
        out += [f"transfer device on {row.name} {hours_a_year(row.device_hours_h)}"] if row.device_hours_h else []
    return out


def limit_costs(plan: Plan, facts: YearFacts) -> tuple[LimitCost, ...]:
    """Return every limit that was met in the year, the dearest in energy first, then by hours."""
    names = {node.id: node.name for node in plan.nodes}
    out = []
    for key, use in facts.limits.items():
        kind, _, node = key.partition(":")
        if node:
            text = f"{names.get(node, node)}: {WORDS[kind]}"
        else:
            text = {"export_cap": "Export cap", "transfer": "Transfer device", "island": "No grid to give it to"}[kind]
        if use.hours_h > 0 or use.held_wh > 0:
            out.append(LimitCost(key, text, use.hours_h, use.held_wh))
    for key, e in facts.exceeded.items():
        if e.hours_h > 0 and key != "unserved":  # a check's and the year's own figure
            text = f"{PASSED[key]}: passed, nothing could cut it"
            out.append(LimitCost(f"{key} passed", text, e.hours_h, e.over_wh))
    for node_id, rows in facts.trackers.items():
        for row in rows:
            lost = sum(row.limited_wh)
            if lost > 500.0:
                text = f"{names.get(node_id, node_id)}, tracker {row.number}: current or power"
                out.append(LimitCost(f"tracker:{node_id}/{row.number}", text, row.limited_h, lost))
    return tuple(sorted(out, key=lambda row: (-row.held_wh, -row.hours_h)))
