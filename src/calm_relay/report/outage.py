"""Outages: how long a plan lasts from every hour, and one drill, as plain data and text."""

from __future__ import annotations

from typing import Any

from calm_relay.calendar import MONTHS, YearCalendar
from calm_relay.decision.outages import alone_at
from calm_relay.decision.reach import season_hours
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.study import Study
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.drill import Drill
from calm_relay.year.outage import HOURS, RideThrough, Serve, outage_length_h, served_ids

LENGTHS_H = (2, 4, 8, 12, 18, 24, 48, 72, 168)
SERVE_WORDS: dict[Serve, str] = {"backed_up": "all that is backed up", "essential": "what must stay on alone"}


def month_shares(found: RideThrough, calendar: YearCalendar) -> dict[int, tuple[float, ...]]:
    """Return the share of starts that each length is survived from, by length [h] and month. (12,) each [0 to 1]"""
    month = calendar.month[:: calendar.steps // HOURS]
    return {length: tuple(found.survived_frac(length, month == m) for m in range(1, 13)) for length in LENGTHS_H}


def season_share(study: Study, job: Job, found: RideThrough) -> tuple[float, float, str]:
    """Return the share survived of the brief's longest outage in its season, its length [h] (24 where none is named), and which."""
    length, season = outage_length_h(job.brief), job.brief.outage_season
    which = "of all starts of the year" if season == "any" else f"of all starts in {season}"
    return found.survived_frac(length, season_hours(study, job)), length, which


def ride_words(study: Study, job: Job, plan: Plan, found: dict[Serve, RideThrough]) -> list[str]:
    """Return what the ride-through says, in sentences."""
    out = []
    for serve, rows in found.items():
        if not served_ids(job.house, plant_of(job, plan), serve):
            name = SERVE_WORDS[serve]
            out.append(f"{name[:1].upper()}{name[1:]}: nothing of it stands behind the transfer device, so its shares say nothing.")
            continue
        share, length, which = season_share(study, job, rows)
        least = rows.worst_h
        survived = f"an outage of {length:g} h is survived from {share * 100:.0f} % {which}"
        out.append(f"With {SERVE_WORDS[serve]}, {survived}; the worst start lasts {least:.1f} h.")
    if plan.controls.reserve_soc_frac:
        out.append(f"The reserve of {show(plan.controls.reserve_soc_frac, 'fraction')} is what a start after a bad day has left.")
    return out


def ride_data(study: Study, job: Job, plan: Plan, found: dict[Serve, RideThrough]) -> dict[str, Any]:
    """Return the ride-through as plain data."""
    calendar = study.calendar(job)
    rows: dict[str, Any] = {}
    for serve, made in found.items():
        share, length, which = season_share(study, job, made)
        rows[serve] = {
            "brief_length_h": length, "brief_share_frac": share, "brief_starts": which, "worst_start_h": made.worst_h,
            "survived_frac": {str(length): made.survived_frac(length) for length in LENGTHS_H},
            "survived_by_month_frac": {str(length): list(shares) for length, shares in month_shares(made, calendar).items()},
        }  # fmt: skip
    return {"plan": plan.id, "letter": plan.letter, "most_h": max(LENGTHS_H), **rows, "words": ride_words(study, job, plan, found)}


def ride_text(study: Study, job: Job, plan: Plan, found: dict[Serve, RideThrough]) -> list[str]:
    """Return the ride-through as lines."""
    out = [f"{plan.letter}  {plan.name}"]
    for serve, made in found.items():
        out.append(f"   {SERVE_WORDS[serve]}, share of starts that survive, by month and hours")
        out.append("   " + " " * 6 + "".join(f"{length:>7} h" for length in LENGTHS_H))
        shares = month_shares(made, study.calendar(job))
        for m in range(12):
            out.append(f"   {MONTHS[m]:6}" + "".join(f"{shares[length][m] * 100:>7.0f} %" for length in LENGTHS_H))
    return [*out, *(f"   {line}" for line in ride_words(study, job, plan, found))]


def helps(job: Job, plan: Plan) -> list[str]:
    """Return what helps a plan in an outage: a generator that starts by itself, loads that go off by charge; nothing: none does."""
    out = []
    if plan.generator is not None and job.cards().generator(plan.generator.card).auto_start:
        out.append("the generator")
    shed = sum(a.off_below_soc_frac is not None for a in job.house.counted)
    if shed:
        out.append(f"{count_words(shed, 'load')} that {'goes' if shed == 1 else 'go'} off by charge")
    return out


def helped_words(study: Study, job: Job, plan: Plan, alone: RideThrough, helped: RideThrough) -> list[str]:
    """Return what they add, in sentences: the same starts with and without."""
    same, length = alone_at(alone, helped), outage_length_h(job.brief)
    share = [found.survived_frac(length, season_hours(study, job)) for found in (same, helped)]
    season = job.brief.outage_season
    when = "of the year" if season == "any" else f"in {season}"
    words = f"With {' and '.join(helps(job, plan))}, what must stay on lasts {length:g} h from {share[1] * 100:.0f} % of the starts"
    words += f" {when}"
    return [f"{words}; without, all that is backed up from {share[0] * 100:.0f} %. Every sixth hour is a start."]


def helped_data(study: Study, job: Job, plan: Plan, alone: RideThrough, helped: RideThrough) -> dict[str, Any]:
    """Return what they add as plain data: by length, the share survived without and with."""
    same = alone_at(alone, helped)
    rows = {str(length): [same.survived_frac(length), helped.survived_frac(length)] for length in LENGTHS_H}
    return {"with": helps(job, plan), "survived_frac": rows, "words": helped_words(study, job, plan, alone, helped)}


def drill_text(plan: Plan, made: Drill) -> list[str]:
    """Return a drill as lines."""
    sums = made.as_dict()
    out = [f"{plan.letter}  {plan.name}: {made.first_words}"]
    out += [f"   {event.clock}  {event.kind:10} {event.words}" for event in made.events]
    names = ["asked_wh", "served_wh", "shed_wh", "pv_used_wh", "pv_throttled_wh"]
    if made.wh("waiting"):
        names.insert(3, "waiting_wh")
    out.append("   " + ", ".join(f"{name[:-3].replace('_', ' ')} {show(sums[name], 'energy_wh')}" for name in names))
    if made.load_words:
        out.append(f"   {made.load_words}")
    if made.generator_h:
        fuel = "fuel not known" if made.litres is None else f"{made.litres:.1f} litres"
        days = "" if made.fuel_days is None else f", the tank lasts {made.fuel_days:.1f} days like these"
        out.append(f"   generator {made.generator_h:.1f} h, {fuel}{days}")
    return [*out, f"   battery {show(made.start_wh, 'energy_wh')} at the start, {show(made.end_wh, 'energy_wh')} at the end"]
