"""The job's 365-day year: fixed local standard time inside, clock time (with daylight saving) where people live by it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cached_property, lru_cache
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

DAYS = 365
MONTH_DAYS = (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
MONTH_OF_DAY: NDArray[np.int64] = np.repeat(np.arange(1, 13), MONTH_DAYS)  # of the 365 days
MONTH_STARTS: NDArray[np.int64] = np.cumsum((0, *MONTH_DAYS[:-1]))  # its first day, of 0 to 364


@dataclass(frozen=True, eq=False)
class YearCalendar:
    """Arrays over the steps of a year (definitions D1): row i covers [i·step, (i+1)·step) of local standard time.

    Attributes
    ----------
    year, step_s : int
    utc_offset_h : float
        Of local standard time.
    month : ndarray of int8, 1–12, and day : ndarray of int16, 0–364
        Of standard time; 29 February is dropped.
    clock_hour : ndarray of float64, [h]
        Clock time at the start of the step, daylight saving applied.
    clock_weekend : ndarray of bool, clock_month : ndarray of int8
        By the clock's date.
    saving_h : ndarray of float64, shape (365,), [h]
        What daylight saving adds at noon of each day.
    """

    year: int
    step_s: int
    utc_offset_h: float
    month: NDArray[np.int8]
    day: NDArray[np.int16]
    clock_hour: NDArray[np.float64]
    clock_weekend: NDArray[np.bool_]
    clock_month: NDArray[np.int8]
    saving_h: NDArray[np.float64]

    @property
    def steps(self) -> int:
        """Number of steps in the year."""
        return DAYS * 86_400 // self.step_s

    @property
    def steps_per_day(self) -> int:
        """Number of steps in a day."""
        return 86_400 // self.step_s

    @property
    def step_h(self) -> float:
        """Length of a step. [h]"""
        return self.step_s / 3600.0

    @cached_property
    def bill_month(self) -> NDArray[np.int64]:
        """The clock's month of every step; the year's last clock hours that fall into January count as December's. [1 to 12]"""
        return np.where((self.clock_month == 1) & (self.month == 12), 12, self.clock_month).astype(np.int64)

    @cached_property
    def hour_of_clock(self) -> NDArray[np.int64]:
        """The clock's hour of every step. (steps,) [0 to 23]"""
        return np.minimum(23, self.clock_hour.astype(np.int64))

    def in_months(self, months: Collection[int]) -> NDArray[np.bool_]:
        """Return the steps of some of the clock's months, 1 to 12. (steps,) [bool]"""
        table = np.zeros(13, dtype=np.bool_)
        table[list(months)] = True
        return np.take(table, self.clock_month)

    def by_month_wh(self, watts: NDArray[np.float64]) -> tuple[float, ...]:
        """Return the energy of each month of a series of powers per step; per m² where the series is. [W] to [Wh]"""
        return tuple((np.add.reduceat(watts, MONTH_STARTS * self.steps_per_day) * self.step_h).tolist())

    def day_means(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the mean of each day of standard time, (365,). In the unit of `values`: [as given]."""
        means: NDArray[np.float64] = values.reshape(DAYS, -1).mean(axis=1)
        return means

    def label(self, step: int) -> str:
        """Return the clock time at the start of a step as text, e.g. ``12 Jan 13:05``."""
        hour = float(self.clock_hour[step])
        day = dates(self.year)[int(self.day[step])]
        raw = (step % self.steps_per_day) * self.step_h
        if hour < raw - 12:
            day += timedelta(days=1)
        minutes = round(hour * 60) % 1440
        return f"{day.day} {MONTHS[day.month - 1]} {minutes // 60:02d}:{minutes % 60:02d}"


MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


@lru_cache(maxsize=8)
def dates(year: int) -> tuple[datetime, ...]:
    """Return midnight of the 365 days of a year, 29 February dropped."""
    first = datetime(year, 1, 1)
    days = (first + timedelta(days=i) for i in range(366))
    return tuple(d for d in days if d.year == year and (d.month, d.day) != (2, 29))


@lru_cache(maxsize=32)
def standard_offset_h(year: int, time_zone: str) -> float:
    """Return the UTC offset of a zone's standard time in a year: its least, sampled twice a month. [h]"""
    zone = ZoneInfo(time_zone)
    return min(_offset_h(zone, d.replace(tzinfo=UTC).timestamp()) for d in (*dates(year)[::15], dates(year)[181]))


@lru_cache(maxsize=8)
def year_calendar(year: int, time_zone: str, step_s: int = 300) -> YearCalendar:
    """Return the calendar of a year in a time zone; `step_s` must divide an hour.

    Raises
    ------
    ValueError
        When `step_s` does not divide 3600.
    """
    if 3600 % step_s:
        raise ValueError(f"a step of {step_s} s does not divide the hour")
    zone = ZoneInfo(time_zone)
    days = dates(year)
    stamps = [d.replace(tzinfo=UTC).timestamp() for d in days]
    standard_h = standard_offset_h(year, time_zone)
    saving_hourly = np.array([[_offset_h(zone, s + (h - standard_h) * 3600.0) - standard_h for h in range(24)] for s in stamps])
    per_hour = 3600 // step_s
    raw_hour = np.tile(np.arange(24 * per_hour) / per_hour, DAYS)
    day = np.repeat(np.arange(DAYS, dtype=np.int16), 24 * per_hour)
    clock = raw_hour + np.repeat(saving_hourly.ravel(), per_hour)
    clock_day = np.minimum(day + (clock >= 24.0), DAYS - 1)
    month_of_day = MONTH_OF_DAY.astype(np.int8)
    weekend_of_day = np.array([d.weekday() >= 5 for d in days])
    return YearCalendar(
        year=year,
        step_s=step_s,
        utc_offset_h=standard_h,
        month=month_of_day[day],
        day=day,
        clock_hour=clock % 24.0,
        clock_weekend=weekend_of_day[clock_day],
        clock_month=month_of_day[clock_day],
        saving_h=saving_hourly[:, 12].copy(),
    )


def _offset_h(zone: ZoneInfo, stamp: float) -> float:
    offset = datetime.fromtimestamp(stamp, zone).utcoffset()
    return offset.total_seconds() / 3600.0 if offset else 0.0


def clock_day(calendar: YearCalendar) -> NDArray[np.int64]:
    """Return the clock's day of every step, 0 to 364: daylight saving puts the last hour of a day into the next. (steps,) [days]"""
    raw = (np.arange(calendar.steps) % calendar.steps_per_day) * calendar.step_h
    day: NDArray[np.int64] = np.minimum(DAYS - 1, calendar.day + (calendar.clock_hour < raw - 12.0)).astype(np.int64)
    return day


def in_window(hour: NDArray[np.float64], start_h: float, end_h: float) -> NDArray[np.bool_]:
    """Return where a clock hour lies in [start, end), past midnight allowed; equal ends mean the whole day. Shape of `hour` [h]."""
    if start_h == end_h:
        return np.ones(hour.shape, dtype=np.bool_)
    if start_h < end_h:
        inside: NDArray[np.bool_] = (hour >= start_h) & (hour < end_h)
        return inside
    around: NDArray[np.bool_] = (hour >= start_h) | (hour < end_h)
    return around


def window_hours(start_h: float, end_h: float) -> float:
    """Return the length of a clock window, past midnight allowed. [h]"""
    return 24.0 if start_h == end_h else (end_h - start_h) % 24.0


def season_of_months(latitude_deg: float) -> dict[str, tuple[int, ...]]:
    """Return the months of each season by hemisphere."""
    north: dict[str, tuple[int, ...]] = {"winter": (12, 1, 2), "spring": (3, 4, 5), "summer": (6, 7, 8), "autumn": (9, 10, 11)}
    if latitude_deg >= 0:
        return north
    swap = {"winter": "summer", "summer": "winter", "spring": "autumn", "autumn": "spring"}
    return {swap[name]: months for name, months in north.items()}


@lru_cache(maxsize=2)
def days_of_seasons(*, north: bool) -> dict[str, NDArray[np.bool_]]:
    """Return which of the 365 days are of each season, by hemisphere. (365,) each [bool]"""
    return {name: np.isin(MONTH_OF_DAY, months) for name, months in season_of_months(1.0 if north else -1.0).items()}
