"""Outages asked of the study: how long a plan lasts from every hour of the year, and one drill minute by minute."""

from __future__ import annotations

from collections.abc import Callable

from calm_relay.job.models import Job, Plan
from calm_relay.study import Study
from calm_relay.year.drill import MINUTE_S, Drill, drill
from calm_relay.year.outage import SERVES, RideThrough, Serve, check_outage, plan_ride_through

KEPT_BYTES = 80_000


def _never() -> bool:
    return False


def ride_through_of(study: Study, job: Job, plan: Plan, cancelled: Callable[[], bool] = _never) -> dict[Serve, RideThrough]:
    """Return how long a plan lasts from each hour of the year, for all that is backed up and for what must stay on alone.

    Raises
    ------
    NotFeasible
        Where everything is dark at once, or there is no grid to lose.
    Cancelled
        When `cancelled` said so.
    """
    cards = job.cards()
    check_outage(plan, cards)
    behind = plan.backed_up
    essential = sorted(load.id for load in job.house.counted if load.essential)
    left_off = sorted(load.id for load in job.house.counted if load.never_from_battery or load.surplus != "no")
    kept = [None if behind is None else sorted(behind), essential, left_off]
    out: dict[Serve, RideThrough] = {}
    for serve in SERVES:

        def make(serve: Serve = serve) -> RideThrough:
            return plan_ride_through(job, plan, cards, study.flow(job, plan, cancelled=cancelled), serve, cancelled)

        inputs = ["ride-through", serve, kept, study.flow_key(job, plan)]
        found: RideThrough = study.keep("outage", inputs, make, KEPT_BYTES)
        out[serve] = found
    return out


def drill_of(
    study: Study,
    job: Job,
    plan: Plan,
    *,
    start_hour: int,
    hours: float,
    charge_frac: float | None = None,
    serving: Serve = "backed_up",
    shedding: bool = False,
) -> Drill:
    """Return an outage minute by minute; see `year.drill.drill`. [h], [0 to 1]"""
    cards = job.cards()
    check_outage(plan, cards)
    minute = study.at_step(MINUTE_S)
    return drill(
        job, plan, cards, study.flow(job, plan), minute.house(job), minute.calendar(job), start_hour=start_hour, hours=hours,
        charge_frac=charge_frac, serving=serving, shedding=shedding,
    )  # fmt: skip
