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
        ("step_h", "f8"), ("export_w", "f8"), ("import_w", "f8"), ("transfer_w", "f8"),
        ("bias_w", "f8"), ("in_proportion", "f8"),
    ],
    align=True,
)  # fmt: skip

N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)

# Work table: one row a node, kept between calls to spare allocation; only meaningful inside one step.
(
    W_OUT, W_IN, W_PV_INV, W_C_PV, W_C_AC, W_DIS, W_DEV, W_FLOOR, W_E1, W_CHARGE, W_GIVE, W_AC_MAX, W_BELOW, W_USUAL,
    W_ON, W_OFF_AC, W_PV_PAY, W_BAT_PAY, W_AUX_DC, W_AUX_AC, W_HOLD, W_FIXED,
) = range(22)  # fmt: skip
N_WORK = 22


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
    w[k, W_HOLD] = 1.0 if hold else 0.0
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
def _give(k, nodes, pv, want, w):
    """Let the battery of node k add up to `want` AC watts (D6 (7)); returns what it added."""
    nd = nodes[k]
    out = w[k, W_OUT]
    total = min(out + want, inverter_ac_w(pv + w[k, W_GIVE], nd.p_self_w, nd.a, nd.b, nd.rated_w))
    if total - out <= WISH_W:
        return 0.0
    need = inverter_dc_w(total, nd.p_self_w, nd.a, nd.b, nd.rated_w)
    from_pv = min(need, pv - w[k, W_C_PV])  # first its own unused PV,
    back = min(need - from_pv, w[k, W_C_PV])  # then what (3) put into the battery,
    w[k, W_DIS] = need - from_pv - back  # then the battery
    w[k, W_PV_INV] = from_pv + back
    w[k, W_C_PV] -= back
    w[k, W_OUT] = total
    return total - out


@_jit_inside
def settle_step(nodes, slots, plant, order, codes, pv_dc, ac, t, energy, energy_pv, w, row, node_rows):
    """Settle step `t` with the grid up: flows by D5–D9, origin by D10; writes the rows and the new energies.

    `nodes` (n,) NODE_DTYPE in priority order, `slots` (n, s) SLOT_DTYPE, `order` (n,) discharge order, `codes` (T, n) slot
    in force, `pv_dc` (T, n) and `ac` (T, 9) as in :func:`run_steps`; whole arrays, since each slice would cost atomics.
    `energy`, `energy_pv` (n,) Wh are changed in place; `row` (N_SYSTEM,) and `node_rows` (n, N_NODE) are written.
    """
    n = nodes.shape[0]
    # Watts of each side: house, 'never' loads, PV-only inverters (controllable, then fixed), standby of PV-only inverters.
    load_b, load_g, never = ac[t, AC_LOAD_B], ac[t, AC_LOAD_G], ac[t, AC_NEVER]
    pv_b, pv_g, pv_b_fixed, pv_g_fixed = ac[t, AC_PV_B], ac[t, AC_PV_G], ac[t, AC_PV_B_FIXED], ac[t, AC_PV_G_FIXED]
    own_b, own_g = ac[t, AC_OWN_B], ac[t, AC_OWN_G]
    step_h = plant.step_h
    limit_t = plant.transfer_w
    cap = plant.export_w - plant.bias_w
    for k in range(n):
        _prepare(k, nodes, slots, codes[t, k], pv_dc[t, k], load_b, step_h, energy, w)

    demand, through, lost_device, lost_cap = 0.0, 0.0, 0.0, 0.0
    own_b_now, own_g_now, pv_b_now, pv_g_now = 0.0, 0.0, 0.0, 0.0
    for _pass in range(3 * n + 2):
        # --- (1) the house less AC-side PV, per side; standby of units that are off is load (D4)
        own_b_now, own_g_now = own_b, own_g
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
        pv_b_now, pv_g_now = pv_b, pv_g
        through = load_b + own_b_now - pv_b_now - pv_b_fixed
        net_g = load_g + own_g_now - pv_g_now - pv_g_fixed
        lost_device, lost_cap = 0.0, 0.0
        # PV of the backup side that cannot get through the device; backup-side charging may still take it, if the
        # meter shows a surplus at all (batteries are not started to relieve the device, D8).
        trapped = min(max(0.0, -through - limit_t), pv_b_now)
        if trapped > 0.0 and net_g >= limit_t:
            pv_b_now -= trapped
            through += trapped
            lost_device = trapped
            trapped = 0.0
        demand = through + net_g
        # --- in a charge slot below its target a node's own battery comes first (D9)
        for k in range(n):
            if w[k, W_BELOW] > 0.0 and w[k, W_USUAL] == 0.0:
                _charge_from_own_pv(k, nodes, pv_dc[t, k], w)
        # --- (2) nodes give DC PV to the house
        for k in range(n):
            if demand <= WISH_W:
                break
            nd = nodes[k]
            have = pv_dc[t, k] - w[k, W_C_PV]
            want = min(demand, w[k, W_AC_MAX])
            if nd.side == BACKUP:
                want = min(want, max(0.0, limit_t + through))
            most = inverter_ac_w(have, nd.p_self_w, nd.a, nd.b, nd.rated_w)
            out = min(want, most)
            if out > WISH_W:
                w[k, W_OUT] = out
                w[k, W_PV_INV] = have if out == most else inverter_dc_w(out, nd.p_self_w, nd.a, nd.b, nd.rated_w)
                demand -= out
                if nd.side == BACKUP:
                    through -= out
        # --- (3) DC PV left charges its own battery
        for k in range(n):
            if w[k, W_BELOW] == 0.0 or w[k, W_USUAL] > 0.0:
                _charge_from_own_pv(k, nodes, pv_dc[t, k], w)
        # --- (4) AC surplus charges batteries by priority
        for k in range(n):
            if demand >= -WISH_W:
                break
            nd = nodes[k]
            if (
                w[k, W_ON] < 0.0
                or w[k, W_CHARGE] <= 0.0
                or w[k, W_OUT] > 0.0
                or pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV] > WISH_W
            ):
                continue
            most = min(nd.ac_in_w, -demand)
            if nd.side == BACKUP:
                most = min(most, max(0.0, limit_t - through))
            else:
                most = min(most, -demand - trapped)
            if most <= WISH_W:
                continue
            dc = inverter_ac_w(most, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            room = w[k, W_CHARGE] - w[k, W_C_PV]
            taken = most
            if dc > room:
                dc = room
                taken = inverter_dc_w(dc, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            if dc <= WISH_W:
                continue
            w[k, W_IN] = taken
            w[k, W_C_AC] = dc
            demand += taken
            if nd.side == BACKUP:
                through += taken
                trapped = max(0.0, trapped - taken)
        if trapped > 0.0:
            pv_b_now -= trapped
            through += trapped
            demand += trapped
            lost_device += trapped
        # --- (5) DC PV left exports, under the device and then the cap; AC-side PV is in the cap first
        ac_surplus = demand
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
            passed = wish
            if nd.side == BACKUP:
                passed = min(wish, max(0.0, limit_t + through))
                if out == 0.0 and passed <= WISH_W:
                    passed = 0.0
            if passed < wish:
                w[k, W_DEV] = inverter_dc_w(full, nd.p_self_w, nd.a, nd.b, nd.rated_w) - inverter_dc_w(
                    out + passed, nd.p_self_w, nd.a, nd.b, nd.rated_w
                )
            granted = min(passed, max(0.0, cap + demand))
            if granted <= 0.0 or (out == 0.0 and granted <= WISH_W):
                continue
            w[k, W_OUT] = out + granted
            w[k, W_PV_INV] = min(have, inverter_dc_w(out + granted, nd.p_self_w, nd.a, nd.b, nd.rated_w))
            demand -= granted
            if nd.side == BACKUP:
                through -= granted
        # --- (6) controllable PV-only inverters above the cap: grid side before backup side
        excess = -ac_surplus - cap
        if excess > WISH_W:
            cut_g = min(excess, pv_g_now)
            cut_b = min(excess - cut_g, pv_b_now)
            pv_g_now -= cut_g
            pv_b_now -= cut_b
            through += cut_b
            demand += cut_g + cut_b
            lost_cap = cut_g + cut_b
        # --- (7) batteries serve what is left, never loads and the meter's bias apart
        ask = demand - max(plant.bias_w, min(never, demand))
        if ask > WISH_W:
            if plant.in_proportion > 0.0:
                for k in range(n):
                    w[k, W_FIXED] = 0.0
                for _round in range(n):
                    weight = 0.0
                    for k in range(n):
                        if w[k, W_FIXED] == 0.0 and w[k, W_GIVE] > 0.0 and w[k, W_IN] == 0.0:
                            weight += (w[k, W_E1] - w[k, W_FLOOR]) * nodes[k].eta_d
                    if weight <= 0.0 or ask <= WISH_W:
                        break
                    asked = ask
                    short = False
                    for k in range(n):
                        if w[k, W_FIXED] > 0.0 or w[k, W_GIVE] <= 0.0 or w[k, W_IN] > 0.0:
                            continue
                        share = asked * (w[k, W_E1] - w[k, W_FLOOR]) * nodes[k].eta_d / weight
                        want = min(share, w[k, W_AC_MAX] - w[k, W_OUT])
                        if nodes[k].side == BACKUP:
                            want = min(want, max(0.0, limit_t + through))
                        got = _give(k, nodes, pv_dc[t, k], want, w) if want > WISH_W else 0.0
                        ask -= got
                        demand -= got
                        if nodes[k].side == BACKUP:
                            through -= got
                        if got < share - WISH_W:
                            w[k, W_FIXED] = 1.0
                            short = True
                    if not short:
                        break
            else:
                for j in range(n):
                    k = order[j]
                    if ask <= WISH_W:
                        break
                    if w[k, W_GIVE] <= 0.0 or w[k, W_IN] > 0.0:
                        continue
                    want = min(ask, w[k, W_AC_MAX] - w[k, W_OUT])
                    if nodes[k].side == BACKUP:
                        want = min(want, max(0.0, limit_t + through))
                    if want <= WISH_W:
                        continue
                    got = _give(k, nodes, pv_dc[t, k], want, w)
                    ask -= got
                    demand -= got
                    if nodes[k].side == BACKUP:
                        through -= got
        # --- (8) charge slots draw from the grid within device, import limit, W and target; the rest is imported
        for k in range(n):
            if w[k, W_BELOW] == 0.0 or w[k, W_USUAL] > 0.0 or w[k, W_OUT] > 0.0 or w[k, W_ON] < 0.0:
                continue
            nd = nodes[k]
            if pv_dc[t, k] - w[k, W_PV_INV] - w[k, W_C_PV] > WISH_W:
                continue
            taken = w[k, W_IN]
            slot = slots[k, codes[t, k]]
            most = min(slot.power_w, nd.ac_in_w, taken + max(0.0, plant.import_w - demand))
            if nd.side == BACKUP:
                most = min(most, taken + max(0.0, limit_t - through))
            if most - taken <= WISH_W:
                continue
            target_dc = (slot.target * nd.capacity_wh - w[k, W_E1]) / (nd.eta_c * step_h)
            room = min(w[k, W_CHARGE], target_dc) - w[k, W_C_PV]
            dc = inverter_ac_w(most, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            if dc > room:
                dc = room
                most = inverter_dc_w(dc, nd.charge_p_self_w, nd.charge_a, nd.charge_b, nd.rated_w)
            if dc <= w[k, W_C_AC] + WISH_W:
                continue
            w[k, W_IN] = most
            w[k, W_C_AC] = dc
            demand += most - taken
            if nd.side == BACKUP:
                through += most - taken
        # --- repeat until the on/off set, and who follows the usual order, no longer change
        again = False
        for k in range(n):
            if w[k, W_BELOW] > 0.0 and w[k, W_USUAL] == 0.0 and w[k, W_IN] == 0.0 and w[k, W_C_PV] > 0.0:
                if demand > plant.import_w + WISH_W:
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
        nodes, plant, pv_dc, t, energy, energy_pv, load_b, load_g, never, demand, through,
        own_b_now, own_g_now, pv_b_now + pv_b_fixed + pv_g_now + pv_g_fixed, lost_device, lost_cap, w, row, node_rows,
    )  # fmt: skip


@_jit_inside
def _write_rows(
    nodes, plant, pv_dc, t, energy, energy_pv, load_b, load_g, never, demand, through,
    own_b, own_g, pv_only, lost_device, lost_cap, w, row, node_rows,
):  # fmt: skip
    """Pay standby, name the losses (D7), move the energies and trace the origin (D10)."""
    n = nodes.shape[0]
    step_h = plant.step_h
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
    charge_pv = (pv_charge + battery_charge * pv_part) / charge_total if charge_total > 0.0 else 0.0

    for k in range(n):
        nd = nodes[k]
        r = node_rows[k]
        if nd.capacity_wh > 0.0:
            drawn = (r[NODE_DISCHARGE] + r[NODE_BATTERY_STANDBY] + r[NODE_AUXILIARY]) * step_h / nd.eta_d
            mix = energy_pv[k] / energy[k] if energy[k] > 0.0 else 0.0
            stored = nd.eta_c * step_h
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
def run_steps(nodes, slots, plant, order, codes, pv_dc, ac, first, last, energy, energy_pv, system, node_series, sums, node_sums):
    """Run steps `first` to `last` (not included); rows go to the series where they have room, and are summed always.

    `codes` (T, n) int8, `pv_dc` (T, n), `ac` (T, 9): load_b, load_g, never, pv_b, pv_g, pv_b_fixed, pv_g_fixed, own_b,
    own_g. `system` (T or 0, N_SYSTEM), `node_series` (T or 0, n, N_NODE). Sums are of W over steps, energies excepted.
    """
    n = nodes.shape[0]
    work = np.zeros((max(n, 1), N_WORK))
    row = np.zeros(N_SYSTEM)
    rows = np.zeros((n, N_NODE))
    keep = system.shape[0] > 0
    for t in range(first, last):
        settle_step(nodes, slots, plant, order, codes, pv_dc, ac, t, energy, energy_pv, work, row, rows)
        for c in range(N_SYSTEM):
            sums[c] += row[c]
            if keep:
                system[t, c] = row[c]
        for k in range(n):
            for c in range(N_NODE):
                node_sums[k, c] += rows[k, c]
                if keep:
                    node_series[t, k, c] = rows[k, c]
