# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The compiled kernel: one step function, settled by the rules D3–D10, and thin loops around it.

All compiled functions live in this one file.
Scalars and arrays in and out; one signature only (float64, int8). Column order: ``columns.py``.
"""

from __future__ import annotations

from pathlib import Path

import numba
import numpy as np
from numba import njit

from calm_relay.cache import code_cache_folder
from calm_relay.simulation.columns import (
    AC_LOAD_B,
    AC_LOAD_G,
    AC_NEVER,
    AC_OWN_B,
    AC_OWN_G,
    AC_PV_B,
    AC_PV_B_FIXED,
    AC_PV_G,
    AC_PV_G_FIXED,
    NODE,
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
    SYSTEM,
)

# Compiled code is kept by the content of this whole folder: numba's own cache sees changes in this file only.
numba.config.CACHE_DIR = str(code_cache_folder(Path(__file__).parent))  # type: ignore[attr-defined]
_jit = njit(cache=True, nogil=True, error_model="numpy")
_jit_inside = njit(cache=True, nogil=True, error_model="numpy", forceinline=True)

WISH_W = 1e-6  # a wish below this is none (D6)
OWN_USE, CHARGE_FROM_GRID, SURPLUS_ONLY, HOLD = 0, 1, 2, 3
BACKUP, GRID = 0, 1

NODE_DTYPE = np.dtype(
    [
        ("side", "f8"), ("ac_out_w", "f8"), ("ac_in_w", "f8"), ("rated_w", "f8"),
        ("p_self_w", "f8"), ("a", "f8"), ("b", "f8"),
        ("charge_p_self_w", "f8"), ("charge_a", "f8"), ("charge_b", "f8"),
        ("night_w", "f8"), ("grid_port_w", "f8"), ("backup_port_w", "f8"), ("pv_to_battery_w", "f8"),
        ("capacity_wh", "f8"), ("soc_min", "f8"), ("soc_max", "f8"), ("reserve", "f8"),
        ("charge_w", "f8"), ("discharge_w", "f8"), ("eta_c", "f8"), ("eta_d", "f8"),
        ("taper_soc", "f8"), ("taper_end", "f8"), ("auxiliary_w", "f8"),
    ],
    align=True,
)  # fmt: skip
SLOT_DTYPE = np.dtype([("kind", "f8"), ("power_w", "f8"), ("target", "f8"), ("floor", "f8")], align=True)
PLANT_DTYPE = np.dtype(
    [
        ("step_h", "f8"), ("export_w", "f8"), ("import_w", "f8"), ("transfer_w", "f8"), ("bias_w", "f8"),
    ],
    align=True,
)  # fmt: skip

N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)

# Work table: one row a node, kept between calls to spare allocation; only meaningful inside one step.
(
    W_OUT, W_IN, W_PV_INV, W_C_PV, W_C_AC, W_DIS, W_DEV, W_FLOOR, W_E1, W_CHARGE, W_GIVE, W_AC_MAX, W_BELOW, W_USUAL,
    W_ON, W_OFF_AC, W_PV_PAY, W_BAT_PAY, W_AUX_DC, W_AUX_AC, W_FIXED, W_GRANT, W_BEST,
) = range(23)  # fmt: skip
N_WORK = 23
# What the nodes of a step share, in the row after the last node's: D without what slots draw, P_T likewise, controllable PV-only
# of the backup side, what the bias kept back from the house while a node sends to others, and the slots' grid charging.
S_DEMAND, S_THROUGH, S_PV_B, S_HOUSE, S_SLOTS, S_SLOTS_B = range(6)
ROUND_TRIP, PRIORITY, PROPORTION, LIKE = 0, 1, 2, 3


@_jit_inside
def inverter_dc_w(p_ac, p_self, a, b, rated):
    """DC watts for AC watts out, three-term loss (D4); 0 for nothing out."""
    if p_ac <= 0.0:
        return 0.0
    return p_ac + p_self + a * p_ac + b * p_ac * p_ac / rated


@_jit_inside
def inverter_ac_w(p_dc, p_self, a, b, rated):
    """AC watts for DC watts in, the inverse of :func:`inverter_dc_w` (D4)."""
    over = p_dc - p_self
    if over <= 0.0:
        return 0.0
    slope = 1.0 + a
    return 2.0 * over / (slope + np.sqrt(slope * slope + 4.0 * b * over / rated))


@_jit_inside
def charge_limit_w(charge_w, soc, taper_soc, taper_end, soc_max):
    """DC charge limit at `soc`: straight from the full limit at the taper SoC to a part of it at SoC_max (D3)."""
    if soc <= taper_soc or taper_soc >= soc_max:
        return charge_w
    part = (soc - taper_soc) / (soc_max - taper_soc)
    if part > 1.0:
        part = 1.0
    return charge_w * (1.0 - (1.0 - taper_end) * part)


@_jit_inside
def _prepare(k, nodes, slots, code, pv, load_b, step_h, energy, w):
    """Fill a node's work row with what holds for the whole step: floor, room, what it may give, who pays standby."""
    nd = nodes[k]
    slot = slots[k, code]
    kind = slot.kind
    capacity = nd.capacity_wh
    floor = max(nd.soc_min, nd.reserve, slot.floor)
    if kind == CHARGE_FROM_GRID or kind == SURPLUS_ONLY:
        floor = max(floor, slot.target)
    floor_wh = floor * capacity
    hold = kind == HOLD
    spare_w = 0.0
    if capacity > 0.0 and not hold:
        spare_w = max(0.0, (energy[k] - floor_wh) * nd.eta_d / step_h)
    aux_dc = min(nd.auxiliary_w, spare_w)
    e1 = energy[k]
    charge, give = 0.0, 0.0
    if capacity > 0.0:
        e1 -= aux_dc * step_h / nd.eta_d
        if not hold:
            limit = charge_limit_w(nd.charge_w, energy[k] / capacity, nd.taper_soc, nd.taper_end, nd.soc_max)
            charge = min(limit, max(0.0, (nd.soc_max * capacity - e1) / (nd.eta_c * step_h)))
            give = min(nd.discharge_w, max(0.0, (e1 - floor_wh) * nd.eta_d / step_h))
    w[k, W_FLOOR] = floor_wh
    w[k, W_E1] = e1
    w[k, W_CHARGE] = charge
    w[k, W_GIVE] = give
    w[k, W_AUX_DC] = aux_dc
    w[k, W_AUX_AC] = nd.auxiliary_w - aux_dc
    w[k, W_PV_PAY] = min(nd.night_w, pv)
    w[k, W_BAT_PAY] = min(nd.night_w - w[k, W_PV_PAY], spare_w - aux_dc)
    w[k, W_OFF_AC] = nd.night_w - w[k, W_PV_PAY] - w[k, W_BAT_PAY]
    # A backup-port limit holds what serves the backup load, a grid-port limit the rest (D5).
    most = nd.ac_out_w
    if nd.side == BACKUP:
        if load_b > nd.backup_port_w:
            most = min(most, nd.backup_port_w)
        else:
            most = min(most, load_b + nd.grid_port_w)
    else:
        most = min(most, nd.grid_port_w)
    w[k, W_AC_MAX] = most
    w[k, W_BELOW] = 1.0 if kind == CHARGE_FROM_GRID and e1 < slot.target * capacity - 1e-9 else 0.0
    w[k, W_USUAL] = 0.0
    w[k, W_ON] = 0.0


@_jit_inside
def _charge_from_own_pv(k, nodes, pv, w):
    left = pv - w[k, W_PV_INV]
    if left > WISH_W:
        w[k, W_C_PV] = min(left, nodes[k].pv_to_battery_w, w[k, W_CHARGE])


@_jit_inside
def _put_out(k, nodes, watts, w):
    """Let node k send `watts` more to the AC bus."""
    n = nodes.shape[0]
    w[k, W_OUT] += watts
    w[n, S_DEMAND] -= watts
    if nodes[k].side == BACKUP:
        w[n, S_THROUGH] -= watts


@_jit_inside
def _outwards_w(k, nodes, limit_t, w):
    """Return what the device still lets out from node k's side (D8)."""
    if nodes[k].side == BACKUP:
        return max(0.0, limit_t + w[nodes.shape[0], S_THROUGH])
    return np.inf


@_jit_inside
def _trapped_w(n, limit_t, w):
    """Return controllable PV of the backup side that the device would cut, even where other PV shares the side (D8)."""
    return min(max(0.0, -w[n, S_THROUGH] - limit_t), w[n, S_PV_B])


@_jit_inside
def _take(k, nodes, watts, w):
    """Charge node k by up to `watts` more at AC (D5); returns what its charger took."""
    nd = nodes[k]
    total = min(w[k, W_IN] + watts, nd.ac_in_w)
    if total - w[k, W_IN] <= WISH_W:
        return 0.0
    dc = inverter_ac_w(total, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
    room = w[k, W_CHARGE] - w[k, W_C_PV]
    if dc > room:
        dc = room
        total = inverter_dc_w(dc, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
    if dc <= w[k, W_C_AC] + WISH_W:
        return 0.0
    got = total - w[k, W_IN]
    w[k, W_IN] = total
    w[k, W_C_AC] = dc
    w[nodes.shape[0], S_DEMAND] += got
    if nd.side == BACKUP:
        w[nodes.shape[0], S_THROUGH] += got
    return got


@_jit_inside
def _after_pv_wh(k, nodes, step_h, w):
    """Return the room left at the cells after (3): the weight when taking (D6)."""
    nd = nodes[k]
    return nd.soc_max * nd.capacity_wh - w[k, W_E1] - nd.eta_c * w[k, W_C_PV] * step_h


@_jit_inside
def _share_charge(take, first, last, ask, sender, nodes, plant, pv_dc, t, w):
    """Share `ask` AC watts among the nodes `take[0, first:last]` by room (D6); from node `sender`, or from AC surplus (-1)."""
    n = nodes.shape[0]
    limit_t = plant.transfer_w
    total = 0.0
    for place in range(first, last):
        k = take[0, place]
        able = (
            k != sender
            and w[k, W_ON] >= 0.0
            and w[k, W_OUT] == 0.0
            and pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV] <= WISH_W
            and w[k, W_CHARGE] > w[k, W_C_PV]
            and _after_pv_wh(k, nodes, plant.step_h, w) > 0.0
        )
        w[k, W_FIXED] = 0.0 if able else 1.0
    for _round in range(last - first):
        weight = 0.0
        for place in range(first, last):
            k = take[0, place]
            if w[k, W_FIXED] == 0.0:
                weight += _after_pv_wh(k, nodes, plant.step_h, w)
        asked = ask - total
        if weight <= 0.0 or asked <= WISH_W:
            break
        short = False
        for place in range(first, last):
            k = take[0, place]
            if w[k, W_FIXED] > 0.0:
                continue
            share = asked * _after_pv_wh(k, nodes, plant.step_h, w) / weight
            if sender < 0:
                # What the device will cut in the end is no surplus; own-side charging may spare it, unless PV that nobody can
                # cut keeps the device over all the same (D8).
                room = -w[n, S_DEMAND]
                if nodes[k].side != BACKUP or room < -w[n, S_THROUGH] - limit_t - WISH_W:
                    room -= _trapped_w(n, limit_t, w)
                if nodes[k].side == BACKUP:
                    room = min(room, max(0.0, limit_t - w[n, S_THROUGH]))
                got = _take(k, nodes, min(share, room), w)
            else:
                house = w[n, S_HOUSE]
                room = w[sender, W_BEST] - w[sender, W_OUT] - house
                if nodes[sender].side == BACKUP and nodes[k].side != BACKUP:
                    room = min(room, _outwards_w(sender, nodes, limit_t, w) - house)
                if nodes[sender].side != BACKUP and nodes[k].side == BACKUP:
                    room = min(room, max(0.0, limit_t - w[n, S_THROUGH]))
                want = min(share, room)
                got = 0.0
                if w[sender, W_OUT] > 0.0 or house + want > WISH_W:
                    got = _take(k, nodes, want, w)
                if got > 0.0:
                    _put_out(sender, nodes, got + house, w)
                    w[n, S_HOUSE] = 0.0
            total += got
            if got < share - WISH_W:
                w[k, W_FIXED] = 1.0
                short = True
        if not short:
            break
    return total


@_jit_inside
def _give(k, nodes, pv, want, limit_t, w):
    """Let the battery of node k add up to `want` AC watts (D6 (7)); returns what it added."""
    nd = nodes[k]
    out = w[k, W_OUT]
    want = min(want, w[k, W_AC_MAX] - out, _outwards_w(k, nodes, limit_t, w))
    if want <= WISH_W:
        return 0.0
    total = min(out + want, inverter_ac_w(pv + w[k, W_GIVE], nd.p_self_w, nd.a, nd.b, nd.rated_w))
    gain = total - out
    if gain <= WISH_W:
        return 0.0
    need = inverter_dc_w(total, nd.p_self_w, nd.a, nd.b, nd.rated_w)
    from_pv = min(need, pv - w[k, W_C_PV])  # first its own unused PV,
    back = min(need - from_pv, w[k, W_C_PV])  # then what (3) put into the battery,
    w[k, W_DIS] = need - from_pv - back  # then the battery
    w[k, W_PV_INV] = from_pv + back
    w[k, W_C_PV] -= back
    _put_out(k, nodes, gain, w)
    return gain


@_jit_inside
def _share_discharge(give, first, last, ask, nodes, plant, pv_dc, t, w):
    """Share `ask` AC watts among the batteries of `give[0, first:last]` by usable energy left (D6); returns what they gave."""
    total = 0.0
    for place in range(first, last):
        k = give[0, place]
        left = (w[k, W_E1] - w[k, W_FLOOR]) * nodes[k].eta_d
        w[k, W_FIXED] = 0.0 if w[k, W_GIVE] > 0.0 and w[k, W_IN] == 0.0 and left > 0.0 else 1.0
    for _round in range(last - first):
        weight = 0.0
        for place in range(first, last):
            k = give[0, place]
            if w[k, W_FIXED] == 0.0:
                weight += (w[k, W_E1] - w[k, W_FLOOR]) * nodes[k].eta_d
        asked = ask - total
        if weight <= 0.0 or asked <= WISH_W:
            break
        short = False
        for place in range(first, last):
            k = give[0, place]
            if w[k, W_FIXED] > 0.0:
                continue
            share = asked * (w[k, W_E1] - w[k, W_FLOOR]) * nodes[k].eta_d / weight
            got = _give(k, nodes, pv_dc[t, k], share, plant.transfer_w, w)
            total += got
            if got < share - WISH_W:
                w[k, W_FIXED] = 1.0
                short = True
        if not short:
            break
    return total


@_jit_inside
def _send(k, nodes, plant, take, pv_dc, t, w):
    """Send DC PV that node k has left through its own inverter into other nodes' batteries (D6 (5))."""
    n = nodes.shape[0]
    nd = nodes[k]
    limit_t = plant.transfer_w
    have = pv_dc[t, k] - w[k, W_C_PV]
    if have - w[k, W_PV_INV] <= 0.0 or w[k, W_IN] > 0.0:
        return
    best = min(inverter_ac_w(have, nd.p_self_w, nd.a, nd.b, nd.rated_w), w[k, W_AC_MAX])
    w[k, W_BEST] = best
    before = w[k, W_OUT]
    if nd.side == BACKUP:  # while P_T is over inwards, DC PV of the backup side relieves it first (D8)
        relief = min(best - w[k, W_OUT], w[n, S_THROUGH] - limit_t)
        if relief > WISH_W:
            _put_out(k, nodes, relief, w)
    house = w[n, S_DEMAND]  # what the bias kept back is given first, else the meter shows no surplus
    if house <= WISH_W:
        house = 0.0
    if n > 1 and house <= min(best - w[k, W_OUT], _outwards_w(k, nodes, limit_t, w)):
        w[n, S_HOUSE] = house
        first = 0
        while first < n:
            last = first + 1
            while last < n and take[1, last] == take[1, first]:
                last += 1
            offer = best - w[k, W_OUT] - w[n, S_HOUSE]
            if offer > WISH_W:
                _share_charge(take, first, last, offer, k, nodes, plant, pv_dc, t, w)
            first = last
    if w[k, W_OUT] > before:
        w[k, W_PV_INV] = min(have, inverter_dc_w(w[k, W_OUT], nd.p_self_w, nd.a, nd.b, nd.rated_w))


@_jit_inside
def settle_step(nodes, slots, plant, take, give, codes, pv_dc, ac, t, energy, energy_pv, w, row, node_rows):
    """Settle step `t` with the grid up: flows by D5–D9, origin by D10; writes the rows and the new energies.

    `nodes` (n,) NODE_DTYPE in priority order, `slots` (n, s) SLOT_DTYPE, `take`, `give` (2, n): nodes in the order in which they
    charge and discharge, and the number of the group that each shares with; `codes` (T, n) slot in force, `pv_dc` (T, n) and `ac`
    (T, AC) as in :func:`run_steps`; whole arrays, since each slice would cost atomics. `energy`, `energy_pv` (n,) Wh are changed
    in place; `w` (n + 1, N_WORK) is room to work in; `row` (N_SYSTEM,) and `node_rows` (n, N_NODE) are written.
    """
    n = nodes.shape[0]
    load_b, load_g, never = ac[t, AC_LOAD_B], ac[t, AC_LOAD_G], ac[t, AC_NEVER]
    pv_b_fixed, pv_g_fixed = ac[t, AC_PV_B_FIXED], ac[t, AC_PV_G_FIXED]
    step_h = plant.step_h
    limit_t = plant.transfer_w
    kept_back = max(0.0, plant.bias_w - plant.export_w)
    for k in range(n):
        _prepare(k, nodes, slots, codes[t, k], pv_dc[t, k], load_b, step_h, energy, w)

    # Without sun nothing is left to give, store, export or cut: (2) to (6) would change nothing.
    sun = ac[t, AC_PV_B] + ac[t, AC_PV_G] + pv_b_fixed + pv_g_fixed > 0.0
    for k in range(n):
        if pv_dc[t, k] > 0.0:
            sun = True
    lost_device, lost_cap, own_b_now, own_g_now, pv_g_now = 0.0, 0.0, 0.0, 0.0, 0.0
    for _pass in range(4 * n + 2):
        # --- (1) the house less AC-side PV, per side; standby of units that are off is load (D4)
        own_b_now, own_g_now = ac[t, AC_OWN_B], ac[t, AC_OWN_G]
        for k in range(n):
            draw = w[k, W_AUX_AC]
            if w[k, W_ON] <= 0.0:
                draw += w[k, W_OFF_AC]
            if nodes[k].side == BACKUP:
                own_b_now += draw
            else:
                own_g_now += draw
            w[k, W_OUT] = 0.0
            w[k, W_IN] = 0.0
            w[k, W_PV_INV] = 0.0
            w[k, W_C_PV] = 0.0
            w[k, W_C_AC] = 0.0
            w[k, W_DIS] = 0.0
            w[k, W_DEV] = 0.0
            w[k, W_GRANT] = 0.0
        pv_g_now = ac[t, AC_PV_G]
        w[n, S_PV_B] = ac[t, AC_PV_B]
        w[n, S_THROUGH] = load_b + own_b_now - ac[t, AC_PV_B] - pv_b_fixed
        w[n, S_DEMAND] = w[n, S_THROUGH] + load_g + own_g_now - pv_g_now - pv_g_fixed
        lost_device, lost_cap = 0.0, 0.0
        # PV that the device would cut is not counted in D; without a surplus beside it nothing is started for it (D8).
        trapped = _trapped_w(n, limit_t, w)
        if trapped > 0.0 and w[n, S_DEMAND] + trapped >= 0.0:
            w[n, S_PV_B] -= trapped
            w[n, S_THROUGH] += trapped
            w[n, S_DEMAND] += trapped
            lost_device = trapped
        from_surplus = False
        if sun:
            # --- in a charge slot below its target a node's own battery comes first (D9)
            for k in range(n):
                if w[k, W_BELOW] > 0.0 and w[k, W_USUAL] == 0.0:
                    _charge_from_own_pv(k, nodes, pv_dc[t, k], w)
            # --- (2) nodes give DC PV to the house; the cap in force, cap − s, holds it like any source
            for k in range(n):
                demand = w[n, S_DEMAND]
                if demand <= WISH_W:
                    break
                nd = nodes[k]
                allowed = demand - kept_back
                if nd.side == BACKUP:  # a cut never pushes the device further over
                    allowed = max(allowed, min(demand, w[n, S_THROUGH] - limit_t))
                have = pv_dc[t, k] - w[k, W_C_PV]
                most = inverter_ac_w(have, nd.p_self_w, nd.a, nd.b, nd.rated_w)
                out = min(allowed, w[k, W_AC_MAX], _outwards_w(k, nodes, limit_t, w), most)
                if out > WISH_W:
                    w[k, W_PV_INV] = have if out == most else inverter_dc_w(out, nd.p_self_w, nd.a, nd.b, nd.rated_w)
                    _put_out(k, nodes, out, w)
            # --- (3) DC PV left charges its own battery
            for k in range(n):
                if w[k, W_BELOW] == 0.0 or w[k, W_USUAL] > 0.0:
                    _charge_from_own_pv(k, nodes, pv_dc[t, k], w)
            # --- (4) AC surplus charges batteries, group by group
            first = 0
            while first < n and w[n, S_DEMAND] < -WISH_W:
                last = first + 1
                while last < n and take[1, last] == take[1, first]:
                    last += 1
                _share_charge(take, first, last, -w[n, S_DEMAND], -1, nodes, plant, pv_dc, t, w)
                first = last
            trapped = _trapped_w(n, limit_t, w)
            if trapped > 0.0:
                w[n, S_PV_B] -= trapped
                w[n, S_THROUGH] += trapped
                w[n, S_DEMAND] += trapped
                lost_device += trapped
            # --- (5) DC PV left goes out, first into other nodes' batteries
            for k in range(n):
                _send(k, nodes, plant, take, pv_dc, t, w)
            for k in range(n):
                if w[k, W_IN] > 0.0:
                    from_surplus = True
        # --- a slot's grid charging, within device, W and target (D9); the import limit cuts it in (8)
        slots_w, slots_b = 0.0, 0.0
        for k in range(n):
            if w[k, W_BELOW] == 0.0 or w[k, W_USUAL] > 0.0 or w[k, W_OUT] > 0.0 or w[k, W_ON] < 0.0:
                continue
            if pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV] > WISH_W:
                continue
            nd = nodes[k]
            taken = w[k, W_IN]
            slot = slots[k, codes[t, k]]
            most = min(slot.power_w, nd.ac_in_w)
            if nd.side == BACKUP:
                most = min(most, taken + max(0.0, limit_t - w[n, S_THROUGH] - slots_b))
            target_dc = (slot.target * nd.capacity_wh - w[k, W_E1]) / (nd.eta_c * step_h)
            room = min(w[k, W_CHARGE], target_dc) - w[k, W_C_PV]
            dc = inverter_ac_w(most, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            if dc > room:
                dc = room
                most = inverter_dc_w(dc, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            if most - taken <= WISH_W or dc <= w[k, W_C_AC] + WISH_W:
                continue
            w[k, W_GRANT] = most - taken
            w[k, W_IN] = most
            w[k, W_C_AC] = dc
            slots_w += most - taken
            if nd.side == BACKUP:
                slots_b += most - taken
        if sun:
            # --- the cap in force; while a battery charges from surplus it does not make it draw from the grid
            cap = plant.export_w - plant.bias_w
            if from_surplus:
                cap = max(cap, 0.0)
            # --- (5), (6) exports of DC PV by priority, within the device and what the cap leaves; AC-side PV is in it first
            excess = -w[n, S_DEMAND] - slots_w - cap
            for k in range(n):
                nd = nodes[k]
                left = pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV]
                if left <= 0.0 or w[k, W_IN] > 0.0:
                    continue
                out = w[k, W_OUT]
                have = pv_dc[t, k] - w[k, W_C_PV]
                full = min(inverter_ac_w(have, nd.p_self_w, nd.a, nd.b, nd.rated_w), w[k, W_AC_MAX])
                wish = full - out
                if wish <= 0.0 or (out == 0.0 and wish <= WISH_W):
                    continue
                passed = min(wish, _outwards_w(k, nodes, limit_t, w))
                if out == 0.0 and passed <= WISH_W:
                    passed = 0.0
                if passed < wish:
                    w[k, W_DEV] = inverter_dc_w(full, nd.p_self_w, nd.a, nd.b, nd.rated_w) - inverter_dc_w(
                        out + passed, nd.p_self_w, nd.a, nd.b, nd.rated_w
                    )
                granted = min(passed, max(0.0, cap + w[n, S_DEMAND] + slots_w))
                if granted <= 0.0 or (out == 0.0 and granted <= WISH_W):
                    continue
                _put_out(k, nodes, granted, w)
                w[k, W_PV_INV] = min(have, inverter_dc_w(out + granted, nd.p_self_w, nd.a, nd.b, nd.rated_w))
            # --- (6) controllable PV-only inverters above the cap: grid side first, never pushing the device further over
            if excess > WISH_W:
                cut_g = min(excess, pv_g_now)
                cut_b = min(excess - cut_g, w[n, S_PV_B], max(0.0, limit_t - w[n, S_THROUGH] - slots_b))
                pv_g_now -= cut_g
                w[n, S_PV_B] -= cut_b
                w[n, S_THROUGH] += cut_b
                w[n, S_DEMAND] += cut_g + cut_b
                lost_cap = cut_g + cut_b
        # --- (7) batteries serve what is left, never loads and the meter's bias apart
        ask = w[n, S_DEMAND] - max(plant.bias_w, min(never, w[n, S_DEMAND]))
        first = 0
        while first < n and ask > WISH_W:
            last = first + 1
            while last < n and give[1, last] == give[1, first]:
                last += 1
            ask -= _share_discharge(give, first, last, ask, nodes, plant, pv_dc, t, w)
            first = last
        # --- (8) the rest is imported; an import limit first cuts charging, the last in priority first
        over = w[n, S_DEMAND] + slots_w - plant.import_w
        again = False
        if over > WISH_W and slots_w > 0.0:
            for j in range(n):
                k = n - 1 - j
                if over <= WISH_W or w[k, W_GRANT] <= 0.0:
                    continue
                nd = nodes[k]
                cut = min(over, w[k, W_GRANT])
                over -= cut
                slots_w -= cut
                if nd.side == BACKUP:
                    slots_b -= cut
                w[k, W_GRANT] -= cut
                w[k, W_IN] -= cut
                w[k, W_C_AC] = inverter_ac_w(w[k, W_IN], nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
                if w[k, W_C_AC] <= WISH_W:  # cut below its start: it is off, and the step is done again without it
                    w[k, W_ON] = -1.0
                    again = True
        w[n, S_SLOTS] = slots_w
        w[n, S_SLOTS_B] = slots_b
        if again:
            continue
        # --- repeat until the on/off set, and who follows the usual order, no longer change
        for k in range(n):
            if w[k, W_BELOW] > 0.0 and w[k, W_USUAL] == 0.0 and w[k, W_IN] == 0.0 and w[k, W_C_PV] > 0.0:
                if w[n, S_DEMAND] > plant.import_w + WISH_W:
                    w[k, W_USUAL] = 1.0
                    again = True
            runs = w[k, W_OUT] > 0.0 or w[k, W_IN] > 0.0
            if w[k, W_ON] == 0.0 and runs:
                w[k, W_ON] = 1.0
                if w[k, W_OFF_AC] > 0.0:
                    again = True
            elif w[k, W_ON] > 0.0 and not runs and w[k, W_OFF_AC] > 0.0:
                w[k, W_ON] = -1.0  # the surplus it started on went to a unit before it: it stays off for this step
                again = True
        if not again:
            break

    _write_rows(
        nodes, plant, pv_dc, t, energy, energy_pv, load_b, load_g, never, own_b_now, own_g_now,
        w[n, S_PV_B] + pv_b_fixed + pv_g_now + pv_g_fixed, lost_device, lost_cap, w, row, node_rows,
    )  # fmt: skip


@_jit_inside
def _write_rows(
    nodes, plant, pv_dc, t, energy, energy_pv, load_b, load_g, never,
    own_b, own_g, pv_only, lost_device, lost_cap, w, row, node_rows,
):  # fmt: skip
    """Pay standby, name the losses (D7), move the energies and trace the origin (D10)."""
    n = nodes.shape[0]
    step_h = plant.step_h
    slots_w = w[n, S_SLOTS]
    demand = w[n, S_DEMAND] + slots_w
    through = w[n, S_THROUGH] + w[n, S_SLOTS_B]
    house = load_b + load_g
    own = own_b + own_g
    pv_total, battery_total, battery_pv, charge_total = pv_only, 0.0, 0.0, 0.0
    for k in range(n):
        nd = nodes[k]
        out = w[k, W_OUT]
        is_on = out > 0.0 or w[k, W_IN] > 0.0
        left = pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV]
        startable = inverter_ac_w(pv_dc[t, k] - w[k, W_C_PV], nd.p_self_w, nd.a, nd.b, nd.rated_w) > WISH_W
        pv_standby, battery_standby = 0.0, 0.0
        if not is_on:
            pv_standby = w[k, W_PV_PAY]
            battery_standby = w[k, W_BAT_PAY]
            from_left = min(pv_standby, left)
            left -= from_left
            w[k, W_C_PV] = max(0.0, w[k, W_C_PV] - (pv_standby - from_left))
        passes = inverter_dc_w(w[k, W_AC_MAX], nd.p_self_w, nd.a, nd.b, nd.rated_w)
        potential = max(0.0, pv_dc[t, k] - passes)
        caught = min(w[k, W_C_PV], potential)
        left = max(0.0, left)
        clipped = min(left, potential - caught)
        rest = left - clipped
        below, device = 0.0, 0.0
        if out == 0.0 and not startable:
            below = rest
        else:
            device = min(rest, w[k, W_DEV])
        r = node_rows[k]
        r[NODE_PV_AVAILABLE] = pv_dc[t, k]
        r[NODE_PV_TO_INVERTER] = w[k, W_PV_INV]
        r[NODE_PV_TO_BATTERY] = w[k, W_C_PV]
        r[NODE_PV_STANDBY] = pv_standby
        r[NODE_CLIP_POTENTIAL] = potential
        r[NODE_CAUGHT] = caught
        r[NODE_LOST_AC_LIMIT] = clipped
        r[NODE_LOST_BELOW_START] = below
        r[NODE_LOST_DEVICE] = device
        r[NODE_LOST_CAP] = rest - below - device
        r[NODE_LOST_ISLAND] = 0.0
        r[NODE_AC_OUT] = out
        r[NODE_AC_IN] = w[k, W_IN]
        r[NODE_CHARGE_FROM_AC] = w[k, W_C_AC]
        r[NODE_DISCHARGE] = w[k, W_DIS]
        r[NODE_BATTERY_STANDBY] = battery_standby
        r[NODE_AUXILIARY] = w[k, W_AUX_DC]
        r[NODE_AC_OWN] = w[k, W_AUX_AC] + (0.0 if is_on else w[k, W_OFF_AC])
        r[NODE_INVERTER_LOSS] = w[k, W_PV_INV] + w[k, W_DIS] - out
        r[NODE_CHARGER_LOSS] = w[k, W_IN] - w[k, W_C_AC]
        drawn = w[k, W_DIS] + battery_standby + w[k, W_AUX_DC]
        r[NODE_CELL_LOSS] = (1.0 - nd.eta_c) * (w[k, W_C_PV] + w[k, W_C_AC]) + (1.0 / nd.eta_d - 1.0) * drawn
        charge_total += w[k, W_IN]
        if out > 0.0:
            from_battery = out * w[k, W_DIS] / (w[k, W_PV_INV] + w[k, W_DIS])
            pv_total += out - from_battery
            battery_total += from_battery
            if energy[k] > 0.0:
                battery_pv += from_battery * energy_pv[k] / energy[k]

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
    battery_charge = rest - battery_grid
    pv_part = battery_pv / battery_total if battery_total > 0.0 else 0.0
    # PV goes first to what charges from surplus, the rest in proportion; what batteries gave to others lies on what is open.
    surplus = charge_total - slots_w
    to_surplus = min(pv_charge, surplus)
    surplus_part = to_surplus / surplus if surplus > 0.0 else 0.0
    slot_part = (pv_charge - to_surplus) / slots_w if slots_w > 0.0 else 0.0
    open_w = charge_total - pv_charge
    battery_part = pv_part * battery_charge / open_w if open_w > 0.0 else 0.0

    for k in range(n):
        nd = nodes[k]
        r = node_rows[k]
        if nd.capacity_wh > 0.0:
            drawn = (r[NODE_DISCHARGE] + r[NODE_BATTERY_STANDBY] + r[NODE_AUXILIARY]) * step_h / nd.eta_d
            mix = energy_pv[k] / energy[k] if energy[k] > 0.0 else 0.0
            stored = nd.eta_c * step_h
            charge_pv = 0.0
            if w[k, W_IN] > 0.0:
                from_pv = (w[k, W_IN] - w[k, W_GRANT]) * surplus_part + w[k, W_GRANT] * slot_part
                charge_pv = (from_pv + (w[k, W_IN] - from_pv) * battery_part) / w[k, W_IN]
            energy_pv[k] = max(
                0.0, energy_pv[k] - mix * drawn + stored * (r[NODE_PV_TO_BATTERY] + charge_pv * r[NODE_CHARGE_FROM_AC])
            )
            energy[k] = max(0.0, energy[k] - drawn + stored * (r[NODE_PV_TO_BATTERY] + r[NODE_CHARGE_FROM_AC]))
            energy_pv[k] = min(energy_pv[k], energy[k])
        r[NODE_ENERGY] = energy[k]
        r[NODE_ENERGY_PV] = energy_pv[k]

    row[SYS_LOAD] = house
    row[SYS_OWN_DRAW] = own
    row[SYS_IMPORT] = imported
    row[SYS_EXPORT] = exported
    row[SYS_PV_ONLY] = pv_only
    row[SYS_PV_AC] = pv_total
    row[SYS_BATTERY_AC] = battery_total
    row[SYS_CHARGE_AC] = charge_total
    row[SYS_TRANSFER] = through
    row[SYS_PV_TO_HOUSE] = pv_house
    row[SYS_PV_TO_OWN] = pv_own
    row[SYS_PV_TO_BATTERY] = pv_charge
    row[SYS_PV_TO_GRID] = pv_grid
    row[SYS_BATTERY_TO_HOUSE] = battery_house
    row[SYS_BATTERY_TO_OWN] = battery_own
    row[SYS_BATTERY_TO_GRID] = battery_grid
    row[SYS_BATTERY_TO_BATTERY] = battery_charge
    row[SYS_GRID_TO_HOUSE] = house - pv_house - battery_house
    row[SYS_GRID_TO_OWN] = own - pv_own - battery_own
    row[SYS_GRID_TO_BATTERY] = charge_total - pv_charge - battery_charge
    row[SYS_BATTERY_PV_TO_HOUSE] = battery_house * pv_part
    row[SYS_BATTERY_PV_TO_OWN] = battery_own * pv_part
    row[SYS_BATTERY_PV_TO_GRID] = battery_grid * pv_part
    row[SYS_PV_ONLY_LOST_DEVICE] = lost_device
    row[SYS_PV_ONLY_LOST_CAP] = lost_cap
    row[SYS_PV_ONLY_LOST_ISLAND] = 0.0
    row[SYS_UNSERVED] = 0.0
    row[SYS_CAP_EXCEEDED] = max(0.0, exported - plant.export_w)
    row[SYS_IMPORT_EXCEEDED] = max(0.0, imported - plant.import_w)
    row[SYS_DEVICE_EXCEEDED] = max(0.0, abs(through) - plant.transfer_w)


@_jit
def run_steps(
    nodes, slots, plant, take, give, codes, pv_dc, ac, first, last, energy, energy_pv, system, node_series, sums, node_sums
):
    """Run steps `first` to `last` (not included); rows go to the series where they have room, and are summed always.

    `codes` (T, n) int8, `pv_dc` (T, n), `ac` (T, 9): load_b, load_g, never, pv_b, pv_g, pv_b_fixed, pv_g_fixed, own_b,
    own_g. `system` (T or 0, N_SYSTEM), `node_series` (T or 0, n, N_NODE). Sums are of W over steps, energies excepted.
    """
    n = nodes.shape[0]
    work = np.zeros((n + 1, N_WORK))
    row = np.zeros(N_SYSTEM)
    rows = np.zeros((n, N_NODE))
    keep = system.shape[0] > 0
    for t in range(first, last):
        settle_step(nodes, slots, plant, take, give, codes, pv_dc, ac, t, energy, energy_pv, work, row, rows)
        for c in range(N_SYSTEM):
            sums[c] += row[c]
            if keep:
                system[t, c] = row[c]
        for k in range(n):
            for c in range(N_NODE):
                node_sums[k, c] += rows[k, c]
                if keep:
                    node_series[t, k, c] = rows[k, c]
