# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""What a settled step becomes: standby paid, losses named (D7), origin traced (D10), energies moved (D3), rows noted and summed."""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.columns import (
    NODE,
    NODE_AC_IN,
    NODE_AC_OUT,
    NODE_AC_OWN,
    NODE_AUXILIARY,
    NODE_BATTERY_STANDBY,
    NODE_CAR_AC,
    NODE_CAR_FROM_AC,
    NODE_CAR_SHORT,
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
    NODE_PV_TO_CAR,
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
from calm_relay.simulation.kernel.node import lost_in_storing_w, out_dc_w, passes
from calm_relay.simulation.kernel.records import CARS, DEVICE, FIRST, FOURTH, ISLAND, PEAKS, PV, SECOND, THIRD, WISH_W

N_NODE = len(NODE)


@inside
def place(at, column):
    """Return where a column stands: unsigned, since an index that might be negative is looked at twice and defeats vectors."""
    return (at[0] + np.uint64(column)) * at[1] + at[2]


@inside
def _note(kept, series, row, sums, at, ok, column, watts):
    """Put a figure into its row where rows are kept, else add it to its sum. `at`: first column, stride and lane of the sums."""
    if len(kept) > 0:
        series[row, column] = watts
    else:
        sums[place(at, column)] += watts if ok else 0.0


@inside
def _note_node(kept, series, row, k, sums, at, ok, column, watts):
    if len(kept) > 0:
        series[row, k, column] = watts
    else:
        sums[place(at, k * N_NODE + column)] += watts if ok else 0.0


@inside
def _name_losses(kinds, sunny, kept, ok, k, nd, p, w, b, row, series, sums, at):
    """Pay the node's standby and name what its PV lost; its AC joins the bus by origin."""
    out = w.out
    is_on = out > 0.0 or w.taken > 0.0
    pv_standby, bat_standby, off_ac = 0.0, 0.0, 0.0
    if not is_on:
        pv_standby, bat_standby, off_ac = w.pv_pay, w.bat_pay, w.off_ac
    if len(sunny) > 0:
        left = w.pv - w.pv_inv - w.c_pv
        startable = w.pv - w.c_pv > out_dc_w(nd, WISH_W)
        if not is_on:
            from_left = min(pv_standby, left)
            left -= from_left
            w.c_pv = max(0.0, w.c_pv - (pv_standby - from_left))
        potential = max(0.0, w.pv - passes(nd, w))
        caught = min(w.c_pv, potential)
        left = max(0.0, left)
        clipped = min(left, potential - caught)
        rest = left - clipped
        below, device = 0.0, 0.0
        if out == 0.0 and not startable:
            below = rest
        else:
            device = min(rest, w.device)
        _note_node(kept, series, row, k, sums, at, ok, NODE_PV_AVAILABLE, w.pv + w.car_pv)
        _note_node(kept, series, row, k, sums, at, ok, NODE_PV_TO_INVERTER, w.pv_inv)
        _note_node(kept, series, row, k, sums, at, ok, NODE_PV_TO_BATTERY, w.c_pv)
        _note_node(kept, series, row, k, sums, at, ok, NODE_PV_STANDBY, pv_standby)
        _note_node(kept, series, row, k, sums, at, ok, NODE_CLIP_POTENTIAL, potential)
        _note_node(kept, series, row, k, sums, at, ok, NODE_CAUGHT, caught)
        _note_node(kept, series, row, k, sums, at, ok, NODE_LOST_AC_LIMIT, clipped)
        _note_node(kept, series, row, k, sums, at, ok, NODE_LOST_BELOW_START, below)
        if len(kinds[DEVICE]) > 0:
            _note_node(kept, series, row, k, sums, at, ok, NODE_LOST_DEVICE, device)
        held = rest - below - device
        if len(kinds[ISLAND]) > 0:
            _note_node(kept, series, row, k, sums, at, ok, NODE_LOST_ISLAND, p.island * held)
            held *= 1.0 - p.island
        _note_node(kept, series, row, k, sums, at, ok, NODE_LOST_CAP, held)
    else:
        w.pv, w.pv_inv, w.c_pv = 0.0, 0.0, 0.0
    if len(kinds[CARS]) > 0:
        _note_node(kept, series, row, k, sums, at, ok, NODE_PV_TO_CAR, w.car_pv)
        _note_node(kept, series, row, k, sums, at, ok, NODE_CAR_AC, w.car_in)
        _note_node(kept, series, row, k, sums, at, ok, NODE_CAR_FROM_AC, w.car_dc)
        _note_node(kept, series, row, k, sums, at, ok, NODE_CAR_SHORT, w.car - w.car_pv - w.car_dc)
    w.bat_pay = bat_standby
    taking, giving = lost_in_storing_w(nd, w.c_pv + w.c_ac, w.dis, bat_standby + w.aux_dc)
    _note_node(kept, series, row, k, sums, at, ok, NODE_AC_OUT, out)
    _note_node(kept, series, row, k, sums, at, ok, NODE_AC_IN, w.taken)
    _note_node(kept, series, row, k, sums, at, ok, NODE_CHARGE_FROM_AC, w.c_ac)
    _note_node(kept, series, row, k, sums, at, ok, NODE_DISCHARGE, w.dis)
    _note_node(kept, series, row, k, sums, at, ok, NODE_BATTERY_STANDBY, bat_standby)
    _note_node(kept, series, row, k, sums, at, ok, NODE_AUXILIARY, w.aux_dc)
    w.off_ac = off_ac
    _note_node(kept, series, row, k, sums, at, ok, NODE_INVERTER_LOSS, w.pv_inv + w.dis - out)
    _note_node(kept, series, row, k, sums, at, ok, NODE_CHARGER_LOSS, w.taken - w.c_ac)
    _note_node(kept, series, row, k, sums, at, ok, NODE_CELL_LOSS, taking + giving)
    from_battery = 0.0
    if w.dis > 0.0:
        from_battery = out * w.dis / (w.pv_inv + w.dis)
    w.mix = w.energy_pv / w.energy if w.energy > 0.0 else 0.0
    b.pv_ac += out - from_battery
    b.battery_ac += from_battery
    b.battery_pv += from_battery * w.mix
    b.charge_ac += w.taken


@inside
def _move_energy(shape, kept, ok, k, nd, step_h, surplus_part, slot_part, battery_part, paid, w, row, series, sums, at):
    """Move the node's energy, and its PV part by the origin of what charged it (D3, D10).

    `paid` is the part of its own draws at AC that somebody paid.
    """
    if nd.capacity > 0.0:
        into = w.c_pv + w.c_ac
        taking, giving = lost_in_storing_w(nd, into, w.dis, w.bat_pay + w.aux_dc)
        drawn = (w.dis + w.bat_pay + w.aux_dc + giving) * step_h
        charge_pv = surplus_part  # of one node: nobody else charges
        if len(shape) > 1:
            charge_pv = 0.0
            if w.taken > 0.0:
                from_pv = (w.taken - w.grant) * surplus_part + w.grant * slot_part
                charge_pv = (from_pv + (w.taken - from_pv) * battery_part) / w.taken
        stored, of_pv = (into - taking) * step_h, 0.0
        if into > 0.0:
            of_pv = stored * (w.c_pv + charge_pv * w.c_ac) / into
        now = max(0.0, w.energy - drawn + stored)
        w.energy_pv = min(now, max(0.0, w.energy_pv - w.mix * drawn + of_pv))
        w.energy = now
    _note_node(kept, series, row, k, sums, at, ok, NODE_AC_OWN, paid * (w.aux_ac + w.off_ac))
    _note_node(kept, series, row, k, sums, at, ok, NODE_ENERGY, w.energy)
    _note_node(kept, series, row, k, sums, at, ok, NODE_ENERGY_PV, w.energy_pv)


@inside
def finish_step(shape, kinds, kept, ok, nd, p, row, w, b, system, series, sums, node_sums, at, at_node):
    """Turn the settled step into rows: with `kept` put into `row` of `system` and `series`, else summed where `ok`.

    What by its `kinds` a plan never does is nothing, and is neither put nor summed.
    """
    n = len(shape)
    house = b.load_b + b.load_g
    never = b.never
    own = b.own_b + b.own_g
    slots_w = b.slots
    demand = b.demand + slots_w + b.beyond
    through = b.through + b.slots_b
    pv_only = b.pv_b + b.pv_b_fixed + b.pv_g + b.pv_g_fixed
    b.pv_ac, b.battery_ac, b.battery_pv, b.charge_ac = pv_only, 0.0, 0.0, 0.0
    if n > 0:
        _name_losses(kinds, kinds[PV][0], kept, ok, FIRST, nd[0], p, w[0], b, row, series, node_sums, at_node)
    if n > 1:
        _name_losses(kinds, kinds[PV][1], kept, ok, SECOND, nd[1], p, w[1], b, row, series, node_sums, at_node)
    if n > 2:
        _name_losses(kinds, kinds[PV][2], kept, ok, THIRD, nd[2], p, w[2], b, row, series, node_sums, at_node)
    if n > 3:
        _name_losses(kinds, kinds[PV][3], kept, ok, FOURTH, nd[3], p, w[3], b, row, series, node_sums, at_node)
    pv_total, battery_total, battery_pv, charge_total = b.pv_ac, b.battery_ac, b.battery_pv, b.charge_ac

    island = p.island if len(kinds[ISLAND]) > 0 else 0.0
    grid = 1.0 - island  # without a grid what is left is not served, and own draws that nobody pays are not drawn
    imported = grid * max(0.0, demand)
    exported = grid * max(0.0, -demand)
    # PV fills house, 'never' loads, own draws, charging, export; then batteries; the grid the rest (D10).
    pv_house = min(pv_total, house)
    rest = pv_total - pv_house
    pv_own = min(rest, own)
    rest -= pv_own
    pv_charge = min(rest, charge_total)
    pv_grid = grid * (rest - pv_charge)
    plain = max(0.0, house - never)
    battery_house = min(battery_total, plain - min(pv_house, plain))
    rest = battery_total - battery_house
    battery_own = min(rest, own - pv_own)
    rest -= battery_own
    battery_grid = min(rest, max(0.0, exported - pv_grid))
    battery_charge = min(rest - battery_grid, charge_total - pv_charge)
    battery_house += rest - battery_grid - battery_charge  # a sensor at the device does not know what PV beyond it serves
    pv_part = 0.0
    if n == 1:
        pv_part = w[0].mix
    elif battery_total > 0.0:
        pv_part = battery_pv / battery_total
    # PV goes first to what charges from surplus, the rest in proportion; what batteries gave to others lies on what is open.
    surplus_part, slot_part, battery_part = 0.0, 0.0, 0.0
    if n == 1:
        if charge_total > 0.0:
            surplus_part = pv_charge / charge_total
    elif charge_total > 0.0:
        surplus = charge_total - slots_w
        to_surplus = min(pv_charge, surplus)
        surplus_part = to_surplus / surplus if surplus > 0.0 else 0.0
        slot_part = (pv_charge - to_surplus) / slots_w if slots_w > 0.0 else 0.0
        open_w = charge_total - pv_charge
        battery_part = pv_part * battery_charge / open_w if open_w > 0.0 else 0.0
    paid = 1.0  # of the own draws; without a grid only what is left over pays them
    if island > 0.0 and own > 0.0:
        paid = (pv_own + battery_own) / own
    parts = surplus_part, slot_part, battery_part, paid
    if n > 0:
        _move_energy(shape, kept, ok, FIRST, nd[0], p.step_h, *parts, w[0], row, series, node_sums, at_node)
    if n > 1:
        _move_energy(shape, kept, ok, SECOND, nd[1], p.step_h, *parts, w[1], row, series, node_sums, at_node)
    if n > 2:
        _move_energy(shape, kept, ok, THIRD, nd[2], p.step_h, *parts, w[2], row, series, node_sums, at_node)
    if n > 3:
        _move_energy(shape, kept, ok, FOURTH, nd[3], p.step_h, *parts, w[3], row, series, node_sums, at_node)

    _note(kept, system, row, sums, at, ok, SYS_LOAD, house)
    drawn = own
    if len(kinds[ISLAND]) > 0:
        drawn = grid * own + island * (pv_own + battery_own)
        _note(kept, system, row, sums, at, ok, SYS_PV_ONLY_LOST_ISLAND, island * b.lost_cap)
        _note(kept, system, row, sums, at, ok, SYS_UNSERVED, island * (house - pv_house - battery_house))
    _note(kept, system, row, sums, at, ok, SYS_OWN_DRAW, drawn)
    _note(kept, system, row, sums, at, ok, SYS_IMPORT, imported)
    _note(kept, system, row, sums, at, ok, SYS_EXPORT, exported)
    _note(kept, system, row, sums, at, ok, SYS_PV_ONLY, pv_only)
    _note(kept, system, row, sums, at, ok, SYS_PV_AC, pv_total)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_AC, battery_total)
    _note(kept, system, row, sums, at, ok, SYS_CHARGE_AC, charge_total)
    _note(kept, system, row, sums, at, ok, SYS_TRANSFER, through)
    _note(kept, system, row, sums, at, ok, SYS_PV_TO_HOUSE, pv_house)
    _note(kept, system, row, sums, at, ok, SYS_PV_TO_OWN, pv_own)
    _note(kept, system, row, sums, at, ok, SYS_PV_TO_BATTERY, pv_charge)
    _note(kept, system, row, sums, at, ok, SYS_PV_TO_GRID, pv_grid)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_TO_HOUSE, battery_house)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_TO_OWN, battery_own)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_TO_GRID, battery_grid)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_TO_BATTERY, battery_charge)
    _note(kept, system, row, sums, at, ok, SYS_GRID_TO_HOUSE, grid * (house - pv_house - battery_house))
    _note(kept, system, row, sums, at, ok, SYS_GRID_TO_OWN, grid * (own - pv_own - battery_own))
    _note(kept, system, row, sums, at, ok, SYS_GRID_TO_BATTERY, grid * (charge_total - pv_charge - battery_charge))
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_PV_TO_HOUSE, battery_house * pv_part)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_PV_TO_OWN, battery_own * pv_part)
    _note(kept, system, row, sums, at, ok, SYS_BATTERY_PV_TO_GRID, battery_grid * pv_part)
    _note(kept, system, row, sums, at, ok, SYS_PV_ONLY_LOST_CAP, grid * b.lost_cap)
    _note(kept, system, row, sums, at, ok, SYS_CAP_EXCEEDED, max(0.0, exported - p.export_w))
    _note(kept, system, row, sums, at, ok, SYS_IMPORT_EXCEEDED, max(0.0, imported - p.import_w))
    if len(kinds[PEAKS]) > 0:
        _note(kept, system, row, sums, at, ok, SYS_PEAK_EXCEEDED, max(0.0, imported - p.target_w))
    if len(kinds[DEVICE]) > 0:
        _note(kept, system, row, sums, at, ok, SYS_PV_ONLY_LOST_DEVICE, b.lost_device)
        _note(kept, system, row, sums, at, ok, SYS_DEVICE_EXCEEDED, max(0.0, abs(through) - p.transfer_w))
