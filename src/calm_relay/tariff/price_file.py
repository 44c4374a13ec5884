"""Hourly prices from a CSV: with stamps of any style, or 8760 numbers in a row; the unit is that of the heading."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS
from calm_relay.handed_in import bad, handed_in
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore
from calm_relay.tables.clock import instants_of
from calm_relay.tables.gaps import filled_by_weeks
from calm_relay.tables.numbers import numbers
from calm_relay.tables.sheet import STAMP, Sheet, read_sheet
from calm_relay.tables.stamps import read_stamps
from calm_relay.tables.year import place

Array = NDArray[np.float64]
Way = Literal["import", "export", "both"]  # what an hourly price pays
MOST_BYTES = 60_000_000
PRICE = re.compile(
    r"price|preis|prix|precio|prijs|spot|day.?ahead|tariff|rate|[kmc]t?\s*/|/\s*[km]wh|per\W?[km]wh|[$€£]|\beur\b|\busd\b"
)
CENT = re.compile(r"\b(ct|cts|cents?|c|p|pence|ore|øre|öre)\s*(/|per|\b)|¢")
UNITS = (  # of a heading, and what turns it into money per kWh
    (re.compile(r"mwh"), 1e-3, "per MWh"),
    (CENT, 1e-2, "a hundredth per kWh"),
    (re.compile(r"kwh"), 1.0, "per kWh"),
)
PLAIN_MOST = 2.0  # a price without a unit whose median is less is money per kWh
MOST = 100.0


@dataclass(frozen=True, eq=False)
class PriceYear:
    """Prices of the 8760 hours of local standard time [money per kWh], what was guessed of the file, and what is to be minded."""

    per_kwh: Array
    guesses: tuple[tuple[str, str], ...]
    notes: tuple[str, ...] = ()


def read_prices(path: Path | str, time_zone: str, calendar_year: int | None = None) -> PriceYear:
    """Read a year of prices.

    With stamps (intervals up to an hour, any style a meter file may have; `time_zone` for stamps without an offset) the last 365
    days are taken and quarters are averaged to hours; where `calendar_year`, the job's, is another, that is said. Without, 8760
    numbers in local standard time, one a row or in the last column.

    Raises
    ------
    BadInput
        One clear line naming row and column.
    """
    path = Path(path)
    raw = handed_in(path, MOST_BYTES, "it is far larger than a year of prices", "give 8760 prices")
    head = raw[:20_000].replace(b"\0", b"").decode("latin-1").splitlines()[:80]
    stamped = any(STAMP.match(cell.strip(' "')) for line in head for cell in re.split(r"[;,\t|]", line))
    return _by_stamps(path, raw, time_zone, calendar_year) if stamped else _bare(path, raw)


def price_words(made: PriceYear) -> str:
    """Return what a year of prices comes to, in words."""
    low, mean, high = (float(f(made.per_kwh)) for f in (np.min, np.mean, np.max))
    below = int(np.count_nonzero(made.per_kwh < 0))
    less = f", {below} h below nothing" if below else ""
    return f"{mean:.3f} per kWh on average, from {low:.3f} to {high:.3f}{less}"


def with_prices(store: SeriesStore, job: Job, made: PriceYear, way: Way) -> Job:
    """Return the job with hourly prices for what is bought, sold or both; the series goes into the store."""
    ref = SeriesRef(sha256=store.put(made.per_kwh), rows=len(made.per_kwh), step_s=3600, unit="per_kwh", column="price_per_kwh")
    names = [f"hourly_{name}" for name in ("import", "export") if way in (name, "both")]
    return job.model_copy(update={"tariff": job.tariff.model_copy(update=dict.fromkeys(names, ref))})


def _bare(path: Path, raw: bytes) -> PriceYear:
    try:
        lines = raw.decode("utf-8-sig").splitlines()
    except UnicodeDecodeError as error:
        raise bad(path, "", f"it cannot be read ({error})", "save it as UTF-8 CSV") from error
    mark = ";" if lines and ";" in lines[0] else ","
    if mark == "," and _decimal_commas(lines):
        mark = ";"  # one column: its commas are decimal marks
    out: list[float] = []
    rows: list[int] = []
    for number, line in enumerate(lines, start=1):
        cells = [cell.strip() for cell in line.split(mark)]
        if not any(cells):
            continue
        try:
            value = float(cells[-1].replace(",", ".") if mark == ";" else cells[-1])
            if not np.isfinite(value):
                raise ValueError
            out.append(value)
        except ValueError:
            if number == 1:
                continue
            raise bad(
                path, f"row {number}, column {len(cells)}", f"'{cells[-1][:20]}' is not a number", "write a price per kWh"
            ) from None
        rows.append(number)
    if len(out) != DAYS * 24:
        problem = f"it has {len(out)} prices, a year has 8760 hours"
        raise bad(path, "", problem, "give one an hour, 29 February dropped, or a column of times beside them")
    head = lines[0].split(mark)[-1] if rows[0] > 1 else ""
    values, told = _per_kwh(path, head, np.array(out), np.array(rows))
    return PriceYear(values, (("time", "8760 hours of standard time, from 1 January"), ("prices", told)))


def _decimal_commas(lines: list[str]) -> bool:
    """Return whether rows like ``14,03`` are one number each: no heading of two names, and no first column that counts the rows."""
    rows = [line.strip() for line in lines if line.strip()]
    cells = [row.split(",") for row in rows]
    if not rows or any(len(row) > 2 for row in cells) or not all(re.fullmatch(r"-?\d+(,\d+)?", text) for text in rows[1:]):
        return False
    first = cells[0]
    if len(first) == 2 and not re.fullmatch(r"-?\d+,\d+", rows[0]):
        return False  # two names above two columns
    two = [row for row in cells[1:] if len(row) == 2]
    counts = [int(row[0]) for row in two]
    counting = len(two) == len(cells) - 1 and all(b - a == 1 for a, b in itertools.pairwise(counts))
    return bool(two) and not counting


def _by_stamps(path: Path, raw: bytes, time_zone: str, calendar_year: int | None) -> PriceYear:
    sheet, stamps = read_stamps(read_sheet(path, raw), time_zone)
    at, values = _column(sheet, set(stamps.used))
    rows, times = sheet.cells.index.to_numpy(), stamps.times.reset_index(drop=True)
    prices, told = _per_kwh(path, sheet.heads[at], values, rows)
    begin, step, guesses = instants_of(path, times, stamps.ends, time_zone)
    placed = place(path.name, begin, step, {"price": prices}, time_zone)
    hours = filled_by_weeks(placed.rows["price"], step).reshape(DAYS * 24, -1).mean(axis=1)
    said = [*sheet.told, ("time", stamps.how), *guesses, (f"column '{sheet.heads[at]}'", told)]
    if step < 3600:
        said.append(("hours", f"means of {3600 // step} prices"))
    notes = placed.notes
    if calendar_year not in (None, placed.year):
        notes = (*notes, f"prices of {placed.year} stand on their dates in the job's calendar of {calendar_year}: weekdays part")
    return PriceYear(hours, (*said, ("year", str(placed.year))), notes)


def _column(sheet: Sheet, used: set[int]) -> tuple[int, Array]:
    """Return the column of prices: headed like one, else the only one of numbers."""
    found = []
    for at in range(len(sheet.heads)):
        values = None if at in used else numbers(sheet, at)
        if values is not None:
            found.append((not PRICE.search(sheet.heads[at].casefold().replace("_", " ")), at, values))
    if not found or (found[0][0] and all(other for other, _, _ in found) and len(found) > 1):
        heads = ", ".join(sheet.heads)[:120]
        raise bad(sheet.path, "row 1", f"no column of prices is known among: {heads}", "name one 'price per kWh'")
    _, at, values = min(found, key=lambda row: row[:2])
    return at, values


def _per_kwh(path: Path, head: str, values: Array, rows: NDArray[np.int64]) -> tuple[Array, str]:
    """Return prices as money per kWh, and in words of what unit they were."""
    folded = head.casefold().replace("_", " ")
    middle = float(np.nanmedian(np.abs(values)))
    factor, words = next(((f, w) for pattern, f, w in UNITS if pattern.search(folded)), (0.0, ""))
    if not factor:
        if middle > PLAIN_MOST:
            problem = f"prices are about {middle:g}, and of what unit is not said"
            raise bad(path, f"column '{head}'", problem, "head it '/kWh', 'ct/kWh' or '/MWh'")
        factor, words = 1.0, "per kWh by its size"
    made = values * factor
    over = np.flatnonzero(~(np.abs(made) <= MOST) & ~np.isnan(made))
    if len(over):
        at = int(over[0])
        raise bad(
            path,
            f"row {rows[at]}",
            f"{values[at]:g} is no price per kWh",
            "give money per kWh, or per MWh with that in the heading",
        )
    return made, words
