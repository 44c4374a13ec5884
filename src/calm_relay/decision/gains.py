"""Oversizing as plain data: ratios against each limit by name, what clips where and when, what more modules bring."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.job.models import Job, LaterModules, Node, Plan
from calm_relay.plant.rows import inverter_rows
from calm_relay.pv.roof import group_stc_w

if TYPE_CHECKING:
    from calm_relay.year.facts import YearFacts


@dataclass(frozen=True)
class RatioRow:
    """A DC-to-AC ratio (definitions D12) and one limit of it; None where the card or the rule names none."""

    subject: str
    limit_name: str
    ratio: float
    limit: float | None
    in_force: bool


def ratio_rows(job: Job, plan: Plan) -> tuple[RatioRow, ...]:
    """Return each inverter's ratio against its card with and without battery, the plan's against the network's and a rebate's."""
    cards = job.cards()
    out, array, rated = [], 0.0, 0.0
    for node, card in inverter_rows(plan, cards):
        if not node.strings:
            continue
        units = card.unit_count(node.count)
        stc = units * sum(group_stc_w(group, cards) for group in node.strings)
        array, rated = array + stc, rated + units * card.ac_rated_w
        ratio, battery = stc / (units * card.ac_rated_w), node.battery is not None
        out.append(RatioRow(node.name, "card, without battery", ratio, card.ratio_limit(False), not battery))
        if card.battery_terminals:
            out.append(RatioRow(node.name, "card, with battery", ratio, card.ratio_limit(True), battery))
    if rated > 0:
        rules = job.site.network
        out.append(RatioRow("the plan", "network", array / rated, rules.dc_ac_ratio_max, in_force=True))
        if rules.rebate_dc_ac_ratio_max is not None:
            out.append(RatioRow("the plan", "rebate", array / rated, rules.rebate_dc_ac_ratio_max, in_force=True))
    return tuple(out)


@dataclass(frozen=True)
class ClipRow:
    """What one tracker or inverter lost to its limit in each month. [Wh]"""

    subject: str
    kind: str
    months_wh: tuple[float, ...]
    hours_h: float

    @property
    def year_wh(self) -> float:
        """The year's loss. [Wh]"""
        return sum(self.months_wh)


def clip_rows(facts: YearFacts, plan: Plan) -> tuple[ClipRow, ...]:
    """Return what each tracker and each inverter clipped, by month."""
    out = []
    for node in plan.nodes:
        if not node.strings:
            continue
        for tracker in facts.trackers.get(node.id, ()):
            out.append(ClipRow(f"{node.name}, tracker {tracker.number}", "tracker", tracker.limited_wh, tracker.limited_h))
        months = facts.clipped_by_month_wh.get(node.id)
        use = facts.limits.get(f"ac_limit:{node.id}")
        if months is not None:
            out.append(ClipRow(node.name, "AC limit", months, use.hours_h if use else 0.0))
    return tuple(out)


@dataclass(frozen=True)
class MoreModules:
    """What some more modules on one inverter bring in a year. [Wh]; `saving` is of the bill."""

    node_id: str
    node: str
    modules: int
    offered_wh: float
    used_wh: float
    clipped_wh: float
    saving: float

    @property
    def used_wh_per_module(self) -> float:
        """Energy that reaches house, battery or grid, a module and a year. [Wh]"""
        return self.used_wh / self.modules


@dataclass(frozen=True)
class NowOrLater:
    """Modules now against the same modules later, summed over `years`; money in the job's currency, nothing discounted."""

    more: MoreModules
    later: LaterModules
    now_net: float
    later_net: float
    years: int

    @property
    def words(self) -> str:
        """What the figures say."""
        gap = self.now_net - self.later_net
        return f"{'now' if gap >= 0 else 'later'} comes out ahead by {abs(gap):,.0f} over {self.years} years"


def inverters_with_strings(job: Job, plan: Plan) -> tuple[Node, ...]:
    """Return the inverters of a plan that carry modules."""
    return tuple(node for node, _ in inverter_rows(plan, job.cards()) if node.strings)
