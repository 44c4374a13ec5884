"""The commands about checks: check, checks and measure."""

from __future__ import annotations

import argparse
from pathlib import Path

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.compare import counts
from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, Plan
from calm_relay.report.check_page import check_page_html
from calm_relay.report.check_table import check_rows, check_table
from calm_relay.report.head import CAUTION, head_of, title_text
from calm_relay.report.measure import measure_text, to_measure
from calm_relay.rules.groups import filtered
from calm_relay.study import PlanResult, Study


def check_command(options: argparse.Namespace) -> int:
    """Run `check`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    asked = {plan.id for plan in chosen_plans(job, options, without_today=True)}
    found, over = [], 0
    for plan in chosen_plans(job, options):
        result = study.plan_result(job, plan)
        found.append((plan, result))
        if plan.id in asked:
            over += counts(result.findings)["over"]
    if options.page:
        _write_page(options, job, found)
    rows = [(plan, filtered(result.findings, options.group, options.verdict)) for plan, result in found]
    if options.json:
        plans = [{"plan": p.id, "letter": p.letter, "name": p.name, "findings": [f.as_dict() for f in r]} for p, r in rows]
        print_json({**head_of(job), "plans": plans})
        return 1 if over else 0
    print("\n".join(title_text(job)))
    for plan, findings in rows:
        print(f"\n{plan.letter}  {plan.name}")
        for f in findings:
            margin = "" if f.margin is None else f"  margin {f.margin * 100:.0f} %"
            waived = f"  waived: {f.waived}" if f.waived else ""
            print(f"  {f.word:9} {f.title}: {f.subject}{margin}{waived}")
            print(f"            {f.arithmetic}")
            for remedy in f.remedies:
                print(f"            remedy: {remedy.text}")
            print(f"            source: {f.source} [{f.check}]")
    print(f"\n{CAUTION}")
    return 1 if over else 0


def _write_page(options: argparse.Namespace, job: Job, found: list[tuple[Plan, PlanResult]]) -> None:
    """Write the page of all checks of the one plan that was asked for."""
    if len(found) != 1:
        raise BadInput([Fault(options.job, "--page", "a page holds one plan", "give one --plan")])
    (plan, result), path = found[0], Path(options.page)
    try:
        path.write_text(check_page_html(job, plan, result.findings), encoding="utf-8")
    except OSError as error:
        problem = f"it cannot be written ({error.strerror})"
        raise BadInput([Fault(options.page, "--page", problem, "choose another folder")]) from error


def measure_command(options: argparse.Namespace) -> int:
    """Run `measure`: what to look up or measure, by where one goes for it."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows = [(plan, study.plan_result(job, plan).findings) for plan in chosen_plans(job, options)]
    if options.json:
        data = [
            {
                "plan": plan.id, "letter": plan.letter,
                "measure": {page: [list(row) for row in items] for page, items in to_measure(findings).items()},
            }
            for plan, findings in rows
        ]  # fmt: skip
        print_json({**head_of(job), "plans": data})
        return 0
    print("\n".join(title_text(job)))
    for plan, findings in rows:
        print(f"\n{plan.letter}  {plan.name}")
        print("\n".join(measure_text(findings)))
    return 0


def checks_command(options: argparse.Namespace) -> int:
    """Run `checks`: every check there is."""
    if options.json:
        names = ("id", "title", "holds", "source")
        print_json({"checks": [dict(zip(names, row, strict=True)) for row in check_rows()]})
    else:
        print(check_table())
    return 0
