# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The rules D3 to D9 for one node in one step: one small function each, over tables of records on the stack.

`k` is the node, `nd` its terms (TERMS_DTYPE), `w` its work (WORK_DTYPE), `b` what nodes share (BUS_DTYPE, one row), `p` the plant
(PLANT_DTYPE). Powers in W, energies in Wh.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import inside, root
from calm_relay.simulation.kernel.records import (
    CHARGE_FROM_GRID,
    CLIPPED_ONLY,
    DISCHARGE_TO_GRID,
    HOLD,
    TIMER,
    WISH_W,
)


@inside
def inverter_dc_w(p_ac, p_self, slope, curve):
    """DC watts for AC watts out, three-term loss (D4), slope = 1 + a and curve = b / rating; 0 for nothing out."""
    if p_ac <= 0.0:
        return 0.0
    return p_self + p_ac * (slope + curve * p_ac)


@inside
def inverter_ac_w(p_dc, p_self, slope, curve):
    """AC watts for DC watts in, the inverse of :func:`inverter_dc_w` (D4)."""
    over = p_dc - p_self
    if over <= 0.0:
        return 0.0
    return 2.0 * over / (slope + root(slope * slope + 4.0 * curve * over))


@inside
def out_dc_w(k, nd, p_ac):
    """DC watts that node k's inverter takes for `p_ac` out. [W]"""
    return inverter_dc_w(p_ac, nd[k].p_self, nd[k].slope, nd[k].curve)


@inside
def out_ac_w(k, nd, p_dc):
    """AC watts that node k's inverter makes of `p_dc`. [W]"""
    return inverter_ac_w(p_dc, nd[k].p_self, nd[k].slope, nd[k].curve)


@inside
def passes(k, nd, w):
    """Return the DC watts that fill node k's AC limit of the step. [W]"""
    return out_dc_w(k, nd, w[k].ac_max)


@inside
def charge_limit_w(k, nd, energy, part):
    """DC charge limit at the energy at the start of the step: straight from the taper SoC to a part of it at SoC_max (D3)."""
    limit = min(nd[k].charge, nd[k].charge_empty + nd[k].charge_more * energy) * part
    if energy > nd[k].taper_from:
        limit *= 1.0 - nd[k].taper_slope * (min(energy, nd[k].full) - nd[k].taper_from)
    return limit


@inside
def prepare(k, nd, p, rule, pv, load_b, energy, keep, charge_part, discharge_part, heat, w):
    """Fill node k's work with what holds for the whole step: floor, room, what it may give, who pays standby (D3, D4, D9)."""
    capacity = nd[k].capacity
    kind = rule.kind
    floor = rule.floor
    hold = kind == HOLD
    spare_w = 0.0
    if capacity > 0.0 and not hold:
        spare_w = max(0.0, (energy - floor) * nd[k].give_per_wh)
    auxiliary = nd[k].auxiliary + heat
    aux_dc = min(auxiliary, spare_w)
    e1 = energy
    level = max(floor, nd[k].hold) if p.target_w < np.inf else floor
    charge, free, give, give_peak = 0.0, 0.0, 0.0, 0.0
    below = (kind == CHARGE_FROM_GRID or kind == TIMER) and capacity > 0.0
    if capacity > 0.0:
        e1 -= aux_dc * nd[k].wh_per_give
        below = below and e1 < rule.target - 1e-9
        if not hold:
            room = nd[k].full - e1
            charge = min(charge_limit_w(k, nd, energy, charge_part), max(0.0, room * nd[k].take_per_wh))
            free = charge if below else min(charge, max(0.0, (room - keep) * nd[k].take_per_wh))
            most = min(nd[k].discharge, nd[k].discharge_empty + nd[k].discharge_more * energy) * discharge_part
            give = min(most, max(0.0, (e1 - level) * nd[k].give_per_wh))
            give_peak = min(most, max(0.0, (e1 - floor) * nd[k].give_per_wh))
    if kind == CLIPPED_ONLY or kind == DISCHARGE_TO_GRID:
        free = 0.0
    w[k].pv = pv
    w[k].floor = floor
    w[k].target = rule.target
    w[k].power = rule.power
    w[k].e1 = e1
    w[k].charge = charge
    w[k].free = free
    w[k].give_usual = give
    w[k].give_peak = give_peak
    w[k].level_usual = level
    w[k].aux_dc = aux_dc
    w[k].aux_ac = auxiliary - aux_dc
    w[k].pv_pay = min(nd[k].night, pv)
    w[k].bat_pay = min(nd[k].night - w[k].pv_pay, spare_w - aux_dc)
    w[k].off_ac = nd[k].night - w[k].pv_pay - w[k].bat_pay
    # A backup-port limit holds what serves the backup load, a grid-port limit the rest (D5).
    most = nd[k].ac_out
    if nd[k].backup == 0.0:
        most = min(most, nd[k].grid_port)
    elif load_b > nd[k].backup_port:
        most = min(most, nd[k].backup_port)
    else:
        most = min(most, load_b + nd[k].grid_port)
    w[k].ac_max = most
    w[k].below = 1.0 if below else 0.0
    w[k].timer = 1.0 if below and kind == TIMER else 0.0
    w[k].most = rule.power if kind == DISCHARGE_TO_GRID else np.inf
    w[k].usual = 0.0
    w[k].on = 0.0


@inside
def begin_pass(k, nd, w, b):
    """Set node k's flows back; its standby is load while it is off (D4)."""
    draw = w[k].aux_ac
    if w[k].on <= 0.0:
        draw += w[k].off_ac
    if nd[k].backup > 0.0:
        b[0].own_b += draw
    else:
        b[0].own_g += draw
    w[k].out = 0.0
    w[k].taken = 0.0
    w[k].pv_inv = 0.0
    w[k].c_pv = 0.0
    w[k].c_ac = 0.0
    w[k].dis = 0.0
    w[k].device = 0.0
    w[k].grant = 0.0
    w[k].still = w[k].most
    w[k].give = w[k].give_usual
    w[k].level = w[k].level_usual


@inside
def cap_seen_w(p):
    """Return the export cap where the sensor stands: none gets out past a sensor at the device (D8). [W]"""
    return 0.0 if p.at_device > 0.0 else p.export_w


@inside
def import_seen_w(p):
    """Return what charging may draw up to: import limit and peak target (D9). [W]"""
    return min(p.import_w, p.target_w)


@inside
def trapped_w(p, b):
    """Return controllable PV of the backup side that the device would cut, even where other PV shares the side (D8). [W]"""
    return min(max(0.0, -b[0].through - p.transfer_w), b[0].pv_b)


@inside
def cut_trapped(watts, b):
    """Cut `watts` of controllable PV of the backup side for the device (D8)."""
    b[0].pv_b -= watts
    b[0].through += watts
    b[0].demand += watts
    b[0].lost_device += watts


@inside
def outwards_w(k, nd, p, b):
    """Return what the device still lets out from node k's side (D8). [W]"""
    if nd[k].backup > 0.0:
        return max(0.0, p.transfer_w + b[0].through)
    return np.inf


@inside
def put_out(k, nd, watts, w, b):
    """Let node k send `watts` more to the AC bus."""
    w[k].out += watts
    b[0].demand -= watts
    if nd[k].backup > 0.0:
        b[0].through -= watts


@inside
def comes_first(k, w):
    """Return whether node k's own battery comes before the house: a charge slot below its target (D9). [bool]"""
    return w[k].below > 0.0 and w[k].usual == 0.0


@inside
def charge_from_own_pv(k, nd, w):
    """(3): the DC PV left charges node k's own battery."""
    left = w[k].pv - w[k].pv_inv
    if left > WISH_W:
        most = w[k].free
        if most < w[k].charge:  # what would be clipped is stored all the same
            most = min(w[k].charge, max(most, w[k].pv - passes(k, nd, w)))
        w[k].c_pv = min(left, nd[k].pv_to_battery, most)


@inside
def pv_to_house(k, nd, p, w, b):
    """(2): node k's DC PV serves the house; the cap in force, cap − s, holds it like any source."""
    demand = b[0].demand
    have = w[k].pv - w[k].c_pv
    if demand <= WISH_W or have <= nd[k].p_self:
        return
    want = demand - max(0.0, p.bias_w - cap_seen_w(p))
    if nd[k].backup > 0.0:  # a cut never pushes the device further over
        want = max(want, min(demand, b[0].through - p.transfer_w))
    want = min(want, w[k].ac_max, outwards_w(k, nd, p, b))
    if want <= WISH_W:
        return
    used = out_dc_w(k, nd, want)
    if used >= have:
        used = have
        want = min(want, out_ac_w(k, nd, have))
        if want <= WISH_W:
            return
    w[k].pv_inv = used
    put_out(k, nd, want, w, b)


@inside
def take(k, nd, watts, w, b):
    """Charge node k by up to `watts` more at AC (D5); returns what its charger took. [W]"""
    total = min(w[k].taken + watts, nd[k].ac_in)
    if total - w[k].taken <= WISH_W:
        return 0.0
    dc = w[k].free - w[k].c_pv
    most = inverter_dc_w(dc, nd[k].charge_p_self, nd[k].charge_slope, nd[k].charge_curve)
    if total >= most:
        total = most
    else:
        dc = inverter_ac_w(total, nd[k].charge_p_self, nd[k].charge_slope, nd[k].charge_curve)
    if dc <= w[k].c_ac + WISH_W:
        return 0.0
    got = total - w[k].taken
    w[k].taken = total
    w[k].c_ac = dc
    b[0].demand += got
    if nd[k].backup > 0.0:
        b[0].through += got
    return got


@inside
def may_take(k, nd, w):
    """Return whether node k may charge from AC: one direction; who has DC PV over does not import (D5). [bool]"""
    return (
        w[k].on >= 0.0
        and w[k].timer == 0.0
        and w[k].out == 0.0
        and w[k].pv - w[k].pv_inv - w[k].c_pv <= WISH_W
        and w[k].free > w[k].c_pv
        and room_wh(k, nd, w) > 0.0
    )


@inside
def room_wh(k, nd, w):
    """Return the room left at the cells after (3): the weight when taking (D6). [Wh]"""
    return nd[k].full - w[k].e1 - nd[k].wh_per_take * w[k].c_pv


@inside
def usable_wh(k, nd, w):
    """Return the usable energy left, at the terminals: the weight when giving (D6). [Wh]"""
    return (w[k].e1 - w[k].level) * nd[k].eta_d


@inside
def open_hold(k, w):
    """Let node k's energy below the peak-hold serve what is above the target (D9)."""
    w[k].give = w[k].give_peak
    w[k].level = w[k].floor


@inside
def close_hold(k, w):
    """Keep node k's energy below the peak-hold again."""
    w[k].give = w[k].give_usual
    w[k].level = w[k].level_usual


@inside
def take_surplus(k, nd, p, share, w, b):
    """(4): node k charges by its share of the AC surplus; returns what it took. [W]"""
    # What the device will cut in the end is no surplus; own-side charging may spare it, unless PV that nobody can cut keeps the
    # device over all the same (D8).
    room = -b[0].demand
    if nd[k].backup == 0.0 or room < -b[0].through - p.transfer_w - WISH_W:
        room -= trapped_w(p, b)
    if nd[k].backup > 0.0:
        room = min(room, max(0.0, p.transfer_w - b[0].through))
    return take(k, nd, min(share, room), w, b)


@inside
def take_sent(k, nd, p, share, w, b):
    """(5): node k charges by its share of the DC PV that another sends through its inverter; returns what it took. [W]"""
    house = b[0].house
    room = b[0].best - b[0].sent - house
    backup = nd[k].backup > 0.0
    if b[0].sender_b > 0.0 and not backup:
        room = min(room, max(0.0, p.transfer_w + b[0].through) - house)
    if b[0].sender_b == 0.0 and backup:
        room = min(room, max(0.0, p.transfer_w - b[0].through))
    want = min(share, room)
    if b[0].sent == 0.0 and house + want <= WISH_W:
        return 0.0
    got = take(k, nd, want, w, b)
    if got > 0.0:
        b[0].sent += got + house
        b[0].demand -= got + house
        if b[0].sender_b > 0.0:
            b[0].through -= got + house
        b[0].house = 0.0
    return got


@inside
def ready_to_send(k, nd, p, w, b):
    """(5): put down what node k can send of its DC PV left; returns whether something may go to others. [bool]"""
    have = w[k].pv - w[k].c_pv
    if have - w[k].pv_inv <= 0.0 or w[k].taken > 0.0:
        return False
    # While P_T is over inwards, DC PV of the backup side relieves it first (D8).
    over = b[0].through - p.transfer_w if nd[k].backup > 0.0 else 0.0
    best = w[k].ac_max if have >= passes(k, nd, w) else out_ac_w(k, nd, have)
    relief = min(best - w[k].out, over)
    if relief > WISH_W:
        put_out(k, nd, relief, w, b)
        w[k].pv_inv = min(have, out_dc_w(k, nd, w[k].out))
    house = b[0].demand  # what the bias kept back is given first, else the meter shows no surplus
    if house <= WISH_W:
        house = 0.0
    b[0].best, b[0].sent, b[0].sender_b, b[0].house = best, w[k].out, nd[k].backup, house
    return house <= min(best - w[k].out, outwards_w(k, nd, p, b))


@inside
def relieve(k, nd, p, w, b):
    """(5) for a plan of one node: while P_T is over inwards, DC PV of the backup side relieves it (D8)."""
    if nd[k].backup > 0.0 and b[0].through - p.transfer_w > WISH_W and w[k].pv - w[k].c_pv > w[k].pv_inv:
        ready_to_send(k, nd, p, w, b)


@inside
def after_sending(k, nd, w, b):
    """Book what node k has sent."""
    if b[0].sent > w[k].out:
        w[k].out = b[0].sent
        w[k].pv_inv = min(w[k].pv - w[k].c_pv, out_dc_w(k, nd, w[k].out))


@inside
def give(k, nd, p, want, w, b):
    """(7): the battery of node k adds up to `want` AC watts; returns what it added. [W]"""
    out = w[k].out
    want = min(want, w[k].ac_max - out, outwards_w(k, nd, p, b), w[k].still)
    if want <= WISH_W:
        return 0.0
    total = out + want
    need = out_dc_w(k, nd, total)
    if need > w[k].pv + w[k].give:
        need = w[k].pv + w[k].give
        total = out_ac_w(k, nd, need)
    gain = total - out
    if gain <= WISH_W:
        return 0.0
    from_pv = min(need, w[k].pv - w[k].c_pv)  # first its own unused PV,
    back = min(need - from_pv, w[k].c_pv)  # then what (3) put into the battery,
    w[k].dis = need - from_pv - back  # then the battery
    w[k].pv_inv = from_pv + back
    w[k].c_pv -= back
    w[k].still -= gain
    put_out(k, nd, gain, w, b)
    return gain


@inside
def discharge_to_grid(k, nd, p, cap, never, w, b):
    """A slot that discharges to the grid: what of its W the house did not take, up to cap and floor (D9)."""
    if w[k].still < np.inf and w[k].taken == 0.0 and min(never, b[0].demand) <= WISH_W:
        give(k, nd, p, max(0.0, cap + b[0].demand + b[0].slots), w, b)


@inside
def charge_from_grid(k, nd, p, w, b):
    """A slot's grid charging, within device, W and target (D9); the import limit cuts it in (8)."""
    if not comes_first(k, w) or w[k].out > 0.0 or w[k].on < 0.0 or w[k].pv - w[k].pv_inv - w[k].c_pv > WISH_W:
        return
    taken = w[k].taken
    most = min(w[k].power, nd[k].ac_in)
    if nd[k].backup > 0.0:
        most = min(most, taken + max(0.0, p.transfer_w - b[0].through - b[0].slots_b))
    dc = min(w[k].charge, (w[k].target - w[k].e1) * nd[k].take_per_wh) - w[k].c_pv
    full = inverter_dc_w(dc, nd[k].charge_p_self, nd[k].charge_slope, nd[k].charge_curve)
    if most >= full:
        most = full
    else:
        dc = inverter_ac_w(most, nd[k].charge_p_self, nd[k].charge_slope, nd[k].charge_curve)
    if most - taken <= WISH_W or dc <= w[k].c_ac + WISH_W:
        return
    w[k].grant = most - taken
    w[k].taken = most
    w[k].c_ac = dc
    b[0].slots += most - taken
    if nd[k].backup > 0.0:
        b[0].slots_b += most - taken


@inside
def export_pv(k, nd, p, cap, w, b):
    """(5), (6): what DC PV node k still has goes to the grid, within the device and what the cap leaves."""
    have = w[k].pv - w[k].c_pv
    if have - w[k].pv_inv <= 0.0 or w[k].taken > 0.0:
        return
    out = w[k].out
    full, used = w[k].ac_max, passes(k, nd, w)
    if used > have:
        full, used = out_ac_w(k, nd, have), have
    wish = full - out
    if wish <= 0.0 or (out == 0.0 and wish <= WISH_W):
        return
    passed = min(wish, outwards_w(k, nd, p, b))
    if out == 0.0 and passed <= WISH_W:
        passed = 0.0
    if passed < wish:
        w[k].device = used - out_dc_w(k, nd, out + passed)
    granted = min(passed, max(0.0, cap + b[0].demand + b[0].slots))
    if granted <= 0.0 or (out == 0.0 and granted <= WISH_W):
        return
    put_out(k, nd, granted, w, b)
    w[k].pv_inv = used if granted == wish else min(have, out_dc_w(k, nd, out + granted))


@inside
def cut_slot(k, nd, over, w, b):
    """(8): cut node k's grid charging by what is imported above the limit; returns what is over still, and whether k went off."""
    if over <= WISH_W or w[k].grant <= 0.0 or w[k].timer > 0.0:
        return over, False
    cut = min(over, w[k].grant)
    b[0].slots -= cut
    if nd[k].backup > 0.0:
        b[0].slots_b -= cut
    w[k].grant -= cut
    w[k].taken -= cut
    w[k].c_ac = inverter_ac_w(w[k].taken, nd[k].charge_p_self, nd[k].charge_slope, nd[k].charge_curve)
    if w[k].c_ac <= WISH_W:  # cut below its start: it is off, and the step is done again without it
        w[k].on = -1.0
        return over - cut, True
    return over - cut, False


@inside
def changed(k, p, w, b):
    """Return whether node k is on or off, or follows the usual order, otherwise than the pass assumed (D4, D9). [bool]"""
    again = False
    if comes_first(k, w) and w[k].timer == 0.0 and w[k].taken == 0.0 and w[k].c_pv > 0.0:
        if b[0].demand > import_seen_w(p) + WISH_W:
            w[k].usual = 1.0
            again = True
    runs = w[k].out > 0.0 or w[k].taken > 0.0
    if w[k].on == 0.0 and runs:
        w[k].on = 1.0
        if w[k].off_ac > 0.0:
            again = True
    elif w[k].on > 0.0 and not runs and w[k].off_ac > 0.0:
        w[k].on = -1.0  # the surplus it started on went to a unit before it: it stays off for this step
        again = True
    return again
