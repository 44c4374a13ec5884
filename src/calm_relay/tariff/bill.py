"""A year's bill, month by month and line by line, each line with its arithmetic."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, YearCalendar, in_window
from calm_relay.job.tariff_models import Tariff
from calm_relay.tariff.credit import Cancelled, cancelled
from calm_relay.tariff.prices import Hourly, Prices, cheap_steps, clock_days, settled, year_prices

Array = NDArray[np.float64]
TAX, LEAST = "tax", "up to the least a month"  # names of the lines worked out from those above them
DEMAND_MIN = 15  # over which a peak is taken where settlement is at once, common practice

__all__ = ["Bill", "BillLine", "cheap_steps", "no_bill", "year_bill"]


@dataclass(frozen=True)
class BillLine:
    """One line of a year's bill: its name, how it comes about, energy if it has one [Wh], and money by month (credits below 0)."""

    name: str
    arithmetic: str
    energy_wh: float | None
    months: tuple[float, ...]

    @property
    def amount(self) -> float:
        """The year's sum. [money]"""
        return sum(self.months)


@dataclass(frozen=True)
class Bill:
    """A year's bill; energies in Wh, money in the tariff's currency. `total` is what is paid, export credited."""

    lines: tuple[BillLine, ...]
    import_wh: float
    import_cheap_wh: float
    export_wh: float
    by_month: tuple[float, ...]

    @property
    def total(self) -> float:
        """What the year costs. [money]"""
        return sum(self.by_month)

    def amount(self, name: str) -> float:
        """Return the year's sum of the lines whose name begins so. [money]"""
        return sum(line.amount for line in self.lines if line.name.startswith(name))

    @property
    def import_cost(self) -> float:
        """Import at all prices but the cheap window's. [money]"""
        return sum(line.amount for line in self.lines if line.name.startswith("import") and "cheap" not in line.name)

    @property
    def cheap_cost(self) -> float:
        """Import in the cheap window. [money]"""
        return self.amount("import, cheap")

    @property
    def export_credit(self) -> float:
        """What export earns. [money]"""
        return -self.amount("export")

    @property
    def standing_cost(self) -> float:
        """Standing charges. [money]"""
        return self.amount("standing")


def _months(values: Array, calendar: YearCalendar) -> Array:
    """Return sums by the clock's month."""
    found: Array = np.bincount(calendar.bill_month, weights=values, minlength=13)[1:].astype(float)
    return found


def year_bill(tariff: Tariff, calendar: YearCalendar, net_w: Array, hourly: Hourly | None = None) -> Bill:
    """Return the bill for what is drawn from the grid per step, below 0 where it is given: (steps,) or (steps, phases). [W]

    Order: phases and settlement, energy by period, tiers on each month's import, export, what both cancel over a month or year,
    standing charge, demand, tax on all but export (or on all), minimum bill.
    """
    prices = year_prices(tariff, calendar, hourly)
    taken, given = settled(net_w, calendar, tariff.settlement_min, summed=tariff.netting == "summed")
    kwh_in, kwh_out = (w * (calendar.step_h / 1000.0) for w in (taken, given))
    lines = [*_import_lines(tariff, prices, kwh_in, calendar), *_tier_lines(tariff, _months(kwh_in, calendar))]
    lines.append(_export_line(prices, kwh_out, calendar))
    if tariff.credit_over != "nothing":
        lines += _credit_lines(cancelled(tariff.credit_over, prices, kwh_in, kwh_out, calendar), tariff.credit_over)
    if tariff.standing_per_day:
        months = tuple(days * tariff.standing_per_day for days in MONTH_DAYS)
        lines.append(BillLine("standing charge", f"{DAYS} days × {tariff.standing_per_day:g}", None, months))
    if tariff.demand is not None:
        lines.append(_demand_line(tariff, calendar, taken))
    if tariff.tax_frac:
        on = "the lines above" if tariff.tax_on_export else "the lines above but export"
        base = taxed_months(lines, tariff)
        lines.append(BillLine(TAX, f"{tariff.tax_frac * 100:g} % of {on}", None, _as_tuple(base * tariff.tax_frac)))
    if tariff.minimum_per_month:
        base = np.sum([line.months for line in lines], axis=0)
        short = np.maximum(0.0, tariff.minimum_per_month - base)
        lines.append(BillLine(LEAST, f"what a month lacks to {tariff.minimum_per_month:g}", None, _as_tuple(short)))
    by_month = _as_tuple(np.sum([line.months for line in lines], axis=0))
    cheap = sum(line.energy_wh or 0.0 for line in lines if line.name.startswith("import, cheap"))
    whole = float(kwh_in.sum()) * 1000.0
    return Bill(tuple(lines), whole - cheap, cheap, float(kwh_out.sum()) * 1000.0, by_month)


def no_bill() -> Bill:
    """Return the bill of a place without a grid: nothing is bought or sold, and nobody charges for standing by."""
    none = (0.0,) * 12
    return Bill((BillLine("no grid", "nothing is bought or sold", None, none),), 0.0, 0.0, 0.0, none)


def taxed_months(lines: Sequence[BillLine], tariff: Tariff) -> Array:
    """Return what the tax is on, month by month: all lines, export only where the tariff taxes it. (12,) [money]"""
    on: Array = np.sum(
        [ln.months for ln in lines if tariff.tax_on_export or not ln.name.startswith("export")] or [(0.0,) * 12], axis=0
    )
    return on


def _credit_lines(made: Cancelled, over: str) -> list[BillLine]:
    """Return two lines: what was bought and is cancelled, and the credit it then does not earn as export."""
    kwh = float(made.kwh.sum())
    how = f"{kwh:.0f} kWh exported cancel as many bought in the same period and {over}"
    return [
        BillLine("import, cancelled by export", how, None, _as_tuple(-made.bought)),
        BillLine("export, cancelled", f"{kwh:.0f} kWh are not paid as export", None, _as_tuple(made.sold)),
    ]


def _as_tuple(values: Array) -> tuple[float, ...]:
    return tuple(float(v) for v in values)


def _import_lines(tariff: Tariff, prices: Prices, kwh: Array, calendar: YearCalendar) -> list[BillLine]:
    out = []
    which = prices.period * 13 + calendar.bill_month

    def sums(weights: Array | None) -> Array:
        """By period and month, from one look at the year."""
        found = np.bincount(which, weights=weights, minlength=13 * len(prices.names)).reshape(-1, 13)[:, 1:]
        return found.astype(float)

    steps, energies, costs = sums(None), sums(kwh), sums(kwh * prices.import_price)
    for place, name in enumerate(prices.names):
        if not steps[place].any():
            continue
        energy, cost = float(energies[place].sum()), costs[place]
        if tariff.hourly_import is not None:
            mean = float(cost.sum()) / energy if energy > 0 else 0.0
            how = f"{energy:.0f} kWh at {mean:.3f} on average"
        else:
            how = f"{energy:.0f} kWh × {float(prices.import_price[int(np.argmax(prices.period == place))]):g}"
        title = name if name.startswith("import") else f"import, {name}"
        out.append(BillLine(title, how, energy * 1000.0, _as_tuple(cost)))
    return out


def _tier_lines(tariff: Tariff, month_kwh: Array) -> list[BillLine]:
    """Return a line a tier: the part of each month's import between its bounds, times what it adds."""
    out, low = [], 0.0
    for tier in tariff.tiers:
        high = np.inf if tier.up_to_wh is None else tier.up_to_wh / 1000.0
        part = np.clip(month_kwh, low, max(low, high)) - low
        to = "all above" if not np.isfinite(high) else f"to {high:g}"
        how = f"{float(part.sum()):.0f} kWh of the months from {low:g} {to} kWh × {tier.add_per_kwh:g}"
        out.append(BillLine(f"tier from {low:g} kWh", how, float(part.sum()) * 1000.0, _as_tuple(part * tier.add_per_kwh)))
        low = max(low, high)
    return out


def _export_line(prices: Prices, kwh: Array, calendar: YearCalendar) -> BillLine:
    credit = kwh * prices.export_price
    energy = float(kwh.sum())
    mean = float(credit.sum()) / energy if energy > 0 else float(prices.export_price[0])
    return BillLine("export", f"{energy:.0f} kWh × {mean:.4g}", energy * 1000.0, _as_tuple(-_months(credit, calendar)))


def _demand_line(tariff: Tariff, calendar: YearCalendar, import_w: Array) -> BillLine:
    """Return the charge on each month's highest mean power inside the demand window."""
    demand = tariff.demand
    assert demand is not None
    per = max(1, (tariff.settlement_min or DEMAND_MIN) * 60 // calendar.step_s)
    mean = import_w.reshape(-1, per).mean(axis=1)
    counted = in_window(calendar.clock_hour[::per], demand.start_h, demand.end_h)
    if demand.weekdays_only:
        weekday, _ = clock_days(calendar, tariff.holidays)
        counted &= weekday[::per] < 5
    month = calendar.bill_month[::per]
    peaks = np.array([float(np.max(mean[counted & (month == m)], initial=0.0)) / 1000.0 for m in range(1, 13)])
    minutes = per * calendar.step_s // 60
    most = f"{peaks.max():.2f} kW at most"
    how = f"each month's highest {minutes}-min mean, {most}, × {demand.price_per_kw_month:g}"
    return BillLine("demand", how, None, _as_tuple(peaks * demand.price_per_kw_month))
