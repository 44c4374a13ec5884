"""Rows of a file put into a year of 365 days of local standard time: which year, 29 February, what is missing or stands twice."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTHS, dates
from calm_relay.handed_in import bad
from calm_relay.tables.clock import INTERVALS_S, Instants, standard_offset

Array = NDArray[np.float64]
MOST_MISSING_FRAC = 0.1
LONGEST_GAP_H = 14 * 24.0
GAPS_NAMED = 3


@dataclass(frozen=True, eq=False)
class Placed:
    """A year's rows (NaN where missing) by name; `leap` sums what 29 February held, `years` are the whole years of the file."""

    year: int
    rows: dict[str, Array]
    missing: NDArray[np.bool_]
    leap: dict[str, float]
    notes: tuple[str, ...]
    years: tuple[int, ...]


def place(
    path: str, begin_utc: Instants, step: int, values: Mapping[str, Array], time_zone: str, wanted: int | None = None
) -> Placed:
    """Put rows into the calendar year `wanted`, else into the 365 days that end with the last whole day of the file.

    Parameters
    ----------
    path : str
        The file's name, for what is said of it.
    begin_utc : ndarray of datetime64[s], (rows,)
    step : int
        Interval of the rows. [s]
    values : mapping of name to ndarray (rows,)
    time_zone : str
        Its standard time is the year's.

    Raises
    ------
    BadInput
        When an interval stands twice, less than a year is there, or too much of it is missing.
    """
    if step not in INTERVALS_S:
        raise bad(path, "", f"its interval is {step} s", "give 1, 5, 10, 15, 30 or 60 minutes")
    year = _year_of(begin_utc) if wanted is None else wanted
    local = begin_utc + standard_offset(year, time_zone)
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
        raise bad(path, "", f"it holds {days} days", "give a whole year")
    inside = (local >= first_day) & (local < last_day)
    local, kept = local[inside], {name: np.asarray(row, dtype=float)[inside] for name, row in values.items()}
    leap_day = _is_leap_day(local.astype("datetime64[D]"))
    leap = {name: float(np.nansum(row[leap_day])) for name, row in kept.items()}
    local, kept = local[~leap_day], {name: row[~leap_day] for name, row in kept.items()}
    slot = _slot_of(local, step)
    rows: dict[str, Array] = {}
    missing = np.zeros(DAYS * 86_400 // step, dtype=bool)
    for name, row in kept.items():
        rows[name] = np.full(len(missing), np.nan)
        rows[name][slot] = row
        missing |= np.isnan(rows[name])
    notes = _gap_notes(missing, step, path, year)
    shifted = _other_weekdays(local, year)
    if shifted:
        words = f"{shifted} days are of another year than {year} and fall on another weekday there: mind prices by weekday"
        notes = (*notes, words)
    return Placed(year=year, rows=rows, missing=missing, leap=leap, notes=notes, years=years)


def _year_of(begin: Instants) -> int:
    """Return the calendar year that most of the last 365 days lie in."""
    last = begin.max()
    recent = begin[begin > last - np.timedelta64(365, "D")]
    years = recent.astype("datetime64[Y]").astype(int) + 1970
    return int(np.bincount(years).argmax())


def _whole_years(local: Instants, step: int) -> tuple[int, ...]:
    """Return the calendar years of which no more is missing than can be filled."""
    least = (1.0 - MOST_MISSING_FRAC) * DAYS * 86_400 / step
    years, counts = np.unique(local.astype("datetime64[Y]").astype(int) + 1970, return_counts=True)
    return tuple(int(year) for year, count in zip(years, counts, strict=True) if count >= least)


def _other_weekdays(local: Instants, year: int) -> int:
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


def _is_leap_day(days: Instants) -> NDArray[np.bool_]:
    month = days.astype("datetime64[M]")
    found: NDArray[np.bool_] = (month.astype(int) % 12 == 1) & ((days - month.astype("datetime64[D]")).astype(int) == 28)
    return found


def _slot_of(local: Instants, step: int) -> NDArray[np.int64]:
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


def _refuse_twice(local: Instants, path: str) -> None:
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
