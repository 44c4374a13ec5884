# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The rules D3 to D9 for one node in one step: one small function each, over tables of records on the stack.

`nd` are a node's terms (TERMS_DTYPE), `w` its work (WORK_DTYPE), `b` what nodes share (BUS_DTYPE), `p` the
plant (PLANT_DTYPE); `kinds` (records.ALL_KINDS) leave out what a plan does not ask. Powers in W, energies in Wh.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import inside
from calm_relay.simulation.kernel.node import charged_w, charger_dc_w, out_ac_w, out_dc_w, passes
from calm_relay.simulation.kernel.records import DEVICE, OWN_PV_ONLY, WISH_W


@inside
def begin_pass(nd, w, b):
    """Set the node's flows back; its standby is load while it is off (D4)."""
    draw = w.aux_ac
    if w.on <= 0.0:
        draw += w.off_ac
    if nd.backup > 0.0:
        b.own_b += draw
    else:
        b.own_g += draw
    w.out = 0.0
    w.taken = 0.0
    w.pv_inv = 0.0
    w.c_pv = 0.0
    w.c_ac = 0.0
    w.dis = 0.0
    w.device = 0.0
    w.grant = 0.0
    w.weight = 0.0
    w.still = w.most
    w.give = w.give_usual
    w.level = w.level_usual


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
    return min(max(0.0, -b.through - p.transfer_w), b.pv_b)


@inside
def cut_trapped(watts, b):
    """Cut `watts` of controllable PV of the backup side for the device (D8)."""
    b.pv_b -= watts
    b.through += watts
    b.demand += watts
    b.lost_device += watts


@inside
def outwards_w(kinds, nd, p, b):
    """Return what the device still lets out from the node's side (D8). [W]"""
    if len(kinds[DEVICE]) > 0 and nd.backup > 0.0:
        return max(0.0, p.transfer_w + b.through)
    return np.inf


@inside
def put_out(nd, watts, w, b):
    """Let the node send `watts` more to the AC bus."""
    w.out += watts
    b.demand -= watts
    if nd.backup > 0.0:
        b.through -= watts


@inside
def comes_first(w):
    """Return whether the node's own battery comes before the house: a charge slot below its target (D9). [bool]"""
    return w.below > 0.0 and w.usual == 0.0


@inside
def charge_from_own_pv(nd, w):
    """(3): the DC PV left charges the node's own battery."""
    left = w.pv - w.pv_inv
    if left > WISH_W:
        most = w.free
        if most < w.charge:  # what would be clipped is stored all the same
            most = min(w.charge, max(most, w.pv - passes(nd, w)))
        w.c_pv = min(left, nd.pv_to_battery, most)


@inside
def pv_to_house(kinds, nd, p, w, b):
    """(2): the node's DC PV serves the house; the cap in force, cap − s, holds it like any source."""
    demand = b.demand
    have = w.pv - w.c_pv
    if demand <= WISH_W or have <= nd.p_self:
        return
    want = demand - max(0.0, p.bias_w - cap_seen_w(p))
    if len(kinds[DEVICE]) > 0 and nd.backup > 0.0:  # a cut never pushes the device further over
        want = max(want, min(demand, b.through - p.transfer_w))
    want = min(want, w.ac_max, outwards_w(kinds, nd, p, b))
    if want <= WISH_W:
        return
    used = out_dc_w(nd, want)
    if used >= have:
        used = have
        want = min(want, out_ac_w(nd, have))
        if want <= WISH_W:
            return
    w.pv_inv = used
    put_out(nd, want, w, b)


@inside
def take(nd, watts, w, b):
    """Charge the node by up to `watts` more at AC (D5); returns what its charger took. [W]"""
    total = min(w.taken + watts, nd.ac_in)
    if total - w.taken <= WISH_W:
        return 0.0
    total, dc = charged_w(nd, total, w.free - w.c_pv)
    if dc <= w.c_ac + WISH_W:
        return 0.0
    got = total - w.taken
    w.taken = total
    w.c_ac = dc
    b.demand += got
    if nd.backup > 0.0:
        b.through += got
    return got


@inside
def may_take(nd, w):
    """Return whether the node may charge from AC: one direction; who has DC PV over does not import (D5); a charger on a
    time switch hears no meter. [bool]
    """
    return (
        w.on >= 0.0
        and w.timer == 0.0
        and w.kind != OWN_PV_ONLY
        and w.out == 0.0
        and w.pv - w.pv_inv - w.c_pv <= WISH_W
        and w.free > w.c_pv
        and room_wh(nd, w) > 0.0
    )


@inside
def room_wh(nd, w):
    """Return the room left at the cells after (3): the weight when taking (D6). [Wh]"""
    return nd.full - w.e1 - nd.wh_per_take * w.c_pv


@inside
def usable_wh(nd, w):
    """Return the usable energy left, at the terminals: the weight when giving (D6). [Wh]"""
    return (w.e1 - w.level) * nd.eta_d


@inside
def open_hold(w):
    """Let the node's energy below the peak-hold serve what is above the target (D9)."""
    w.give = w.give_peak
    w.level = w.floor


@inside
def close_hold(w):
    """Keep the node's energy below the peak-hold again."""
    w.give = w.give_usual
    w.level = w.level_usual


@inside
def take_surplus(kinds, nd, p, share, w, b):
    """(4): the node charges by its share of the AC surplus; returns what it took. [W]"""
    # What the device will cut in the end is no surplus; own-side charging may spare it, unless PV that nobody can cut keeps the
    # device over all the same (D8).
    room = -b.demand
    if len(kinds[DEVICE]) > 0:
        if nd.backup == 0.0 or room < -b.through - p.transfer_w - WISH_W:
            room -= trapped_w(p, b)
        if nd.backup > 0.0:
            room = min(room, max(0.0, p.transfer_w - b.through))
    return take(nd, min(share, room), w, b)


@inside
def take_sent(kinds, nd, p, share, w, b):
    """(5): the node charges by its share of the DC PV that another sends through its inverter; returns what it took. [W]"""
    house = b.house
    room = b.best - b.sent - house
    backup = nd.backup > 0.0
    if len(kinds[DEVICE]) > 0:
        if b.sender_b > 0.0 and not backup:
            room = min(room, max(0.0, p.transfer_w + b.through) - house)
        if b.sender_b == 0.0 and backup:
            room = min(room, max(0.0, p.transfer_w - b.through))
    want = min(share, room)
    if b.sent == 0.0 and house + want <= WISH_W:
        return 0.0
    got = take(nd, want, w, b)
    if got > 0.0:
        b.sent += got + house
        b.demand -= got + house
        if b.sender_b > 0.0:
            b.through -= got + house
        b.house = 0.0
    return got


@inside
def ready_to_send(kinds, nd, p, w, b):
    """(5): put down what the node can send of its DC PV left; returns whether something may go to others. [bool]"""
    have = w.pv - w.c_pv
    if have - w.pv_inv <= 0.0 or w.taken > 0.0:
        return False
    best = w.ac_max if have >= passes(nd, w) else out_ac_w(nd, have)
    # While P_T is over inwards, DC PV of the backup side relieves it first (D8).
    if len(kinds[DEVICE]) > 0 and nd.backup > 0.0:
        relief = min(best - w.out, b.through - p.transfer_w)
        if relief > WISH_W:
            put_out(nd, relief, w, b)
            w.pv_inv = min(have, out_dc_w(nd, w.out))
    house = b.demand  # what the bias kept back is given first, else the meter shows no surplus
    if house <= WISH_W:
        house = 0.0
    b.best, b.sent, b.sender_b, b.house = best, w.out, nd.backup, house
    return house <= min(best - w.out, outwards_w(kinds, nd, p, b))


@inside
def relieve(kinds, nd, p, w, b):
    """(5) for a plan of one node: while P_T is over inwards, DC PV of the backup side relieves it (D8)."""
    if nd.backup > 0.0 and b.through - p.transfer_w > WISH_W and w.pv - w.c_pv > w.pv_inv:
        ready_to_send(kinds, nd, p, w, b)


@inside
def after_sending(nd, w, b):
    """Book what the node has sent."""
    if b.sent > w.out:
        w.out = b.sent
        w.pv_inv = min(w.pv - w.c_pv, out_dc_w(nd, w.out))


@inside
def give(kinds, nd, p, want, w, b):
    """(7): the battery of the node adds up to `want` AC watts; returns what it added. [W]"""
    out = w.out
    want = min(want, w.ac_max - out, outwards_w(kinds, nd, p, b), w.still)
    if want <= WISH_W:
        return 0.0
    total = out + want
    need = out_dc_w(nd, total)
    if need > w.pv + w.give:
        need = w.pv + w.give
        total = out_ac_w(nd, need)
    gain = total - out
    if gain <= WISH_W:
        return 0.0
    from_pv = min(need, w.pv - w.c_pv)  # first its own unused PV,
    back = min(need - from_pv, w.c_pv)  # then what (3) put into the battery,
    w.dis = need - from_pv - back  # then the battery
    w.pv_inv = from_pv + back
    w.c_pv -= back
    w.still -= gain
    put_out(nd, gain, w, b)
    return gain


@inside
def discharge_to_grid(kinds, nd, p, cap, w, b):
    """A slot that discharges to the grid: what of its W the house did not take, up to cap and floor (D9)."""
    if w.still < np.inf and w.taken == 0.0 and min(b.never, b.demand) <= WISH_W:
        give(kinds, nd, p, max(0.0, cap + b.demand + b.slots), w, b)


@inside
def charge_from_grid(kinds, nd, p, w, b):
    """A slot's grid charging, within device, W and target (D9); the import limit cuts it in (8)."""
    if not comes_first(w) or w.out > 0.0 or w.on < 0.0 or w.pv - w.pv_inv - w.c_pv > WISH_W:
        return
    taken = w.taken
    most = min(w.power, nd.ac_in)
    if len(kinds[DEVICE]) > 0 and nd.backup > 0.0:
        most = min(most, taken + max(0.0, p.transfer_w - b.through - b.slots_b))
    most, dc = charged_w(nd, most, min(w.charge, (w.target - w.e1) * nd.take_per_wh) - w.c_pv)
    if most - taken <= WISH_W or dc <= w.c_ac + WISH_W:
        return
    w.grant = most - taken
    w.taken = most
    w.c_ac = dc
    b.slots += most - taken
    if nd.backup > 0.0:
        b.slots_b += most - taken


@inside
def export_pv(kinds, nd, p, cap, w, b):
    """(5), (6): what DC PV the node still has goes to the grid, within the device and what the cap leaves."""
    have = w.pv - w.c_pv
    if have - w.pv_inv <= 0.0 or w.taken > 0.0:
        return
    out = w.out
    full, used = w.ac_max, passes(nd, w)
    if used > have:
        full, used = out_ac_w(nd, have), have
    wish = full - out
    if wish <= 0.0 or (out == 0.0 and wish <= WISH_W):
        return
    passed = min(wish, outwards_w(kinds, nd, p, b))
    if out == 0.0 and passed <= WISH_W:
        passed = 0.0
    if passed < wish:
        w.device = used - out_dc_w(nd, out + passed)
    granted = min(passed, max(0.0, cap + b.demand + b.slots))
    if granted <= 0.0 or (out == 0.0 and granted <= WISH_W):
        return
    put_out(nd, granted, w, b)
    w.pv_inv = used if granted == wish else min(have, out_dc_w(nd, out + granted))


@inside
def cut_slot(nd, over, w, b):
    """(8): cut the node's grid charging by what is imported above the limit; returns what is over still, and whether k went off."""
    if over <= WISH_W or w.grant <= 0.0 or w.timer > 0.0:
        return over, False
    cut = min(over, w.grant)
    b.slots -= cut
    if nd.backup > 0.0:
        b.slots_b -= cut
    w.grant -= cut
    w.taken -= cut
    w.c_ac = charger_dc_w(nd, w.taken)
    if w.c_ac <= WISH_W:  # cut below its start: it is off, and the step is done again without it
        w.on = -1.0
        return over - cut, True
    return over - cut, False


@inside
def changed(p, w, b):
    """Return whether the node is on or off, or follows the usual order, otherwise than the pass assumed (D4, D9). [bool]"""
    again = False
    if comes_first(w) and w.timer == 0.0 and w.taken == 0.0 and w.c_pv > 0.0:
        if b.demand > import_seen_w(p) + WISH_W:
            w.usual = 1.0
            again = True
    runs = w.out > 0.0 or w.taken > 0.0
    if w.on == 0.0 and runs:
        w.on = 1.0
        if w.off_ac > 0.0:
            again = True
    elif w.on > 0.0 and not runs and w.off_ac > 0.0:
        w.on = -1.0  # the surplus it started on went to a unit before it: it stays off for this step
        again = True
    return again
