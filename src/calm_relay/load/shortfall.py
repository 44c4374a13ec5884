"""Appliances that draw less in the year than their figures ask, and what keeps them from it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from calm_relay.calendar import DAYS, MONTH_OF_DAY, YearCalendar
from calm_relay.job.house_models import Appliance, House, ProfileLoad
from calm_relay.load.house import HouseYear
from calm_relay.units import format_quantity as show

WORTH_FRAC, WORTH_WH = 0.02, 5_000.0  # what the rounding to whole days and months may bring is left unsaid


@dataclass(frozen=True)
class Shortfall:
    """An appliance's year as typed and as drawn [Wh], and why they part, in words."""

    load_id: str
    name: str
    typed_wh: float
    drawn_wh: float
    why: str

    @property
    def words(self) -> str:
        """The whole of it in a sentence's part."""
        return (
            f"{show(self.drawn_wh, 'energy_wh', 0)} drawn of the {show(self.typed_wh, 'energy_wh', 0)} it is typed with: {self.why}"
        )


def typed_year_wh(appliance: Appliance, calendar: YearCalendar) -> float:
    """Return what an appliance's own figures ask of a year: watts, hours a day, share of days, months and kind of day. [Wh]"""
    may = np.isin(MONTH_OF_DAY, appliance.months) if appliance.months else np.ones(DAYS, dtype=bool)
    if appliance.days != "every":
        weekend = calendar.clock_weekend.reshape(DAYS, -1)[:, calendar.steps_per_day // 2]
        may &= weekend == (appliance.days == "weekends")
    return appliance.running_w * appliance.run_h * appliance.share_of_days_frac * float(may.sum())


def shortfalls(house: House, year: HouseYear, calendar: YearCalendar) -> tuple[Shortfall, ...]:
    """Return the appliances that draw clearly less than they are typed with, in the job's order."""
    out = []
    for load in house.counted:
        typed = typed_year_wh(load, calendar)
        drawn = float(year.appliance_w[load.id].sum()) * calendar.step_h
        if typed - drawn > max(WORTH_WH, WORTH_FRAC * typed):
            out.append(Shortfall(load.id, load.name, typed, drawn, _why(house, load)))
    return tuple(out)


def _why(house: House, load: Appliance) -> str:
    background = house.background
    if load.in_metered and load.from_year is None:
        if not isinstance(background, ProfileLoad):
            return "what was metered holds no more at the times it runs"
        if background.holds_listed:
            return "the bill's months hold no more"
    if load.day_run_h < load.run_h:
        return f"its window holds {load.day_run_h:g} h of the {load.run_h:g} h a day"
    return "it runs all day on every day that asks for it, too small for its house"
