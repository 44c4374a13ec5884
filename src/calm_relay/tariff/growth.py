"""A bill in later years: prices grow from year 2 (definitions D19), energies stay."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.tariff_models import Tariff
from calm_relay.tariff.bill import LEAST, TAX, Bill, BillLine, taxed_months

GROWTH_YEARS = 20  # shown of a bill that grows
PAYBACK_YEARS = 100  # beyond which a saving is taken never to pay a cost


def as_billed(tariff: Tariff) -> Tariff:
    """Return a tariff as the first year's bill reads it: its name, its currency and how it grows are taken out of it."""
    return tariff.model_copy(update={"name": "-", "currency": "-", "import_growth_frac": 0.0, "export_growth_frac": 0.0})


def bill_in_year(bill: Bill, tariff: Tariff, year: int) -> Bill:
    """Return a bill as it stands in a year, 1 the first: every line by its own growth, tax and least bill worked out anew.

    The amounts grow; energies, and the arithmetic of the first year, stay as they are. Raises ValueError for a year before 1.
    """
    if year < 1:
        raise ValueError(f"year {year} is before the first")
    up, given = (1.0 + tariff.import_growth_frac) ** (year - 1), (1.0 + tariff.export_growth_frac) ** (year - 1)
    lines = [
        replace(line, months=tuple(m * (given if line.name.startswith("export") else up) for m in line.months))
        for line in bill.lines
        if line.name not in (TAX, LEAST)
    ]
    for line in bill.lines:
        base = np.sum([made.months for made in lines], axis=0) if lines else np.zeros(12)
        if line.name == TAX:
            lines.append(replace(line, months=tuple(float(v) for v in taxed_months(lines, tariff) * tariff.tax_frac)))
        if line.name == LEAST:
            least = tariff.minimum_per_month * up
            lines.append(replace(line, months=tuple(float(v) for v in np.maximum(0.0, least - base))))
    by_month = tuple(float(v) for v in np.sum([line.months for line in lines], axis=0)) if lines else (0.0,) * 12
    return replace(bill, lines=tuple(lines), by_month=by_month)


def payback_years(cost: float, today: Bill, bill: Bill, tariff: Tariff) -> float | None:
    """Return when the savings against today's bill have paid a cost (definitions D19): savings at year ends, linear within a year.

    None where they do not within `PAYBACK_YEARS`; ageing is not in it. [years]
    """
    still, before = cost, 0.0
    if tariff.import_growth_frac == 0.0 and tariff.export_growth_frac == 0.0:
        saving = today.total - bill.total
        years = cost / saving if saving > 0 else None
        return years if years is not None and years <= PAYBACK_YEARS else None
    for year in range(1, PAYBACK_YEARS + 1):
        saving = bill_in_year(today, tariff, year).total - bill_in_year(bill, tariff, year).total
        if saving > 0 and still <= saving:
            return before + still / saving
        still, before = still - saving, float(year)
    return None


def yearly_totals(bill: Bill, tariff: Tariff, years: int) -> tuple[float, ...]:
    """Return what each of the first `years` years costs, as `bill_in_year` has it. (years,) [money]"""
    up: NDArray[np.float64] = np.power(1.0 + tariff.import_growth_frac, np.arange(years, dtype=np.float64))
    given: NDArray[np.float64] = np.power(1.0 + tariff.export_growth_frac, np.arange(years, dtype=np.float64))
    plain = [line for line in bill.lines if line.name not in (TAX, LEAST)]

    def grown(lines: list[BillLine], by: NDArray[np.float64]) -> NDArray[np.float64]:
        months = np.sum([line.months for line in lines], axis=0) if lines else np.zeros(12)
        out: NDArray[np.float64] = np.outer(by, months)
        return out

    drawn = grown([line for line in plain if not line.name.startswith("export")], up)
    fed = grown([line for line in plain if line.name.startswith("export")], given)
    total = drawn + fed
    for line in bill.lines:
        if line.name == TAX:
            total = total + tariff.tax_frac * (total if tariff.tax_on_export else total - fed)
        if line.name == LEAST:
            total = np.maximum(total, tariff.minimum_per_month * up[:, None])
    return tuple(float(value) for value in total.sum(axis=1))
