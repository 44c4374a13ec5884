# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""What holds of a node for a whole step: the inverter's curve (D4), what its battery takes and gives (D3, D9), who pays standby."""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import inside, root
from calm_relay.simulation.kernel.records import CHARGE_FROM_GRID, CLIPPED_ONLY, DISCHARGE_TO_GRID, HOLD, TIMER, WISH_W


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
def out_dc_w(nd, p_ac):
    """DC watts that the node's inverter takes for `p_ac` out. [W]"""
    return inverter_dc_w(p_ac, nd.p_self, nd.slope, nd.curve)


@inside
def out_ac_w(nd, p_dc):
    """AC watts that the node's inverter makes of `p_dc`. [W]"""
    return inverter_ac_w(p_dc, nd.p_self, nd.slope, nd.curve)


@inside
def charger_dc_w(nd, p_ac):
    """DC watts that the node's charger makes of `p_ac` taken in. [W]"""
    return inverter_ac_w(p_ac, nd.charge_p_self, nd.charge_slope, nd.charge_curve)


@inside
def charged_w(nd, p_ac, room):
    """AC watts taken in of `p_ac`, and DC watts made of them, at most `room`: the root is taken only where there is room. [W]"""
    most = inverter_dc_w(room, nd.charge_p_self, nd.charge_slope, nd.charge_curve)
    if p_ac >= most:
        return most, room
    return p_ac, charger_dc_w(nd, p_ac)


@inside
def passes(nd, w):
    """Return the DC watts that fill the node's AC limit of the step. [W]"""
    return out_dc_w(nd, w.ac_max)


@inside
def starts(nd, w):
    """Return whether the node can form a grid in this step, on its own DC PV and its battery (D16). [bool]"""
    return nd.forms > 0.0 and w.pv + w.give_peak > out_dc_w(nd, WISH_W)


@inside
def charge_limit_w(nd, energy, part):
    """DC charge limit at the energy at the start of the step: straight from the taper SoC to a part of it at SoC_max (D3)."""
    limit = min(nd.charge, nd.charge_empty + nd.charge_more * energy) * part
    if energy > nd.taper_from:
        limit *= 1.0 - nd.taper_slope * (min(energy, nd.full) - nd.taper_from)
    return limit


@inside
def lost_in_storing_w(nd, into, out_of, beside):
    """Cells' loss of `into` and of `out_of` at the terminals; standby and auxiliaries `beside` at the usual rate (D3). [W]"""
    taking, giving = 0.0, 0.0
    if into > 0.0:  # no more than what came
        taking = min(into, (1.0 - nd.eta_c) * into + nd.take_square * into * into + nd.store_self)
    if out_of > 0.0:
        giving = nd.give_square * out_of * out_of + nd.store_self
    return taking, giving + (1.0 / nd.eta_d - 1.0) * (out_of + beside)


@inside
def feed_car(nd, p, w, b):
    """A car on the DC side takes the node's DC PV first, the rest from AC through its charger, as a load that batteries never feed.

    While it does, the node does nothing else: one AC direction (D5), its battery in hold. Without a grid it gets sun alone.
    """
    car_pv = min(w.car, w.pv)
    rest = w.car - car_pv
    w.car_pv = car_pv
    w.car_in, w.car_dc, w.busy = 0.0, 0.0, 0.0
    w.pv -= car_pv
    if rest > WISH_W and p.island == 0.0:
        most = inverter_dc_w(rest, nd.charge_p_self, nd.charge_slope, nd.charge_curve)
        car_in = min(most, nd.ac_in)
        w.car_in = car_in
        w.car_dc = rest if car_in >= most else min(rest, charger_dc_w(nd, car_in))
        w.busy = 1.0
        w.kind = HOLD
        b.never += car_in
        if nd.backup > 0.0:
            b.load_b += car_in
        else:
            b.load_g += car_in


@inside
def stands_by_car(w):
    """While the node feeds a car from AC it is on, and nothing goes out."""
    if w.busy > 0.0:
        w.ac_max = 0.0
        w.pv_pay, w.bat_pay, w.off_ac = 0.0, 0.0, 0.0


@inside
def prepare(nd, p, w, b):
    """Fill the node's work with what holds for the whole step: floor, room, what it may give, who pays standby (D3, D4, D9)."""
    energy = w.energy
    capacity = nd.capacity
    kind = w.kind
    floor = w.floor
    hold = kind == HOLD
    spare_w = 0.0
    if capacity > 0.0 and not hold:
        spare_w = max(0.0, (energy - floor) * nd.spare_per_wh)
    auxiliary = nd.auxiliary + w.heat
    aux_dc = min(auxiliary, spare_w)
    e1 = energy
    level = max(floor, nd.hold) if p.target_w < np.inf or p.island > 0.0 else floor
    charge, free, give, give_peak = 0.0, 0.0, 0.0, 0.0
    below = (kind == CHARGE_FROM_GRID or kind == TIMER) and capacity > 0.0
    if capacity > 0.0:
        e1 -= aux_dc * nd.wh_per_give
        below = below and e1 < w.target - 1e-9
        if not hold:
            room = nd.full - e1
            charge = min(charge_limit_w(nd, energy, w.charge_part), max(0.0, room * nd.take_per_wh))
            free = charge if below else min(charge, max(0.0, (room - w.keep) * nd.take_per_wh))
            most = min(nd.discharge, nd.discharge_empty + nd.discharge_more * energy) * w.discharge_part
            give = min(most, max(0.0, (e1 - level) * nd.give_per_wh - nd.give_less))
            give_peak = min(most, max(0.0, (e1 - floor) * nd.give_per_wh - nd.give_less))
    if kind == CLIPPED_ONLY or kind == DISCHARGE_TO_GRID:
        free = 0.0
    w.e1 = e1
    w.charge = charge
    w.free = free
    w.give_usual = give
    w.give_peak = give_peak
    w.level_usual = level
    w.aux_dc = aux_dc
    w.aux_ac = auxiliary - aux_dc
    w.pv_pay = min(nd.night, w.pv)
    w.bat_pay = min(nd.night - w.pv_pay, spare_w - aux_dc)
    w.off_ac = nd.night - w.pv_pay - w.bat_pay
    # A backup-port limit holds what serves the backup load, a grid-port limit the rest (D5).
    most = nd.ac_out
    if nd.backup == 0.0:
        most = min(most, nd.grid_port)
    elif b.load_b > nd.backup_port:
        most = min(most, nd.backup_port)
    else:
        most = min(most, b.load_b + nd.grid_port)
    w.ac_max = most
    w.below = 1.0 if below else 0.0
    w.timer = 1.0 if below and kind == TIMER else 0.0
    w.most = w.power if kind == DISCHARGE_TO_GRID else np.inf
    w.usual = 0.0
    w.on = 0.0
