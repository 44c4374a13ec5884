"""When in the year energy flows: by month, by the clock's hour, by the tariff's period; how batteries fill and empty by month."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, MONTH_STARTS, MONTHS, YearCalendar
from calm_relay.job.series import SeriesStore
from calm_relay.job.tariff_models import Tariff
from calm_relay.tariff.prices import hourly_of, year_prices

if TYPE_CHECKING:
    from calm_relay.simulation.flow import FlowTable
    from calm_relay.simulation.pack import Packed

Array = NDArray[np.float64]
By = Literal["month", "hour", "period"]
FLOWS = (
    "load_w", "pv_ac_w", "pv_to_house_w", "battery_to_house_w", "grid_to_house_w", "import_w", "grid_to_battery_w", "export_w",
    "unserved_w",
)  # fmt: skip
NEAR_FRAC = 0.02  # of the window: nearer than this to an end counts as being there


@dataclass(frozen=True)
class Part:
    """A part of the year: how long it is and what flows in it. [h], [Wh] by the flow table's column"""

    name: str
    hours_h: float
    energy_wh: dict[str, float]


@dataclass(frozen=True)
class BatteryMonth:
    """A battery in a month: days on which it was full and came down to what was kept; lowest, mean and highest charge. [0 to 1]"""

    days: int
    filled_days: int
    emptied_days: int
    lowest_frac: float
    mean_frac: float
    highest_frac: float


def year_parts(flow: FlowTable, calendar: YearCalendar, by: By, tariff: Tariff, store: SeriesStore) -> tuple[Part, ...]:
    """Return the year in parts; their energies add up to the year's.

    Months are those of local standard time, as all sums by month; hours are the clock's, periods those of the bill, without a
    period that never holds.
    """
    names: tuple[str, ...]
    if by == "month":
        which, names = calendar.month.astype(np.int64) - 1, MONTHS
    elif by == "hour":
        which = calendar.hour_of_clock
        names = tuple(f"{hour:02d}:00" for hour in range(24))
    else:
        prices = year_prices(tariff, calendar, hourly_of(tariff, store))
        which, names = prices.period.astype(np.int64), prices.names
    count = np.bincount(which, minlength=len(names))
    sums = {name: np.bincount(which, weights=flow.column(name), minlength=len(names)) * calendar.step_h for name in FLOWS}
    return tuple(
        Part(name, float(count[i]) * calendar.step_h, {column: float(values[i]) for column, values in sums.items()})
        for i, name in enumerate(names)
        if count[i]
    )


def window_wh(record: np.void) -> float:
    """Return what lies between a battery's lowest and highest charge. [Wh]"""
    return float((record["soc_max"] - record["soc_min"]) * record["capacity_wh"])


def full_days(record: np.void, highest_wh: Array) -> NDArray[np.bool_]:
    """Return the days on which a battery came within 2 % of its window to full, by each day's highest energy. (365,) [bool]"""
    top = float(record["soc_max"] * record["capacity_wh"])
    full: NDArray[np.bool_] = highest_wh >= top - NEAR_FRAC * window_wh(record)
    return full


def empty_days(packed: Packed, k: int, energy_wh: Array, lowest_wh: Array) -> NDArray[np.bool_]:
    """Return the days on which a battery came within 2 % of its window to what was kept then. (365,) [bool]

    Kept is the highest of its lower limit, the reserve and the floor of the slot in force. `lowest_wh` (365,) are the days' lowest
    energies.
    """
    record = packed.nodes[k]
    kept = np.maximum(max(float(record["soc_min"]), float(record["reserve"])), packed.slots["floor"][k])
    if np.ptp(kept) == 0.0:
        above = lowest_wh - kept[0] * float(record["capacity_wh"])
    else:
        above = (energy_wh - np.take(kept * float(record["capacity_wh"]), packed.codes[:, k])).reshape(DAYS, -1).min(axis=1)
    empty: NDArray[np.bool_] = above <= NEAR_FRAC * window_wh(record)
    return empty


def battery_months(flow: FlowTable, packed: Packed) -> dict[str, tuple[BatteryMonth, ...]]:
    """Return twelve months of every battery, by node."""
    out = {}
    for k, node_id in enumerate(flow.node_ids):
        record = packed.nodes[k]
        if record["capacity_wh"] <= 0:
            continue
        energy, capacity = flow.node_column(node_id, "energy_wh"), float(record["capacity_wh"])
        by_day = energy.reshape(DAYS, -1)
        lowest, mean, highest = by_day.min(axis=1), by_day.mean(axis=1), by_day.max(axis=1)
        full, empty = full_days(record, highest), empty_days(packed, k, energy, lowest)
        columns = (
            MONTH_DAYS,
            np.add.reduceat(full, MONTH_STARTS, dtype=np.int64).tolist(),
            np.add.reduceat(empty, MONTH_STARTS, dtype=np.int64).tolist(),
            (np.minimum.reduceat(lowest, MONTH_STARTS) / capacity).tolist(),
            (np.add.reduceat(mean, MONTH_STARTS) / MONTH_DAYS / capacity).tolist(),
            (np.maximum.reduceat(highest, MONTH_STARTS) / capacity).tolist(),
        )
        out[node_id] = tuple(BatteryMonth(*row) for row in zip(*columns, strict=True))
    return out
