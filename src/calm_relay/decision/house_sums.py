"""The trade's quick sums for a plan, each with its arithmetic; beside the year where there is one, with why they part."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import MONTH_DAYS, YearCalendar, season_of_months, window_hours
from calm_relay.job.control_models import Slot
from calm_relay.job.models import Job, Plan
from calm_relay.load.house import HouseYear
from calm_relay.load.sums import Sum, backup_hours, night_battery, terminals_give, window_draws
from calm_relay.plant import chain
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.station import BatteryRow
from calm_relay.simulation.quick import window_energy
from calm_relay.units import format_quantity as show
from calm_relay.year.facts import YearFacts
from calm_relay.year.windows import WindowFacts

Array = NDArray[np.float64]
YEAR_DAYS = sum(MONTH_DAYS)


def quick_sums(
    job: Job, plan: Plan, house: HouseYear, calendar: YearCalendar, sun_up: NDArray[np.bool_], facts: YearFacts | None = None
) -> tuple[Sum, ...]:
    """Return the quick sums of a plan: sizes by use, window fill, backup time by season, the array's ability to fill.

    Parameters
    ----------
    sun_up : ndarray of bool (steps,)
        Where the sun stands above the horizon.
    facts : YearFacts or None
        The simulated year, where there is one: what it says beside a sum, and why they part.
    """
    total = house.total_w()
    day = float(total.sum()) * calendar.step_h / YEAR_DAYS
    night = float(total[~sun_up].sum()) * calendar.step_h / YEAR_DAYS
    out = list(night_battery(day, night))
    banks = plant_of(job, plan).banked
    for bank in banks:
        for index, slot in enumerate(plan.controls.slots):
            if slot.kind == "charge_from_grid" and slot.power_w > 0 and slot.holds_for(bank.station.id):
                out += _window(bank, slot, None if facts is None else facts.windows[index])
    if banks:
        out += _backup(job, banks, house, calendar)
        if facts is not None:
            out += _fill(banks, facts)
    return tuple(out)


def _window(bank: BatteryRow, slot: Slot, year: WindowFacts | None) -> Iterator[Sum]:
    """What a grid charge window draws at AC, brings to the battery's terminals and stores; an import limit holds it in a year."""
    hours = window_hours(slot.start_h, slot.end_h)
    made = window_energy(bank, slot.power_w, slot.start_h, hours, None if year is None else year.room_w())
    if made.ac_w <= 0 or made.drawn_wh <= 0:  # a unit without a charger, or no room under the limit
        return
    frac = round(made.stored_wh / made.drawn_wh, 3)
    drawn, stored = window_draws(made.drawn_wh / hours, hours, frac)
    held = [f"{made.held_by} leaves {show(made.ac_w, 'power_w')} of {show(slot.power_w, 'power_w')}"] if made.held_by else []
    held += ["the watts are the mean of what the import limit leaves beside the house"] if made.import_held else []
    words = "the charger's loss and half the battery's are in the factor"
    mine = None if year is None else year.nodes.get(bank.station.id)
    if mine is not None:
        words += (
            f"; in the year it stored {show(mine.stored_wh, 'energy_wh')} on a mean day of its own: it began at "
            f"{mine.begins_frac * 100:.0f} % on the mean, and charging stops at the target"
        )
    days = "" if slot.days == "every" else f" on {slot.days}"
    name = f"window {show(slot.start_h, 'clock_h')} to {show(slot.end_h, 'clock_h')}{days}, {bank.station.name}"
    yield replace(drawn, name=f"{name}, drawn at AC", parts="; ".join(held))
    yield replace(stored, name=f"{name}, stored", parts=words)
    amps = chain.end_amps(bank.unit, bank.bank, charging=True)
    if amps is not None:
        most = terminals_give(amps, chain.stack_voltage_v(bank.bank), hours)
        words = "by the lesser amps of battery and inverter; power limits, the taper near full and the room left may allow less"
        yield replace(most, name=f"{name}, most at the terminals", parts=words)


def _backup(job: Job, banks: Sequence[BatteryRow], house: HouseYear, calendar: YearCalendar) -> Iterator[Sum]:
    """How long full batteries carry the mean load of each season, the whole house and what must stay on."""
    usable = sum(chain.usable_wh(b.bank) for b in banks)
    one_way = sum(chain.usable_wh(b.bank) * b.bank.cells.one_way_frac for b in banks) / usable if usable else 1.0
    idle = sum(b.unit.loss.p_self_w for b in banks)
    auxiliary = sum(b.bank.cells.auxiliary_w for b in banks)
    essential = [a.id for a in job.house.counted if a.essential]
    loads = [("the whole house", house.total_w())]
    if essential:
        loads.append(("what must stay on", np.sum([house.appliance_w[i] for i in essential], axis=0)))
    words = "by a mean load, from full, no sun: a drill by the minute meets peaks that trip and a battery that is not full"
    for name, watts in loads:
        for season, months in season_of_months(job.site.place.latitude_deg).items():
            mean = float(watts[np.isin(calendar.month, months)].mean())
            if mean <= 0:
                continue
            frac = round(one_way * _inverter_frac(banks, mean), 3)
            made = backup_hours(usable, mean, frac, idle, auxiliary)
            yield replace(made, name=f"backup time in {season}, {name}", parts=words)
    hours = job.brief.longest_h
    if hours and essential:
        named = season_of_months(job.site.place.latitude_deg).get(job.brief.outage_season)
        part = loads[1][1] if named is None else loads[1][1][np.isin(calendar.month, named)]
        mean = float(part.mean())
        need = hours * mean
        line = f"{hours:g} h × {mean:.0f} W = {need / 1000:.1f} kWh; {usable / 1000:.1f} kWh are usable when full"
        yield Sum("the brief's longest outage, what must stay on", need, "energy_wh", line, words)


def _inverter_frac(banks: Sequence[BatteryRow], load_w: float) -> float:
    """Return the inverters' efficiency at a load without their idle draw, which the sum adds by itself."""
    rated = sum(b.unit.ac_rated_w for b in banks)
    part = min(1.0, load_w / rated)
    factors = [1.0 + b.unit.loss.a + b.unit.loss.b * part for b in banks]
    return 1.0 / (sum(factors) / len(factors))


def _fill(banks: Sequence[BatteryRow], facts: YearFacts) -> Iterator[Sum]:
    """How often the array offers a full battery, by season: share of days, and the median day."""
    for bank in banks:
        usable = show(chain.usable_wh(bank.bank), "energy_wh")
        for season, row in facts.fill.get(bank.station.id, {}).items():
            line = (
                f"in {season} the array offers all of {usable} on {row.share_of_days_frac * 100:.0f} % "
                f"of days, on the median day {show(row.median_offer_wh, 'energy_wh')}"
            )
            yield Sum(f"filled by the array, {bank.station.name}", row.share_of_days_frac, "fraction", line)
