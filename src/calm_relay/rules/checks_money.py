"""Checks of a plan's money: cost lines that lack, rebates, payback and warranty, standing charge, a window too short."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.money.costing import KIND_WORDS, plan_costs
from calm_relay.money.counted import new_boxes
from calm_relay.money.ready import lacking_work
from calm_relay.rules.checks_window import short_windows
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.tariff.growth import payback_years
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

NEVER_YEARS = 100.0  # stands for a payback that does not come


def _is_today(c: CheckContext) -> bool:
    return c.plan.id == c.job.plans[0].id


@check(
    "money.lines", "Cost lines that lack", page="decide", needs={"plan"}, short="Cost lines",
    source="what a plan adds, and the work that goes with it: wiring, approvals, drawings, second visit; common practice",
)  # fmt: skip
def lines_lacking(c: CheckContext) -> Iterator[Finding]:
    """What a plan that has cost lines adds and nobody priced, and the usual work for which it has no line."""
    if _is_today(c) or not c.plan.costs:
        return
    costs = plan_costs(c.job, c.plan)
    lacking = [*costs.missing, *(KIND_WORDS[kind] for kind in lacking_work(c.job, c.plan))]
    later = c.plan.later
    if later is not None and later.visit_cost <= 0 and not any(line.kind == "visit" for line in c.plan.costs):
        lacking.append(KIND_WORDS["visit"])
    said = f"of {count_words(len(costs.lines), 'line')} all are priced, and the usual work has its own"
    if lacking:
        said = f"{len(lacking)} without a price or a line: {', '.join(lacking)}"
    remedies = [Remedy("put in what lacks, in the costs of the plan, and price it")]
    yield finding(
        c, "money.lines", "costs", "count", float(len(lacking)), 0.0, "most", said, soft=True, tight="ratio-within",
        remedies=remedies,
    )  # fmt: skip


@check(
    "money.rebate", "Conditions of a rebate", page="decide", needs={"plan"}, short="Rebate",
    source="the rebate's own conditions as typed; whoever pays it decides",
)  # fmt: skip
def rebate_conditions(c: CheckContext) -> Iterator[Finding]:
    """Each rebate's conditions against the plan; one that is not met costs the rebate and nothing else."""
    if _is_today(c):
        return
    for row in plan_costs(c.job, c.plan).rebates:
        failed = [condition for condition in row.conditions if condition.met == "no"]
        open_ = [condition for condition in row.conditions if condition.met == "not_known"]
        if open_ and not failed:
            yield unknown(c, "money.rebate", row.name, f"{open_[0].words}: nothing is counted until it is ticked")
            continue
        said = "; ".join(condition.words for condition in row.conditions) or "it asks for nothing"
        yield finding(
            c, "money.rebate", row.name, "count", float(len(failed)), 0.0, "most", f"{said}. {row.arithmetic}", soft=True,
            tight="ratio-within",
        )  # fmt: skip


@check(
    "money.payback", "Payback within the warranty", page="decide", needs={"plan", "year", "grid", "bill"}, short="Payback",
    source="simple payback of what is priced, prices growing, nothing ageing, against the shortest warranty of what is added",
)  # fmt: skip
def payback_in_warranty(c: CheckContext) -> Iterator[Finding]:
    """Simple payback against the shortest warranty of what the plan adds, modules apart; ageing would only make it longer."""
    assert c.bills is not None
    if _is_today(c):
        return
    costs = plan_costs(c.job, c.plan)
    boxes = new_boxes(c.job, c.plan, c.cards)
    if costs.total is None or not boxes:
        return
    if costs.missing:
        yield unknown(c, "money.payback", "payback", f"without a price: {', '.join(costs.missing)}")
        return
    known = [(card.warranty_years, card.name) for card in boxes if card.warranty_years is not None]
    if not known:
        yield unknown(c, "money.payback", "payback", "the warranties of what is added: see the data sheets")
        return
    today, bill = c.bills
    years = payback_years(costs.total, today, bill, c.job.tariff) if costs.total > 0 else 0.0
    least, name = min(known)
    took = f"{show(costs.total, 'money')} against {show(today.total - bill.total, 'money')} saved in the first year: "
    took += "it never pays back" if years is None else f"{years:.1f} years"
    line = f"{took}; the shortest warranty is {least:g} years, {name}"
    yield finding(c, "money.payback", "payback", "years", NEVER_YEARS if years is None else years, least, "most", line, soft=True)


@check(
    "money.standing", "Standing charge", page="decide", needs={"plan", "year", "grid", "bill"}, short="Standing charge",
    source="what is charged for standing by cannot be saved; worth a look above the pack's share, ours",
)  # fmt: skip
def standing_floor(c: CheckContext) -> Iterator[Finding]:
    """The share of what is paid for import and standing that no battery can save, standing charge and least bill together."""
    assert c.bills is not None
    bill = c.bills[1]
    fixed = bill.standing_cost + bill.amount("up to the least a month")
    paid = sum(line.amount for line in bill.lines if line.amount > 0)
    if paid <= 0 or fixed <= 0:
        return
    limit = c.pack.value("standing_share_most")
    share = fixed / paid
    line = (
        f"{show(fixed, 'money')} of {show(paid, 'money')} a year are charged for standing by = {share * 100:.0f} %; "
        f"at most {show(paid - fixed, 'money')} are left to save by storing"
    )
    yield finding(c, "money.standing", "bill", "fraction", share, limit, "most", line, soft=True, tight="ratio-within")


@check(
    "money.window", "Window too short for saving", page="decide", needs={"plan", "year", "grid", "bill"}, short="Window's saving",
    source="what a charge window leaves unfilled × what a kWh through the battery saves (definitions D18, without wear)",
)  # fmt: skip
def window_saving(c: CheckContext) -> Iterator[Finding]:
    """What a year loses because a charge window is too short, or its power too small, to reach its target."""
    assert c.bills is not None
    limit = c.pack.value("window_lost_share_most") * max(0.0, c.bills[0].total)
    for short in short_windows(c):
        lost = max(0.0, short.lost_per_year)
        brings = (
            f"{show(short.delivered_wh, 'energy_wh')} delivered × {short.gain_per_kwh:.3f} a kWh × {count_words(short.days, 'day')}"
        )
        line = f"{show(short.lacking_wh, 'energy_wh')} a day lack to its target: {brings} = {show(lost, 'money')} a year"
        yield finding(c, "money.window", short.subject, "money", lost, limit, "most", line, soft=True)
