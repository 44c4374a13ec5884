"""Netting over a month or a year: what is exported in a price period cancels what is bought in it, kWh for kWh."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.tariff.counted import Counted

Array = NDArray[np.float64]
DECEMBER = 11


@dataclass(frozen=True, eq=False)
class Cancelled:
    """What cancels in a year, by month of the bill: kWh, and its worth at the mean import and export prices. (12,) each"""

    kwh: Array
    bought: Array
    sold: Array


def cancelled(over: Literal["month", "year"], counted: Counted, bought: Array, sold: Array) -> Cancelled:
    """Return what exports cancel of imports: the lesser of both in each period and span, at each span's end. [kWh], [money]

    `bought` and `sold` (periods, 12) are the money of what was counted. A cancelled kWh is worth the mean price, weighted by
    energy, of what was bought or sold in its period and span.
    """

    def spans(values: Array) -> Array:
        """Return sums by period and span, a span of a year at its end."""
        if over == "month":
            return values
        out = np.zeros_like(values)
        out[:, DECEMBER] = values.sum(axis=1)
        return out

    taken, given = spans(counted.taken), spans(counted.given)
    kwh = np.minimum(taken, given)

    def worth(money: Array, energy: Array) -> Array:
        mean = np.divide(spans(money), energy, out=np.zeros_like(energy), where=energy > 0)
        found: Array = (kwh * mean).sum(axis=0)
        return found

    return Cancelled(kwh.sum(axis=0), worth(bought, taken), worth(sold, given))
