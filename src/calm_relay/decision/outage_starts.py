"""When an outage begins: an hour, a day of a month that stands out, the brief's outage, one with a name."""

from __future__ import annotations

import re
from contextlib import suppress
from dataclasses import replace
from datetime import date

import numpy as np

from calm_relay.calendar import season_of_months
from calm_relay.errors import BadInput, Fault
from calm_relay.job.brief_models import NamedOutage
from calm_relay.job.models import Job
from calm_relay.study import Study
from calm_relay.year.drill import Case
from calm_relay.year.outage import outage_length_h

DAY_KINDS = ("dullest", "typical", "sunniest", "coldest")
EVENING_H = 17  # when most is asked for
DAYS = 365
BRIEF = "the brief's outage"
_HOUR = re.compile(r"^(\d{1,2})-(\d{1,2})(?:[T ](\d{1,2})(?::00)?)?$")
_DAY = re.compile(r"^([a-z]+)(?:-(\d{1,2}))?(?:[T ](\d{1,2})(?::00)?)?$")
HOW = "write month, day and hour as 07-11T17, a day as dullest-07 (typical, sunniest, coldest), or 0 to 8759"


def hour_of(month: int, day: int, hour: int) -> int:
    """Return the hour of the year; raises ValueError for a day that is none."""
    return 24 * (date(2025, month, day).timetuple().tm_yday - 1) + hour


def day_of(study: Study, job: Job, kind: str, months: tuple[int, ...] = ()) -> int:
    """Return the day of the year that is dullest, typical, sunniest or coldest, of some months or of all; counted from 0."""
    weather, calendar = study.weather(job), study.calendar(job)
    per_day = calendar.steps // DAYS
    values = weather.air_c if kind == "coldest" else weather.ghi_w_per_m2
    daily = values.reshape(DAYS, per_day).min(axis=1) if kind == "coldest" else values.reshape(DAYS, per_day).sum(axis=1)
    among = np.isin(calendar.month[::per_day], months) if months else np.ones(DAYS, dtype=bool)
    days = np.flatnonzero(among)
    order = days[np.argsort(daily[days], kind="stable")]
    place = {"dullest": 0, "coldest": 0, "sunniest": len(order) - 1, "typical": len(order) // 2}[kind]
    return int(order[place])


def start_of(study: Study, job: Job, text: str) -> int:
    """Return the hour of the year of '07-11T17' (local standard time), of 'dullest-07' or of a plain number; raises BadInput."""
    text = text.strip()
    if text.isdigit() and int(text) < 8760:
        return int(text)
    found = _HOUR.match(text)
    if found and (hour := int(found[3] or 0)) < 24:
        with suppress(ValueError):
            return hour_of(int(found[1]), int(found[2]), hour)
    named = _DAY.match(text)
    if named and named[1] in DAY_KINDS and int(named[2] or 1) in range(1, 13) and int(named[3] or 0) < 24:
        months = (int(named[2]),) if named[2] else ()
        return 24 * day_of(study, job, named[1], months) + int(named[3] or EVENING_H)
    raise BadInput([Fault("", "--start", f"'{text}' is no hour of the year", HOW)])


def named_case(study: Study, job: Job, name: str) -> Case:
    """Return the outage of a name, or of the brief: its longest, from the evening of the dullest day of its season.

    Raises BadInput where there is none of this name.
    """
    if name in ("brief", BRIEF):
        months = season_of_months(job.site.place.latitude_deg).get(job.brief.outage_season, ())
        start = 24 * day_of(study, job, "dullest", tuple(months)) + EVENING_H
        return Case(start, outage_length_h(job.brief))
    for outage in job.brief.outages:
        if outage.name.casefold() == name.casefold():
            return _case(outage)
    known = ", ".join(o.name for o in job.brief.outages)
    raise BadInput([Fault("", "--outage", f"the brief names no outage '{name}'", f"use brief{', ' + known if known else ''}")])


def _case(outage: NamedOutage) -> Case:
    try:
        start = hour_of(outage.month, outage.day, outage.hour)
    except ValueError as error:
        said = f"{outage.name}: month {outage.month} has no day {outage.day}"
        raise BadInput([Fault("", "brief.outages", said, "use a day of that month")]) from error
    return Case(start, outage.hours_h, sun_frac=outage.sun_frac)


def with_what(case: Case, **more: object) -> Case:
    """Return a case with what is given in place of its own; None changes nothing."""
    return replace(case, **{name: value for name, value in more.items() if value is not None})  # type: ignore[arg-type]
