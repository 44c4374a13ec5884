"""Pictures of the house as plain arrays: the load from most to least, a typical day of each season, peaks, and quick sums."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import MONTH_DAYS, YearCalendar, season_of_months, year_calendar
from calm_relay.job.models import Job, Plan
from calm_relay.library.cards import BatteryCard, BatterySideUnit, TransferCard
from calm_relay.load.house import HouseYear, house_year
from calm_relay.load.sums import Sum, backup_hours, night_battery
from calm_relay.simulation.chain import usable_wh

Array = NDArray[np.float64]
CURVE_POINTS = 600


@dataclass(frozen=True, eq=False)
class LoadCurve:
    """Load from most to least over the hours of the year [h], [W], and the levels that carry it: (W, name, theme role)."""

    hours: Array
    load_w: Array
    levels: tuple[tuple[float, str, str], ...]


def load_curve(job: Job, plan: Plan, house: HouseYear, calendar: YearCalendar) -> LoadCurve:
    """Return the duration curve of the house with a plan's off-grid power, surge and pass-through."""
    cards = job.cards()
    ordered = np.sort(house.total_w())[::-1]
    keep = np.unique(np.geomspace(1, len(ordered), CURVE_POINTS).astype(int)) - 1
    forming = [c for n in plan.nodes if isinstance(c := cards[n.card], BatterySideUnit) and c.grid_forming and n.side == "backup"]
    levels: list[tuple[float, str, str]] = []
    continuous = sum(c.offgrid_continuous_va or 0.0 for c in forming)
    if continuous:
        levels.append((continuous, "off grid, all day", "over"))
    surge = sum(c.offgrid_peak_va or 0.0 for c in forming)
    if surge > continuous:
        levels.append((surge, "off grid, surge", "tight"))
    device = cards.get(plan.transfer.card) if plan.transfer is not None else None
    if isinstance(device, TransferCard) and device.pass_through_a is not None:
        supply = job.site.supply
        levels.append((device.pass_through_a * supply.voltage_v * supply.phases, "passes with the grid up", "grid"))
    return LoadCurve((keep + 1) * calendar.step_h, ordered[keep], tuple(levels))


def season_days(job: Job, house: HouseYear, calendar: YearCalendar) -> tuple[tuple[str, Array], ...]:
    """Return the mean day of each season, by hour of the clock. [W]"""
    total, hour = house.total_w(), np.minimum(23, calendar.clock_hour.astype(int))
    out = []
    for season, months in season_of_months(job.site.place.latitude_deg).items():
        here = np.isin(calendar.month, months)
        made = np.bincount(hour[here], weights=total[here], minlength=24) / np.maximum(1, np.bincount(hour[here], minlength=24))
        out.append((season, made))
    return tuple(out)


@dataclass(frozen=True)
class Peaks:
    """Highest means of the year over a minute, a step and an hour. [W]"""

    minute_w: float
    hour_w: float

    @property
    def ratio(self) -> float:
        """How much higher the minute stands than the hour."""
        return self.minute_w / self.hour_w if self.hour_w > 0 else 1.0


def house_peaks(job: Job, metered: Array | None) -> Peaks:
    """Return real peaks: the house made at one minute, against its hours. `metered` is the house's series, where it names one."""
    calendar = year_calendar(job.calendar_year, job.site.place.time_zone, 60)
    total = house_year(job.house, calendar, metered).total_w()
    return Peaks(float(total.max()), float(total.reshape(-1, 60).mean(axis=1).max()))


def quick_sums(job: Job, plan: Plan, house: HouseYear, calendar: YearCalendar, sun_up: NDArray[np.bool_]) -> tuple[Sum, ...]:
    """Return the trade's quick sums for a plan: sizes by night use and daily use, and how long its battery carries the house."""
    total = house.total_w()
    day = float(total.sum()) * calendar.step_h / sum(MONTH_DAYS)
    night = float(total[~sun_up].sum()) * calendar.step_h / sum(MONTH_DAYS)
    out = list(night_battery(day, night))
    cards = job.cards()
    usable = sum(usable_wh(c, n.battery) for n in plan.nodes if n.battery and isinstance(c := cards[n.battery.card], BatteryCard))
    if usable > 0:
        out.append(backup_hours(usable, day / 24.0))
        essential = [a.id for a in job.house.appliances if a.essential]
        if essential:
            part = sum(float(house.appliance_w[i].sum()) for i in essential) * calendar.step_h / sum(MONTH_DAYS)
            bare = backup_hours(usable, part / 24.0)
            out.append(Sum("backup time, what must stay on", bare.value, bare.quantity, bare.arithmetic))
    return tuple(out)
