"""Old feed-in and generation contracts that a plan would end: the present value of what is lost to their end."""

from __future__ import annotations

import re
from calendar import monthrange
from dataclasses import dataclass
from datetime import date

from calm_relay.job.brief_models import Contract

_DATE = re.compile(r"^\s*(\d{4})(?:-(\d{1,2})(?:-(\d{1,2}))?)?\s*$")
DAYS_A_YEAR = 365.25


def end_of(text: str) -> date | None:
    """Return the last day of a contract typed as 2031, 2031-06 or 2031-06-30; None for anything else."""
    found = _DATE.match(text)
    if not found:
        return None
    year, month, day = int(found[1]), int(found[2] or 12), found[3]
    try:
        return date(year, month, int(day) if day else monthrange(year, month)[1])
    except ValueError:
        return None


def years_left(contract: Contract, first_year: int) -> float | None:
    """Return how long a contract still runs when the first year begins; None where its end cannot be read. [years]"""
    end = end_of(contract.ends)
    return None if end is None else max(0.0, ((end - date(first_year, 1, 1)).days + 1) / DAYS_A_YEAR)


def present_value(per_year: float, years: float, discount_frac: float) -> float:
    """Return what a sum paid at each year's end is worth today; of the last, broken year its share, at its end. [money]

    The annuity of any textbook of finance; `years` ≥ 0.
    """
    whole = int(years + 1e-9)
    rest = max(0.0, years - whole)
    full = sum(per_year / (1.0 + discount_frac) ** year for year in range(1, whole + 1))
    return full + (per_year * rest / (1.0 + discount_frac) ** years if rest > 1e-9 else 0.0)


@dataclass(frozen=True)
class LostContract:
    """What a plan loses by ending a contract; `amount` is None where its end or what it pays is not known. [money]"""

    name: str
    amount: float | None
    arithmetic: str


def lost(contract: Contract, first_year: int, discount_frac: float) -> LostContract:
    """Return what is lost when a contract ends before the first year begins."""
    years = years_left(contract, first_year)
    if years is None:
        return LostContract(contract.name, None, "when it ends is not known: type it as 2031, 2031-06 or 2031-06-30")
    if years == 0:
        return LostContract(contract.name, 0.0, "it has ended by then")
    if contract.pays_per_year <= 0:
        return LostContract(contract.name, None, "what it pays a year is not known")
    amount = present_value(contract.pays_per_year, years, discount_frac)
    how = f"{contract.pays_per_year:,.0f} a year for {years:.1f} years, each discounted by {discount_frac * 100:g} % a year"
    return LostContract(contract.name, amount, how)
