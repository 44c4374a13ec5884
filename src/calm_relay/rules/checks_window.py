"""Checks of the charge windows: what each stores against the room it is to fill."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from calm_relay.calendar import MONTH_DAYS, window_hours
from calm_relay.job.control_models import GRID_CHARGING, Slot
from calm_relay.job.edits import Edit
from calm_relay.plant import chain
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_battery import paid_in_slot
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.simulation.quick import WindowEnergy, ac_round_trip, window_draws_wh, window_energy
from calm_relay.units import format_quantity as show


@dataclass(frozen=True)
class _Window:
    """A charge slot on a battery: from the floor in force to the target, beside what the import limit leaves."""

    row: BatteryRow
    slot: Slot
    index: int
    low_frac: float
    high_frac: float
    capacity_wh: float
    room_w: tuple[float, ...] | None

    @property
    def need_wh(self) -> float:
        """From the floor to the target. [Wh]"""
        return max(0.0, self.high_frac - self.low_frac) * self.capacity_wh

    def energy(self, *, power_w: float | None = None, hours_h: float | None = None) -> WindowEnergy:
        """Return what the slot moves [Wh], or what it would with other watts at AC [W] or hours [h]."""
        slot = self.slot
        hours = window_hours(slot.start_h, slot.end_h) if hours_h is None else hours_h
        return window_energy(self.row, slot.power_w if power_w is None else power_w, slot.start_h, hours, self.room_w)


@check(
    "battery.window-fill",
    "Charge window fills the battery",
    page="plans",
    needs={"grid", "plan"},
    short="Charge window",
    source="power × hours × η against the room left; arithmetic",
)
def window_fill(c: CheckContext) -> Iterator[Finding]:
    """Energy a charge slot stores against the room from the floor to its target; an import limit leaves it what the house does not.

    Watts are at AC. Beside the sum stands what the year stored, and why the two part.
    """
    for w, made in _windows(c):
        subject = f"{w.row.station.name}, {w.slot.title}"
        if made is None:
            yield unknown(c, "battery.window-fill", subject, "the slot's charge power: type it in kW at AC")
            continue
        yield finding(
            c, "battery.window-fill", subject, "energy_wh", made.stored_wh, w.need_wh, "least", _line(c, w, made),
            remedies=_remedies(c, w), tight="fill", soft=True,
        )  # fmt: skip


def _windows(c: CheckContext) -> Iterator[tuple[_Window, WindowEnergy | None]]:
    """Yield every charge slot on every battery with what it moves, None where its power is not typed."""
    for i, slot in enumerate(c.plan.controls.slots):
        if slot.kind not in GRID_CHARGING:
            continue
        taken_w = 0.0
        for row in c.plant.banked:
            if not slot.holds_for(row.station.id):
                continue
            limited = c.job.site.import_limit_w is not None and slot.kind != "timer"  # a timer sees no meter
            if limited and c.facts is None and slot.power_w > 0:
                continue  # what the house draws meanwhile comes with the year
            room = c.facts.windows[i].room_w(taken_w) if limited and c.facts and slot.power_w > 0 else None
            low, high = chain.soc_window(row.bank)
            w = _Window(
                row=row,
                slot=slot,
                index=i,
                low_frac=max(low, _reserve(c, slot)),
                high_frac=min(high, slot.target_soc_frac),
                capacity_wh=chain.capacity_wh(row.bank),
                room_w=room,
            )
            made = w.energy() if slot.power_w > 0 else None
            taken_w += 0.0 if made is None else made.ac_w
            yield w, made


@dataclass(frozen=True)
class ShortWindow:
    """What a charge slot leaves unfilled a day, what of it would be delivered [Wh], on how many days, and what a kWh brings."""

    subject: str
    lacking_wh: float
    delivered_wh: float
    gain_per_kwh: float
    days: int

    @property
    def lost_per_year(self) -> float:
        """What a year loses. [money]"""
        return self.delivered_wh / 1000.0 * self.gain_per_kwh * self.days


def short_windows(c: CheckContext) -> Iterator[ShortWindow]:
    """Yield every charge slot at two prices with what it leaves unfilled, nothing where it fills."""
    tariff = c.job.tariff
    if tariff.seasons or tariff.hourly_import is not None:
        return
    for w, made in _windows(c):
        if made is None:
            continue
        trip = ac_round_trip(w.row, w.slot.power_w)
        lacking = max(0.0, w.need_wh - made.stored_wh)
        gain = tariff.import_price_per_kwh - paid_in_slot(c, w.slot) / trip if trip > 0 else 0.0
        out = lacking * math.sqrt(trip) if trip > 0 else 0.0  # half of the way there and back
        days = sum(MONTH_DAYS[m - 1] for m in w.slot.months or range(1, 13))
        yield ShortWindow(f"{w.row.station.name}, {w.slot.title}", lacking, out, gain, days)


def _reserve(c: CheckContext, slot: Slot) -> float:
    """Return the least reserve of a slot's months: from there the window has most to fill. [0 to 1]"""
    months = c.plan.controls.reserve_by_month(c.job.site.place.latitude_deg)
    return min(months[m - 1] for m in slot.months or range(1, 13))


def _line(c: CheckContext, w: _Window, made: WindowEnergy) -> str:
    slot, hours = w.slot, window_hours(w.slot.start_h, w.slot.end_h)
    asked = f"{show(slot.power_w, 'power_w')} × {hours:g} h draws {show(window_draws_wh(slot.power_w, hours), 'energy_wh')} at AC"
    held = [f"{made.held_by} leaves {show(made.ac_w, 'power_w')}"] if made.held_by else []
    if made.import_held:
        held.append(f"the house and the import limit of {show(c.job.site.import_limit_w or 0.0, 'power_w')} leave less")
    if held:
        asked += f"; {', and '.join(held)}: {show(made.drawn_wh, 'energy_wh')}"
    line = (
        f"{asked}, and stores {show(made.stored_wh, 'energy_wh')}; from {w.low_frac * 100:.0f} % to {w.high_frac * 100:.0f} % is "
        f"{show(w.need_wh, 'energy_wh')}"
    )
    return line + _by_year(c, w, made)


def _by_year(c: CheckContext, w: _Window, made: WindowEnergy) -> str:
    """Return what the year stored in the window on a mean day, and why it is not what the sum says."""
    year = c.facts.windows[w.index].nodes.get(w.row.station.id) if c.facts is not None and w.index in c.facts.windows else None
    if year is None:
        return ""
    room = max(0.0, w.high_frac - year.begins_frac) * w.capacity_wh
    why = ""
    if room < min(made.stored_wh, w.need_wh) - 50.0:
        why = f": it began at {year.begins_frac * 100:.0f} % on the mean, which leaves room for {show(room, 'energy_wh')}"
    elif year.stored_wh < min(made.stored_wh, room) - 50.0:
        taper = w.row.bank.cells.taper_soc_frac
        slow = f"charging slows above {taper * 100:.0f} %" if taper < w.high_frac else "days differ from their mean"
        why = f": {slow}"
    return f". In the year it stored {show(year.stored_wh, 'energy_wh')} on a mean day of its own{why}"


def _remedies(c: CheckContext, w: _Window) -> Iterator[Remedy]:
    base = c.path(f"controls.slots[{w.index}]")
    slot = w.slot
    hours = window_hours(slot.start_h, slot.end_h)
    if w.energy(power_w=1e9).stored_wh >= w.need_wh:
        power = slot.power_w
        while w.energy(power_w=power).stored_wh < w.need_wh:
            power += 50.0
        yield Remedy(f"charge at {show(power, 'power_w')} AC", (Edit(f"{base}.power_w", power),))
    longer = hours
    while longer < 24 and w.energy(hours_h=longer).stored_wh < w.need_wh:
        longer += 0.5
    if longer < 24:
        end = (slot.start_h + longer) % 24
        yield Remedy(f"a window of {longer:g} h, to {end:g} h", (Edit(f"{base}.end_h", end),))
    target = math.floor((w.low_frac + w.energy().stored_wh / w.capacity_wh) * 100) / 100
    yield Remedy(f"a target of {target * 100:.0f} %", (Edit(f"{base}.target_soc_frac", max(w.low_frac, target)),))
