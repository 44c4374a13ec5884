"""A bill worked step by step with Python's own clock (zoneinfo), to hold the program's arrays to. Written from docs/tariff.md."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np

from calm_relay.calendar import MONTH_DAYS, standard_offset_h
from calm_relay.job.tariff_models import Tariff

SUNDAY = 6


def _inside(hour: float, start: float, end: float) -> bool:
    if start == end:
        return True
    return start <= hour < end if start < end else hour >= start or hour < end


def _prices(t: Tariff, clock: datetime, weekday: int, hour: float) -> tuple[str, float, float]:
    given = t.export_price_per_kwh
    if not t.seasons:
        cheap = t.cheap_start_h != t.cheap_end_h and _inside(hour, t.cheap_start_h, t.cheap_end_h)
        return ("cheap", t.cheap_price_per_kwh, given) if cheap else ("dear", t.import_price_per_kwh, given)
    season = next(s for s in t.seasons if clock.month in s.months)
    period = next(p for p in t.periods if p.id == season.week[weekday][clock.hour])
    given = given if period.export_price_per_kwh is None else period.export_price_per_kwh
    return period.id, period.import_price_per_kwh, given


def reference_months(t: Tariff, year: int, zone: str, step_s: int, net_w: np.ndarray) -> list[float]:
    """Return what each month costs. `net_w` is (steps, phases) from 1 January of standard time; `year` has no 29 February."""
    offset, place = timedelta(hours=standard_offset_h(year, zone)), ZoneInfo(zone)
    steps, hours = len(net_w), step_s / 3600
    per = max(1, t.settlement_min * 60 // step_s)
    taken, given = np.zeros(steps), np.zeros(steps)
    for at in range(0, steps, per):
        lines = net_w[at : at + per].mean(axis=0)
        lines = np.array([lines.sum()]) if t.netting == "summed" else lines
        taken[at : at + per] = sum(max(0.0, float(w)) for w in lines)
        given[at : at + per] = sum(max(0.0, float(-w)) for w in lines)
    spent, earned, kwh, peaks = [0.0] * 12, [0.0] * 12, [0.0] * 12, [0.0] * 12
    meter: dict[tuple[int, str], list[float]] = {}  # (month that settles, price period): kWh in, kWh out, and both prices
    block = max(1, (t.settlement_min or 15) * 60 // step_s)
    for i in range(steps):
        standard = datetime(year, 1, 1) + timedelta(seconds=i * step_s)
        clock = (standard - offset).replace(tzinfo=UTC).astimezone(place)
        month = 11 if clock.year > year else clock.month - 1
        hour = clock.hour + clock.minute / 60
        weekday = SUNDAY if f"{clock:%m-%d}" in t.holidays else clock.weekday()
        name, bought, sold = _prices(t, clock, weekday, hour)
        spent[month] += taken[i] * bought * hours / 1000
        earned[month] += given[i] * sold * hours / 1000
        row = meter.setdefault((month if t.credit_over == "month" else 11, name), [0.0, 0.0, bought, sold])
        row[0] += taken[i] * hours / 1000
        row[1] += given[i] * hours / 1000
        kwh[month] += taken[i] * hours / 1000
        d = t.demand if i % block == 0 else None
        if d is not None and _inside(hour, d.start_h, d.end_h) and (weekday < 5 or not d.weekdays_only):
            peaks[month] = max(peaks[month], float(taken[i : i + block].mean()) / 1000)
    for (month, _), (came, went, bought, sold) in meter.items() if t.credit_over != "nothing" else ():
        spent[month] -= min(came, went) * bought
        earned[month] -= min(came, went) * sold
    out = []
    for month, days in enumerate(MONTH_DAYS):
        total, low = spent[month], 0.0
        for tier in t.tiers:
            high = float("inf") if tier.up_to_wh is None else tier.up_to_wh / 1000
            total += max(0.0, min(kwh[month], high) - low) * tier.add_per_kwh
            low = max(low, high)
        total += days * t.standing_per_day
        total += peaks[month] * t.demand.price_per_kw_month if t.demand is not None else 0.0
        export = earned[month] * (1 + t.tax_frac if t.tax_on_export else 1)
        out.append(max(total * (1 + t.tax_frac) - export, t.minimum_per_month))
    return out
