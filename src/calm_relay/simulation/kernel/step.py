# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""One step, with the grid up or without one: flows by D5 to D9, pass by pass until who is on no longer changes."""

from __future__ import annotations

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
)
from calm_relay.simulation.kernel.jit import inside, thin
from calm_relay.simulation.kernel.node import feed_car, prepare, stands_by_car, starts
from calm_relay.simulation.kernel.records import (
    ALL_KINDS,
    BANK_CAR,
    BANK_CHARGE,
    BANK_DISCHARGE,
    BANK_HEAT,
    BANK_KEEP,
    CARS,
    DEVICE,
    ISLAND,
    LANE,
    PV,
    SENDS,
    SLOTS,
    WISH_W,
)
from calm_relay.simulation.kernel.rules import (
    begin_pass,
    cap_seen_w,
    changed,
    charge_from_grid,
    charge_from_own_pv,
    comes_first,
    cut_slot,
    cut_trapped,
    export_pv,
    import_seen_w,
    pv_to_house,
    trapped_w,
)
from calm_relay.simulation.kernel.shares import charge_from_others, discharge, feed_grid


@inside
def _own_pv(first, nd, w):
    if w.pv > 0.0 and comes_first(w) == first:
        charge_from_own_pv(nd, w)


@inside
def take_inputs(ac, t, b):
    """Put down what enters step `t` at AC."""
    b.load_b, b.load_g, b.never = ac[AC_LOAD_B, t], ac[AC_LOAD_G, t], ac[AC_NEVER, t]
    b.in_pv_b, b.in_pv_g = ac[AC_PV_B, t], ac[AC_PV_G, t]
    b.pv_b_fixed, b.pv_g_fixed = ac[AC_PV_B_FIXED, t], ac[AC_PV_G_FIXED, t]
    b.in_own_b, b.in_own_g = ac[AC_OWN_B, t], ac[AC_OWN_G, t]


@inside
def _take_node_inputs(rule, pv, keep, charge_part, discharge_part, heat, car, w):
    w.kind, w.floor, w.target, w.power = rule.kind, rule.floor, rule.target, rule.power
    w.pv, w.keep, w.charge_part, w.discharge_part, w.heat, w.car = pv, keep, charge_part, discharge_part, heat, car


@inside
def take_nodes_inputs(shape, rules, codes, pv_dc, bank, t, w):
    """Put down what enters step `t` at each node: the rule of its slot, its PV, what changes at its battery."""
    n = len(shape)
    row = t if bank.shape[0] > 1 else 0
    if n > 0:
        now = bank[row, 0, BANK_KEEP], bank[row, 0, BANK_CHARGE], bank[row, 0, BANK_DISCHARGE], bank[row, 0, BANK_HEAT]
        car = bank[row, 0, BANK_CAR]
        _take_node_inputs(rules[0, codes[t, 0]], pv_dc[t, 0], *now, car, w[0])
    if n > 1:
        now = bank[row, 1, BANK_KEEP], bank[row, 1, BANK_CHARGE], bank[row, 1, BANK_DISCHARGE], bank[row, 1, BANK_HEAT]
        car = bank[row, 1, BANK_CAR]
        _take_node_inputs(rules[1, codes[t, 1]], pv_dc[t, 1], *now, car, w[1])
    if n > 2:
        now = bank[row, 2, BANK_KEEP], bank[row, 2, BANK_CHARGE], bank[row, 2, BANK_DISCHARGE], bank[row, 2, BANK_HEAT]
        car = bank[row, 2, BANK_CAR]
        _take_node_inputs(rules[2, codes[t, 2]], pv_dc[t, 2], *now, car, w[2])
    if n > 3:
        now = bank[row, 3, BANK_KEEP], bank[row, 3, BANK_CHARGE], bank[row, 3, BANK_DISCHARGE], bank[row, 3, BANK_HEAT]
        car = bank[row, 3, BANK_CAR]
        _take_node_inputs(rules[3, codes[t, 3]], pv_dc[t, 3], *now, car, w[3])


@inside
def _look_for_light(shape, nd, w, b):
    """In an island: it is dark where nothing that forms the grid can start; then nothing runs at AC in this step (D16)."""
    n = len(shape)
    lit = n > 0 and starts(nd[0], w[0])
    if n > 1:
        lit = starts(nd[1], w[1]) or lit
    if n > 2:
        lit = starts(nd[2], w[2]) or lit
    if n > 3:
        lit = starts(nd[3], w[3]) or lit
    if not lit:
        b.dark = 1.0
        if n > 0:
            w[0].on = -1.0
        if n > 1:
            w[1].on = -1.0
        if n > 2:
            w[2].on = -1.0
        if n > 3:
            w[3].on = -1.0


@inside
def _feed_cars(shape, nd, p, w, b):
    """Cars on DC sides, before anything else is worked out: what they leave is the nodes' PV."""
    n = len(shape)
    if n > 0:
        feed_car(nd[0], p, w[0], b)
    if n > 1:
        feed_car(nd[1], p, w[1], b)
    if n > 2:
        feed_car(nd[2], p, w[2], b)
    if n > 3:
        feed_car(nd[3], p, w[3], b)


@inside
def _stand_by_cars(shape, w):
    n = len(shape)
    if n > 0:
        stands_by_car(w[0])
    if n > 1:
        stands_by_car(w[1])
    if n > 2:
        stands_by_car(w[2])
    if n > 3:
        stands_by_car(w[3])


@inside
def prepare_all(shape, kinds, nd, p, w, b):
    """Fill every node's work; returns whether anything gives sun. [bool]

    Without sun nothing is left to give, store, export or cut: (2) to (6) would change nothing.
    """
    n = len(shape)
    if len(kinds[CARS]) > 0:
        _feed_cars(shape, nd, p, w, b)
    sun = b.in_pv_b + b.in_pv_g + b.pv_b_fixed + b.pv_g_fixed
    if n > 0:
        prepare(nd[0], p, w[0], b)
        sun += w[0].pv
    if n > 1:
        prepare(nd[1], p, w[1], b)
        sun += w[1].pv
    if n > 2:
        prepare(nd[2], p, w[2], b)
        sun += w[2].pv
    if n > 3:
        prepare(nd[3], p, w[3], b)
        sun += w[3].pv
    if len(kinds[CARS]) > 0:
        _stand_by_cars(shape, w)
    b.dark = 0.0
    if len(kinds[ISLAND]) > 0 and p.island > 0.0:
        _look_for_light(shape, nd, w, b)
    return sun > 0.0


@inside
def _house_first(shape, kinds, nd, p, w, b):
    """(1): the house less AC-side PV, per side; standby of units that are off is load (D4)."""
    n = len(shape)
    b.own_b, b.own_g = b.in_own_b, b.in_own_g
    if n > 0:
        begin_pass(nd[0], w[0], b)
    if n > 1:
        begin_pass(nd[1], w[1], b)
    if n > 2:
        begin_pass(nd[2], w[2], b)
    if n > 3:
        begin_pass(nd[3], w[3], b)
    b.pv_b, b.pv_g = b.in_pv_b, b.in_pv_g
    b.through = b.load_b + b.own_b - b.in_pv_b - b.pv_b_fixed
    beyond = b.load_g + b.own_g - b.in_pv_g - b.pv_g_fixed
    b.demand = b.through
    if p.at_device > 0.0:  # the sensor sees P_T alone (D8)
        b.beyond = beyond
    else:
        b.beyond = 0.0
        b.demand += beyond
    b.lost_device, b.lost_cap, b.slots, b.slots_b, b.surplus = 0.0, 0.0, 0.0, 0.0, 0.0
    b.best, b.sent, b.sender_b, b.house = 0.0, 0.0, 0.0, 0.0
    if len(kinds[ISLAND]) > 0 and b.dark > 0.0:
        b.lost_cap, b.pv_b = b.in_pv_b, 0.0
        b.through, b.demand = 0.0, 0.0
    # PV that the device would cut is not counted in D; without a surplus beside it nothing is started for it (D8).
    if len(kinds[DEVICE]) > 0:
        trapped = trapped_w(p, b)
        if trapped > 0.0 and b.demand + trapped >= 0.0:
            cut_trapped(trapped, b)


@inside
def _own_batteries(shape, kinds, first, nd, w):
    """(3), or what a charge slot puts before the house."""
    n = len(shape)
    if n > 0 and len(kinds[PV][0]) > 0:
        _own_pv(first, nd[0], w[0])
    if n > 1 and len(kinds[PV][1]) > 0:
        _own_pv(first, nd[1], w[1])
    if n > 2 and len(kinds[PV][2]) > 0:
        _own_pv(first, nd[2], w[2])
    if n > 3 and len(kinds[PV][3]) > 0:
        _own_pv(first, nd[3], w[3])


@inside
def _sun(shape, kinds, nd, p, w, b):
    """(2) to (5): what PV serves and charges before a slot draws from the grid."""
    n = len(shape)
    _own_batteries(shape, kinds, True, nd, w)
    if n > 0 and len(kinds[PV][0]) > 0:
        pv_to_house(kinds, nd[0], p, w[0], b)
    if n > 1 and len(kinds[PV][1]) > 0:
        pv_to_house(kinds, nd[1], p, w[1], b)
    if n > 2 and len(kinds[PV][2]) > 0:
        pv_to_house(kinds, nd[2], p, w[2], b)
    if n > 3 and len(kinds[PV][3]) > 0:
        pv_to_house(kinds, nd[3], p, w[3], b)
    _own_batteries(shape, kinds, False, nd, w)
    charge_from_others(shape, kinds, nd, p, w, b)
    taken = 0.0
    if n > 0:
        taken += w[0].taken
    if n > 1:
        taken += w[1].taken
    if n > 2:
        taken += w[2].taken
    if n > 3:
        taken += w[3].taken
    b.surplus = taken


@inside
def _slots(shape, kinds, nd, p, w, b):
    """A slot's grid charging, granted after the charging of (5) and before its exports (D9)."""
    n = len(shape)
    if n > 0:
        charge_from_grid(kinds, nd[0], p, w[0], b)
    if n > 1:
        charge_from_grid(kinds, nd[1], p, w[1], b)
    if n > 2:
        charge_from_grid(kinds, nd[2], p, w[2], b)
    if n > 3:
        charge_from_grid(kinds, nd[3], p, w[3], b)


@inside
def _cap_w(p, b):
    """Return the cap in force (D6): while a battery charges from surplus it does not make it draw from the grid. [W]"""
    cap = cap_seen_w(p) - p.bias_w
    return max(cap, 0.0) if b.surplus > 0.0 else cap


@inside
def _export(shape, kinds, cap, nd, p, w, b):
    """(5), (6): DC PV to the grid, then the cut of what passes the cap; AC-side PV is in it first."""
    n = len(shape)
    excess = -b.demand - b.slots - cap
    if n > 0 and len(kinds[PV][0]) > 0:
        export_pv(kinds, nd[0], p, cap, w[0], b)
    if n > 1 and len(kinds[PV][1]) > 0:
        export_pv(kinds, nd[1], p, cap, w[1], b)
    if n > 2 and len(kinds[PV][2]) > 0:
        export_pv(kinds, nd[2], p, cap, w[2], b)
    if n > 3 and len(kinds[PV][3]) > 0:
        export_pv(kinds, nd[3], p, cap, w[3], b)
    # (6): controllable PV-only inverters above the cap, the grid side first, never pushing the device further over
    if excess > WISH_W:
        cut_g = 0.0 if p.at_device > 0.0 else min(excess, b.pv_g)
        cut_b = min(excess - cut_g, b.pv_b, max(0.0, p.transfer_w - b.through - b.slots_b))
        b.pv_g -= cut_g
        b.pv_b -= cut_b
        b.through += cut_b
        b.demand += cut_g + cut_b
        b.lost_cap = cut_g + cut_b


@inside
def _import(shape, nd, p, w, b):
    """(8): an import limit first cuts charging, the last in priority first; returns whether a charger went off. [bool]"""
    n = len(shape)
    over = b.demand + b.slots - import_seen_w(p)
    again = False
    if over > WISH_W and b.slots > 0.0:
        if n > 3:
            over, off = cut_slot(nd[3], over, w[3], b)
            again = again or off
        if n > 2:
            over, off = cut_slot(nd[2], over, w[2], b)
            again = again or off
        if n > 1:
            over, off = cut_slot(nd[1], over, w[1], b)
            again = again or off
        if n > 0:
            over, off = cut_slot(nd[0], over, w[0], b)
            again = again or off
    return again


@inside
def _changed(shape, p, w, b):
    n = len(shape)
    again = False
    if n > 0:
        again = changed(p, w[0], b)
    if n > 1:
        again = changed(p, w[1], b) or again
    if n > 2:
        again = changed(p, w[2], b) or again
    if n > 3:
        again = changed(p, w[3], b) or again
    return again


@thin
def one_pass(shape, kinds, sun, nd, p, w, b):
    """Run (1) to (8) once with the units that are on so far; returns whether it must be done again. [bool]

    `kinds` are those of the records: what an empty one would need is left out.
    """
    b.open = 0.0
    _house_first(shape, kinds, nd, p, w, b)
    if sun:
        _sun(shape, kinds, nd, p, w, b)
    if len(kinds[SLOTS]) > 0:
        _slots(shape, kinds, nd, p, w, b)
    cap = _cap_w(p, b)
    if sun:
        _export(shape, kinds, cap, nd, p, w, b)
    if len(shape) > 0:
        discharge(shape, kinds, nd, p, w, b)
    if len(kinds[SENDS]) > 0:
        feed_grid(shape, kinds, cap, nd, p, w, b)
    if len(kinds[SLOTS]) > 0 and _import(shape, nd, p, w, b):
        return True
    if len(kinds[LANE]) > 0 and b.open > 0.0:
        return True
    return _changed(shape, p, w, b)


@thin
def settle(shape, passes, nd, p, w, b):
    """Settle the step: at most so many passes, until the on/off set, and who follows the usual order, no longer change.

    Their number is no constant, since the compiler would unroll them all.
    """
    sun = prepare_all(shape, ALL_KINDS, nd, p, w, b)
    for _pass in range(passes):
        if not one_pass(shape, ALL_KINDS, sun, nd, p, w, b):
            break
