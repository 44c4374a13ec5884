"""Changes to the list of plans, as pure functions on a job."""

from __future__ import annotations

import string

from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, Plan


def _next_letter(job: Job) -> str:
    used = {plan.letter for plan in job.plans}
    free = [letter for letter in string.ascii_uppercase if letter not in used]
    return free[0] if free else "new"


def _next_id(job: Job, base: str) -> str:
    used = {plan.id for plan in job.plans}
    stem = base[:34].rstrip("-_0123456789") or "plan"
    return next(name for n in range(2, 100) if (name := f"{stem}-{n}") not in used)


def duplicate_plan(job: Job, plan_id: str) -> tuple[tuple[Plan, ...], str]:
    """Return the plans with a copy of one behind them, and the copy's id."""
    plan = job.plan(plan_id)
    made = _next_id(job, plan.id)
    name = f"{plan.name} (copy)" if len(plan.name) <= 53 else plan.name
    copy = plan.model_copy(update={"id": made, "letter": _next_letter(job), "name": name})
    return (*job.plans, copy), made


def rename_plan(job: Job, plan_id: str, name: str) -> tuple[Plan, ...]:
    """Return the plans with one of them named anew."""
    return tuple(plan.model_copy(update={"name": name}) if plan.id == plan_id else plan for plan in job.plans)


def remove_plan(job: Job, plan_id: str) -> tuple[Plan, ...]:
    """Return the plans without one; today's system cannot go, since every saving is against it.

    Raises
    ------
    BadInput
        When the plan is today's system.
    """
    if job.plans[0].id == plan_id:
        raise BadInput([Fault("", "plans", "today's system cannot be removed", "remove another plan")])
    return tuple(plan for plan in job.plans if plan.id != plan_id)


def move_plan(job: Job, plan_id: str, by: int) -> tuple[Plan, ...]:
    """Return the plans with one moved among the others; today's system stays first, and ends are ends."""
    plans = list(job.plans)
    at = next(i for i, plan in enumerate(plans) if plan.id == plan_id)
    to = min(len(plans) - 1, max(1, at + by))
    if at > 0:
        plans.insert(to, plans.pop(at))
    return tuple(plans)
