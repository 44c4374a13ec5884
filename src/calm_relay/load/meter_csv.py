"""Interval data in CSV of many styles: columns, units, dates, decimals, daylight saving and labels are guessed and said.

Long form: a row an interval, a stamp (or date and time) and a column a channel, or a row a channel with its name in a column.
Wide form: a row a day (and channel), a column an interval.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from calm_relay.handed_in import Watch, bad, unwatched
from calm_relay.load.channels import Column, channels, kind_of, with_gaps
from calm_relay.load.meter import Readings, meter_bytes
from calm_relay.load.meter_units import hinted_unit
from calm_relay.tables.clock import instants_of, standard_offset
from calm_relay.tables.numbers import numbers
from calm_relay.tables.sheet import Sheet, read_sheet
from calm_relay.tables.stamps import Stamps, read_stamps

WIDE = (24, 48, 96, 144, 288)
TIME_HEAD = re.compile(r"\d{1,2}[:.]\d{2}(:\d{2})?(\s*[-–]\s*\d{1,2}[:.]\d{2}.*)?$")
UNIT_HEAD = re.compile(r"^(unit|units|uom|einheit|unite|unidad|eenheid)$")
MOST_NAMES = 8
TWICE_FRAC = 0.4  # so many rows with a time that is there already: channels stand in rows


@dataclass(frozen=True, eq=False)
class _Block:
    """Rows of one channel name (all rows where channels are columns), their times, and their numbers."""

    stamps: Stamps
    columns: tuple[Column, ...]


def read_meter_csv(path: Path, time_zone: str, watch: Watch = unwatched) -> Readings:
    """Read interval data; `time_zone` is the job's, for stamps that name no offset.

    Raises
    ------
    BadInput
        One clear line naming row and column.
    """
    sheet = read_sheet(path, meter_bytes(path), watch)
    watch("its times", 0.46)
    wide = _wide_columns(sheet)
    sheet, stamps = read_stamps(sheet, time_zone)
    watch("its numbers", 0.65)
    blocks = _wide_blocks(sheet, stamps, wide) if wide else _long_blocks(sheet, stamps, watch)
    block = _side_by_side(blocks)
    watch("its clock", 0.85)
    begin, interval, told = instants_of(path, block.stamps.times, block.stamps.ends, time_zone)
    columns, begin = with_gaps(block.columns, begin, interval)
    year = int(begin[len(begin) // 2].astype("datetime64[Y]").astype(int)) + 1970
    found = channels(path, columns, interval, begin + standard_offset(year, time_zone))
    form = (("form", "a row a day"),) if wide else ()
    guesses = (*sheet.told, *form, ("time", block.stamps.how), *told, *found.told)
    return Readings(file=path.name, format="CSV", begin_utc=begin, interval_s=interval, energy_wh=found.energy_wh, guesses=guesses)


def _wide_columns(sheet: Sheet) -> list[int]:
    """Return the columns that are intervals of a day: headed by times, or counted from 0 or 1; empty where there are none."""
    by_time = [i for i, head in enumerate(sheet.heads) if TIME_HEAD.match(head)]
    if len(by_time) in WIDE:
        return by_time
    counts = [(i, re.fullmatch(r"[A-Za-z]{0,8}[ _]?0*(\d{1,3})", head)) for i, head in enumerate(sheet.heads)]
    counted = [(i, int(m.group(1))) for i, m in counts if m]
    here = [i for i, _ in counted]
    for first in (0, 1):
        if len(counted) in WIDE and [n for _, n in counted] == list(range(first, first + len(counted))):
            return here
    return []


def _hint(sheet: Sheet, used: set[int]) -> str:
    """Return the unit that a column of units, the other headings or the lines above the table speak of."""
    for at, head in enumerate(sheet.heads):
        if UNIT_HEAD.match(head.casefold()):
            return hinted_unit(str(sheet.column(at).iloc[0]))
    heads = " ".join(head for at, head in enumerate(sheet.heads) if at in used)
    return hinted_unit(heads) or hinted_unit(sheet.above.rpartition("\n")[0])


def _name_column(sheet: Sheet, stamps: Stamps, taken: set[int]) -> int | None:
    """Return the column that names the channel of each row, where times come again and again and it tells them apart."""
    times = stamps.times
    if not float(times.duplicated().mean()) > TWICE_FRAC:
        return None
    best: tuple[float, int] | None = None
    for at in range(len(sheet.heads)):
        if at in taken:
            continue
        names = sheet.column(at).to_numpy()
        distinct = set(names[:2000]) | set(names[-2000:])
        if not 2 <= len(distinct) <= MOST_NAMES:
            continue
        import pandas as pd

        again = float(pd.DataFrame({"t": times.to_numpy(), "n": names}).duplicated().mean())
        if best is None or again < best[0]:
            best = (again, at)
    return best[1] if best is not None and best[0] < 0.05 else None


def _named(sheet: Sheet, stamps: Stamps, taken: set[int]) -> list[tuple[str, Sheet, Stamps]]:
    at = _name_column(sheet, stamps, taken)
    if at is None:
        return [("", sheet, stamps)]
    names = sheet.column(at)
    parts = []
    for name in dict.fromkeys(names):
        rows = names.index[(names == name).to_numpy()]
        parts.append((str(name), sheet.rows(rows), replace(stamps, times=stamps.times.loc[rows], used=(*stamps.used, at))))
    return parts


def _long_blocks(sheet: Sheet, stamps: Stamps, watch: Watch) -> list[_Block]:
    blocks = []
    parts = _named(sheet, stamps, set(stamps.used))
    hint = _hint(sheet, set(stamps.used))
    for name, rows, when in parts:
        columns = []
        wanted = [at for at in range(len(rows.heads)) if at not in when.used and not UNIT_HEAD.match(rows.heads[at].casefold())]
        for done, at in enumerate(wanted):
            watch(f"its column {rows.heads[at]}", 0.65 + 0.2 * done / len(wanted))
            head = f"{name} {rows.heads[at]}".strip()
            if not kind_of(head) and len(wanted) > 1:
                continue
            values = numbers(rows, at)
            if values is not None:
                columns.append(Column(head, values, rows.cells.index.to_numpy(), hint))
        blocks.append(_Block(when, tuple(columns)))
    return blocks


def _wide_blocks(sheet: Sheet, stamps: Stamps, wide: list[int]) -> list[_Block]:
    """Return the rows of days as rows of intervals."""
    import pandas as pd

    count = len(wide)
    step = np.timedelta64(86_400 // count, "s")
    first = sheet.heads[wide[0]]
    ends = bool(TIME_HEAD.match(first)) and not first.startswith(("00:00", "0:00", "00.00", "0.00"))
    hint = _hint(sheet, set(range(len(sheet.heads))) - set(wide))
    blocks = []
    for name, rows, when in _named(sheet, stamps, {*stamps.used, *wide}):
        cells = [numbers(rows, at) for at in wide]
        blank = np.full(len(rows.cells), np.nan)
        if all(c is None for c in cells):
            raise bad(sheet.path, f"row {rows.cells.index[0]}", "its columns of times hold no numbers", "fill them")
        values = np.column_stack([blank if c is None else c for c in cells])
        at_rows = np.repeat(rows.cells.index.to_numpy(), count)
        days = when.times.to_numpy().astype("datetime64[s]")
        times = (days[:, None] + np.arange(count) * step).ravel()
        others = [h for at, h in enumerate(sheet.heads) if at not in wide and at not in when.used]
        head = name or next((h for h in others if kind_of(h) not in ("", "plain")), "energy")
        how = f"{when.how}, a column an interval{', headed by its end' if ends else ''}"
        flat = replace(when, times=pd.Series(times, index=at_rows), ends=False, how=how)
        blocks.append(_Block(flat, (Column(head, values.ravel(), at_rows, hint),)))
    return blocks


def _side_by_side(blocks: list[_Block]) -> _Block:
    """Return blocks of the same times as one, without rows that hold nothing."""
    import pandas as pd

    base = max(blocks, key=lambda b: len(b.stamps.times))
    columns: list[Column] = []
    if len(blocks) == 1:
        columns = list(base.columns)
        times = base.stamps.times
    else:
        frames = [_counted(b.stamps.times) for b in blocks]
        union = _counted(base.stamps.times)
        for frame in frames:
            union = union.append(frame.difference(union, sort=False))
        if len(union) > len(base.stamps.times):
            union = union.sort_values()
        for block, frame in zip(blocks, frames, strict=True):
            for column in block.columns:
                series = pd.DataFrame({"v": column.values, "r": column.rows}, index=frame).reindex(union)
                columns.append(
                    replace(column, values=series["v"].to_numpy(), rows=series["r"].fillna(0).to_numpy().astype(np.int64))
                )
        times = pd.Series(union.get_level_values(0))
    if columns:
        there = ~np.all([np.isnan(c.values) for c in columns], axis=0)
        if there.any() and not there.all():
            times = times[there]
            columns = [replace(c, values=c.values[there], rows=c.rows[there]) for c in columns]
    return _Block(replace(base.stamps, times=times.reset_index(drop=True)), tuple(columns))


def _counted(times: Any) -> Any:
    """Return times with how often each was there before, so that the autumn hour that comes twice stays two."""
    import pandas as pd

    plain = times.reset_index(drop=True)
    return pd.MultiIndex.from_arrays([plain, plain.groupby(plain).cumcount()])
