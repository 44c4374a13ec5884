"""Loads on PV surplus (a water heater's diverter, a car): what surplus brings, and what their window must still draw."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, in_window

Array = NDArray[np.float64]


class OnSurplus(Protocol):
    """What is asked of a load on surplus: how much at once and at least, between which hours, its days' end. [W], [h]"""

    @property
    def running_w(self) -> float:
        """What it draws. [W]"""

    @property
    def surplus_least_w(self) -> float:
        """Surplus below this is not taken. [W]"""

    @property
    def surplus_start_h(self) -> float:
        """From this hour of the clock. [h]"""

    @property
    def surplus_end_h(self) -> float:
        """Until this hour of the clock. [h]"""

    @property
    def window_end_h(self) -> float:
        """End of its window. [h]"""


def need_cycles(appliance: OnSurplus, calendar: YearCalendar) -> NDArray[np.int64]:
    """Return where its days begin: at the end of its window, so that surplus comes first and the window makes up what lacks.

    (steps,) [day numbers]
    """
    end = appliance.window_end_h % 24.0
    hour = calendar.clock_hour
    before = np.roll(hour, 1)
    crossed = np.where(hour >= before, (before < end) & (hour >= end), (before < end) | (hour >= end))
    crossed[0] = True
    return np.flatnonzero(crossed)


def on_surplus(appliance: OnSurplus, need_w: Array, spare_w: Array, calendar: YearCalendar) -> Array:
    """Return the year of a load on surplus; each of its days draws the same energy as before, from surplus first. [W]

    Parameters
    ----------
    need_w : ndarray (steps,)
        What it would draw in its window without any surplus.
    spare_w : ndarray (steps,)
        PV nothing of a higher rank takes, at AC.

    Returns
    -------
    ndarray (steps,)
        Surplus taken (none below its least), and the last part of its window's runs for what is still lacking; never more than
        its power.
    """
    may = in_window(calendar.clock_hour, appliance.surplus_start_h, appliance.surplus_end_h % 24.0)
    offer = np.where(may & (spare_w >= max(appliance.surplus_least_w, 1e-6)), np.minimum(spare_w, appliance.running_w), 0.0)
    out = np.zeros_like(need_w)
    starts = need_cycles(appliance, calendar)
    for first, last in zip(starts, (*starts[1:], len(need_w)), strict=True):
        here = slice(int(first), int(last))
        need = need_w[here]
        taken = np.diff(np.minimum(np.cumsum(offer[here]), need.sum()), prepend=0.0)
        room = np.clip(appliance.running_w - taken, 0.0, need)  # of its own runs, beside the surplus it takes in the same step
        spared = max(0.0, room.sum() - (need.sum() - taken.sum()))
        out[here] = taken + np.diff(np.maximum(np.cumsum(room), spared), prepend=spared)
    return out
