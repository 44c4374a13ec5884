"""What more modules on an inverter bring: both years are simulated; and the same modules now or later."""

from __future__ import annotations

from collections.abc import Callable

from calm_relay.decision.gains import MoreModules, NowOrLater
from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, LaterModules, Node, Plan
from calm_relay.study import Study
from calm_relay.tariff.growth import yearly_totals

HORIZON_YEARS = 20  # over which now and later are set side by side; plain sums, no discount


def with_more_modules(job: Job, plan: Plan, node_id: str, count: int) -> tuple[Job, int]:
    """Return the job with modules added to an inverter's strings, the shortest first, and how many it became.

    Single strings grow by one at a time; where all are in parallel each step adds one to every string of a group. Volts are not
    looked at: the checks are.

    Raises
    ------
    BadInput
        When the inverter has no strings.
    """
    node = plan.node(node_id)
    if not node.strings:
        raise BadInput([Fault("", f"plans[{plan.id}].nodes[{node_id}].strings", "there are no strings to add to", "add one first")])
    if job.cards().inverter(node.card).per_module:
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
    node = plan.node(node_id)
    return MoreModules(
        node_id=node_id,
        node=node.name,
        modules=added,
        offered_wh=offered * h,
        used_wh=used,
        clipped_wh=lost,
        saving=paid.total - pays.total,
    )


def now_or_later(
    study: Study, job: Job, plan: Plan, node_id: str, later: LaterModules, cancelled: Callable[[], bool] = lambda: False
) -> NowOrLater:
    """Return both ways: now saves from the first year, later saves from its year on and pays the second visit. Raises Cancelled."""
    more = more_modules(study, job, plan, node_id, later.modules, cancelled)
    price = later.module_cost * more.modules
    changed, _ = with_more_modules(job, plan, node_id, later.modules)
    pays, paid = (study.bill(j, j.plan(plan.id), cancelled=cancelled) for j in (changed, job))
    before, after = (yearly_totals(bill, job.tariff, HORIZON_YEARS) for bill in (paid, pays))
    savings = [old - new for old, new in zip(before, after, strict=True)]
    now = sum(savings) - price
    then = sum(s * min(1.0, max(0.0, year - later.after_years)) for year, s in enumerate(savings, 1)) - price - later.visit_cost
    return NowOrLater(more, later, now, then, HORIZON_YEARS)
