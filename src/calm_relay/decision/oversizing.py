"""Oversizing: ratios against each limit by name, what clips where and when, the next module's gain, and now or later."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, LaterModules, Node, Plan
from calm_relay.library.cards import AcUnit, HybridCard, ModuleCard, ModuleInverterCard, PvInverterCard
from calm_relay.pv.roof import group_stc_w, ratio_limit
from calm_relay.study import Study

HORIZON_YEARS = 20  # over which now and later are set side by side; plain sums, no discount
WithTrackers = PvInverterCard | HybridCard | ModuleInverterCard


@dataclass(frozen=True)
class RatioRow:
    """A DC-to-AC ratio (definitions D12) and one limit of it; None where the card or the rule names none."""

    subject: str
    limit_name: str
    ratio: float
    limit: float | None
    in_force: bool


def ratio_rows(job: Job, plan: Plan) -> tuple[RatioRow, ...]:
    """Return every inverter's ratio against its card with and without battery, and the plan's against the network's limit."""
    cards = job.cards()
    out, array, rated = [], 0.0, 0.0
    for node in plan.nodes:
        card = cards[node.card]
        if not isinstance(card, WithTrackers) or not node.strings:
            continue
        units = node.count if isinstance(card, ModuleInverterCard) else 1
        stc = units * sum(group_stc_w(group, cards) for group in node.strings)
        array, rated = array + stc, rated + units * card.ac_rated_w
        ratio, battery = stc / (units * card.ac_rated_w), node.battery is not None
        out.append(RatioRow(node.name, "card, without battery", ratio, ratio_limit(card, has_battery=False), not battery))
        if isinstance(card, HybridCard):
            out.append(RatioRow(node.name, "card, with battery", ratio, ratio_limit(card, has_battery=True), battery))
    if rated > 0:
        out.append(RatioRow("the plan", "network or rebate", array / rated, job.site.network.dc_ac_ratio_max, in_force=True))
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
        """The year's loss."""
        return sum(self.months_wh)


def clip_rows(study: Study, job: Job, plan: Plan) -> tuple[ClipRow, ...]:
    """Return what each tracker and each inverter clipped, by month; at 5 min a lower bound."""
    facts = study.facts(job, plan)
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


def with_more_modules(job: Job, plan: Plan, node_id: str, count: int) -> tuple[Job, int]:
    """Return the job with modules added to an inverter's strings, the shortest first, and how many it became.

    Single strings grow by one at a time; where all are in parallel each step adds one to every string of a group. Volts are not
    looked at: the checks are.

    Raises
    ------
    BadInput
        When the inverter has no strings.
    """
    node = next(n for n in plan.nodes if n.id == node_id)
    if not node.strings:
        raise BadInput([Fault("", f"plans[{plan.id}].nodes[{node_id}].strings", "there are no strings to add to", "add one first")])
    if isinstance(job.card(node.card), ModuleInverterCard):
        grown = node.model_copy(update={"count": min(200, node.count + count)})
        return _with_node(job, plan, grown), grown.count - node.count
    groups, added = list(node.strings), 0
    while added < count:
        at = min(range(len(groups)), key=lambda i: (groups[i].parallel_strings, groups[i].modules_per_string))
        if groups[at].modules_per_string >= 60:
            break
        groups[at] = groups[at].model_copy(update={"modules_per_string": groups[at].modules_per_string + 1})
        added += groups[at].parallel_strings
    return _with_node(job, plan, node.model_copy(update={"strings": tuple(groups)})), added


def _with_node(job: Job, plan: Plan, node: Node) -> Job:
    changed = plan.model_copy(update={"nodes": tuple(node if n.id == node.id else n for n in plan.nodes)})
    return job.model_copy(update={"plans": tuple(changed if p.id == plan.id else p for p in job.plans)})


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
        """Energy that reaches house, battery or grid, a module and a year."""
        return self.used_wh / self.modules


def more_modules(
    study: Study, job: Job, plan: Plan, node_id: str, count: int = 1, cancelled: Callable[[], bool] = lambda: False
) -> MoreModules:
    """Return what the next modules at an inverter bring: both years are simulated. Raises Cancelled."""
    changed, added = with_more_modules(job, plan, node_id, count)
    other = changed.plan(plan.id)
    before, after = study.facts(job, plan, cancelled=cancelled), study.facts(changed, other, cancelled=cancelled)
    paid, pays = study.bill(job, plan, cancelled=cancelled), study.bill(changed, other, cancelled=cancelled)
    h = study.calendar(job).step_h
    offered = sum(float(d.offered_w.sum()) for d in study.dc(changed, other).values())
    offered -= sum(float(d.offered_w.sum()) for d in study.dc(job, plan).values())
    used = before.system_wh["import_w"] - after.system_wh["import_w"] + after.system_wh["export_w"] - before.system_wh["export_w"]
    lost = after.clipped_wh + after.tracker_lost_wh - before.clipped_wh - before.tracker_lost_wh
    node = next(n for n in plan.nodes if n.id == node_id)
    return MoreModules(node_id, node.name, added, offered * h, used, lost, paid.total - pays.total)


@dataclass(frozen=True)
class NowOrLater:
    """Modules now against the same modules later, summed over `HORIZON_YEARS`; money in the job's currency, nothing discounted."""

    more: MoreModules
    later: LaterModules
    now_net: float
    later_net: float

    @property
    def words(self) -> str:
        """What the figures say."""
        gap = self.now_net - self.later_net
        return f"{'now' if gap >= 0 else 'later'} comes out ahead by {abs(gap):,.0f} over {HORIZON_YEARS} years"


def now_or_later(
    study: Study, job: Job, plan: Plan, node_id: str, later: LaterModules, cancelled: Callable[[], bool] = lambda: False
) -> NowOrLater:
    """Return both ways: now saves from the first year, later saves from its year on and pays the second visit. Raises Cancelled."""
    more = more_modules(study, job, plan, node_id, later.modules, cancelled)
    price = later.module_cost * more.modules
    now = more.saving * HORIZON_YEARS - price
    then = more.saving * max(0.0, HORIZON_YEARS - later.after_years) - price - later.visit_cost
    return NowOrLater(more, later, now, then)


def inverters_with_strings(job: Job, plan: Plan) -> tuple[Node, ...]:
    """Return the inverters of a plan that carry modules."""
    cards = job.cards()
    return tuple(
        n
        for n in plan.nodes
        if isinstance(cards[n.card], AcUnit) and any(isinstance(cards[g.module], ModuleCard) for g in n.strings)
    )
