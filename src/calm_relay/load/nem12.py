"""NEM12 interval data (AEMO meter data file format): one row a day and register, in market time all year (UTC+10)."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np

from calm_relay.handed_in import Watch, unwatched
from calm_relay.load.meter import Readings, bad, meter_bytes

MARKET_OFFSET_H = 10  # Australian Eastern Standard Time, never daylight saving
UNITS = {"KWH": 1000.0, "WH": 1.0, "MWH": 1e6}


def read_nem12(path: Path, watch: Watch = unwatched) -> Readings:
    """Read a NEM12 file; registers whose suffix begins with E are import, with B export.

    Raises
    ------
    BadInput
        One clear line naming row and column.
    """
    try:
        text = meter_bytes(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise bad(path, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8") from error
    register: tuple[str, float, int] | None = None
    days: dict[str, dict[np.datetime64, np.ndarray]] = {}
    minutes: set[int] = set()
    for number, row in enumerate(csv.reader(io.StringIO(text.replace("\0", "?"))), start=1):
        if not row or not row[0].strip():
            continue
        kind = row[0].strip()
        watch("its days", min(0.9, number / 2000))
        if kind == "200":
            register = _register(path, number, row)
            if register is not None:
                minutes.add(register[2])
        elif kind == "300" and register is not None:
            channel, factor, length = register
            day, values = _day(path, number, row, length)
            kept = days.setdefault(channel, {})
            kept[day] = kept[day] + values * factor if day in kept else values * factor
    if not days:
        raise bad(path, "", "there is no register of energy with interval days (records 200 and 300)", "give a NEM12 file")
    if len(minutes) != 1:
        raise bad(path, "records 200", f"intervals of {sorted(minutes)} minutes are mixed", "give one interval throughout")
    return _readings(path, days, minutes.pop())


def _register(path: Path, number: int, row: list[str]) -> tuple[str, float, int] | None:
    """Return a register's channel, factor to Wh and interval in minutes; None for registers of no energy."""
    if len(row) < 9:
        raise bad(path, f"row {number}", f"a 200 record has {len(row)} fields, it needs 9", "export it again")
    suffix, unit, length = row[4].strip().upper(), row[7].strip().upper(), row[8].strip()
    channel = {"E": "import", "B": "export"}.get(suffix[:1])
    if unit not in UNITS or channel is None:
        return None
    if length not in ("5", "15", "30"):
        raise bad(path, f"row {number}, column 9", f"the interval is '{length}' minutes", "it is 5, 15 or 30")
    return channel, UNITS[unit], int(length)


def _day(path: Path, number: int, row: list[str], length: int) -> tuple[np.datetime64, np.ndarray]:
    text = row[1].strip() if len(row) > 1 else ""
    try:
        day = np.datetime64(f"{text[:4]}-{text[4:6]}-{text[6:8]}", "D")
    except ValueError:
        raise bad(path, f"row {number}, column 2", f"'{text[:20]}' is no date", "write it like 20250131") from None
    count = 1440 // length
    cells = row[2 : 2 + count]
    if len(cells) < count:
        raise bad(path, f"row {number}", f"it has {len(cells)} values, a day of {length} minutes has {count}", "give whole days")
    values = np.empty(count)
    for i, cell in enumerate(cells):
        try:
            values[i] = float(cell) if cell.strip() else np.nan
        except ValueError:
            raise bad(path, f"row {number}, column {i + 3}", f"'{cell[:20]}' is not a number", "write a plain number") from None
        if values[i] < 0 or np.isinf(values[i]):
            raise bad(path, f"row {number}, column {i + 3}", f"{cell.strip()} is no energy", "0 or more, finite")
    return day, values


def _readings(path: Path, days: dict[str, dict[np.datetime64, np.ndarray]], length: int) -> Readings:
    dates = sorted({day for kept in days.values() for day in kept})
    steps = (np.arange(1440 // length) * length * 60).astype("timedelta64[s]")
    begin = (np.array(dates).astype("datetime64[s]")[:, None] + steps[None, :]).ravel() - np.timedelta64(MARKET_OFFSET_H, "h")
    blank = np.full(1440 // length, np.nan)
    energies = {channel: np.concatenate([kept.get(day, blank) for day in dates]) for channel, kept in days.items()}
    guesses = (("time", "market time all year, UTC+10"), ("registers", ", ".join(energies)), ("label", "a day begins at midnight"))
    return Readings(path.name, "NEM12", begin, length * 60, energies, guesses)
