"""Costs, twenty years, ranges and the choice: plain data and text, for the command line and for print."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from calm_relay.decision.choosing import Standing, standing_of
from calm_relay.decision.money_words import chosen_words, ranges_words, spread_words, years_notes
from calm_relay.decision.priced import cost_words, each_module_words, equipment_words
from calm_relay.decision.ranges import Ranges, ranges
from calm_relay.decision.twenty import TwentyYears, twenty_years
from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import KIND_WORDS, PlanCosts, plan_costs
from calm_relay.study import Study
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


def money_of(
    study: Study, job: Job, *, with_ranges: bool = True, told: Callable[[int, int], None] = lambda _d, _a: None
) -> Standing:
    """Return all plans of a job in money: costs, twenty years, ranges, and which leads."""
    results = [(plan, study.plan_result(job, plan)) for plan in job.plans]
    years = twenty_years(study, job, results)
    spread = ranges(study, job, results, years, told=told) if with_ranges else None
    return standing_of(job, {plan.id: result for plan, result in results}, {row.plan_id: row for row in years}, spread)


def cost_lines(costs: PlanCosts) -> list[str]:
    """Return a plan's cost lines as text, each with its arithmetic."""
    out = []
    for line in costs.lines:
        amount = "–" if line.amount is None else show(line.amount, "money")
        when = "" if not line.after_years else f", after {count_words(line.after_years, 'year')}"
        why = f" ({line.why})" if line.why else ""
        source = f" [{line.source}]" if line.source else ""
        out.append(f"{line.text:44}{amount:>12}   {KIND_WORDS[line.kind]}{when}: {line.arithmetic or '–'}{why}{source}")
    for row in costs.rebates:
        off = "0" if not row.amount else f"−{show(row.amount, 'money')}"
        out.append(f"{row.name:44}{off:>12}   rebate: {row.arithmetic}")
    return out


def cost_text(job: Job, plan: Plan) -> list[str]:
    """Return what a plan costs as lines."""
    more = each_module_words(job, plan)
    return [
        f"{plan.letter}  {plan.name}. {equipment_words(job, plan)}",
        *(f"   {line}" for line in cost_lines(plan_costs(job, plan))),
        f"   {cost_words(job, plan)}",
        *([f"   {more}"] if more else []),
    ]


def years_text(job: Job, plan: Plan, years: TwentyYears) -> list[str]:
    """Return a plan's twenty years as lines."""
    out = [f"{plan.letter}  {plan.name}"]
    if years.first_cost is not None:
        out.append(f"   cost above today's system {show(years.first_cost, 'money')}{', at least' if years.at_least else ''}")
    heads = ("year", "today's bill", "its bill", "saving", "upkeep", "replaced", "later", "backup", "cash", "running")
    out.append("   " + "".join(f"{head:>13}" for head in heads))
    for row in years.years:
        cells = (
            row.today_bill, row.bill, row.saving, row.upkeep, row.replaced, row.later, row.resilience, row.cash, row.running,
        )  # fmt: skip
        out.append(f"   {row.calendar_year:>13}" + "".join(f"{show(value, 'money', 0):>13}" for value in cells))
    return [*out, *(f"   {line}" for line in years_notes(years, job.tariff.currency))]


def ranges_text(job: Job, found: Ranges) -> list[str]:
    """Return the spreads as lines."""
    letters = {plan.id: plan.letter for plan in job.plans}
    out = [f"{'':10}{'saving a year':>28}{'worth of 20 years':>32}{'payback':>34}{'leads in money':>18}"]
    for row in found.plans:
        out.append(
            f"{letters[row.plan_id]:10}{spread_words(row.saving, 'money'):>28}{spread_words(row.npv, 'money'):>32}"
            f"{spread_words(row.payback_years, 'years'):>34}{f'{row.leads} of {row.cases}':>18}"
        )
    return [*out, ranges_words(job, found)]


def verdict_text(job: Job, money: Standing) -> list[str]:
    """Return the choice as lines: gates, weights, every criterion of every plan, and why."""
    verdict = money.verdict
    order = sorted(verdict.plans, key=lambda s: [row.plan_id for row in money.rows].index(s.row.plan_id))
    out = [f"{'':36}" + "".join(f"{s.row.letter:>22}" for s in order)]
    out.append(f"{'Gate':36}" + "".join(f"{'open' if s.open else 'closed':>22}" for s in order))
    for purpose, weight in verdict.weights.items():
        if weight <= 0:
            continue
        worth = "".join(f"{f'{s.purposes[purpose] * 100:.0f} points':>22}" for s in order)
        out.append(f"{f'{weight * 100:.0f} %  {purpose.replace(chr(95), chr(32))}':36}{worth}")
        for i, value in enumerate(order[0].values):
            if value.purpose == purpose:
                out.append(f"   {value.words:33}" + "".join(f"{s.values[i].text:>22}" for s in order))
    out.append(f"{'Score':36}" + "".join(f"{s.score * 100:>22.0f}" for s in order))
    chosen = chosen_words(job)
    return [*out, "", *verdict.because, *([chosen] if chosen else [])]


def decide_data(money: Standing) -> dict[str, Any]:
    """Return the whole choice as plain data."""
    return {
        "rows": [row.as_dict() for row in money.rows],
        **money.verdict.as_dict(),
        "twenty_years": {plan_id: years.as_dict() for plan_id, years in money.twenty.items()},
        "ranges": None if money.ranges is None else [row.as_dict() for row in money.ranges.plans],
    }
