"""A plan's slots on one kind of day: the hours each holds, where a later one takes them, what each stores and what that costs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import MONTHS, year_calendar
from calm_relay.job.control_models import GRID_CHARGING, Slot
from calm_relay.job.models import Job, Plan
from calm_relay.plant.chain import capacity_wh, soc_window
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.pack import in_slot, slot_codes
from calm_relay.simulation.quick import ac_round_trip, window_energy
from calm_relay.tariff.prices import Hourly, year_prices
from calm_relay.units import format_quantity as show

Array = NDArray[np.float64]
STEP_S = 900
PER_DAY = 24 * 3600 // STEP_S
Span = tuple[float, float]


@dataclass(frozen=True)
class SlotRow:
    """One slot of the day: when it holds, when a later slot takes its hours [h], and in words what it does to the batteries."""

    title: str
    kind: str
    holds: tuple[Span, ...]
    taken: tuple[Span, ...]
    words: str


@dataclass(frozen=True, eq=False)
class SlotDay:
    """A day's slots over its prices, by clock hours. `price` (96,) is the import price of each quarter. [money per kWh]"""

    name: str
    price: Array
    rows: tuple[SlotRow, ...]


def slot_day(job: Job, plan: Plan, month: int, *, weekend: bool, hourly: Hourly | None = None) -> SlotDay:
    """Return the slots of a plan on a weekday or a day of the weekend of a month, 1 to 12."""
    calendar = year_calendar(job.calendar_year, job.site.place.time_zone, STEP_S)
    first = np.flatnonzero((calendar.clock_month == month) & (calendar.clock_weekend == weekend))
    days = [day for day in dict.fromkeys((first // PER_DAY).tolist()) if np.count_nonzero(first // PER_DAY == day) == PER_DAY]
    day = days[0] if days else int(first[0]) // PER_DAY
    here = slice(day * PER_DAY, (day + 1) * PER_DAY)
    order = np.argsort(calendar.clock_hour[here], kind="stable")
    price = year_prices(job.tariff, calendar, hourly).import_price[here][order]
    followed = [slot_codes(plan.controls, calendar, row.station.id)[here][order] for row in plant_of(job, plan).banked]
    rows = []
    for number, slot in enumerate(plan.controls.slots, start=1):
        lies = in_slot(slot, calendar)[here][order]
        held = lies & np.any([code == number for code in followed] or [np.zeros(PER_DAY, bool)], axis=0)
        words = _words(job, plan, slot, held, price) if lies.any() else "not on such a day"
        rows.append(SlotRow(slot.title, slot.kind, _spans(held), _spans(lies & ~held), words))
    name = f"A {'day of the weekend' if weekend else 'weekday'} in {MONTHS[month - 1]}"
    return SlotDay(name, price, tuple(rows))


def _spans(here: NDArray[np.bool_]) -> tuple[Span, ...]:
    edges = np.flatnonzero(np.diff(np.concatenate(([False], here, [False])).astype(np.int8)))
    return tuple((float(a) * 24.0 / PER_DAY, float(b) * 24.0 / PER_DAY) for a, b in zip(edges[::2], edges[1::2], strict=True))


def _words(job: Job, plan: Plan, slot: Slot, held: NDArray[np.bool_], price: Array) -> str:
    """Return what a slot moves on such a day, of batteries that are at their lowest when it begins, and what that costs."""
    banks = [row for row in plant_of(job, plan).banked if slot.holds_for(row.station.id)]
    if not banks:
        return "no battery follows it"
    if not held.any():
        return "a later slot holds in all of its hours"
    if slot.kind not in GRID_CHARGING:
        return f"{np.count_nonzero(held) * 24.0 / PER_DAY:g} h"
    hours = np.count_nonzero(held) * 24.0 / PER_DAY
    drawn = stored = back = usable = 0.0
    for row in banks:
        moved = window_energy(row, slot.power_w, slot.start_h, hours)
        low, high = soc_window(row.bank)
        whole = capacity_wh(row.bank)
        room = max(0.0, slot.target_soc_frac - low) * whole
        part = min(1.0, room / moved.stored_wh) if moved.stored_wh > 0 else 0.0
        drawn, stored, usable = drawn + part * moved.drawn_wh, stored + part * moved.stored_wh, usable + (high - low) * whole
        back += part * moved.drawn_wh * ac_round_trip(row, moved.ac_w)
    paid = drawn / 1000.0 * float(price[held].mean())
    fills = f"fills {show(min(1.0, stored / usable), 'fraction')} of what is usable" if usable > 0 else ""
    currency = job.tariff.currency
    each = (
        f"; each kWh back at AC costs {currency} {1000.0 * paid / back:.3f}, at other hours {float(price[~held].mean()):.3f}"
        if (back > 0 and not held.all())
        else ""
    )
    return f"draws up to {show(drawn, 'energy_wh')}, {fills}, for {currency} {paid:.2f}{each}"


def slot_day_text(day: SlotDay) -> list[str]:
    """Return the day as lines."""
    lines = [day.name]
    for row in day.rows:
        spans = ", ".join(f"{a:g}–{b:g} h" for a, b in row.holds) or "never"
        taken = f" (a later slot takes {', '.join(f'{a:g}–{b:g} h' for a, b in row.taken)})" if row.taken else ""
        lines.append(f"   {row.title}, {row.kind.replace('_', ' ')}: {spans}{taken}; {row.words}")
    return lines
