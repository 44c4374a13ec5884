"""What grid-forming inverters make with the grid gone: the one place where rating and battery are put together."""

from __future__ import annotations

from calm_relay.job.models import Plan
from calm_relay.job.rows import BatteryRow, forming_rows
from calm_relay.library.book import CardBook
from calm_relay.simulation.chain import bank_amps, discharge_chain, stack_voltage_v, terminals_limit_w


def continuous_va(row: BatteryRow) -> float | None:
    """Return what a unit makes all day with the grid gone: its rating, or what its battery's discharge limit gives at AC. [VA]

    None where the card or the battery's limit is silent.
    """
    rated = row.unit.offgrid_continuous_va
    dc = terminals_limit_w(discharge_chain(row.unit, row.battery, row.choice))
    return None if rated is None or dc is None else min(rated, row.unit.output_w(dc))


def start_va(row: BatteryRow, start_s: float) -> float | None:
    """Return a unit's own limit through a start: its peak where that lasts long enough, else its continuous rating. [VA]"""
    unit = row.unit
    if unit.offgrid_peak_va is None or unit.offgrid_peak_s is None:
        return None
    return unit.offgrid_peak_va if unit.offgrid_peak_s >= start_s else unit.offgrid_continuous_va


def bank_w(row: BatteryRow) -> float | None:
    """Return what the bank by itself gives at AC, whatever the unit is rated for: it has no peak of its own. [W]"""
    battery, n = row.battery, row.choice.modules
    amps = bank_amps(battery, row.choice, battery.discharge_max_a)
    known = [
        w for w in (None if amps is None else amps * stack_voltage_v(battery, n), battery.bank_discharge_max_w) if w is not None
    ]
    return float(row.unit.ac_w(min(known))) if known else None


def plan_continuous_va(plan: Plan, cards: CardBook) -> float | None:
    """Return what a plan's forming units make together; None: one of them is unknown, or nothing forms the grid. [VA]"""
    return total([continuous_va(row) for row in forming_rows(plan, cards)])


def plan_start_va(plan: Plan, cards: CardBook, start_s: float = 0.0) -> float | None:
    """Return what a plan's forming units carry through a start, by their cards; None as above. [VA]"""
    return total([start_va(row, start_s) for row in forming_rows(plan, cards)])


def total(parts: list[float | None]) -> float | None:
    """Return the sum; None where there is nothing to add or a part is unknown. [the unit of the parts]"""
    known = [part for part in parts if part is not None]
    return sum(known) if known and len(known) == len(parts) else None
