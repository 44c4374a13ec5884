"""Interval data in CSV of many styles: columns, units, dates, decimals, daylight saving and labels are guessed and said.

Long form: a row an interval, a stamp (or date and time) and one column a channel. Wide form: a row a day, a column an interval.
"""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import standard_offset_h
from calm_relay.errors import BadInput
from calm_relay.handed_in import Watch, unwatched
from calm_relay.load.meter import INTERVALS_S, Readings, bad, meter_bytes

Array = NDArray[np.float64]
# Words of a heading, folded, that name a channel; the first that fits wins.
WORDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("discharge", ("discharge", "from battery", "battery out")),
    ("charge", ("charge", "to battery", "battery in")),
    ("export", ("export", "feed-in", "feed in", "fed in", "returned", "to grid", "surplus", "received by")),
    ("solar", ("solar", "pv", "generation", "production")),
    (
        "import",
        (
            "import",
            "consumption",
            "usage",
            "use",
            "from grid",
            "purchased",
            "demand",
            "load",
            "delivered",
            "energy",
            "value",
            "kwh",
            "wh",
            "kw",
            "power",
        ),
    ),
)
UNITS: tuple[tuple[str, str, float], ...] = (  # word in the heading, what it is, to Wh of the interval or to W
    ("kwh", "energy", 1000.0), ("mwh", "energy", 1e6), ("wh", "energy", 1.0), ("kw", "power", 1000.0), ("watt", "power", 1.0),
    ("(w)", "power", 1.0), ("[w]", "power", 1.0), ("_w", "power", 1.0), (" w", "power", 1.0),
)  # fmt: skip
FORMATS = (  # what a stamp may look like, how pandas reads it, and its words
    ("%Y-%m-%d %H:%M:%S", "year-month-day"), ("%Y-%m-%d %H:%M", "year-month-day"), ("%Y/%m/%d %H:%M", "year/month/day"),
    ("%Y/%m/%d %H:%M:%S", "year/month/day"), ("%d/%m/%Y %H:%M", "day/month/year"), ("%m/%d/%Y %H:%M", "month/day/year"),
    ("%d/%m/%Y %H:%M:%S", "day/month/year"), ("%m/%d/%Y %H:%M:%S", "month/day/year"), ("%d.%m.%Y %H:%M", "day.month.year"),
    ("%d.%m.%Y %H:%M:%S", "day.month.year"), ("%d-%m-%Y %H:%M", "day-month-year"), ("%d-%b-%Y %H:%M", "day-month-year"),
    ("%m/%d/%Y %I:%M %p", "month/day/year, 12 hours"), ("%d/%m/%Y %I:%M %p", "day/month/year, 12 hours"),
    ("%m/%d/%Y %I:%M:%S %p", "month/day/year, 12 hours"), ("%Y%m%d %H:%M", "yearmonthday"),
    ("%Y%m%d%H%M", "yearmonthdayhourminute"),
)  # fmt: skip
CHUNK_ROWS = 50_000
DATES = ("%Y-%m-%d", "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%Y/%m/%d", "%Y%m%d", "%d-%b-%Y")


def read_meter_csv(path: Path, time_zone: str, watch: Watch = unwatched) -> Readings:
    """Read interval data; `time_zone` is the job's, for stamps that name no offset.

    Raises
    ------
    BadInput
        One clear line naming row and column.
    """
    raw = meter_bytes(path)
    watch("its text", 0.02)
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise bad(path, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8") from error
    delimiter = _delimiter(text)
    table, skipped = _table(path, text, delimiter, watch)
    heads = [str(name).strip() for name in table.columns]
    wide = _wide_interval(heads)
    if wide:
        return _wide(path, table, heads, wide, skipped, delimiter, time_zone)
    return _long(path, table, heads, skipped, delimiter, time_zone, watch)


def _delimiter(text: str) -> str:
    lines = [line for line in text.split("\n", 40)[:40] if line.strip()]
    return max((";", "\t", ","), key=lambda mark: sorted(line.count(mark) for line in lines)[len(lines) // 2])


def _table(path: Path, text: str, delimiter: str, watch: Watch) -> tuple[Any, int]:
    """Return the table as text cells and the number of lines above its first row of data."""
    import pandas as pd

    lines = text.split("\n", 60)[:60]
    counts = [line.count(delimiter) for line in lines]
    widest = max(counts, default=0)
    if widest < 1:
        raise bad(
            path, "row 1", "it is no table: no column is told from another", "give a CSV with a time column and a value column"
        )
    head = next(i for i, count in enumerate(counts) if count == widest and not _has_stamp(lines[i], delimiter))
    try:
        source, parts = io.StringIO(text), []
        chunks = pd.read_csv(
            source, sep=delimiter, dtype=str, keep_default_na=False, skiprows=head, skip_blank_lines=True, engine="c",
            chunksize=CHUNK_ROWS,
        )  # fmt: skip
        for part in chunks:
            parts.append(part)
            watch("its rows", 0.05 + 0.4 * source.tell() / len(text))
        table = pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]
    except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, StopIteration) as error:
        raise bad(path, "", f"its rows are not of one shape ({error})", "give every row the same columns") from error
    if table.empty:
        raise bad(path, "", "there is no row under its heading", "give a meter file")
    return table, head + 1


def _has_stamp(line: str, delimiter: str) -> bool:
    first = line.split(delimiter, 1)[0].strip(' "')
    return bool(re.match(r"\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}", first)) or first.isdigit()


def _wide_interval(heads: list[str]) -> int:
    """Return the interval of a wide table in seconds, 0 where it is none: 24, 48, 96 … columns of times of day."""
    times = [h for h in heads if re.fullmatch(r"\d{1,2}:\d{2}(:\d{2})?([ -].*)?", h)]
    return 86_400 // len(times) if len(times) in (24, 48, 96, 144, 288) else 0


def _long(path: Path, table: Any, heads: list[str], skipped: int, delimiter: str, time_zone: str, watch: Watch) -> Readings:
    watch("its times", 0.45)
    stamps, used, how = _stamps(path, table, heads, skipped)
    watch("its clock", 0.65)
    begin, interval, told = _instants(path, stamps, time_zone, skipped)
    energies: dict[str, Array] = {}
    guesses = [("time", how), *told]
    for name, head in zip(table.columns, heads, strict=True):
        if name in used:
            continue
        channel = _channel(head)
        if channel is None or channel in energies:
            continue
        watch(f"its column {head}", 0.75 + 0.2 * len(energies) / len(heads))
        values = _numbers(path, table[name], head, skipped, delimiter)
        if values is None:
            continue
        factor, words = _unit(head, values, interval)
        energies[channel] = values * factor
        guesses.append((f"column '{head}'", f"{channel}, {words}"))
    if not energies:
        raise bad(path, "row 1", f"no column of energy or power is known among: {', '.join(heads)[:120]}", "name one 'import kWh'")
    return Readings(path.name, "CSV", begin, interval, energies, tuple(guesses))


def _wide(path: Path, table: Any, heads: list[str], interval: int, skipped: int, delimiter: str, time_zone: str) -> Readings:
    import pandas as pd

    columns = [name for name, head in zip(table.columns, heads, strict=True) if re.match(r"\d{1,2}:\d{2}", head)]
    dates, how = None, ""
    for name in table.columns[:3]:
        dates, how = _parse(table[name].str.strip(), DATES)
        if dates is not None:
            break
    if dates is None:
        raise bad(path, f"row {skipped + 1}, column '{heads[0]}'", f"'{table.iloc[0, 0]}' is no date", "write it like 2025-01-31")
    cells = [_numbers(path, table[name], str(name), skipped, delimiter) for name in columns]
    if any(values is None for values in cells):
        raise bad(path, f"row {skipped + 1}", "a column of times holds no numbers", "fill it")
    values = np.column_stack([c for c in cells if c is not None])
    midnight = dates.to_numpy().astype("datetime64[s]")
    steps = (np.arange(values.shape[1]) * interval).astype("timedelta64[s]")
    stamps = pd.Series((midnight[:, None] + steps[None, :]).ravel())
    order = np.argsort(stamps.to_numpy(), kind="stable")
    begin = _standard(stamps.iloc[order].reset_index(drop=True), time_zone)
    flat = values.ravel()[order]
    factor, words = _unit(" ".join(heads) + " " + path.stem, flat, interval)
    first = heads[[h in columns for h in table.columns].index(True)]
    label = "label begins the interval" if first.startswith(("00:00", "0:00")) else "label ends the interval"
    guesses = (
        ("form", "a row a day"),
        ("date", how),
        ("columns", f"import, {words}"),
        ("label", label),
        ("clock", "standard time"),
    )
    return Readings(path.name, "CSV", begin, interval, {"import": flat * factor}, guesses)


def _standard(stamps: Any, time_zone: str) -> NDArray[np.datetime64]:
    """Return UTC instants of stamps in a zone's standard time all year."""
    year = int(stamps.iloc[len(stamps) // 2].year)
    offset = np.timedelta64(round(standard_offset_h(year, time_zone) * 3600), "s")
    found: NDArray[np.datetime64] = stamps.to_numpy().astype("datetime64[s]") - offset
    return found


def _stamps(path: Path, table: Any, heads: list[str], skipped: int) -> tuple[Any, list[Any], str]:
    """Return the stamps as read, the columns they take, and how they were understood."""
    import pandas as pd

    first, names = table.columns[0], list(table.columns)
    column = table[first].str.strip()
    sample = str(column.iloc[0])
    if re.fullmatch(r"\d{9,10}", sample):
        return pd.to_datetime(pd.to_numeric(column), unit="s", utc=True), [first], "seconds since 1970, UTC"
    if re.search(r"(Z|[+-]\d{2}:?\d{2})$", sample) and re.match(r"\d{4}-", sample):
        stamps = pd.to_datetime(column, format="ISO8601", utc=True, errors="coerce")
        _refuse_unread(path, stamps, column, heads[0], skipped)
        return stamps, [first], "with UTC offset"
    found, how = _parse(column.str.replace("T", " ", n=1) if "T" in sample else column, [f for f, _ in FORMATS])
    if found is not None:
        return found, [first], f"{dict(FORMATS)[how]}"
    if len(names) > 1:
        both = column + " " + table[names[1]].str.strip()
        found, how = _parse(both, [f for f, _ in FORMATS])
        if found is not None:
            return found, names[:2], f"{dict(FORMATS)[how]}, time in a column of its own"
    shown = next((str(v) for v in column if not re.match(r"\d", str(v))), sample)
    row = skipped + 1 + int(next((i for i, v in enumerate(column) if str(v) == shown), 0))
    raise bad(path, f"row {row}, column '{heads[0]}'", f"'{shown[:40]}' is no time", "write it like 2025-01-31 18:30")


def _parse(column: Any, formats: Any) -> tuple[Any, str]:
    """Return stamps by the first format that reads a sample and then all of them, and of several the one that runs forward."""
    import pandas as pd

    sample = column.iloc[:: max(1, len(column) // 400)]
    best: tuple[float, Any, str] | None = None
    for form in formats:
        tried = pd.to_datetime(sample, format=form, errors="coerce")
        if tried.isna().mean() > 0.02:
            continue
        whole = pd.to_datetime(column, format=form, errors="coerce")
        if whole.isna().any():
            continue
        ahead = float((whole.diff().dropna() > pd.Timedelta(0)).mean()) if len(whole) > 1 else 1.0
        if best is None or ahead > best[0] + 1e-6:
            best = (ahead, whole, form)
    return (None, "") if best is None else (best[1], best[2])


def _bad_cell(path: Path, skipped: int, at: int, head: str, problem: str, remedy: str) -> BadInput:
    return bad(path, f"row {skipped + 1 + at}, column '{head}'", problem, remedy)


def _refuse_unread(path: Path, stamps: Any, column: Any, head: str, skipped: int) -> None:
    wrong = np.flatnonzero(stamps.isna().to_numpy())
    if len(wrong):
        shown = str(column.iloc[int(wrong[0])])
        raise _bad_cell(path, skipped, int(wrong[0]), head, f"'{shown[:40]}' is no time", "write every stamp the same way")


def _instants(path: Path, stamps: Any, time_zone: str, skipped: int) -> tuple[NDArray[np.datetime64], int, list[tuple[str, str]]]:
    """Return begins in UTC, the interval, and what was guessed of clock and labels."""
    import pandas as pd

    interval = _interval(path, stamps)
    if stamps.dt.tz is not None:
        clock, instants = "offsets in the file", stamps.dt.tz_convert("UTC").dt.tz_localize(None).to_numpy().astype("datetime64[s]")
    else:
        order = stamps.diff().dropna()
        if float((order < pd.Timedelta(0)).mean()) > 0.5:
            raise bad(path, f"row {skipped + 1}", "the rows run backwards in time", "sort them, earliest first")
        clock, instants = _from_clock(stamps, time_zone)
    offset = np.timedelta64(round(standard_offset_h(int(stamps.iloc[len(stamps) // 2].year), time_zone) * 3600), "s")
    by_clock, by_standard = stamps.iloc[[0, -1]].tolist(), pd.to_datetime(instants[[0, -1]] + offset).tolist()
    ends = any(
        last.hour == last.minute == 0 and first.hour * 3600 + first.minute * 60 == interval
        for first, last in (by_clock, by_standard)
    )
    words = "label ends the interval" if ends else "label begins the interval"
    if ends:
        instants = instants - np.timedelta64(interval, "s")
    return instants, interval, [("interval", f"{interval // 60} min"), ("label", words), ("clock", clock)]


def _interval(path: Path, stamps: Any) -> int:
    steps = stamps.diff().dropna().dt.total_seconds().to_numpy()
    if not len(steps):
        raise bad(path, "", "it holds one reading", "give a year of them")
    typical = int(np.median(steps))
    if typical not in INTERVALS_S:
        raise bad(path, "", f"its rows are {typical} s apart", "give 1, 5, 10, 15, 30 or 60 minutes")
    return typical


def _from_clock(stamps: Any, time_zone: str) -> tuple[str, NDArray[np.datetime64]]:
    """Return how a clock without offsets runs, and its instants: with daylight saving where hour gone and hour twice show it."""
    import pandas as pd

    plain = pd.Series(stamps.to_numpy())
    twice = _second_time(plain.to_numpy())
    summer = np.ones(len(plain), dtype=bool)
    gone = plain.dt.tz_localize(time_zone, ambiguous=summer, nonexistent="NaT").isna().to_numpy()
    if gone.any():  # hours that daylight saving leaves out: the clock never changes if the hour after them is there as well
        after = plain[gone].dt.tz_localize(time_zone, ambiguous=summer[gone], nonexistent="shift_forward").dt.tz_localize(None)
        if after.isin(plain).any():
            return "standard time all year", _standard(plain, time_zone)
    told = plain.dt.tz_localize(time_zone, ambiguous=~twice, nonexistent="shift_forward")
    words = "daylight saving, the autumn hour twice" if twice.any() else "the zone's clock"
    return words, told.dt.tz_convert("UTC").dt.tz_localize(None).to_numpy().astype("datetime64[s]")


def _second_time(stamps: NDArray[np.datetime64]) -> NDArray[np.bool_]:
    """Return where a stamp comes for the second time: after the clock went back, until it is past where it was."""
    top = np.maximum.accumulate(stamps)
    again: NDArray[np.bool_] = np.concatenate(([False], stamps[1:] <= top[:-1]))
    return again


def _channel(head: str) -> str | None:
    folded = head.casefold()
    return next((channel for channel, words in WORDS if any(word in folded for word in words)), None)


def _numbers(path: Path, column: Any, head: str, skipped: int, delimiter: str) -> Array | None:
    """Return a column as numbers, NaN where a cell is empty; None where it holds words only."""
    import pandas as pd

    cells = column.str.strip()
    if delimiter != "," and cells.str.contains(",", regex=False).any():
        cells = cells.str.replace(".", "", regex=False).str.replace(",", ".", regex=False)
    values: Array = pd.to_numeric(cells.where(cells != "", None), errors="coerce").to_numpy(dtype=float)
    wrong = np.flatnonzero(
        np.isnan(values) & (cells != "").to_numpy() & ~cells.str.casefold().isin(["nan", "null", "-", "n/a"]).to_numpy()
    )
    if len(wrong) > len(values) / 2:
        return None
    if len(wrong):
        shown = str(column.iloc[int(wrong[0])])
        problem = f"'{shown[:40]}' is not a number"
        raise _bad_cell(path, skipped, int(wrong[0]), head, problem, "write a plain number, or leave it empty")
    low = np.flatnonzero(values < 0)
    if len(low):
        at = int(low[0])
        problem = f"{values[at]:g} is below 0"
        raise _bad_cell(path, skipped, at, head, problem, "give import and export in columns of their own")
    return values


def _unit(head: str, values: Array, interval: int) -> tuple[float, str]:
    """Return what turns a column into Wh an interval, and the unit in words; without one in the heading, by size."""
    folded = f" {head.casefold()} "
    for word, kind, factor in UNITS:
        if word in folded:
            name = word.strip("()[]_ ")
            return (
                (factor, name)
                if kind == "energy"
                else (factor * interval / 3600.0, f"{'W' if name == 'watt' else name} (mean power)")
            )
    day = float(np.nanmean(values)) * 86_400 / interval
    if day < 300:
        return 1000.0, "kWh by its size"
    return 1.0, "Wh by its size"
