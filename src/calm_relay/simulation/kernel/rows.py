# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""What a settled step becomes: standby paid, losses named (D7), origin traced (D10), energies moved (D3), rows noted and summed."""

from __future__ import annotations

from calm_relay.simulation.columns import (
    AC_LOAD_B,
    AC_LOAD_G,
    AC_NEVER,
    AC_PV_B_FIXED,
    AC_PV_G_FIXED,
    NODE_AC_IN,
    NODE_AC_OUT,
    NODE_AC_OWN,
    NODE_AUXILIARY,
    NODE_BATTERY_STANDBY,
    NODE_CAUGHT,
    NODE_CELL_LOSS,
    NODE_CHARGE_FROM_AC,
    NODE_CHARGER_LOSS,
    NODE_CLIP_POTENTIAL,
    NODE_DISCHARGE,
    NODE_ENERGY,
    NODE_ENERGY_PV,
    NODE_INVERTER_LOSS,
    NODE_LOST_AC_LIMIT,
    NODE_LOST_BELOW_START,
    NODE_LOST_CAP,
    NODE_LOST_DEVICE,
    NODE_LOST_ISLAND,
    NODE_PV_AVAILABLE,
    NODE_PV_STANDBY,
    NODE_PV_TO_BATTERY,
    NODE_PV_TO_INVERTER,
    SYS_BATTERY_AC,
    SYS_BATTERY_PV_TO_GRID,
    SYS_BATTERY_PV_TO_HOUSE,
    SYS_BATTERY_PV_TO_OWN,
    SYS_BATTERY_TO_BATTERY,
    SYS_BATTERY_TO_GRID,
    SYS_BATTERY_TO_HOUSE,
    SYS_BATTERY_TO_OWN,
    SYS_CAP_EXCEEDED,
    SYS_CHARGE_AC,
    SYS_DEVICE_EXCEEDED,
    SYS_EXPORT,
    SYS_GRID_TO_BATTERY,
    SYS_GRID_TO_HOUSE,
    SYS_GRID_TO_OWN,
    SYS_IMPORT,
    SYS_IMPORT_EXCEEDED,
    SYS_LOAD,
    SYS_OWN_DRAW,
    SYS_PEAK_EXCEEDED,
    SYS_PV_AC,
    SYS_PV_ONLY,
    SYS_PV_ONLY_LOST_CAP,
    SYS_PV_ONLY_LOST_DEVICE,
    SYS_PV_ONLY_LOST_ISLAND,
    SYS_PV_TO_BATTERY,
    SYS_PV_TO_GRID,
    SYS_PV_TO_HOUSE,
    SYS_PV_TO_OWN,
    SYS_TRANSFER,
    SYS_UNSERVED,
)
from calm_relay.simulation.kernel.jit import inside
from calm_relay.simulation.kernel.records import FIRST, FOURTH, SECOND, THIRD, WISH_W
from calm_relay.simulation.kernel.rules import out_dc_w, passes


@inside
def _note(series, row, sums, column, watts):
    """Add a figure to its sum, and put it into its row."""
    sums[column] += watts
    series[row, column] = watts


@inside
def _note_node(series, row, k, sums, column, watts):
    sums[k, column] += watts
    series[row, k, column] = watts


@inside
def _name_losses(k, nd, energy, energy_pv, w, row, series, sums):
    """Pay node k's standby and name what its PV lost; returns its AC from PV and battery, and the PV part of the latter. [W]"""
    out = w[k].out
    is_on = out > 0.0 or w[k].taken > 0.0
    left = w[k].pv - w[k].pv_inv - w[k].c_pv
    startable = w[k].pv - w[k].c_pv > out_dc_w(k, nd, WISH_W)
    pv_standby, bat_standby, off_ac = 0.0, 0.0, 0.0
    if not is_on:
        pv_standby, bat_standby, off_ac = w[k].pv_pay, w[k].bat_pay, w[k].off_ac
        from_left = min(pv_standby, left)
        left -= from_left
        w[k].c_pv = max(0.0, w[k].c_pv - (pv_standby - from_left))
    potential = max(0.0, w[k].pv - passes(k, nd, w))
    caught = min(w[k].c_pv, potential)
    left = max(0.0, left)
    clipped = min(left, potential - caught)
    rest = left - clipped
    below, device = 0.0, 0.0
    if out == 0.0 and not startable:
        below = rest
    else:
        device = min(rest, w[k].device)
    w[k].bat_pay = bat_standby
    drawn = w[k].dis + bat_standby + w[k].aux_dc
    cells = (1.0 - nd[k].eta_c) * (w[k].c_pv + w[k].c_ac) + (1.0 / nd[k].eta_d - 1.0) * drawn
    _note_node(series, row, k, sums, NODE_PV_AVAILABLE, w[k].pv)
    _note_node(series, row, k, sums, NODE_PV_TO_INVERTER, w[k].pv_inv)
    _note_node(series, row, k, sums, NODE_PV_TO_BATTERY, w[k].c_pv)
    _note_node(series, row, k, sums, NODE_PV_STANDBY, pv_standby)
    _note_node(series, row, k, sums, NODE_CLIP_POTENTIAL, potential)
    _note_node(series, row, k, sums, NODE_CAUGHT, caught)
    _note_node(series, row, k, sums, NODE_LOST_AC_LIMIT, clipped)
    _note_node(series, row, k, sums, NODE_LOST_BELOW_START, below)
    _note_node(series, row, k, sums, NODE_LOST_DEVICE, device)
    _note_node(series, row, k, sums, NODE_LOST_CAP, rest - below - device)
    _note_node(series, row, k, sums, NODE_LOST_ISLAND, 0.0)
    _note_node(series, row, k, sums, NODE_AC_OUT, out)
    _note_node(series, row, k, sums, NODE_AC_IN, w[k].taken)
    _note_node(series, row, k, sums, NODE_CHARGE_FROM_AC, w[k].c_ac)
    _note_node(series, row, k, sums, NODE_DISCHARGE, w[k].dis)
    _note_node(series, row, k, sums, NODE_BATTERY_STANDBY, bat_standby)
    _note_node(series, row, k, sums, NODE_AUXILIARY, w[k].aux_dc)
    _note_node(series, row, k, sums, NODE_AC_OWN, w[k].aux_ac + off_ac)
    _note_node(series, row, k, sums, NODE_INVERTER_LOSS, w[k].pv_inv + w[k].dis - out)
    _note_node(series, row, k, sums, NODE_CHARGER_LOSS, w[k].taken - w[k].c_ac)
    _note_node(series, row, k, sums, NODE_CELL_LOSS, cells)
    if w[k].dis <= 0.0:
        return out, 0.0, 0.0
    from_battery = out * w[k].dis / (w[k].pv_inv + w[k].dis)
    mix = energy_pv[k] / energy[k] if energy[k] > 0.0 else 0.0
    return out - from_battery, from_battery, from_battery * mix


@inside
def _move_energy(k, nd, energy, energy_pv, surplus_part, slot_part, battery_part, w, row, series, sums):
    """Move node k's energy, and its PV part by the origin of what charged it (D3, D10)."""
    if nd[k].capacity > 0.0:
        drawn = (w[k].dis + w[k].bat_pay + w[k].aux_dc) * nd[k].wh_per_give
        mix = 0.0
        if drawn > 0.0 and energy[k] > 0.0:
            mix = energy_pv[k] / energy[k]
        charge_pv = 0.0
        if w[k].taken > 0.0:
            from_pv = (w[k].taken - w[k].grant) * surplus_part + w[k].grant * slot_part
            charge_pv = (from_pv + (w[k].taken - from_pv) * battery_part) / w[k].taken
        stored = nd[k].wh_per_take
        now = max(0.0, energy[k] - drawn + stored * (w[k].c_pv + w[k].c_ac))
        energy_pv[k] = min(now, max(0.0, energy_pv[k] - mix * drawn + stored * (w[k].c_pv + charge_pv * w[k].c_ac)))
        energy[k] = now
    _note_node(series, row, k, sums, NODE_ENERGY, energy[k])
    _note_node(series, row, k, sums, NODE_ENERGY_PV, energy_pv[k])


@inside
def finish_step(shape, nd, p, ac, t, row, energy, energy_pv, w, b, system, series, sums, node_sums):
    """Turn the settled step into rows: put into `row` of `system` and `series`, and summed."""
    n = len(shape)
    house = ac[t, AC_LOAD_B] + ac[t, AC_LOAD_G]
    never = ac[t, AC_NEVER]
    own = b[0].own_b + b[0].own_g
    slots_w = b[0].slots
    demand = b[0].demand + slots_w + b[0].beyond
    through = b[0].through + b[0].slots_b
    pv_only = b[0].pv_b + ac[t, AC_PV_B_FIXED] + b[0].pv_g + ac[t, AC_PV_G_FIXED]
    pv_total, battery_total, battery_pv, charge_total = pv_only, 0.0, 0.0, 0.0
    if n > 0:
        of_pv, of_battery, its_pv = _name_losses(FIRST, nd, energy, energy_pv, w, row, series, node_sums)
        pv_total, battery_total, battery_pv = pv_total + of_pv, battery_total + of_battery, battery_pv + its_pv
        charge_total += w[0].taken
    if n > 1:
        of_pv, of_battery, its_pv = _name_losses(SECOND, nd, energy, energy_pv, w, row, series, node_sums)
        pv_total, battery_total, battery_pv = pv_total + of_pv, battery_total + of_battery, battery_pv + its_pv
        charge_total += w[1].taken
    if n > 2:
        of_pv, of_battery, its_pv = _name_losses(THIRD, nd, energy, energy_pv, w, row, series, node_sums)
        pv_total, battery_total, battery_pv = pv_total + of_pv, battery_total + of_battery, battery_pv + its_pv
        charge_total += w[2].taken
    if n > 3:
        of_pv, of_battery, its_pv = _name_losses(FOURTH, nd, energy, energy_pv, w, row, series, node_sums)
        pv_total, battery_total, battery_pv = pv_total + of_pv, battery_total + of_battery, battery_pv + its_pv
        charge_total += w[3].taken

    imported = max(0.0, demand)
    exported = max(0.0, -demand)
    # PV fills house, 'never' loads, own draws, charging, export; then batteries; the grid the rest (D10).
    pv_house = min(pv_total, house)
    rest = pv_total - pv_house
    pv_own = min(rest, own)
    rest -= pv_own
    pv_charge = min(rest, charge_total)
    pv_grid = rest - pv_charge
    plain = max(0.0, house - never)
    battery_house = min(battery_total, plain - min(pv_house, plain))
    rest = battery_total - battery_house
    battery_own = min(rest, own - pv_own)
    rest -= battery_own
    battery_grid = min(rest, max(0.0, exported - pv_grid))
    battery_charge = min(rest - battery_grid, charge_total - pv_charge)
    battery_house += rest - battery_grid - battery_charge  # a sensor at the device does not know what PV beyond it serves
    pv_part = battery_pv / battery_total if battery_total > 0.0 else 0.0
    # PV goes first to what charges from surplus, the rest in proportion; what batteries gave to others lies on what is open.
    surplus_part, slot_part, battery_part = 0.0, 0.0, 0.0
    if charge_total > 0.0:
        surplus = charge_total - slots_w
        to_surplus = min(pv_charge, surplus)
        surplus_part = to_surplus / surplus if surplus > 0.0 else 0.0
        slot_part = (pv_charge - to_surplus) / slots_w if slots_w > 0.0 else 0.0
        open_w = charge_total - pv_charge
        battery_part = pv_part * battery_charge / open_w if open_w > 0.0 else 0.0
    parts = surplus_part, slot_part, battery_part
    if n > 0:
        _move_energy(FIRST, nd, energy, energy_pv, *parts, w, row, series, node_sums)
    if n > 1:
        _move_energy(SECOND, nd, energy, energy_pv, *parts, w, row, series, node_sums)
    if n > 2:
        _move_energy(THIRD, nd, energy, energy_pv, *parts, w, row, series, node_sums)
    if n > 3:
        _move_energy(FOURTH, nd, energy, energy_pv, *parts, w, row, series, node_sums)

    _note(system, row, sums, SYS_LOAD, house)
    _note(system, row, sums, SYS_OWN_DRAW, own)
    _note(system, row, sums, SYS_IMPORT, imported)
    _note(system, row, sums, SYS_EXPORT, exported)
    _note(system, row, sums, SYS_PV_ONLY, pv_only)
    _note(system, row, sums, SYS_PV_AC, pv_total)
    _note(system, row, sums, SYS_BATTERY_AC, battery_total)
    _note(system, row, sums, SYS_CHARGE_AC, charge_total)
    _note(system, row, sums, SYS_TRANSFER, through)
    _note(system, row, sums, SYS_PV_TO_HOUSE, pv_house)
    _note(system, row, sums, SYS_PV_TO_OWN, pv_own)
    _note(system, row, sums, SYS_PV_TO_BATTERY, pv_charge)
    _note(system, row, sums, SYS_PV_TO_GRID, pv_grid)
    _note(system, row, sums, SYS_BATTERY_TO_HOUSE, battery_house)
    _note(system, row, sums, SYS_BATTERY_TO_OWN, battery_own)
    _note(system, row, sums, SYS_BATTERY_TO_GRID, battery_grid)
    _note(system, row, sums, SYS_BATTERY_TO_BATTERY, battery_charge)
    _note(system, row, sums, SYS_GRID_TO_HOUSE, house - pv_house - battery_house)
    _note(system, row, sums, SYS_GRID_TO_OWN, own - pv_own - battery_own)
    _note(system, row, sums, SYS_GRID_TO_BATTERY, charge_total - pv_charge - battery_charge)
    _note(system, row, sums, SYS_BATTERY_PV_TO_HOUSE, battery_house * pv_part)
    _note(system, row, sums, SYS_BATTERY_PV_TO_OWN, battery_own * pv_part)
    _note(system, row, sums, SYS_BATTERY_PV_TO_GRID, battery_grid * pv_part)
    _note(system, row, sums, SYS_PV_ONLY_LOST_DEVICE, b[0].lost_device)
    _note(system, row, sums, SYS_PV_ONLY_LOST_CAP, b[0].lost_cap)
    _note(system, row, sums, SYS_PV_ONLY_LOST_ISLAND, 0.0)
    _note(system, row, sums, SYS_UNSERVED, 0.0)
    _note(system, row, sums, SYS_CAP_EXCEEDED, max(0.0, exported - p.export_w))
    _note(system, row, sums, SYS_IMPORT_EXCEEDED, max(0.0, imported - p.import_w))
    _note(system, row, sums, SYS_PEAK_EXCEEDED, max(0.0, imported - p.target_w))
    _note(system, row, sums, SYS_DEVICE_EXCEEDED, max(0.0, abs(through) - p.transfer_w))
