"""What a card would be worth in a place of a plan: a year simulated with each, and its bill against the present one's."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.edits import apply_edits
from calm_relay.job.models import Job
from calm_relay.rules.picking import Offer
from calm_relay.study import Study

MOST = 12  # cards simulated at a time, those that fit first


def worth_of(
    study: Study,
    job: Job,
    plan_id: str,
    offers: Sequence[Offer],
    cancelled: Callable[[], bool] = lambda: False,
    progress: Callable[[int, int], bool] = lambda _done, _all: True,
) -> dict[str, float]:
    """Return what each of the first offers that fit saves a year against what stands there, by card. [money]

    The price of the card is not in it. `progress` is told how many of how many are done, and says whether to go on: where it does
    not, what is known by then is returned. Raises Cancelled.
    """
    now = study.bill(job, job.plan(plan_id), cancelled=cancelled).total
    out: dict[str, float] = {}
    fitting = [offer for offer in offers if offer.fits][:MOST]
    for done, offer in enumerate(fitting):
        if not progress(done, len(fitting)):
            break
        if offer.now:
            out[offer.card.id] = 0.0
            continue
        try:
            changed = apply_edits(job, offer.edits)
            out[offer.card.id] = now - study.bill(changed, changed.plan(plan_id), cancelled=cancelled).total
        except (BadInput, NotFeasible):
            continue
    return out
