# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""One step with the grid up: flows by D5 to D9, pass by pass until who is on no longer changes."""

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
from calm_relay.simulation.kernel.records import (
    BANK_CHARGE,
    BANK_DISCHARGE,
    BANK_HEAT,
    BANK_KEEP,
    FIRST,
    FOURTH,
    SECOND,
    THIRD,
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
    prepare,
    pv_to_house,
    trapped_w,
)
from calm_relay.simulation.kernel.shares import charge_from_others, discharge, feed_grid


@inside
def _own_pv(k, first, nd, w):
    if w[k].pv > 0.0 and comes_first(k, w) == first:
        charge_from_own_pv(k, nd, w)


@inside
def prepare_all(shape, nd, rules, p, codes, pv_dc, bank, ac, t, energy, w):
    """Fill every node's work for step `t`; returns whether anything gives sun. [bool]

    Without sun nothing is left to give, store, export or cut: (2) to (6) would change nothing.
    """
    n = len(shape)
    load_b = ac[t, AC_LOAD_B]
    row = t if bank.shape[0] > 1 else 0
    sun = ac[t, AC_PV_B] + ac[t, AC_PV_G] + ac[t, AC_PV_B_FIXED] + ac[t, AC_PV_G_FIXED]
    if n > 0:
        changes = bank[row, 0, BANK_KEEP], bank[row, 0, BANK_CHARGE], bank[row, 0, BANK_DISCHARGE], bank[row, 0, BANK_HEAT]
        prepare(FIRST, nd, p, rules[0, codes[t, 0]], pv_dc[t, 0], load_b, energy[0], *changes, w)
        sun += pv_dc[t, 0]
    if n > 1:
        changes = bank[row, 1, BANK_KEEP], bank[row, 1, BANK_CHARGE], bank[row, 1, BANK_DISCHARGE], bank[row, 1, BANK_HEAT]
        prepare(SECOND, nd, p, rules[1, codes[t, 1]], pv_dc[t, 1], load_b, energy[1], *changes, w)
        sun += pv_dc[t, 1]
    if n > 2:
        changes = bank[row, 2, BANK_KEEP], bank[row, 2, BANK_CHARGE], bank[row, 2, BANK_DISCHARGE], bank[row, 2, BANK_HEAT]
        prepare(THIRD, nd, p, rules[2, codes[t, 2]], pv_dc[t, 2], load_b, energy[2], *changes, w)
        sun += pv_dc[t, 2]
    if n > 3:
        changes = bank[row, 3, BANK_KEEP], bank[row, 3, BANK_CHARGE], bank[row, 3, BANK_DISCHARGE], bank[row, 3, BANK_HEAT]
        prepare(FOURTH, nd, p, rules[3, codes[t, 3]], pv_dc[t, 3], load_b, energy[3], *changes, w)
        sun += pv_dc[t, 3]
    return sun > 0.0


@inside
def _house_first(shape, nd, p, ac, t, w, b):
    """(1): the house less AC-side PV, per side; standby of units that are off is load (D4)."""
    n = len(shape)
    b[0].own_b, b[0].own_g = ac[t, AC_OWN_B], ac[t, AC_OWN_G]
    if n > 0:
        begin_pass(FIRST, nd, w, b)
    if n > 1:
        begin_pass(SECOND, nd, w, b)
    if n > 2:
        begin_pass(THIRD, nd, w, b)
    if n > 3:
        begin_pass(FOURTH, nd, w, b)
    b[0].pv_b, b[0].pv_g = ac[t, AC_PV_B], ac[t, AC_PV_G]
    b[0].through = ac[t, AC_LOAD_B] + b[0].own_b - ac[t, AC_PV_B] - ac[t, AC_PV_B_FIXED]
    beyond = ac[t, AC_LOAD_G] + b[0].own_g - ac[t, AC_PV_G] - ac[t, AC_PV_G_FIXED]
    b[0].demand = b[0].through
    if p.at_device > 0.0:  # the sensor sees P_T alone (D8)
        b[0].beyond = beyond
    else:
        b[0].beyond = 0.0
        b[0].demand += beyond
    b[0].lost_device, b[0].lost_cap, b[0].slots, b[0].slots_b, b[0].surplus = 0.0, 0.0, 0.0, 0.0, 0.0
    # PV that the device would cut is not counted in D; without a surplus beside it nothing is started for it (D8).
    trapped = trapped_w(p, b)
    if trapped > 0.0 and b[0].demand + trapped >= 0.0:
        cut_trapped(trapped, b)


@inside
def _own_batteries(shape, first, nd, w):
    """(3), or what a charge slot puts before the house."""
    n = len(shape)
    if n > 0:
        _own_pv(FIRST, first, nd, w)
    if n > 1:
        _own_pv(SECOND, first, nd, w)
    if n > 2:
        _own_pv(THIRD, first, nd, w)
    if n > 3:
        _own_pv(FOURTH, first, nd, w)


@inside
def _sun(shape, nd, p, w, b):
    """(2) to (5): what PV serves and charges before a slot draws from the grid."""
    n = len(shape)
    _own_batteries(shape, True, nd, w)
    if n > 0:
        pv_to_house(FIRST, nd, p, w, b)
    if n > 1:
        pv_to_house(SECOND, nd, p, w, b)
    if n > 2:
        pv_to_house(THIRD, nd, p, w, b)
    if n > 3:
        pv_to_house(FOURTH, nd, p, w, b)
    _own_batteries(shape, False, nd, w)
    charge_from_others(shape, nd, p, w, b)
    taken = 0.0
    if n > 0:
        taken += w[0].taken
    if n > 1:
        taken += w[1].taken
    if n > 2:
        taken += w[2].taken
    if n > 3:
        taken += w[3].taken
    b[0].surplus = taken


@inside
def _slots(shape, nd, p, w, b):
    """A slot's grid charging, granted after the charging of (5) and before its exports (D9)."""
    n = len(shape)
    if n > 0:
        charge_from_grid(FIRST, nd, p, w, b)
    if n > 1:
        charge_from_grid(SECOND, nd, p, w, b)
    if n > 2:
        charge_from_grid(THIRD, nd, p, w, b)
    if n > 3:
        charge_from_grid(FOURTH, nd, p, w, b)


@inside
def _cap_w(p, b):
    """Return the cap in force (D6): while a battery charges from surplus it does not make it draw from the grid. [W]"""
    cap = cap_seen_w(p) - p.bias_w
    return max(cap, 0.0) if b[0].surplus > 0.0 else cap


@inside
def _export(shape, cap, nd, p, w, b):
    """(5), (6): DC PV to the grid, then the cut of what passes the cap; AC-side PV is in it first."""
    n = len(shape)
    excess = -b[0].demand - b[0].slots - cap
    if n > 0:
        export_pv(FIRST, nd, p, cap, w, b)
    if n > 1:
        export_pv(SECOND, nd, p, cap, w, b)
    if n > 2:
        export_pv(THIRD, nd, p, cap, w, b)
    if n > 3:
        export_pv(FOURTH, nd, p, cap, w, b)
    # (6): controllable PV-only inverters above the cap, the grid side first, never pushing the device further over
    if excess > WISH_W:
        cut_g = 0.0 if p.at_device > 0.0 else min(excess, b[0].pv_g)
        cut_b = min(excess - cut_g, b[0].pv_b, max(0.0, p.transfer_w - b[0].through - b[0].slots_b))
        b[0].pv_g -= cut_g
        b[0].pv_b -= cut_b
        b[0].through += cut_b
        b[0].demand += cut_g + cut_b
        b[0].lost_cap = cut_g + cut_b


@inside
def _import(shape, nd, p, w, b):
    """(8): an import limit first cuts charging, the last in priority first; returns whether a charger went off. [bool]"""
    n = len(shape)
    over = b[0].demand + b[0].slots - import_seen_w(p)
    again = False
    if over > WISH_W and b[0].slots > 0.0:
        if n > 3:
            over, off = cut_slot(FOURTH, nd, over, w, b)
            again = again or off
        if n > 2:
            over, off = cut_slot(THIRD, nd, over, w, b)
            again = again or off
        if n > 1:
            over, off = cut_slot(SECOND, nd, over, w, b)
            again = again or off
        if n > 0:
            over, off = cut_slot(FIRST, nd, over, w, b)
            again = again or off
    return again


@inside
def _changed(shape, p, w, b):
    n = len(shape)
    again = False
    if n > 0:
        again = changed(FIRST, p, w, b)
    if n > 1:
        again = changed(SECOND, p, w, b) or again
    if n > 2:
        again = changed(THIRD, p, w, b) or again
    if n > 3:
        again = changed(FOURTH, p, w, b) or again
    return again


@thin
def one_pass(shape, sun, nd, p, ac, t, w, b):
    """Run (1) to (8) once with the units that are on so far; returns whether it must be done again. [bool]"""
    _house_first(shape, nd, p, ac, t, w, b)
    if sun:
        _sun(shape, nd, p, w, b)
    _slots(shape, nd, p, w, b)
    cap = _cap_w(p, b)
    if sun:
        _export(shape, cap, nd, p, w, b)
    never = ac[t, AC_NEVER]
    discharge(shape, never, nd, p, w, b)
    feed_grid(shape, cap, never, nd, p, w, b)
    if _import(shape, nd, p, w, b):
        return True
    return _changed(shape, p, w, b)


@thin
def settle(shape, passes, nd, rules, p, codes, pv_dc, bank, ac, t, energy, w, b):
    """Settle step `t`: at most so many passes, until the on/off set, and who follows the usual order, no longer change.

    Their number is no constant, since the compiler would unroll them all.
    """
    sun = prepare_all(shape, nd, rules, p, codes, pv_dc, bank, ac, t, energy, w)
    for _pass in range(passes):
        if not one_pass(shape, sun, nd, p, ac, t, w, b):
            break
