"""The commands that print what pages show, read weather, and draft plans."""

from __future__ import annotations

import argparse

from calm_relay.cli_pages import (
    limits_data,
    limits_text,
    order_data,
)
from calm_relay.cli_shared import chosen_plans, head_of, open_job, print_json
from calm_relay.decision.patterns import draft_plan
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.study import Study


def limits_command(options: argparse.Namespace) -> int:
    """Run `limits`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows = [limits_data(study, job, plan) for plan in chosen_plans(job, options)]
    if options.json:
        print_json({**head_of(job), "currency": job.tariff.currency, "plans": rows})
    else:
        print("\n".join(line for row in rows for line in limits_text(row, job.tariff.currency)))
    return 0


def order_command(options: argparse.Namespace) -> int:
    """Run `order`."""
    opened = open_job(options.job)
    rows = order_data(Study(opened.store), opened.job)
    if options.json:
        print_json({**head_of(opened.job), "pages": rows})
    else:
        print("\n".join(f"{row['title']:14}{row['state']:12}{row['why']}" for row in rows))
    return 0


def draft_command(options: argparse.Namespace) -> int:
    """Run `draft`."""
    opened = open_job(options.job)
    job, made = draft_plan(opened.job, options.pattern, Study(opened.store).day_wh(opened.job))
    save_job(options.out, job, opened.store)
    print(f"drafted plan {job.plan(made).letter}, {job.plan(made).name}; saved as {options.out}")
    return 0


def new_job_command(options: argparse.Namespace) -> int:
    """Run `new-job`."""
    if not -80 <= options.latitude <= 80:
        raise BadInput([Fault("", "--latitude", f"{options.latitude:g} is outside its range", "use −80 to 80")])
    save_job(options.out, new_job(latitude_deg=options.latitude), SeriesStore())
    print(f"saved as {options.out}")
    return 0
