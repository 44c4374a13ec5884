"""A synthetic year from typed monthly means: daily clearness by a first-order process, broken cloud within the day.

Method (ours, documented in docs/weather.md): each day's ratio of GHI to clear-sky GHI follows a first-order
autoregressive normal process (lag 0.35), clipped to 0.08–1.08 and shifted month by month until the month's sum equals the
typed mean. Within the day a second process (`weather.cloud`, correlation time 20 min) moves the ratio, strongest for
half-clear days, and each day is scaled back to its energy. The same seed gives the same year.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, MONTH_OF_DAY, MONTHS, YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.job.sky_models import MonthlyWeather
from calm_relay.weather.cloud import depth_of, first_order, flicker
from calm_relay.weather.solar import Sun, split_diffuse

Array = NDArray[np.float64]
LOWEST_RATIO, HIGHEST_RATIO, STEP_CAP = 0.08, 1.08, 1.2
DAY_LAG, DAY_SPREAD = 0.35, 0.28


@dataclass(frozen=True, eq=False)
class WeatherYear:
    """Weather per step: irradiance in W/m², air temperature in °C; rows as in definitions D1."""

    ghi_w_per_m2: Array
    dni_w_per_m2: Array
    dhi_w_per_m2: Array
    air_c: Array


def synthetic_year(weather: MonthlyWeather, calendar: YearCalendar, sun: Sun) -> WeatherYear:
    """Return a seeded year whose monthly GHI sums equal the typed means.

    Raises
    ------
    BadInput
        When a month's mean lies outside what the sky over that place can give.
    """
    rng = np.random.default_rng(weather.seed)
    per_day = calendar.steps_per_day
    clear = sun.clear_ghi_w_per_m2.reshape(DAYS, per_day)
    clear_day_wh = clear.sum(axis=1) * calendar.step_h
    month_of_day = MONTH_OF_DAY - 1
    swing = first_order(rng, DAYS, DAY_LAG) * DAY_SPREAD
    ratio = np.empty(DAYS)
    for month in range(12):
        days = month_of_day == month
        ratio[days] = _month_ratios(weather.ghi_wh_per_m2_day[month], clear_day_wh[days], swing[days], month)
    moved = flicker(rng, weather.seed, calendar.step_s).reshape(DAYS, per_day)
    shaped = np.clip(ratio[:, None] * (1.0 + depth_of(ratio)[:, None] * moved), 0.03, STEP_CAP)
    ghi = shaped * clear
    for _ in range(3):  # back to the day's energy; the cap makes it a few rounds
        made = ghi.sum(axis=1) * calendar.step_h
        scale = np.divide(ratio * clear_day_wh, made, out=np.ones(DAYS), where=made > 0)
        ghi = np.minimum(ghi * scale[:, None], STEP_CAP * clear)
    flat = ghi.ravel()
    dni, dhi = split_diffuse(flat, sun.apparent_zenith_deg, calendar.day + 1)
    dni = np.minimum(dni, sun.dni_extra_w_per_m2)
    return WeatherYear(flat, dni, dhi, _air_temperature(weather, calendar, rng))


def _month_ratios(mean_wh: float, clear_wh: Array, swing: Array, month: int) -> Array:
    most = float((HIGHEST_RATIO * clear_wh).mean())
    least = float((LOWEST_RATIO * clear_wh).mean())
    if not least <= mean_wh <= most:
        raise BadInput(
            [
                Fault(
                    "",
                    f"site.weather.ghi_wh_per_m2_day[{MONTHS[month]}]",
                    f"{mean_wh / 1000:.4g} kWh/m² a day is outside what the sky gives there{_likely(mean_wh, least, most, month)}",
                    f"use {least / 1000:.2f} to {most / 1000:.2f} kWh/m² a day",
                )
            ]
        )
    low, high = -2.0, 3.0
    for _ in range(60):
        middle = (low + high) / 2
        made = float((np.clip(middle + swing, LOWEST_RATIO, HIGHEST_RATIO) * clear_wh).mean())
        low, high = (middle, high) if made < mean_wh else (low, middle)
    return np.clip((low + high) / 2 + swing, LOWEST_RATIO, HIGHEST_RATIO)


def _likely(mean_wh: float, least: float, most: float, month: int) -> str:
    """Return what was likely typed instead of a day's mean, in words; empty where nothing fits."""
    for factor, words in (
        (1.0 / MONTH_DAYS[month], "the month's total"),
        (1000.0, "a figure in another unit"),
        (1.0 / 24.0, "W/m²"),
    ):
        if least <= mean_wh * factor <= most:
            return f" (it looks like {words})"
    return ""


def _air_temperature(weather: MonthlyWeather, calendar: YearCalendar, rng: np.random.Generator) -> Array:
    middles = np.cumsum(MONTH_DAYS) - np.array(MONTH_DAYS) / 2
    means = np.array(weather.temperature_mean_c)
    days = np.arange(DAYS) + 0.5
    around = np.concatenate(([middles[-1] - 365], middles, [middles[0] + 365]))
    daily = np.interp(days, around, np.concatenate(([means[-1]], means, [means[0]])))
    daily = daily + 1.8 * first_order(rng, DAYS, 0.6)
    month_of_day = MONTH_OF_DAY - 1
    for month in range(12):
        here = month_of_day == month
        daily[here] += means[month] - daily[here].mean()
    hours = (np.arange(calendar.steps_per_day) + 0.5) * calendar.step_h
    swing = 0.5 * weather.temperature_daily_range_k * np.cos(2 * np.pi * (hours - 15.0) / 24.0)
    air: Array = (daily[:, None] + swing[None, :]).ravel()
    return air
