"""The commands about money: cost, finance, ranges and decide."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.chosen import with_choice
from calm_relay.decision.money_words import figures_of
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.cost_models import CostLine
from calm_relay.job.costs import equipment
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import plan_costs
from calm_relay.money.price_list import PriceList, keep_price_list, kept_price_list
from calm_relay.money.ready import ready_lines, repriced
from calm_relay.report.head import CAUTION, head_of, title_text
from calm_relay.report.money import cost_text, decide_data, money_of, ranges_text, verdict_text, years_text
from calm_relay.study import Study
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

ACTIONS = ("add", "list", "ready", "reprice")


def cost_command(options: argparse.Namespace) -> int:
    """Run `cost`: the lines of each plan; `cost add`, `ready` and `reprice` change a job, `cost list` keeps the firm's prices."""
    action, rest = (options.words[0], options.words[1:]) if options.words[0] in ACTIONS else ("", options.words)
    if action == "list":
        return _price_list(options, rest)
    if not rest:
        raise BadInput([Fault("", "JOB", "no job is named", "write it after the action, or 'demo'")])
    options.job = rest[0]
    opened = open_job(options.job)
    job, plans = opened.job, chosen_plans(opened.job, options)
    if action:
        job = _changed(options, action, rest[1:], job, plans)
        save_job(options.out, job, opened.store)
        plans = [job.plan(plan.id) for plan in plans]
    elif len(rest) > 1:
        raise BadInput([Fault("", rest[1], "this is no part of the command", f"use one of {', '.join(ACTIONS)} before the job")])
    if options.json:
        print_json({"currency": job.tariff.currency, "plans": [{"plan": p.id, **plan_costs(job, p).as_dict()} for p in plans]})
        return 0
    for plan in plans:
        print("\n".join(cost_text(job, plan)))
    return 0


def _changed(options: argparse.Namespace, action: str, words: list[str], job: Job, plans: list[Plan]) -> Job:
    if not options.plan or len(plans) != 1 or not options.out:
        raise BadInput([Fault(options.job, f"cost {action}", "it changes one plan of a new file", "name --plan and --out")])
    plan = plans[0]
    base = f"plans[{plan.id}].costs"
    noted = Edit(f"plans[{plan.id}].costs_for", equipment(plan))
    if action == "add":
        if not words:
            raise BadInput([Fault(options.job, "cost add", "it says not what for", "write the line's text after the job")])
        line = {
            "text": " ".join(words), "amount": options.amount, "kind": options.kind, "basis": options.basis,
            "counts": options.counts, "hours_h": options.hours, "after_years": options.after,
        }  # fmt: skip
        return apply_edits(job, [Edit(f"{base}[+]", line), *([] if plan.costs else [noted])])
    prices = _prices()
    made = ready_lines(job, plan, prices) if action == "ready" else ()
    if action == "ready":
        lines: tuple[CostLine, ...] = (*plan.costs, *made)
    elif prices is None:
        raise BadInput([Fault("", "cost reprice", "there is no price list yet", "keep one with 'cost list FILE'")])
    else:
        lines = repriced(plan.costs, prices)
    rows = [line.model_dump() for line in lines]
    return apply_edits(job, [Edit(base, rows), *([] if plan.costs else [noted])])


def _prices() -> PriceList | None:
    return kept_price_list()


def _price_list(options: argparse.Namespace, words: list[str]) -> int:
    try:
        prices = keep_price_list(Path(words[0])) if words else kept_price_list()
    except OSError as error:
        raise BadInput([Fault("", "cost list", f"it cannot be kept ({error.strerror})", "check the folder")]) from error
    if prices is None:
        raise BadInput([Fault("", "cost list", "there is no price list yet", "name a CSV or XLSX file")])
    if options.json:
        rows = [vars(row) for row in prices.rows]
        print_json({"name": prices.name, "date": prices.date, "currency": prices.currency, "rows": rows})
        return 0
    print(f"{prices.name}: {count_words(len(prices.rows), 'price')}{f', {prices.date}' if prices.date else ''}")
    for row in prices.rows:
        of = f"{row.basis.replace('_', ' ')}  {row.card or row.kind}"
        print(f"   {row.text:44}{show(row.price, 'money', 2):>12} {prices.currency}  {of}")
    return 0


def finance_command(options: argparse.Namespace) -> int:
    """Run `finance`: twenty years of each plan against today's system."""
    opened = open_job(options.job)
    job = opened.job
    money = money_of(Study(opened.store), job, with_ranges=False)
    plans = chosen_plans(job, options)
    if options.json:
        rows = [{"letter": plan.letter, **money.twenty[plan.id].as_dict()} for plan in plans]
        print_json({**head_of(job), "currency": job.tariff.currency, "finance": job.finance.model_dump(), "plans": rows})
        return 0
    print("\n".join(title_text(job)))
    for plan in plans:
        print("\n" + "\n".join(years_text(job, plan, money.twenty[plan.id])))
    return 0


def ranges_command(options: argparse.Namespace) -> int:
    """Run `ranges`: the spread of each plan's money over years of weather, loads and prices."""
    opened = open_job(options.job)
    job = opened.job
    found = money_of(Study(opened.store), job).ranges
    assert found is not None
    if options.json:
        asked = {plan.id for plan in chosen_plans(job, options)}
        print_json(
            {
                **head_of(job), "currency": job.tariff.currency, "seed": job.finance.seed,
                "cases": [vars(case) for case in found.cases],
                "plans": [row.as_dict() for row in found.plans if row.plan_id in asked],
            }
        )  # fmt: skip
        return 0
    print("\n".join([*title_text(job), "", *ranges_text(job, found)]))
    return 0


def decide_command(options: argparse.Namespace) -> int:
    """Run `decide`: gates, criteria by the brief's weights, what turns the order, and why; with --choose one is chosen."""
    opened = open_job(options.job)
    job = opened.job
    money = money_of(Study(opened.store), job)
    if options.choose:
        if not options.out:
            raise BadInput([Fault(options.job, "--choose", "a choice is kept in a new file", "name --out")])
        rows = {name: row for row in money.rows for name in (row.plan_id, row.letter)}
        row = rows.get(options.choose)
        figures = "" if row is None else figures_of(row, job.tariff.currency)
        job = with_choice(job, options.choose, options.reason, figures, datetime.now())
        save_job(options.out, job, opened.store)
    if options.json:
        choice = None if job.choice is None else job.choice.model_dump()
        print_json({**head_of(job), "currency": job.tariff.currency, **decide_data(money), "choice": choice})
        return 0
    assert money.ranges is not None
    print("\n".join([*title_text(job), "", *verdict_text(job, money), "", *ranges_text(job, money.ranges), "", CAUTION]))
    return 0
