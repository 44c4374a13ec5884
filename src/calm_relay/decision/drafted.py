"""A drafted plan before it is handed over: its own checks are run, and what they offer inside the plan is done."""

from __future__ import annotations

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job
from calm_relay.library.book import CardBook
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.rules.runner import run_checks

MOST_ROUNDS = 6
NOTE_CHARS = 2000  # as long as the model lets a note be


def checked(job: Job, plan_id: str, known: CardBook | None = None) -> Job:
    """Return the job with its drafted plan mended by its own checks' remedies; what stays over stands in the plan's note.

    Only checks that need no year are run, and only remedies that change this plan are taken: not the house, not the roof.
    """
    for _ in range(MOST_ROUNDS):
        over = _over(job, plan_id, known)
        edits = next((r.edits for f in over for r in f.remedies if r.edits and _inside(r.edits, plan_id)), None)
        if edits is None:
            break
        job = apply_edits(job, edits)
    left = _over(job, plan_id, known)
    if not left:
        return job
    plan = job.plan(plan_id)
    said = " ".join(f"As drafted, {f.title} is {f.word}: {f.arithmetic}." for f in left)
    noted = plan.model_copy(update={"note": f"{plan.note} {said}".strip()[:NOTE_CHARS]})
    return job.model_copy(update={"plans": tuple(noted if p.id == plan_id else p for p in job.plans)})


def _over(job: Job, plan_id: str, known: CardBook | None) -> list[Finding]:
    found = run_checks(CheckContext(job, job.plan(plan_id), job.cards(), None, known=known), {"plan"})
    return [f for f in found if f.verdict == "over"]


def _inside(edits: tuple[Edit, ...], plan_id: str) -> bool:
    """Return whether edits change nothing but this plan and the cards at hand, and take no array off the backup side."""
    own = f"plans[{plan_id}]."
    return all(edit.path.startswith((own, "library[")) and not edit.path.endswith(".side") for edit in edits)
