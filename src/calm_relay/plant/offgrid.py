"""What grid-forming inverters make with the grid gone: the one place where rating and battery are put together."""

from __future__ import annotations

from collections.abc import Callable

from calm_relay.plant.chain import bank_amps, discharge_chain, stack_voltage_v, terminals_limit_w
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.whole import Plant


def continuous_va(row: BatteryRow) -> float | None:
    """Return what a unit makes all day with the grid gone: its rating, or what its battery's discharge limit gives at AC. [VA]

    None where the card or the battery's limit is silent.
    """
    rated = row.unit.offgrid_continuous_va
    dc = terminals_limit_w(discharge_chain(row.unit, row.bank))
    return None if rated is None or dc is None else min(rated, row.unit.output_w(dc))


def start_va(row: BatteryRow, start_s: float) -> float | None:
    """Return a unit's own limit through a start: its peak where that lasts long enough, else its continuous rating. [VA]"""
    unit = row.unit
    if unit.offgrid_peak_va is None or unit.offgrid_peak_s is None:
        return None
    return unit.offgrid_peak_va if unit.offgrid_peak_s >= start_s else unit.offgrid_continuous_va


def bank_w(row: BatteryRow) -> float | None:
    """Return what the bank by itself gives at AC, whatever the unit is rated for: it has no peak of its own. [W]"""
    amps = bank_amps(row.bank, row.bank.cells.discharge_max_a)
    of_amps = None if amps is None else amps * stack_voltage_v(row.bank)
    known = [w for w in (of_amps, row.bank.cells.bank_discharge_max_w) if w is not None]
    return float(row.unit.ac_w(min(known))) if known else None


def plan_continuous_va(plant: Plant) -> float | None:
    """Return what a plan's forming units make together; None: one of them is unknown, or nothing forms the grid. [VA]"""
    return total([continuous_va(row) for row in plant.forming])


def plan_start_va(plant: Plant, start_s: float = 0.0) -> float | None:
    """Return what a plan's forming units carry through a start, by their cards; None as above. [VA]"""
    return total([start_va(row, start_s) for row in plant.forming])


def total(parts: list[float | None]) -> float | None:
    """Return the sum; None where there is nothing to add or a part is unknown. [the unit of the parts]"""
    known = [part for part in parts if part is not None]
    return sum(known) if known and len(known) == len(parts) else None


def lines_va(plant: Plant, carried: Callable[[BatteryRow], float | None]) -> tuple[float, ...] | None:
    """Return what forming units carry on each line by `carried`; None: there is none, or one of them is unknown. [VA]"""
    made = [carried(row) for row in plant.forming]
    known = [va for va in made if va is not None]
    if not made or len(known) < len(made):
        return None
    shares = [row.station.shares for row in plant.forming]
    return tuple(sum(va * share[i] for va, share in zip(known, shares, strict=True)) for i in range(plant.lines.count))


def offgrid_lines_va(plant: Plant) -> tuple[float, ...] | None:
    """Return what grid-forming units carry on each line with the grid gone; None: there is none, or a card is silent. [VA]

    A unit on all lines carries its share of the rating on each, or what its card says of one phase or leg.
    """
    found = lines_va(plant, continuous_va)
    if found is None:
        return None
    count, out = plant.lines.count, list(found)
    for row in plant.forming:
        own = row.unit.leg_max_w if count == 2 else row.unit.phase_max_w if count == 3 else None
        shares = row.station.shares
        if own is not None and max(shares) < 1.0:
            made = continuous_va(row) or 0.0
            out = [va + min(own, made) - made * share for va, share in zip(out, shares, strict=True)]
    return tuple(out)
