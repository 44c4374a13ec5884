"""The house's year: a background (profile or metered series) and each appliance, in W per step."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Appliance, House, ProfileLoad
from calm_relay.job.series import Series

Array = NDArray[np.float64]

# Relative use by clock hour (weekday, weekend); invented shapes, marked so in the documentation.
SHAPES: dict[str, tuple[tuple[float, ...], tuple[float, ...]]] = {
    "household_evening": (
        (5, 4, 4, 4, 4, 5, 8, 11, 9, 6, 5, 5, 6, 5, 5, 6, 8, 12, 15, 15, 13, 11, 9, 7),
        (6, 5, 4, 4, 4, 5, 6, 9, 11, 10, 9, 9, 10, 9, 8, 8, 9, 12, 14, 14, 13, 11, 9, 7),
    ),
    "household_daytime": (
        (5, 4, 4, 4, 4, 5, 8, 11, 12, 12, 11, 11, 12, 11, 11, 10, 10, 12, 13, 12, 11, 10, 8, 6),
        (5, 4, 4, 4, 4, 5, 7, 10, 12, 12, 12, 12, 12, 11, 11, 10, 10, 12, 13, 12, 11, 10, 8, 6),
    ),
    "flat": ((1,) * 24, (1,) * 24),
}


@dataclass(frozen=True, eq=False)
class HouseYear:
    """Power per step of the background and of each appliance (in the job's order). [W]"""

    background_w: Array
    appliance_w: dict[str, Array]

    def total_w(self) -> Array:
        """Return the whole house."""
        total = self.background_w.copy()
        for series in self.appliance_w.values():
            total += series
        return total

    def split_w(self, listed: frozenset[str] | None) -> tuple[Array, Array]:
        """Return (backup side, grid side); `listed` None means the whole house stands on the backup side."""
        total = self.total_w()
        if listed is None:
            return total, np.zeros_like(total)
        backup = self.background_w.copy() if "background" in listed else np.zeros_like(total)
        for name, series in self.appliance_w.items():
            if name in listed:
                backup += series
        return backup, np.maximum(0.0, total - backup)

    def backup_va(self, listed: frozenset[str] | None, power_factor: dict[str, float]) -> Array:
        """Return apparent power behind the transfer device: watts over each load's power factor, summed. [VA]"""
        whole = listed is None
        total = self.background_w.copy() if whole or "background" in (listed or ()) else np.zeros_like(self.background_w)
        for name, series in self.appliance_w.items():
            if whole or name in (listed or ()):
                total += series / power_factor.get(name, 1.0)
        return total


def seed_of(*parts: object) -> int:
    """Return a stable seed from names and numbers (Python's own hash changes from run to run)."""
    return int.from_bytes(hashlib.blake2b(repr(parts).encode(), digest_size=8).digest(), "big")


def house_year(house: House, calendar: YearCalendar, series: Series | None) -> HouseYear:
    """Return the year of a house; `series` holds the metered values where the job names some. Same seed, same year.

    Raises
    ------
    BadInput
        When a metered series does not fill exactly one year of 365 days, or its step does not fit.
    """
    background = house.background
    if isinstance(background, ProfileLoad):
        base = profile_w(background, calendar)
    else:
        base = _metered_w(series if series is not None else np.empty(0), background.series.step_s, calendar)
    seed = background.seed if isinstance(background, ProfileLoad) else 1
    appliances = {a.id: appliance_w(a, calendar, seed) for a in house.appliances}
    if isinstance(background, ProfileLoad):
        return HouseYear(base, appliances)
    metered = [a.id for a in house.appliances if a.in_metered]
    return _within_metered(base, appliances, metered)


def _within_metered(total: Array, appliances: dict[str, Array], metered: list[str]) -> HouseYear:
    """Return the house with listed appliances taken out of the metered total, which stays as it is in every step.

    Where they would draw more than was metered they are scaled down together.
    """
    listed = sum((appliances[name] for name in metered), np.zeros_like(total))
    share = np.minimum(1.0, np.divide(total, listed, out=np.ones_like(total), where=listed > 0))
    scaled = {name: watts * share if name in metered else watts for name, watts in appliances.items()}
    return HouseYear(np.maximum(0.0, total - listed * share), scaled)


def profile_w(profile: ProfileLoad, calendar: YearCalendar) -> Array:
    """Return background power: the clock-hour shape, lively by seeded noise, each month scaled to its daily energy."""
    weekday, weekend = (np.array(s, dtype=float) for s in SHAPES[profile.shape])
    hour = calendar.clock_hour.astype(int)
    power: Array = np.where(calendar.clock_weekend, weekend[hour], weekday[hour])
    if profile.shape != "flat":
        rng = np.random.default_rng(seed_of("background", profile.seed))
        lively = rng.gamma(2.5, 1 / 2.5, calendar.steps)
        kernel = np.array([0.25, 0.5, 0.25])
        power = power * np.convolve(lively, kernel, mode="same")
    for month in range(12):
        here = calendar.month == month + 1
        wanted = profile.energy_wh_per_day[month] * MONTH_DAYS[month]
        made = float(power[here].sum()) * calendar.step_h
        power[here] *= wanted / made
    return power


def _metered_w(values: Series, step_s: int, calendar: YearCalendar) -> Array:
    rows = DAYS * 86_400 // step_s if 86_400 % step_s == 0 else -1
    if len(values) != rows:
        problem = f"{len(values)} rows of {step_s} s are not a year of 365 days"
        raise BadInput([Fault("", "house.background.series", problem, "give one whole year, 29 February dropped")])
    if step_s % calendar.step_s == 0:
        return np.repeat(values, step_s // calendar.step_s)
    if calendar.step_s % step_s == 0:
        mean: Array = values.reshape(-1, calendar.step_s // step_s).mean(axis=1)
        return mean
    problem = f"a step of {step_s} s does not fit the simulation's {calendar.step_s} s"
    raise BadInput([Fault("", "house.background.series.step_s", problem, "use 60, 300, 900, 1800 or 3600 s")])


def appliance_w(appliance: Appliance, calendar: YearCalendar, seed: int) -> Array:
    """Return one appliance's power: seeded starts inside its clock window, each month's energy as its list says.

    An appliance that runs on a share of days runs on whole days drawn month by month; its runs are stretched or cut a little so
    that the month holds its energy.
    """
    rng = np.random.default_rng(seed_of(appliance.id, seed))
    length = (appliance.window_end_h - appliance.window_start_h) % 24.0 or 24.0
    cycles = appliance.cycles_per_day
    run = min(appliance.run_h, length) / cycles
    part = length / cycles
    shifts = rng.random((DAYS, cycles))
    draw = rng.random(DAYS)
    month_of_day = np.repeat(np.arange(1, 13), MONTH_DAYS)
    may = np.isin(month_of_day, appliance.months) if appliance.months else np.ones(DAYS, dtype=bool)
    noon = calendar.clock_weekend.reshape(DAYS, -1)[:, calendar.steps_per_day // 2]
    if appliance.days != "every":
        may &= noon == (appliance.days == "weekends")
    used, runs = _drawn_days(may, draw, appliance.share_of_days_frac, run, part)
    starts = appliance.window_start_h + np.arange(cycles) * part + shifts * (part - runs[:, None])
    starts = starts + np.arange(DAYS)[:, None] * 24.0 - calendar.saving_h[:, None]
    flat = starts[used].ravel() % (DAYS * 24.0)
    lasts = np.repeat(runs[used], cycles)
    order = np.argsort(flat, kind="stable")
    flat, lasts = flat[order], lasts[order]
    if not len(flat):
        return np.zeros(calendar.steps)
    past = flat + lasts > DAYS * 24.0  # a run past the year's end goes on at its start
    flat, lasts = np.concatenate((flat[past] - DAYS * 24.0, flat)), np.concatenate((lasts[past], lasts))
    ends, sums = flat + lasts, np.cumsum(lasts)
    edges = np.arange(calendar.steps + 1) * calendar.step_h
    grid = np.concatenate(([-1e3], np.column_stack((flat, np.maximum(flat, ends))).ravel(), [1e6]))
    done = np.concatenate(([0.0], np.column_stack((sums - lasts, sums)).ravel(), [sums[-1]]))
    grid = np.maximum.accumulate(grid)
    on_time = np.diff(np.interp(edges, grid, done))
    power: Array = appliance.running_w * np.maximum(0.0, on_time) / calendar.step_h
    return power


def _drawn_days(
    may: NDArray[np.bool_], draw: Array, share_frac: float, run_h: float, most_h: float
) -> tuple[NDArray[np.bool_], Array]:
    """Return the days an appliance runs on, and the length of its runs on each: months hold share × days × run. [h]"""
    runs = np.full(DAYS, run_h)
    if share_frac >= 1.0:
        return may, runs
    used = np.zeros(DAYS, dtype=bool)
    first = 0
    for days in MONTH_DAYS:
        here = np.arange(first, first + days)[may[first : first + days]]
        first += days
        wanted = share_frac * len(here)
        count = min(len(here), max(1, round(wanted))) if len(here) else 0
        while count < len(here) and run_h * wanted / count > most_h:  # a run does not fit its window: more days then
            count += 1
        chosen = here[np.argsort(draw[here], kind="stable")[:count]]
        used[chosen] = True
        if count:
            runs[chosen] = min(most_h, run_h * wanted / count)
    return used, runs
