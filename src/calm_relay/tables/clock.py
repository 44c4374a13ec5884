"""From stamps to instants: interval, whether labels begin or end it, and how the clock that wrote them runs."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import standard_offset_h
from calm_relay.handed_in import bad

Instants = NDArray[np.datetime64]
INTERVALS_S = (60, 300, 600, 900, 1800, 3600)
OFF_FRAC = 0.05  # an interval this near to a usual one is that one


def standard_offset(year: int, time_zone: str) -> np.timedelta64:
    """Return what a zone's standard time of a year is ahead of UTC, in whole seconds."""
    return np.timedelta64(round(standard_offset_h(year, time_zone) * 3600), "s")


def instants_of(path: Path, stamps: Any, ends: bool | None, time_zone: str) -> tuple[Instants, int, list[tuple[str, str]]]:
    """Return begins in UTC, the interval in seconds, and what was guessed of clock and labels.

    Parameters
    ----------
    path : Path
    stamps : pandas series of datetimes, rising; aware of UTC or a plain clock
    ends : bool or None
        Labels end their interval, begin it, or it is to be guessed.
    time_zone : str
        The clock of stamps that name no offset.

    Raises
    ------
    BadInput
        Intervals are none of those that can be read.
    """
    import pandas as pd

    interval = _interval(path, stamps)
    if stamps.dt.tz is not None:
        clock, instants = "offsets in the file", stamps.dt.tz_convert("UTC").dt.tz_localize(None).to_numpy().astype("datetime64[s]")
    else:
        clock, instants = _from_clock(stamps, time_zone)
    offset = standard_offset(int(stamps.iloc[len(stamps) // 2].year), time_zone)
    if ends is None:
        by_clock, by_standard = stamps.iloc[[0, -1]].tolist(), pd.to_datetime(instants[[0, -1]] + offset).tolist()
        ends = any(
            last.hour == last.minute == 0 and first.hour * 3600 + first.minute * 60 == interval
            for first, last in (by_clock, by_standard)
        )
    words = "label ends the interval" if ends else "label begins the interval"
    if ends:
        instants = instants - np.timedelta64(interval, "s")
    told = [("interval", f"{interval // 60} min"), ("label", words), ("clock", clock)]
    if stamps.dt.tz is None:
        told.append(("zone", f"{time_zone}, the job's"))
    off = (instants + offset - np.datetime64("1970-01-01", "s")).astype(np.int64) % interval
    if off.any():
        if np.median(np.minimum(off, interval - off)) > 2 * OFF_FRAC * interval:
            told.append(("stamps", f"taken as those of the {interval // 60} min they lie in"))
            instants = instants - off.astype("timedelta64[s]")
        else:
            told.append(("stamps", f"moved to the nearest full {interval // 60} min"))
            instants = instants + (np.where(off * 2 < interval, -off, interval - off)).astype("timedelta64[s]")
    return instants, interval, told


def _interval(path: Path, stamps: Any) -> int:
    steps = stamps.diff().dropna().dt.total_seconds().to_numpy()
    if not len(steps):
        raise bad(path, "", "it holds one reading", "give a year of them")
    typical = float(np.median(steps))
    near = next((s for s in INTERVALS_S if abs(typical - s) <= OFF_FRAC * s), None)
    if near is None:
        remedy = "give 1, 5, 10, 15, 30 or 60 minutes; totals of days or months are typed on House, with a shape"
        raise bad(path, "", f"its rows are {typical:.0f} s apart", remedy)
    return near


def _from_clock(stamps: Any, time_zone: str) -> tuple[str, Instants]:
    """Return how a clock without offsets runs, and its instants: with daylight saving where hour gone and hour twice show it."""
    import pandas as pd

    plain = pd.Series(stamps.to_numpy())
    twice = _second_time(plain.to_numpy())
    summer = np.ones(len(plain), dtype=bool)
    gone = plain.dt.tz_localize(time_zone, ambiguous=summer, nonexistent="NaT").isna().to_numpy()
    if gone.any():  # hours that daylight saving leaves out: the clock never changes if the hour after them is there as well
        after = plain[gone].dt.tz_localize(time_zone, ambiguous=summer[gone], nonexistent="shift_forward").dt.tz_localize(None)
        if after.isin(plain).any():
            offset = standard_offset(plain.iloc[len(plain) // 2].year, time_zone)
            standard: Instants = plain.to_numpy().astype("datetime64[s]") - offset
            return "standard time all year", standard
    told = plain.dt.tz_localize(time_zone, ambiguous=~twice, nonexistent="shift_forward")
    words = "daylight saving, the autumn hour twice" if twice.any() else "the zone's clock"
    return words, told.dt.tz_convert("UTC").dt.tz_localize(None).to_numpy().astype("datetime64[s]")


def _second_time(stamps: Instants) -> NDArray[np.bool_]:
    """Return where a stamp comes for the second time: after the clock went back, until it is past where it was."""
    top = np.maximum.accumulate(stamps)
    again: NDArray[np.bool_] = np.concatenate(([False], stamps[1:] <= top[:-1]))
    return again
