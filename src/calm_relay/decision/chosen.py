"""The choice of a plan: kept in the job with its reason, date and figures, and logged."""

from __future__ import annotations

from datetime import datetime

from calm_relay.errors import BadInput, Fault
from calm_relay.job.cost_models import Choice
from calm_relay.job.models import Job, LogEntry

LEAST_REASON = 3


def with_choice(job: Job, plan_id: str, reason: str, figures: str, now: datetime, author: str = "") -> Job:
    """Return the job with a plan chosen, and a line in its log.

    Raises
    ------
    BadInput
        When there is no such plan, or no reason is given.
    """
    try:
        plan = job.plan(plan_id)
    except KeyError:
        known = ", ".join(p.letter for p in job.plans)
        raise BadInput([Fault("", "choice", f"there is no plan '{plan_id}'", f"name one of {known}")]) from None
    said = " ".join(reason.split())
    if not LEAST_REASON <= len(said) <= 400:
        raise BadInput([Fault("", "reason", "a choice needs its reason", "write why in a sentence, up to 400 characters")])
    time = now.isoformat(timespec="minutes")
    choice = Choice(plan=plan.id, reason=said, time=time, figures=figures)
    entry = LogEntry(time=time, author=author, text=f"Plan {plan.letter}, {plan.name}, chosen: {said} ({figures})")
    return job.model_copy(update={"choice": choice, "log": (*job.log, entry)})
