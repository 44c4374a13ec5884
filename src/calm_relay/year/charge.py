"""A battery's charge through the year: how it lies in each month, and what every charge window began and ended with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_OF_DAY, YearCalendar
from calm_relay.plant.whole import Plant
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.quick import window_energy

if TYPE_CHECKING:
    from calm_relay.simulation.flow import FlowTable
    from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]
SHARES = (0.0, 10.0, 50.0, 90.0, 100.0)


@dataclass(frozen=True)
class ChargeBand:
    """A battery's charge in a month: lowest, what lies below it a tenth of the time, median, nine tenths, highest. [0 to 1]"""

    lowest_frac: float
    tenth_frac: float
    median_frac: float
    nine_tenths_frac: float
    highest_frac: float


def charge_bands(flow: FlowTable, packed: Packed, node_id: str) -> tuple[ChargeBand, ...]:
    """Return twelve months of a battery's charge, at the ends of the steps."""
    capacity = float(packed.nodes[flow.node_ids.index(node_id)]["capacity_wh"])
    by_day = (flow.node_column(node_id, "energy_wh") / capacity).reshape(DAYS, -1)
    return tuple(ChargeBand(*(float(v) for v in np.percentile(by_day[month + 1 == MONTH_OF_DAY], SHARES))) for month in range(12))


@dataclass(frozen=True, eq=False)
class WindowYear:
    """A battery in a charge window, one row a day on which it holds.

    Attributes
    ----------
    day : ndarray (days,), [number] from 1
    begins_frac, ends_frac : ndarray (days,), charge before and after. [0 to 1]
    target_frac : float, [0 to 1]
    needed_h, open_h : float
        Hours that the room on a mean day takes at the slot's power, and hours that the window is open. [h]
    """

    day: NDArray[np.int64]
    begins_frac: Array
    ends_frac: Array
    target_frac: float
    needed_h: float
    open_h: float

    @property
    def filled_days(self) -> int:
        """Return on how many days the target was reached, within 1 % of capacity. [days]"""
        return int(np.count_nonzero(self.ends_frac >= self.target_frac - 0.01))


def window_year(plant: Plant, calendar: YearCalendar, made: PlanFlow, index: int, node_id: str) -> WindowYear | None:
    """Return the days of a charge slot for one battery; None where it never holds."""
    slot, flow, packed = plant.controls.slots[index], made.flow, made.packed
    k = flow.node_ids.index(node_id)
    record = packed.nodes[k]
    inside = packed.follows(k, index)
    first = np.flatnonzero(inside & ~np.roll(inside, 1))
    last = np.flatnonzero(inside & ~np.roll(inside, -1))
    if not len(first):
        return None
    if last[0] < first[0]:  # a window past midnight at the year's end
        last = np.roll(last, -1)
    charge = flow.node_column(node_id, "energy_wh") / float(record["capacity_wh"])
    begins, ends = np.roll(charge, 1)[first], charge[last]
    target = min(slot.target_soc_frac, float(record["soc_max"]))
    row = next(row for row in plant.banked if row.station.id == node_id)
    stored = window_energy(row, slot.power_w, slot.start_h, 1.0).stored_wh
    room = max(0.0, target - float(begins.mean())) * float(record["capacity_wh"])
    return WindowYear(
        day=first * calendar.step_s // 86_400 + 1,
        begins_frac=begins,
        ends_frac=ends,
        target_frac=target,
        needed_h=room / stored if stored > 0 else float("inf"),
        open_h=float(np.count_nonzero(inside)) * calendar.step_h / len(first),
    )


def window_words(w: WindowYear) -> str:
    """Return in a sentence how a window fills its battery."""
    filled = f"reached on {w.filled_days} of {len(w.day)} days"
    takes = f"the room of a mean day takes {w.needed_h:.1f} h of the {w.open_h:.1f} h that it is open"
    return f"Its target of {100 * w.target_frac:.0f} % was {filled}; at its power alone {takes}."
