"""Quick sums: the trade's own arithmetic, shown beside the simulation. Each says which end its watts are measured at."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from calm_relay.plant import chain
from calm_relay.plant.station import BatteryRow
from calm_relay.simulation.storing import bank_loss


def window_draws_wh(power_w: float, hours_h: float) -> float:
    """Return what a charge window of constant power moves at the end where the watts are measured. [Wh]"""
    return power_w * hours_h


@dataclass(frozen=True)
class WindowEnergy:
    """What a charge window moves: drawn at AC, put into the cells. [Wh]

    `ac_w` is the most it draws at once; `held_by` names the link that keeps it below the watts asked for, '' where none does;
    `import_held` says whether the import limit did in some hour.
    """

    drawn_wh: float
    stored_wh: float
    ac_w: float
    held_by: str
    import_held: bool


def window_energy(
    row: BatteryRow, power_w: float, start_h: float, hours_h: float, room_w: Sequence[float] | None = None
) -> WindowEnergy:
    """Return what a charge window moves, the battery empty enough to take it all and no taper near full.

    Parameters
    ----------
    power_w : float
        Watts at AC that are asked for; the charger, the battery, the unit's battery input and the import limit may hold less.
    start_h, hours_h : float
        Clock hour of its beginning and its length; past midnight is allowed.
    room_w : sequence of 24 floats or None
        What an import limit leaves for charging in each clock hour, at AC. None: no limit.
    """
    links = chain.charge_chain(row.unit, row.bank)
    terminals = chain.terminals_limit_w(links)
    most_ac, held_by = power_w, ""
    if row.unit.charger_in_max_w < most_ac:
        most_ac, held_by = row.unit.charger_in_max_w, links[-1].name
    if terminals is not None and max(0.0, row.unit.charger_dc_w(most_ac)) > terminals:
        most_ac, held_by = row.unit.charger_ac_w(terminals), chain.weakest(links[:-1]).name
    drawn = stored = 0.0
    loss = bank_loss(row.unit, row.bank)
    import_held = False
    for hour, part in _clock_parts(start_h, hours_h):
        ac = most_ac if room_w is None else min(most_ac, max(0.0, room_w[hour]))
        import_held |= ac < most_ac - 0.5
        drawn += ac * part
        stored += loss.arrives_w(max(0.0, row.unit.charger_dc_w(ac))) * part
    return WindowEnergy(drawn_wh=drawn, stored_wh=stored, ac_w=most_ac, held_by=held_by, import_held=import_held)


def ac_round_trip(row: BatteryRow, ac_w: float) -> float:
    """Return AC out over AC in: the charger at `ac_w`, the cells both ways, the inverter at the same DC watts. [W/W]"""
    ac_in = min(ac_w, row.unit.charger_in_max_w)
    loss = bank_loss(row.unit, row.bank)
    out = row.unit.output_w(loss.given_w(loss.arrives_w(row.unit.charger_dc_w(ac_in))))
    return out / ac_in if ac_in > 0 else 0.0


def _clock_parts(start_h: float, hours_h: float) -> Iterator[tuple[int, float]]:
    """Yield the clock hours of a window with the part of each that lies in it. [h]"""
    at, end = start_h, start_h + hours_h
    while at < end - 1e-9:
        step = min(math.floor(at + 1e-9) + 1.0, end)
        yield int(at + 1e-9) % 24, step - at
        at = step
