"""What the commands share: opening a job, choosing plans, printing JSON."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any, TextIO

from calm_relay.demo import DEMOS, demo_path
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import OpenedJob, read_job
from calm_relay.job.models import Job, Plan


def print_json(data: Any, out: TextIO | None = None) -> None:
    """Print data as indented JSON."""
    json.dump(data, out or sys.stdout, indent=1, ensure_ascii=False, allow_nan=False)
    (out or sys.stdout).write("\n")


def open_job(name: str) -> OpenedJob:
    """Read a job by path; 'demo' and 'demo-kvist' name the shipped ones."""
    return read_job(demo_path(name) if name in DEMOS else name)


def chosen_plans(job: Job, options: argparse.Namespace, *, without_today: bool = False) -> list[Plan]:
    """Return the plans asked for, all without '--plan'; raises BadInput for one that is not there."""
    if options.plan:
        out = []
        for name in options.plan:
            try:
                out.append(job.plan(name))
            except KeyError:
                known = ", ".join(f"{p.letter} ({p.id})" for p in job.plans)
                raise BadInput([Fault(options.job, "--plan", f"there is no plan '{name}'", f"use one of: {known}")]) from None
        return out
    return list(job.plans[1:] if without_today else job.plans)
