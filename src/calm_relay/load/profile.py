"""The shape of a household's day: ours, invented, and a published standard profile; each month scaled to its energy."""

from __future__ import annotations

import hashlib
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, MONTH_OF_DAY, YearCalendar, clock_day
from calm_relay.job.house_models import ProfileLoad

Array = NDArray[np.float64]
PUBLISHED = "published_household"
PUBLISHED_SOURCE = "BDEW standard load profile for households H25 (2025 revision), as the package demandlib carries it"
NOISE_S, MINUTE_S = 300, 60
HALF_YEAR_DAYS = 182  # 26 weeks, which keeps the weekdays

# Relative use by clock hour (weekday, weekend); ours, invented, called so where they are shown.
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


def seed_of(*parts: object) -> int:
    """Return a stable seed from names and numbers (Python's own hash changes from run to run)."""
    return int.from_bytes(hashlib.blake2b(repr(parts).encode(), digest_size=8).digest(), "big")


@lru_cache(maxsize=8)
def published_quarters_w(year: int, *, south: bool = False) -> Array:
    """Return the published household profile for 1000 kWh a year by the clock, (365, 96), 29 February dropped. [W]

    Source: BDEW, standard load profiles 2025 (H25), through `demandlib.bdew`, its dynamic factor of the day applied; that factor
    makes a year 0.5 % short of 1000 kWh, and is left so here. South of the equator it is read half a year on, weekdays kept:
    that is ours.
    """
    import pandas as pd
    from demandlib.bdew import H25

    index = pd.date_range(f"{year}-01-01", f"{year}-12-31 23:45", freq="15min")
    values = pd.Series(H25(timeindex=index).to_numpy(), index=index)  # kW for 1 GWh a year, so W for 1000 kWh
    kept = values[~((index.month == 2) & (index.day == 29))].to_numpy(dtype=float)
    days: Array = kept.reshape(DAYS, 96)
    if not south:
        return days
    day = np.arange(DAYS)
    return days[np.where(day < HALF_YEAR_DAYS, day + HALF_YEAR_DAYS, day - HALF_YEAR_DAYS)]


def published_months_wh(year: int, year_wh: float, *, south: bool = False) -> tuple[float, ...]:
    """Return how the published profile spreads a year's energy over the months. [Wh]"""
    days = published_quarters_w(year, south=south).sum(axis=1)
    month = MONTH_OF_DAY - 1
    sums = np.bincount(month, weights=days)
    return tuple(float(v) for v in sums / sums.sum() * year_wh)


def shape_w(name: str, calendar: YearCalendar, *, south: bool = False) -> Array:
    """Return the bare shape of a year, its scale without meaning. (steps,) [any]"""
    if name == PUBLISHED:
        quarter = np.minimum(95, (calendar.clock_hour * 4.0).astype(int))
        published: Array = published_quarters_w(calendar.year, south=south)[clock_day(calendar), quarter]
        return published
    weekday, weekend = (np.array(s, dtype=float) for s in SHAPES[name])
    hour = calendar.clock_hour.astype(int)
    power: Array = np.where(calendar.clock_weekend, weekend[hour], weekday[hour])
    return power


def _lively(seed: int, calendar: YearCalendar) -> Array:
    """Return seeded noise of mean 1 a step. It is drawn at 5 min: longer steps hold its means, shorter ones add detail to it.

    So the same seed gives the same house at every step, and a minute's peak is never below that of its 5 min.
    """
    rng = np.random.default_rng(seed_of("background", seed))
    base = np.convolve(rng.gamma(2.5, 1 / 2.5, DAYS * 86_400 // NOISE_S), np.array([0.25, 0.5, 0.25]), mode="same")
    if calendar.step_s >= NOISE_S:
        means: Array = base.reshape(-1, calendar.step_s // NOISE_S).mean(axis=1)
        return means
    parts = rng.gamma(2.5, 1 / 2.5, (len(base), NOISE_S // MINUTE_S))
    minutes = (base[:, None] * parts / parts.mean(axis=1, keepdims=True)).ravel()
    fine: Array = minutes.reshape(calendar.steps, -1).mean(axis=1)
    return fine


def profile_w(profile: ProfileLoad, calendar: YearCalendar, *, south: bool = False) -> Array:
    """Return background power: the shape by the clock, lively by seeded noise, each month scaled to its daily energy. [W]"""
    power = shape_w(profile.shape, calendar, south=south)
    if profile.shape != "flat":
        power = power * _lively(profile.seed, calendar)
    for month in range(12):
        here = calendar.month == month + 1
        wanted = profile.energy_wh_per_day[month] * MONTH_DAYS[month]
        made = float(power[here].sum()) * calendar.step_h
        power[here] *= wanted / made
    return power
