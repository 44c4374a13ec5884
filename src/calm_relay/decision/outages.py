"""Outages asked of the study: how long a plan lasts from every hour of the year, and one drill minute by minute."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from calm_relay.decision.schools import schools
from calm_relay.errors import Cancelled, NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.same import plain
from calm_relay.study import Study
from calm_relay.year.drill import MINUTE_S, Around, Case, Drill, DrillSite, drill, ridden
from calm_relay.year.outage import HOURS, MOST_H, SERVES, RideThrough, Serve, check_outage, plan_ride_through

KEPT_BYTES = 80_000


def _never() -> bool:
    return False


def around_of(job: Job) -> Around:
    """Return what a job's outages read beside plan and year."""
    return Around(job.house, job.rules(), job.site.place.altitude_m)


def ride_through_of(study: Study, job: Job, plan: Plan, cancelled: Callable[[], bool] = _never) -> dict[Serve, RideThrough]:
    """Return how long a plan lasts from each hour of the year, for all that is backed up and for what must stay on alone.

    Raises
    ------
    NotFeasible
        Where everything is dark at once, or there is no grid to lose.
    Cancelled
        When `cancelled` said so.
    """
    plant = plant_of(job, plan)
    check_outage(plant)
    out: dict[Serve, RideThrough] = {}
    for serve in SERVES:

        def make(serve: Serve = serve) -> RideThrough:
            return plan_ride_through(job.house, plant, study.flow(job, plan, cancelled=cancelled), serve, cancelled)

        inputs = ["ride-through", serve, study.island_inputs(job, plan), study.flow_key(job, plan)]
        found: RideThrough = study.keep("outage", inputs, make, KEPT_BYTES)
        out[serve] = found
    return out


HELPED_EVERY_H = 6  # of the starts that are run with a generator and shedding


def helped_ride(study: Study, job: Job, plan: Plan, cancelled: Callable[[], bool] = _never) -> RideThrough:
    """Return how long what must stay on lasts with all that is backed up, the plan's generator and loads that go off by charge.

    Every sixth hour of the year is a start; where all of it lasts to the end without help, it does so with it.
    Raises NotFeasible where everything is dark at once, Cancelled when `cancelled` said so.
    """
    plant = plant_of(job, plan)
    check_outage(plant)

    def make() -> RideThrough:
        alone = ride_through_of(study, job, plan, cancelled)["backed_up"].hours_h
        made, calendar = study.flow(job, plan, cancelled=cancelled), study.calendar(job)
        island, air = DrillSite(around_of(job), plant, made, made.house, calendar, "backed_up"), study.weather(job).air_c
        hottest, out = float(air.max()), np.full(HOURS, np.nan)
        for hour in range(0, HOURS, HELPED_EVERY_H):
            if cancelled():
                raise Cancelled("the outages were stopped")
            if alone[hour] >= MOST_H:
                out[hour] = MOST_H
                continue
            case = Case(hour, float(MOST_H), shedding=True)
            found = island.run(case, hottest, by_means=True, until_dark=True, cancelled=cancelled).vital_h
            out[hour] = MOST_H if found is None else found
        return RideThrough(out, float(MOST_H))

    house = [(a.id, a.essential, a.sheddable, a.outage_charge_frac, a.least_off_s) for a in job.house.counted]
    set_up = None if plant.generator is None else plain(plant.generator)
    inputs = [
        "ride-through helped",
        house,
        set_up,
        plan.controls.model_dump(),
        study.island_inputs(job, plan),
        study.flow_key(job, plan),
    ]
    found: RideThrough = study.keep("outage", inputs, make, KEPT_BYTES)
    return found


def alone_at(found: RideThrough, helped: RideThrough) -> RideThrough:
    """Return a ride-through at the starts of another one alone, so that the two can stand side by side."""
    return RideThrough(np.where(np.isnan(helped.hours_h), np.nan, found.hours_h), found.most_h)


def drill_of(study: Study, job: Job, plan: Plan, case: Case, *, by_means: bool = False) -> Drill:
    """Return an outage minute by minute; `by_means`: as the ride-through runs it. See `drill` and `ridden` in `year.drill`."""
    plant = plant_of(job, plan)
    check_outage(plant)
    case.check()
    made, hottest = study.flow(job, plan), hottest_c(study, job, case)
    if by_means:
        return ridden(around_of(job), plant, made, study.calendar(job), case, hottest)
    minute = study.at_step(MINUTE_S)
    return drill(around_of(job), plant, made, minute.house(job), minute.calendar(job), case, hottest)


@dataclass(frozen=True, eq=False)
class School:
    """One way to back a house up, run through an outage: its name, its drill, or why there is none."""

    name: str
    plan: Plan
    drill: Drill | None
    why: str = ""


def school_drills(study: Study, job: Job, plan: Plan, case: Case) -> tuple[School, ...]:
    """Return the same outage for the plan as it is, for the whole house, an essential panel, and the whole house with shedding."""
    out = []
    for name, changed, shed in schools(job, plan):
        try:
            out.append(School(name, changed, drill_of(study, job, changed, replace(case, shedding=shed or case.shedding))))
        except NotFeasible as error:
            out.append(School(name, changed, None, error.reason))
    return tuple(out)


def hottest_c(study: Study, job: Job, case: Case) -> float:
    """Return the hottest air of an outage. [°C]"""
    air = study.weather(job).air_c
    per_hour = len(air) // 8760
    at = (case.start_hour * per_hour + np.arange(max(1, round(case.hours * per_hour)))) % len(air)
    return float(air[at].max())
