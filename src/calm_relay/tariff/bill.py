"""A year's bill, month by month and line by line, each line with its arithmetic."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, YearCalendar
from calm_relay.job.tariff_models import DemandCharge, Tariff
from calm_relay.tariff.counted import Counted, counted_of, month_money
from calm_relay.tariff.credit import Cancelled, cancelled
from calm_relay.tariff.prices import Hourly, cheap_steps, period_names, period_prices

Array = NDArray[np.float64]
TAX, LEAST = "tax", "up to the least a month"  # names of the lines worked out from those above them

__all__ = ["Bill", "BillLine", "bill_of", "cheap_steps", "no_bill", "year_bill"]


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


def year_bill(tariff: Tariff, calendar: YearCalendar, net_w: Array, hourly: Hourly | None = None) -> Bill:
    """Return the bill for what is drawn from the grid per step, below 0 where it is given: (steps,) or (steps, phases). [W]"""
    return bill_of(tariff, counted_of(tariff, calendar, net_w, hourly))


def bill_of(tariff: Tariff, counted: Counted) -> Bill:
    """Return the bill for what the meter has counted.

    Order: phases and settlement, energy by period, tiers on each month's import, export, what both cancel over a month or year,
    standing charge, demand, tax on all but export (or on all), minimum bill.
    """
    bought, sold = month_money(counted, tariff)
    lines = [*_import_lines(tariff, counted, bought), *_tier_lines(tariff, counted.taken.sum(axis=0))]
    lines.append(_export_line(tariff, counted, sold))
    if tariff.credit_over != "nothing":
        lines += _credit_lines(cancelled(tariff.credit_over, counted, bought, sold), tariff.credit_over)
    if tariff.standing_per_day:
        months = tuple(days * tariff.standing_per_day for days in MONTH_DAYS)
        lines.append(BillLine("standing charge", f"{DAYS} days × {tariff.standing_per_day:g}", None, months))
    if tariff.demand is not None and counted.peaks_kw is not None:
        lines.append(_demand_line(tariff.demand, counted.peaks_kw, counted.peak_min))
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
    whole = float(counted.taken.sum()) * 1000.0
    return Bill(tuple(lines), whole - cheap, cheap, float(counted.given.sum()) * 1000.0, by_month)


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


def _import_lines(tariff: Tariff, counted: Counted, bought: Array) -> list[BillLine]:
    out, (prices, _) = [], period_prices(tariff)
    for place, name in enumerate(period_names(tariff)):
        if not counted.holds[place]:
            continue
        energy, cost = float(counted.taken[place].sum()), bought[place]
        if tariff.hourly_import is not None:
            mean = float(cost.sum()) / energy if energy > 0 else 0.0
            how = f"{energy:.0f} kWh at {mean:.3f} on average"
        else:
            how = f"{energy:.0f} kWh × {float(prices[place]):g}"
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


def _export_line(tariff: Tariff, counted: Counted, sold: Array) -> BillLine:
    energy = float(counted.given.sum())
    if energy > 0:
        mean = float(sold.sum()) / energy
    else:
        mean = float(period_prices(tariff)[1][counted.first]) if counted.first_sold is None else counted.first_sold
    return BillLine("export", f"{energy:.0f} kWh × {mean:.4g}", energy * 1000.0, _as_tuple(-sold.sum(axis=0)))


def _demand_line(demand: DemandCharge, peaks_kw: Array, minutes: int) -> BillLine:
    """Return the charge on each month's highest mean power inside the demand window."""
    most = f"{peaks_kw.max():.2f} kW at most"
    how = f"each month's highest {minutes}-min mean, {most}, × {demand.price_per_kw_month:g}"
    return BillLine("demand", how, None, _as_tuple(peaks_kw * demand.price_per_kw_month))
