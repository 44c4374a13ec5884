"""The time of each row of a meter file: which columns tell it, how it is written, and what its labels stand for."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import product
from typing import Any, NamedTuple

import numpy as np

from calm_relay.handed_in import bad
from calm_relay.tables.sheet import STAMP, Sheet

DATES = {
    "%Y-%m-%d": "year-month-day", "%d.%m.%Y": "day.month.year", "%d/%m/%Y": "day/month/year", "%m/%d/%Y": "month/day/year",
    "%Y/%m/%d": "year/month/day", "%d-%m-%Y": "day-month-year", "%m-%d-%Y": "month-day-year", "%d-%b-%Y": "day-month-year",
    "%d %b %Y": "day month year", "%d %B %Y": "day month year", "%b %d %Y": "month day year", "%B %d %Y": "month day year",
    "%Y%m%d": "yearmonthday", "%Y.%m.%d": "year.month.day", "%d.%m.%y": "day.month.year", "%d/%m/%y": "day/month/year",
    "%m/%d/%y": "month/day/year", "%d-%b-%y": "day-month-year",
}  # fmt: skip
CLOCKS = ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f", "%I:%M %p", "%I:%M:%S %p", "%I:%M%p", "%H.%M", "%H%M", "%H%M%S")
OFFSET = re.compile(r"(\d\d:\d\d(?::\d\d)?(?:\.\d+)?)\s*(Z|[+-]\d\d(?::?\d\d)?)$")
NAMED = re.compile(r"\s([A-Z]{3,4})$")
NAMED_H = {  # abbreviations of clocks as files write them
    "UTC": 0, "GMT": 0, "WET": 0, "BST": 1, "WEST": 1, "CET": 1, "CEST": 2, "EET": 2, "EEST": 3, "AWST": 8, "ACST": 9.5,
    "ACDT": 10.5, "AEST": 10, "AEDT": 11, "NZST": 12, "NZDT": 13,
    "AKST": -9, "AKDT": -8, "PST": -8, "PDT": -7, "MST": -7, "MDT": -6, "CST": -6,
    "CDT": -5, "EST": -5, "EDT": -4, "AST": -4, "ADT": -3, "HST": -10,
}  # fmt: skip
BEGIN = re.compile(r"\b(start|begin|beginning|from|von|ab|debut|desde|van)\b")
END = re.compile(r"\b(end|ends|ending|until|bis|ende|endzeit|fin|hasta|tot|he)\b")
COUNTED = re.compile(r"\b(hour|hours|period|interval|slot|stunde|heure|hora|uur|hh|sp|he)\b")
FOOT_ROWS = 5  # at the foot of a file: sums and remarks
MIDNIGHTS = 30  # as often as this, an end label of 00:00 that bears the day it ends is the file's way


@dataclass(frozen=True, eq=False)
class Stamps:
    """Times of the rows that have one. `ends`: labels end their interval, begin it, or nothing says (None)."""

    times: Any  # pandas series, its index rows of the file; aware of UTC or a plain clock
    used: tuple[int, ...]
    how: str
    ends: bool | None = None


def read_stamps(sheet: Sheet, time_zone: str) -> tuple[Sheet, Stamps]:
    """Return the rows that are readings, earliest first, and their times.

    Raises
    ------
    BadInput
        No column tells the time, or a row has none that can be read; row and column are named.
    """
    order = sorted(range(len(sheet.heads)), key=lambda at: bool(_says(END, sheet.heads[at])) - bool(_says(BEGIN, sheet.heads[at])))
    fault: tuple[int, int] | None = None
    for at in order:
        if not sheet.sample(at, 50).str.match(STAMP).mean() > 0.6:
            continue
        sheet = _without_foot(sheet, at)
        found = _from_epoch(sheet, at) or _from_text(sheet, at) or _from_date_and_more(sheet, at, time_zone)
        if found is not None:
            return _earliest_first(sheet, found)
        fault = fault or (at, _first_odd(sheet, at))
    at, row = fault or (order[0], 0)
    shown = str(sheet.cells[at].iloc[row])
    where = f"row {sheet.cells.index[row]}, column '{sheet.heads[at]}'"
    raise bad(sheet.path, where, f"'{shown[:40]}' is no time", "write every stamp the same way, like 2025-01-31 18:30")


def _earliest_first(sheet: Sheet, stamps: Stamps) -> tuple[Sheet, Stamps]:
    """Return rows and times turned round where they run from the latest back."""
    if np.sign(stamps.times.diff().dt.total_seconds()).sum() >= 0:
        return sheet, stamps
    times = stamps.times.iloc[::-1]
    return sheet.rows(times.index), replace(stamps, times=times)


def _says(pattern: re.Pattern[str], head: str) -> bool:
    return bool(pattern.search(head.casefold().replace("_", " ")))


def _ends(head: str) -> bool | None:
    return True if _says(END, head) else False if _says(BEGIN, head) else None


def _without_foot(sheet: Sheet, at: int) -> Sheet:
    """Return the sheet without a few last rows that have no stamp."""
    foot = sheet.cells[at].iloc[-FOOT_ROWS:].str.strip().str.match(STAMP).to_numpy()
    last = len(foot) - int(np.argmax(foot[::-1])) if foot.any() else len(foot)
    cut = len(foot) - last
    return sheet if cut == 0 else sheet.rows(sheet.cells.index[:-cut])


def _first_odd(sheet: Sheet, at: int) -> int:
    """Return the first row whose cell is unlike a stamp, or has another shape than most."""
    shapes = sheet.column(at).str.replace(r"\d", "9", regex=True)
    odd = np.flatnonzero(~sheet.column(at).str.match(STAMP).to_numpy())
    rare = np.flatnonzero((shapes != shapes.mode().iloc[0]).to_numpy())
    return int(odd[0]) if len(odd) else int(rare[0]) if len(rare) else 0


def _from_epoch(sheet: Sheet, at: int) -> Stamps | None:
    import pandas as pd

    digits = re.fullmatch(r"(\d{9,10}|\d{12,13})(\.\d+)?", str(sheet.cells[at].iloc[0]).strip())
    if not digits:
        return None
    cells = sheet.column(at)
    unit = "s" if len(digits.group(1)) < 12 else "ms"
    values = pd.to_numeric(cells, errors="coerce")
    if values.isna().any() or not 1990 < pd.Timestamp(float(values.iloc[0]), unit=unit).year < 2200:
        return None
    words = "seconds" if unit == "s" else "milliseconds"
    times = pd.to_datetime(values.round().astype("int64"), unit=unit, utc=True)
    return Stamps(times, (at,), f"{words} since 1970, UTC", _ends(sheet.heads[at]))


def _from_text(sheet: Sheet, at: int) -> Stamps | None:
    found = parse(sheet.column(at), [*(f"{d} {c}" for d, c in product(DATES, CLOCKS)), "%Y%m%d%H%M", "%Y%m%d%H%M%S"])
    return None if found is None else Stamps(found.times, (at,), found.words, found.ends or _ends(sheet.heads[at]))


def _from_date_and_more(sheet: Sheet, at: int, time_zone: str) -> Stamps | None:
    """Return stamps of a date in one column and a time of day, or a count of hours or periods, in another."""
    dates = sheet.column(at)
    read = parse(dates, list(DATES))
    if read is None:
        return None
    others = [i for i in (*range(at + 1, len(sheet.heads)), *range(at)) if i != at]
    others.sort(key=lambda i: _says(END, sheet.heads[i]))
    for i in others:
        cells = sheet.column(i)
        if not str(cells.iloc[0])[:1].isdigit():
            continue
        if ":" in str(cells.iloc[0]) or re.fullmatch(r"\d{4}|\d{6}", str(cells.iloc[0])):
            found = parse(dates + " " + cells, [f"{read.form} {c}" for c in CLOCKS])
            if found is not None:
                words = f"{found.words}, time in a column of its own"
                return Stamps(found.times, (at, i), words, found.ends or _ends(sheet.heads[i]))
        counted = _counted(read.times, cells, sheet.heads[i], i == at + 1, time_zone)
        if counted is not None:
            times, words = counted
            return Stamps(times, (at, i), f"{DATES[read.form]}, {words}", False)
    return Stamps(read.times, (at,), DATES[read.form])


def _counted(dates: Any, cells: Any, head: str, beside: bool, time_zone: str) -> tuple[Any, str] | None:
    """Return the begins of hours or periods counted within their day, and in words how they are counted."""
    import pandas as pd

    if not (beside or _says(COUNTED, head)) or not cells.str.fullmatch(r"\d{1,3}").all():
        return None
    number = pd.to_numeric(cells).astype(int)
    low, high = int(number.min()), int(number.max())
    count = next((n for n in (24, 48, 96, 144, 288) if n - 1 <= high <= n + n // 24), 0)
    if not count or low > 1:
        return None
    first = 0 if low == 0 else 1
    name = "hour" if count == 24 else "period"
    since = pd.to_timedelta((number - first) * (86_400 // count), unit="s")
    if high - first >= count:  # the autumn day has more of them: they are counted on through the change of the clock
        midnight = dates.dt.tz_localize(time_zone, ambiguous=np.ones(len(dates), dtype=bool), nonexistent="shift_forward")
        return midnight.dt.tz_convert("UTC") + since, f"{name}s of the day counted through the change of the clock"
    return dates + since, f"{name}s of the day counted from {first}, {first} begins at midnight"


class Parsed(NamedTuple):
    """Stamps as read (UTC where offsets are given), their form, what else there is to say; `ends` as in `Stamps`."""

    times: Any
    form: str
    more: str
    ends: bool | None

    @property
    def words(self) -> str:
        """How the stamps are written."""
        date = re.split(r" ?%[HI]", self.form)[0]
        return f"{DATES[date]}{', 12 hours' if '%p' in self.form else ''}{self.more}"


def parse(column: Any, forms: list[str]) -> Parsed | None:
    """Read a column of stamps by the form that reads all of them and of several runs most evenly; None where none does."""
    if re.search(r"[T,]|\s\s", str(column.iloc[0])):
        column = column.str.replace(r"(?<=\d)[T,]\s*|\s+", " ", regex=True)
    cells, shift_h, more = _offsets(column)
    late = cells.str.contains(" 24", regex=False)
    if late.any():
        late = cells.str.contains(r" 24:?00(?::?00)?$", regex=True)
        cells = cells.str.replace(r" 24(?=:?00(?::?00)?$)", " 00", regex=True)
    best = _best_form(cells, forms)
    if best is None:
        return None
    times, form = best
    if late.any():
        times = times + late.to_numpy() * np.timedelta64(1, "D")
    if shift_h is not None:
        return Parsed((times - shift_h).dt.tz_localize("UTC"), form, more, True if late.any() else None)
    times, own_midnight = _own_midnights(times)
    return Parsed(times, form, more, True if late.any() or own_midnight else None)


def _offsets(cells: Any) -> tuple[Any, Any, str]:
    """Return cells without their offset from UTC, the offsets, and that they are there."""
    import pandas as pd

    sample = str(cells.iloc[0])
    if OFFSET.search(sample):
        parts = cells.str.extract(OFFSET.pattern)
        sign = np.where(parts[1].str.startswith("-"), -1.0, 1.0)
        hours = pd.to_numeric(parts[1].str[1:3], errors="coerce").fillna(0.0)
        minutes = pd.to_numeric(parts[1].str[-2:].where(parts[1].str.len() > 3), errors="coerce").fillna(0.0)
        shift = pd.to_timedelta(sign * (hours * 60 + minutes), unit="min")
        return cells.str.replace(OFFSET, r"\1", regex=True), shift, ", with UTC offset"
    named = NAMED.search(sample)
    if named and named.group(1) in NAMED_H:
        hours = cells.str.extract(NAMED.pattern)[0].map(NAMED_H)
        if hours.notna().all():
            return cells.str.replace(NAMED, "", regex=True), pd.to_timedelta(hours, unit="h"), ", clocks by name"
    return cells, None, ""


def _best_form(cells: Any, forms: list[str]) -> tuple[Any, str] | None:
    import pandas as pd

    sample = cells.iloc[:: max(1, len(cells) // 400)]
    best: tuple[float, Any, str] | None = None
    for form in forms:
        if not _reads(str(cells.iloc[0]), form) or pd.to_datetime(sample, format=form, errors="coerce").isna().any():
            continue
        whole = pd.to_datetime(cells, format=form, errors="coerce")
        if whole.isna().any():
            continue
        steps = whole.diff().dropna()
        even = float((steps == steps.mode().iloc[0]).mean()) if len(steps) else 1.0
        if best is None or even > best[0] + 1e-6:
            best = (even, whole, form)
    return None if best is None else (best[1], best[2])


def _reads(cell: str, form: str) -> bool:
    try:
        datetime.strptime(cell, form)
    except ValueError:
        return False
    return True


def _own_midnights(times: Any) -> tuple[Any, bool]:
    """Put a day on labels of 00:00 that bear the date of the day they end; return whether there are any."""
    back = times.diff().dt.total_seconds().to_numpy()
    midnight = (times.dt.hour == 0) & (times.dt.minute == 0)
    odd = midnight.to_numpy() & (back < -79_000) & (back > -86_400)
    if int(odd.sum()) < MIDNIGHTS:
        return times, False
    if odd.sum() < midnight.sum() - 2:  # 00:00 also begins days: both ways are in the file
        return times, False
    return times + midnight.to_numpy() * np.timedelta64(1, "D"), True
