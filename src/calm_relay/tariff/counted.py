"""What a meter counts of a year by the tariff's periods and the bill's months: a bill needs no more, whatever the prices are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, in_window
from calm_relay.job.tariff_models import DemandCharge, Tariff
from calm_relay.tariff.prices import Hourly, clock_days, period_names, period_prices, settled, year_periods, year_prices

Array = NDArray[np.float64]
DEMAND_MIN = 15  # over which a peak is taken where settlement is at once, common practice


@dataclass(frozen=True, eq=False)
class Counted:
    """A year's import and export by period and month of the bill, (periods, 12) each. [kWh]

    Attributes
    ----------
    holds : ndarray (periods,) of bool
        Whether the period ever comes.
    first : int
        The period of the year's first step.
    bought, sold : ndarray (periods, 12) or None
        What hourly prices made of it, None where prices go by period. [money]
    first_sold : float or None
        The first of the hourly export prices. [money per kWh]
    peaks_kw : ndarray (12,) or None
        Each month's highest mean in the demand charge's window, None without one. [kW]
    peak_min : int
        Over which it is taken. [min]
    """

    taken: Array
    given: Array
    holds: NDArray[np.bool_]
    first: int
    bought: Array | None = None
    sold: Array | None = None
    first_sold: float | None = None
    peaks_kw: Array | None = None
    peak_min: int = DEMAND_MIN


def counted_of(tariff: Tariff, calendar: YearCalendar, net_w: Array, hourly: Hourly | None = None) -> Counted:
    """Return what the meter counts of what is drawn from the grid, below 0 where it is given: (steps,) or (steps, phases). [W]

    Phases and settlement first. Of the tariff it reads what `shape_of` names. Raises BadInput as `prices.year_prices` does.
    """
    taken_w, given_w = settled(net_w, calendar, tariff.settlement_min, summed=tariff.netting == "summed")
    period, names = year_periods(tariff, calendar), period_names(tariff)
    which = period * 13 + calendar.bill_month

    def sums(watts: Array | None, price: Array | None = None) -> Array:
        """By period and month, from one look at the year."""
        weights = watts if watts is None or price is None else watts * price
        found = np.bincount(which, weights=weights, minlength=13 * len(names)).reshape(-1, 13)[:, 1:]
        kwh: Array = found.astype(float) * (calendar.step_h / 1000.0)
        return kwh

    prices = year_prices(tariff, calendar, hourly) if tariff.hourly_import or tariff.hourly_export else None
    by_step = None if prices is None or tariff.hourly_export is None else prices.export_price
    return Counted(
        taken=sums(taken_w),
        given=sums(given_w),
        holds=np.bincount(period, minlength=len(names)) > 0,
        first=int(period[0]),
        bought=None if prices is None or tariff.hourly_import is None else sums(taken_w, prices.import_price),
        sold=None if by_step is None else sums(given_w, by_step),
        first_sold=None if by_step is None else float(by_step[0]),
        peaks_kw=None if tariff.demand is None else _peaks_kw(tariff, tariff.demand, calendar, taken_w),
        peak_min=_per(tariff, calendar) * calendar.step_s // 60,
    )


def shape_of(tariff: Tariff) -> dict[str, object]:
    """Return all that a count reads of a tariff: not its prices by period."""
    shape = tariff.model_dump(
        mode="json",
        include={
            "cheap_start_h", "cheap_end_h", "seasons", "holidays", "settlement_min", "netting", "hourly_import", "hourly_export",
        },
    )  # fmt: skip
    window = None if tariff.demand is None else tariff.demand.model_dump(exclude={"price_per_kw_month"})
    return {**shape, "periods": [period.id for period in tariff.periods], "demand": window}


def month_money(counted: Counted, tariff: Tariff) -> tuple[Array, Array]:
    """Return what import costs and export earns, by period and month. (periods, 12) each [money]"""
    taken, given = period_prices(tariff)
    bought = counted.taken * taken[:, None] if counted.bought is None else counted.bought
    return bought, counted.given * given[:, None] if counted.sold is None else counted.sold


def _per(tariff: Tariff, calendar: YearCalendar) -> int:
    return max(1, (tariff.settlement_min or DEMAND_MIN) * 60 // calendar.step_s)


def _peaks_kw(tariff: Tariff, demand: DemandCharge, calendar: YearCalendar, import_w: Array) -> Array:
    per = _per(tariff, calendar)
    mean = import_w.reshape(-1, per).mean(axis=1)
    counts = in_window(calendar.clock_hour[::per], demand.start_h, demand.end_h)
    if demand.weekdays_only:
        weekday, _ = clock_days(calendar, tariff.holidays)
        counts &= weekday[::per] < 5
    month = calendar.bill_month[::per]
    return np.array([float(np.max(mean[counts & (month == m)], initial=0.0)) / 1000.0 for m in range(1, 13)])
