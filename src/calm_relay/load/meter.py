"""A meter's year: intervals of one or more channels put into the job's 365 days of local standard time, gaps found and filled.

Readers hand over instants (UTC) of the begin of each interval and its energy; nothing here knows a file format.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS
from calm_relay.handed_in import bad, handed_in
from calm_relay.tables.gaps import filled_by_weeks
from calm_relay.tables.year import place

Array = NDArray[np.float64]
CHANNELS = ("import", "export", "house", "solar", "charge", "discharge")
MOST_BYTES = 200_000_000
MOST_W = 1_000_000.0  # above it a value is a slip, or of another unit: a megawatt is no house
SUN_H = (8.0, 17.0)  # between which the middle of a PV day lies in any zone


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
    step = readings.interval_s
    energies = {name: readings.energy_wh[name] for name in CHANNELS if name in readings.energy_wh}
    placed = place(readings.file, readings.begin_utc, step, energies, time_zone, wanted)
    powers = {name: filled_by_weeks(row * 3600.0 / step, step) for name, row in placed.rows.items()}
    _plausible(readings, powers)
    notes = placed.notes
    if any(placed.leap.values()):
        told = ", ".join(f"{name} {wh / 1000:.1f} kWh" for name, wh in placed.leap.items())
        notes = (*notes, f"29 February was dropped: {told}")
    notes = (*notes, *_odd_sun(powers))
    return MeterYear(
        file=readings.file,
        format=readings.format,
        year=placed.year,
        interval_s=step,
        power_w=powers,
        filled=placed.missing,
        leap_day_wh=placed.leap,
        guesses=readings.guesses,
        notes=notes,
        years=placed.years,
    )


def _plausible(readings: Readings, powers: dict[str, Array]) -> None:
    """Refuse what no house's supply carries, and a year in which nothing was ever measured."""
    for name, watts in powers.items():
        at = int(np.argmax(watts))
        if watts[at] > MOST_W:
            kept = np.nan_to_num(readings.energy_wh[name])
            row = int(np.argmax(kept))
            when = str(readings.begin_utc[row]).replace("T", " ")[:16]
            problem = f"{kept[row] / 1000:g} kWh in {readings.interval_s // 60} min are {watts[at] / 1000:,.0f} kW: no such supply"
            raise bad(readings.file, f"{name}, {when} UTC", problem, "look whether the unit is right, or the cell is a slip")
    if powers and not any(watts.any() for watts in powers.values()):
        raise bad(readings.file, "", "every value of the year is 0", "give a file in which something was measured")


def _odd_sun(powers: dict[str, Array]) -> tuple[str, ...]:
    """Return a word of warning where PV comes at hours the sun does not: the file's clock is then another than was taken."""
    made = powers.get("solar", powers.get("export"))
    if made is None or not made.any():
        return ()
    day = made.reshape(DAYS, -1).sum(axis=0)
    hour = (np.arange(len(day)) + 0.5) * 24.0 / len(day)
    turn = np.exp(2j * np.pi * hour / 24.0)
    middle = float(np.angle((day * turn).sum()) * 24.0 / (2 * np.pi)) % 24.0
    if SUN_H[0] <= middle <= SUN_H[1]:
        return ()
    name = "solar" if "solar" in powers else "export"
    clock = f"{int(middle):02d}:{int(middle * 60) % 60:02d}"
    return (f"the middle of its {name} lies at {clock} of standard time: look whether its zone is right",)
