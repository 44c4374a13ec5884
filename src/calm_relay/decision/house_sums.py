"""The trade's quick sums for a plan, each with its arithmetic; beside the year where there is one, with why they part."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import MONTH_DAYS, YearCalendar, season_of_months, window_hours
from calm_relay.job.models import Job, Plan, Slot
from calm_relay.job.rows import BatteryRow, battery_rows
from calm_relay.load.house import HouseYear
from calm_relay.load.sums import Sum, backup_hours, night_battery, terminals_give, window_draws
from calm_relay.simulation import chain
from calm_relay.units import format_quantity as show
from calm_relay.year.facts import YearFacts

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
    banks = list(battery_rows(plan, job.cards()))
    for bank in banks:
        for slot in plan.controls.slots:
            if slot.kind == "charge_from_grid" and slot.power_w > 0:
                out += _window(bank, slot, facts)
    if banks:
        out += _backup(job, banks, house, calendar)
        if facts is not None:
            out += _fill(banks, facts)
    return tuple(out)


def _window(bank: BatteryRow, slot: Slot, facts: YearFacts | None) -> Iterator[Sum]:
    """What a grid charge window draws at AC and stores, and what the battery's amps would bring at its terminals."""
    hours = window_hours(slot.start_h, slot.end_h)
    watts = min(slot.power_w, bank.unit.charger_in_max_w)
    if watts <= 0:  # a unit without a charger
        return
    frac = round(bank.unit.charger_dc_w(watts) / watts * bank.battery.one_way_frac, 3)
    drawn, stored = window_draws(watts, hours, frac)
    words = "the charger's loss and half the battery's are in the factor"
    if facts is not None:
        days = sum(MONTH_DAYS[m - 1] for m in slot.months or range(1, 13))
        drew = facts.system_wh["grid_to_battery_w"] / days
        words += (
            f"; in the year the batteries drew {show(drew, 'energy_wh')} from the grid on a mean day of its months: charging "
            "begins with what the evening left and stops at the target"
        )
    name = f"window {show(slot.start_h, 'clock_h')} to {show(slot.end_h, 'clock_h')}, {bank.node.name}"
    yield replace(drawn, name=f"{name}, drawn at AC")
    yield replace(stored, name=f"{name}, stored", parts=words)
    amps = chain.bank_amps(bank.battery, bank.choice.modules, bank.battery.charge_max_a)
    if amps is not None:
        volts = chain.stack_voltage_v(bank.battery, bank.choice.modules)
        most = terminals_give(amps, volts, hours)
        words = "the battery's own amps alone; the inverter, the taper near full and the room left may allow less"
        yield replace(most, name=f"{name}, most at the terminals", parts=words)


def _backup(job: Job, banks: list[BatteryRow], house: HouseYear, calendar: YearCalendar) -> Iterator[Sum]:
    """How long full batteries carry the mean load of each season, the whole house and what must stay on."""
    usable = sum(chain.usable_wh(b.battery, b.choice) for b in banks)
    one_way = sum(chain.usable_wh(b.battery, b.choice) * b.battery.one_way_frac for b in banks) / usable if usable else 1.0
    idle = sum(b.unit.loss.p_self_w for b in banks)
    auxiliary = sum(b.battery.auxiliary_w for b in banks)
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


def _inverter_frac(banks: list[BatteryRow], load_w: float) -> float:
    """Return the inverters' efficiency at a load without their idle draw, which the sum adds by itself."""
    rated = sum(b.unit.ac_rated_w for b in banks)
    part = min(1.0, load_w / rated)
    factors = [1.0 + b.unit.loss.a + b.unit.loss.b * part for b in banks]
    return 1.0 / (sum(factors) / len(factors))


def _fill(banks: list[BatteryRow], facts: YearFacts) -> Iterator[Sum]:
    """How often the array offers a full battery, by season: share of days, and the median day."""
    for bank in banks:
        usable = show(chain.usable_wh(bank.battery, bank.choice), "energy_wh")
        for season, row in facts.fill.get(bank.node.id, {}).items():
            line = (
                f"in {season} the array offers all of {usable} on {row.share_of_days_frac * 100:.0f} % "
                f"of days, on the median day {show(row.median_offer_wh, 'energy_wh')}"
            )
            yield Sum(f"filled by the array, {bank.node.name}", row.share_of_days_frac, "fraction", line)
