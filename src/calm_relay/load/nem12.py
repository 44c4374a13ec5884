"""NEM12 interval data (AEMO meter data file format): one row a day and register, in market time all year (UTC+10)."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from calm_relay.handed_in import Watch, bad, unwatched
from calm_relay.load.meter import Readings, meter_bytes

MARKET_OFFSET_H = 10  # Australian Eastern Standard Time, never daylight saving
UNITS = {"KWH": 1000.0, "WH": 1.0, "MWH": 1e6}


def read_nem12(path: Path, watch: Watch = unwatched) -> Readings:
    """Read a NEM12 file; registers whose suffix begins with E are import, with B export.

    Registers of one meter point are added. Where intervals changed in the file, all are summed to the longest. Readings of
    quality N (null), of a whole day or by a record 400, are missing; substituted and estimated days are told.

    Raises
    ------
    BadInput
        One clear line naming row and column.
    """
    try:
        text = meter_bytes(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise bad(path, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8") from error
    register: _Register | None = None
    found: dict[_Register, dict[np.datetime64, np.ndarray]] = {}
    guessed = 0
    last: np.ndarray | None = None
    for number, row in enumerate(csv.reader(io.StringIO(text.replace("\0", "?"))), start=1):
        if not row or not row[0].strip():
            continue
        kind = row[0].strip()
        watch("its days", min(0.9, number / 2000))
        if kind == "200":
            register, last = _register(path, number, row), None
        elif kind == "300" and register is not None:
            day, values, quality = _day(path, number, row, register.minutes)
            kept = found.setdefault(register, {})
            if day in kept:
                raise bad(path, f"row {number}", f"{day} stands twice for register {register.suffix}", "keep one")
            kept[day] = last = values * register.factor
            guessed += quality in ("S", "F", "E")
        elif kind == "400" and last is not None:
            _event(path, number, row, last)
    if not found:
        raise bad(path, "", "there is no register of energy with interval days (records 200 and 300)", "give a NEM12 file")
    points = sorted({register.point for register in found})
    if len(points) > 1:
        raise bad(path, "records 200", f"{len(points)} meter points are mixed: {', '.join(points)[:80]}", "give one at a time")
    return _readings(path, found, guessed)


@dataclass(frozen=True)
class _Register:
    point: str
    suffix: str
    channel: str
    factor: float
    minutes: int


def _register(path: Path, number: int, row: list[str]) -> _Register | None:
    """Return a register; None for registers of no energy."""
    if len(row) < 9:
        raise bad(path, f"row {number}", f"a 200 record has {len(row)} fields, it needs 9", "export it again")
    suffix, unit, length = row[4].strip().upper(), row[7].strip().upper(), row[8].strip()
    channel = {"E": "import", "B": "export"}.get(suffix[:1])
    if unit not in UNITS or channel is None:
        return None
    if length not in ("5", "15", "30"):
        raise bad(path, f"row {number}, column 9", f"the interval is '{length}' minutes", "it is 5, 15 or 30")
    return _Register(row[1].strip(), suffix, channel, UNITS[unit], int(length))


def _event(path: Path, number: int, row: list[str], values: np.ndarray) -> None:
    """Take readings that a 400 record calls null out of the day above it."""
    try:
        first, last, quality = int(row[1]), int(row[2]), row[3].strip()[:1].upper()
    except (IndexError, ValueError):
        raise bad(path, f"row {number}", "a 400 record needs its first and last interval", "export it again") from None
    if not 1 <= first <= last <= len(values):
        raise bad(path, f"row {number}", f"it speaks of intervals {first} to {last} of {len(values)}", "export it again")
    if quality == "N":
        values[first - 1 : last] = np.nan


def _day(path: Path, number: int, row: list[str], length: int) -> tuple[np.datetime64, np.ndarray, str]:
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
    quality = row[2 + count].strip()[:1].upper() if len(row) > 2 + count else ""
    return day, np.full(count, np.nan) if quality == "N" else values, quality


def _readings(path: Path, found: dict[_Register, dict[np.datetime64, np.ndarray]], guessed: int) -> Readings:
    length = max(register.minutes for register in found)
    days: dict[str, dict[np.datetime64, np.ndarray]] = {}
    for register, kept_days in found.items():
        kept = days.setdefault(register.channel, {})
        for day, values in kept_days.items():
            sums = values.reshape(-1, length // register.minutes).sum(axis=1)
            kept[day] = kept[day] + sums if day in kept else sums
    dates = sorted({day for kept in days.values() for day in kept})
    steps = (np.arange(1440 // length) * length * 60).astype("timedelta64[s]")
    begin = (np.array(dates).astype("datetime64[s]")[:, None] + steps[None, :]).ravel() - np.timedelta64(MARKET_OFFSET_H, "h")
    blank = np.full(1440 // length, np.nan)
    energies = {channel: np.concatenate([kept.get(day, blank) for day in dates]) for channel, kept in days.items()}
    guesses = [
        ("time", "market time all year, UTC+10"), ("registers", ", ".join(f"{r.suffix}: {r.channel}" for r in found)),
        ("label", "a day begins at midnight"),
    ]  # fmt: skip
    if len({register.minutes for register in found}) > 1:
        guesses.append(("interval", f"changes in the file, all summed to {length} min"))
    if guessed:
        guesses.append(("quality", f"{guessed} days of registers are substituted or estimated"))
    return Readings(
        file=path.name, format="NEM12", begin_utc=begin, interval_s=length * 60, energy_wh=energies, guesses=tuple(guesses)
    )
