"""Checks of a plan against what the brief says: old contracts and the budget; and each phase with the grid gone."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from calm_relay.job.brief_models import ContractEnd
from calm_relay.job.edits import Edit
from calm_relay.job.house_models import Appliance
from calm_relay.money.costing import plan_costs
from calm_relay.money.ended import what_it_does
from calm_relay.plant.lines import shares_of
from calm_relay.plant.offgrid import offgrid_lines_va
from calm_relay.rules.checks_service import running_va
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.units import count_words, hours_a_year
from calm_relay.units import format_quantity as show

END_WORDS: dict[ContractEnd, str] = {
    "inverter_taken_out": "takes out an inverter of today's system",
    "battery_added": "adds a battery",
    "modules_added": "adds modules",
    "modules_taken_out": "takes out modules",
}


@check(
    "brief.contract",
    "Old contract",
    page="brief",
    needs={"plan"},
    short="Old contract",
    source="the contract's own words, as ticked on Brief; its paper decides",
)
def old_contract(c: CheckContext) -> Iterator[Finding]:
    """Each old contract of the brief against what the plan does to today's system; what it ends only costs."""
    today = c.job.plans[0]
    if c.plan.id == today.id:
        return
    does = what_it_does(today, c.plan, c.cards)
    for contract in c.job.brief.contracts:
        until = f", which runs until {contract.ends}" if contract.ends else ""
        if not contract.ends_with:
            yield note(c, "brief.contract", contract.name, f"nothing is ticked that would end it{until}: read it before choosing")
            continue
        met = [END_WORDS[end] for end in contract.ends_with if end in does]
        line = f"the plan {' and '.join(met)}: that ends it{until}" if met else f"the plan does nothing that ends it{until}"
        yield finding(
            c, "brief.contract", contract.name, "count", float(len(met)), 0.0, "most", line, soft=True, tight="ratio-within"
        )


@check(
    "brief.budget", "Budget", page="brief", needs={"plan"}, short="Budget", source="the brief's budget; the plan's own cost lines"
)
def budget(c: CheckContext) -> Iterator[Finding]:
    """The plan's costs against the budget; past it is no fault of the system."""
    most = c.job.brief.budget
    if most is None or c.plan.id == c.job.plans[0].id:
        return
    costs = plan_costs(c.job, c.plan)
    if costs.total is None:
        return
    lines = count_words(len(costs.lines), "cost line") + (" comes" if len(costs.lines) == 1 else " come")
    line = f"{lines} to {show(costs.total, 'money')}, the budget is {show(most, 'money')}"
    if costs.missing and costs.total <= most:
        yield unknown(c, "brief.budget", "costs", f"{line}; without a price: {', '.join(costs.missing)}")
        return
    yield finding(c, "brief.budget", "costs", "money", costs.total, most, "most", line, soft=True)


@check(
    "backup.line-power",
    "Each phase with the grid gone",
    page="plans",
    needs={"plan", "year"},
    short="Off-grid phases",
    source="each leg of a split phase carries half the rating, a unit on one phase backs up that phase only (common practice)",
)
def line_power(c: CheckContext) -> Iterator[Finding]:
    """What stands behind the transfer device on each phase or leg, against what is made there in an outage."""
    assert c.facts is not None
    if not c.plan.has_backup_side:
        return
    for row in c.facts.lines:
        if row.limit_va is None:
            continue
        line = (
            f"the backup side's peak on {row.name} is {c.facts.at_least(show(row.backed_peak_va, 'apparent_va'))}, "
            f"{show(row.limit_va, 'apparent_va')} is made there with the grid gone; {hours_a_year(row.over_h)} above"
        )
        yield finding(
            c, "backup.line-power", row.name, "apparent_va", row.backed_peak_va, row.limit_va, "most", line,
            remedies=_fewer_behind(c, row.name),
        )  # fmt: skip


def _fewer_behind(c: CheckContext, line: str) -> Iterator[Remedy]:
    """Return the list of essential loads that fits on every line by running VA, the largest left out first; then what else."""
    count = c.plant.lines.count
    limits = offgrid_lines_va(c.plant)
    if limits is not None and c.plan.transfer is not None:
        kept: list[Appliance] = []
        for load in sorted((a for a in c.job.house.counted if a.essential), key=running_va):
            sums = sum((running_va(a) * np.array(shares_of(a.line, count)) for a in (*kept, load)), np.zeros(count))
            if np.all(sums <= limits):
                kept.append(load)
        if kept:
            ids = [a.id for a in c.job.house.counted if a in kept]
            words = f"back up {len(ids)} loads, {show(sum(a.running_w for a in kept), 'power_w')} together, that fit on every line"
            yield Remedy(words, (Edit(c.path("transfer.backed_up"), "listed"), Edit(c.path("transfer.listed"), ids)))
    yield Remedy(f"move loads of the backup side off {line}, or put units on every phase")
