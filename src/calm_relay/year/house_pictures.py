"""Pictures of the house as plain arrays: the load from most to least, a typical day of each season, and peaks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, season_of_months
from calm_relay.job.house_models import House
from calm_relay.load.house import HouseYear, Outside, house_year
from calm_relay.plant.chain import discharge_chain, terminals_limit_w
from calm_relay.plant.offgrid import plan_continuous_va, plan_start_va
from calm_relay.plant.whole import Plant

Array = NDArray[np.float64]
CURVE_POINTS = 600


@dataclass(frozen=True, eq=False)
class LoadCurve:
    """Load from most to least over the hours of the year [h], [W], and the levels that carry it: (W, name, theme role)."""

    hours: Array
    load_w: Array
    levels: tuple[tuple[float, str, str], ...]


def load_curve(plant: Plant, house: HouseYear, calendar: YearCalendar) -> LoadCurve:
    """Return the duration curve of the house with a plan's off-grid power, surge and pass-through."""
    ordered = np.sort(house.total_w())[::-1]
    keep = np.unique(np.geomspace(1, len(ordered), CURVE_POINTS).astype(int)) - 1
    levels: list[tuple[float, str, str]] = []
    continuous = plan_continuous_va(plant)
    if continuous:
        levels.append((continuous, "off grid, all day", "over"))
    surge = plan_start_va(plant)
    if surge is not None and surge > (continuous or 0.0):
        levels.append((surge, "off grid, surge", "tight"))
    if plant.transfer is not None and plant.transfer.pass_through_a is not None:
        levels.append((plant.transfer.limit_w, "passes with the grid up", "grid"))
    return LoadCurve((keep + 1) * calendar.step_h, ordered[keep], tuple(levels))


def evening_levels(plant: Plant) -> tuple[tuple[float, str, str], ...]:
    """Return what a plan's batteries carry in an evening at AC: the inverters' rating and the batteries' own discharge.

    Each is (W, name, theme role); nothing without a battery. The lower one is what holds.
    """
    rated, given, known = 0.0, 0.0, True
    for row in plant.banked:
        rated += row.unit.ac_rated_w
        dc = terminals_limit_w(discharge_chain(row.unit, row.bank))
        known &= dc is not None
        given += float(row.unit.ac_w(dc or 0.0))
    if not rated:
        return ()
    out = [(rated, f"inverters give {rated / 1000:.1f} kW", "grid")]
    if known:
        out.append((given, f"batteries discharge {given / 1000:.1f} kW", "battery"))
    lowest = min(out)
    return tuple((watts, name, "over" if watts == lowest[0] else role) for watts, name, role in out)


def season_days(latitude_deg: float, house: HouseYear, calendar: YearCalendar) -> tuple[tuple[str, Array], ...]:
    """Return the mean day of each season, by hour of the clock. [W]"""
    total, hour = house.total_w(), calendar.hour_of_clock
    out = []
    for season, months in season_of_months(latitude_deg).items():
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
        """How much higher the minute stands than the hour. [W/W]"""
        return self.minute_w / self.hour_w if self.hour_w > 0 else 1.0


def house_peaks(house: House, minutes: YearCalendar, metered: Array | None, outside: Outside | None = None) -> Peaks:
    """Return real peaks: the house made at one minute, against its hours. `metered` is the house's series, where it names one."""
    total = house_year(house, minutes, metered, outside).total_w()
    return Peaks(float(total.max()), float(total.reshape(-1, 60).mean(axis=1).max()))
