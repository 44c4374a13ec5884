"""A two-price tariff: prices per step by clock time, and the year's bill with each line explained."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, YearCalendar, in_window
from calm_relay.job.models import Tariff

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Bill:
    """A year's bill; energies in Wh, money in the tariff's currency. `total` is what is paid, export credited."""

    import_wh: float
    import_cheap_wh: float
    export_wh: float
    import_cost: float
    cheap_cost: float
    export_credit: float
    standing_cost: float
    by_month: tuple[float, ...]

    @property
    def total(self) -> float:
        """What the year costs."""
        return self.import_cost + self.cheap_cost + self.standing_cost - self.export_credit


def cheap_steps(tariff: Tariff, calendar: YearCalendar) -> NDArray[np.bool_]:
    """Return where the cheap price holds, by clock time. Equal ends mean there is no cheap window."""
    if tariff.cheap_start_h == tariff.cheap_end_h:
        return np.zeros(calendar.steps, dtype=np.bool_)
    return in_window(calendar.clock_hour, tariff.cheap_start_h, tariff.cheap_end_h)


def year_bill(tariff: Tariff, calendar: YearCalendar, import_w: Array, export_w: Array) -> Bill:
    """Return the bill for import and export power per step (instant settlement)."""
    cheap = cheap_steps(tariff, calendar)
    step_h = calendar.step_h
    price = np.where(cheap, tariff.cheap_price_per_kwh, tariff.import_price_per_kwh)
    flow = (import_w * price - export_w * tariff.export_price_per_kwh) * step_h / 1000.0
    days = np.bincount(calendar.month[:: calendar.steps_per_day], minlength=13)[1:]
    months = np.bincount(calendar.month, weights=flow, minlength=13)[1:] + days * tariff.standing_per_day
    dear_wh = float(import_w[~cheap].sum()) * step_h
    cheap_wh = float(import_w[cheap].sum()) * step_h
    out_wh = float(export_w.sum()) * step_h
    return Bill(
        dear_wh,
        cheap_wh,
        out_wh,
        dear_wh / 1000.0 * tariff.import_price_per_kwh,
        cheap_wh / 1000.0 * tariff.cheap_price_per_kwh,
        out_wh / 1000.0 * tariff.export_price_per_kwh,
        DAYS * tariff.standing_per_day,
        tuple(float(m) for m in months),
    )
