"""Netting over a month or a year: what is exported in a price period cancels what is bought in it, kWh for kWh."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.tariff.prices import Prices

Array = NDArray[np.float64]
DECEMBER = 11


@dataclass(frozen=True, eq=False)
class Cancelled:
    """What cancels in a year, by month of the bill: kWh, and its worth at the mean import and export prices. (12,) each"""

    kwh: Array
    bought: Array
    sold: Array


def cancelled(over: Literal["month", "year"], prices: Prices, kwh_in: Array, kwh_out: Array, calendar: YearCalendar) -> Cancelled:
    """Return what exports cancel of imports: the lesser of both in each period and span, at each span's end. [kWh], [money]

    A cancelled kWh is worth the mean price, weighted by energy, of what was bought or sold in its period and span.
    """
    months = calendar.bill_month.astype(int) - 1 if over == "month" else np.full(calendar.steps, DECEMBER)
    groups, count = months + 12 * prices.period.astype(int), 12 * len(prices.names)

    def sums(values: Array) -> Array:
        found: Array = np.bincount(groups, weights=values, minlength=count)[:count].astype(float)
        return found

    taken, given = sums(kwh_in), sums(kwh_out)
    kwh = np.minimum(taken, given)

    def worth(total: Array, energy: Array) -> Array:
        mean = np.divide(total, energy, out=np.zeros_like(total), where=energy > 0)
        money: Array = (kwh * mean).reshape(-1, 12).sum(axis=0)
        return money

    bought = worth(sums(kwh_in * prices.import_price), taken)
    return Cancelled(kwh.reshape(-1, 12).sum(axis=0), bought, worth(sums(kwh_out * prices.export_price), given))
