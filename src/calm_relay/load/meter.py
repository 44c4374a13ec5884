"""A meter's year: intervals of one or more channels put into the job's 365 days of local standard time, gaps found and filled.

Readers hand over instants (UTC) of the begin of each interval and its energy; nothing here knows a file format.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTHS, dates, standard_offset_h
from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import handed_in

Array = NDArray[np.float64]
CHANNELS = ("import", "export", "solar", "charge", "discharge")
INTERVALS_S = (60, 300, 600, 900, 1800, 3600)
MOST_MISSING_FRAC = 0.1
LONGEST_GAP_H = 14 * 24.0
GAPS_NAMED = 3
MOST_BYTES = 200_000_000


@dataclass(frozen=True, eq=False)
class Readings:
    """What a file holds, before it is put into a year.

    Attributes
    ----------
    begin_utc : ndarray of datetime64[s], (rows,)
        Begin of each interval.
    interval_s : int
    energy_wh : mapping of channel → ndarray (rows,)
        Energy of each interval; NaN where it is missing. [Wh]
    guesses : tuple of (what, found)
        What was guessed of the file, in words, to be confirmed.
    """

    file: str
    format: str
    begin_utc: NDArray[np.datetime64]
    interval_s: int
    energy_wh: Mapping[str, Array]
    guesses: tuple[tuple[str, str], ...]


@dataclass(frozen=True, eq=False)
class MeterYear:
    """One year of a meter in the job's fixed local standard time, 29 February dropped. Powers are means per interval. [W]

    `years` are the whole calendar years that the file holds.
    """

    file: str
    format: str
    year: int
    interval_s: int
    power_w: dict[str, Array]
    filled: NDArray[np.bool_]
    leap_day_wh: dict[str, float]
    guesses: tuple[tuple[str, str], ...]
    notes: tuple[str, ...] = field(default=())
    years: tuple[int, ...] = ()

    def year_wh(self, channel: str) -> float:
        """Return a channel's energy of the year, filled gaps counted in. [Wh]"""
        return float(self.power_w[channel].sum()) * self.interval_s / 3600.0


def bad(path: Path | str, where: str, problem: str, remedy: str) -> BadInput:
    """Return one fault of a meter file."""
    return BadInput([Fault(str(path), where, " ".join(str(problem).split())[:300], remedy)])


def meter_bytes(path: Path) -> bytes:
    """Return a meter file's bytes; raises BadInput where it cannot be read, is empty or far too large."""
    raw = handed_in(path, MOST_BYTES, "it has {mb:.0f} MB", "give a few years at most, at one minute or longer")
    if not raw.strip():
        raise bad(path, "", "the file is empty", "give a meter file")
    return raw


def place_in_year(readings: Readings, time_zone: str, wanted: int | None = None) -> MeterYear:
    """Put readings into a year of the job's local standard time, and fill what is missing.

    The year is the calendar year `wanted`, else the 365 days that end with the last whole day of the file. A gap takes the mean
    of the same interval a week before and after (nearest weeks that have it). Energy of every interval that is there is kept
    exactly.

    Raises
    ------
    BadInput
        When an interval stands twice, less than a year is there, or too much of it is missing.
    """
    path, step = readings.file, readings.interval_s
    if step not in INTERVALS_S:
        raise bad(path, "", f"its interval is {step} s", "give 1, 5, 10, 15, 30 or 60 minutes")
    names = [name for name in CHANNELS if name in readings.energy_wh]
    year = _year_of(readings) if wanted is None else wanted
    offset = np.timedelta64(round(standard_offset_h(year, time_zone) * 3600), "s")
    local = readings.begin_utc + offset
    _refuse_twice(local, path)
    years = _whole_years(local, step)
    if wanted is None:
        last_day = (local.max() + np.timedelta64(step, "s")).astype("datetime64[D]")  # the first day that is not whole
        first_day = _back_a_year(last_day)
    elif wanted in years:
        first_day, last_day = np.datetime64(f"{wanted}-01-01", "D"), np.datetime64(f"{wanted + 1}-01-01", "D")
    else:
        has = ", ".join(str(y) for y in years) or "no whole calendar year"
        raise bad(path, "", f"it does not hold {wanted}; it holds {has}", "ask for a year it holds, or for none")
    if local.min() > first_day.astype("datetime64[s]") + np.timedelta64(int(LONGEST_GAP_H * 3600), "s"):
        days = int((last_day - local.min().astype("datetime64[D]")).astype(int))
        raise bad(path, "", f"it holds {days} days", "give a whole year, or type totals and a shape instead")
    inside = (local >= first_day) & (local < last_day)
    local, kept = local[inside], {name: np.asarray(readings.energy_wh[name], dtype=float)[inside] for name in names}
    calendar_days = local.astype("datetime64[D]")
    leap = _is_leap_day(calendar_days)
    leap_wh = {name: float(np.nansum(values[leap])) for name, values in kept.items()}
    local, kept = local[~leap], {name: values[~leap] for name, values in kept.items()}
    shifted = _other_weekdays(local, year)
    slot = _slot_of(local, step)
    per_year = DAYS * 86_400 // step
    year_w: dict[str, Array] = {}
    missing = np.zeros(per_year, dtype=bool)
    for name, values in kept.items():
        row = np.full(per_year, np.nan)
        row[slot] = values * 3600.0 / step
        missing |= np.isnan(row)
        year_w[name] = row
    notes = _gap_notes(missing, step, path, year)
    year_w = {name: _filled(row, step) for name, row in year_w.items()}
    if shifted:
        notes = (
            *notes,
            f"{shifted} days are of another year than {year} and fall on another weekday there: mind prices by weekday",
        )
    if any(leap_wh.values()):
        told = ", ".join(f"{name} {wh / 1000:.1f} kWh" for name, wh in leap_wh.items())
        notes = (*notes, f"29 February was dropped: {told}")
    return MeterYear(readings.file, readings.format, year, step, year_w, missing, leap_wh, readings.guesses, notes, years)


def _year_of(readings: Readings) -> int:
    """Return the calendar year that most of the last 365 days lie in."""
    last = readings.begin_utc.max()
    recent = readings.begin_utc[readings.begin_utc > last - np.timedelta64(365, "D")]
    years = recent.astype("datetime64[Y]").astype(int) + 1970
    return int(np.bincount(years).argmax())


def _whole_years(local: NDArray[np.datetime64], step: int) -> tuple[int, ...]:
    """Return the calendar years of which no more is missing than can be filled."""
    least = (1.0 - MOST_MISSING_FRAC) * DAYS * 86_400 / step
    years, counts = np.unique(local.astype("datetime64[Y]").astype(int) + 1970, return_counts=True)
    return tuple(int(year) for year, count in zip(years, counts, strict=True) if count >= least)


def _other_weekdays(local: NDArray[np.datetime64], year: int) -> int:
    """Return how many days fall on another weekday once their dates are read as dates of `year`."""
    days = np.unique(local.astype("datetime64[D]"))
    there = np.array([day.weekday() for day in dates(year)])[_slot_of(days.astype("datetime64[s]"), 86_400)]
    own = (days.astype(int) + 3) % 7  # 1 January 1970 was a Thursday
    return int(np.count_nonzero(there != own))


def _back_a_year(day: Any) -> Any:
    """Return the day 365 days (29 February not counted) before a day."""
    first = day - np.timedelta64(DAYS, "D")
    span = np.arange(first, day, dtype="datetime64[D]")
    return first - np.timedelta64(int(_is_leap_day(span).sum()), "D")


def _is_leap_day(days: NDArray[np.datetime64]) -> NDArray[np.bool_]:
    month = days.astype("datetime64[M]")
    found: NDArray[np.bool_] = (month.astype(int) % 12 == 1) & ((days - month.astype("datetime64[D]")).astype(int) == 28)
    return found


def _slot_of(local: NDArray[np.datetime64], step: int) -> NDArray[np.int64]:
    """Return the row of the job's year (1 January first) of each begin."""
    days = local.astype("datetime64[D]")
    start = np.array([np.datetime64(d, "D") for d in dates(2025)])
    starts = (start.astype("datetime64[M]").astype(int) % 12) * 31 + (
        start - start.astype("datetime64[M]").astype("datetime64[D]")
    ).astype(int)
    table = np.full(12 * 31, -1)
    table[starts] = np.arange(DAYS)
    month = days.astype("datetime64[M]")
    key = (month.astype(int) % 12) * 31 + (days - month.astype("datetime64[D]")).astype(int)
    within = (local - days.astype("datetime64[s]")).astype(int) // step
    slot: NDArray[np.int64] = table[key] * (86_400 // step) + within
    return slot


def _refuse_twice(local: NDArray[np.datetime64], path: str) -> None:
    order = np.argsort(local, kind="stable")
    same = np.flatnonzero(local[order][1:] == local[order][:-1])
    if len(same):
        when = str(local[order][same[0]]).replace("T", " ")
        more = f", and {len(same) - 1} more" if len(same) > 1 else ""
        raise bad(
            path, f"row {int(order[same[0] + 1]) + 1} of its readings", f"{when} (standard time) stands twice{more}", "keep one"
        )


def _gap_notes(missing: NDArray[np.bool_], step: int, path: str, year: int) -> tuple[str, ...]:
    count = int(missing.sum())
    if not count:
        return ()
    edges = np.flatnonzero(np.diff(np.concatenate((missing[-1:].astype(np.int8) * 0, missing.astype(np.int8), [0]))))
    lengths_h = (edges[1::2] - edges[::2]) * step / 3600.0
    longest_h = float(lengths_h.max())
    hours = count * step / 3600.0
    if count / len(missing) > MOST_MISSING_FRAC or longest_h > LONGEST_GAP_H:
        problem = f"{hours:.0f} hours are missing, {longest_h:.0f} on end"
        raise bad(path, "", problem, f"give a file with less than {MOST_MISSING_FRAC * 100:.0f} % and two weeks on end missing")
    longest = sorted(np.argsort(-lengths_h, kind="stable")[:GAPS_NAMED])
    named = "; ".join(f"{_when(int(edges[2 * i]), step, year)} for {lengths_h[i]:g} h" for i in longest)
    more = f", and {len(lengths_h) - GAPS_NAMED} shorter" if len(lengths_h) > GAPS_NAMED else ""
    return (
        f"{hours:.1f} hours were missing and are filled with the mean of the same time a week before and after",
        f"gaps (standard time): {named}{more}",
    )


def _when(slot: int, step: int, year: int) -> str:
    """Return the date and time at the begin of a row of the year."""
    day, within = divmod(slot * step, 86_400)
    date = dates(year)[day]
    return f"{date.day} {MONTHS[date.month - 1]} {within // 3600:02d}:{within % 3600 // 60:02d}"


def _filled(row: Array, step: int) -> Array:
    """Return a row whose gaps hold the mean of the same interval a week before and after, or of the nearest weeks that have it."""
    if not np.isnan(row).any():
        return row
    week = 7 * 86_400 // step
    out = row.copy()
    for distance in range(1, 27):
        gaps = np.isnan(out)
        if not gaps.any():
            break
        before, after = np.roll(row, distance * week), np.roll(row, -distance * week)
        both = np.where(np.isnan(before), after, np.where(np.isnan(after), before, (before + after) / 2.0))
        out[gaps] = both[gaps]
    return np.nan_to_num(out)
