# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""Shares among the batteries of a group (D6): who gets less than its share drops out, the rest is shared by the same weights.

`shape` is a tuple as long as the plan has nodes: its length is a constant to the compiler, and lines for more nodes vanish.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import inside
from calm_relay.simulation.kernel.records import FIRST, FOURTH, SECOND, THIRD, WISH_W
from calm_relay.simulation.kernel.rules import (
    after_sending,
    close_hold,
    cut_trapped,
    discharge_to_grid,
    give,
    may_take,
    open_hold,
    ready_to_send,
    relieve,
    room_wh,
    take_sent,
    take_surplus,
    trapped_w,
    usable_wh,
)


@inside
def _may_take(k, nd, group, sender, w):
    """Mark whether node k takes part in a charging group; returns its weight. [Wh]"""
    able = nd[k].take_turn == group and k != sender and may_take(k, nd, w)
    w[k].fixed = 0.0 if able else 1.0
    return room_wh(k, nd, w) if able else 0.0


@inside
def _take_share(k, nd, p, sender, asked, weight, w, b):
    """Let node k take its share of `asked`; returns what it took and what it lacks. [W]"""
    if w[k].fixed > 0.0:
        return 0.0, 0.0
    share = asked * room_wh(k, nd, w) / weight
    got = take_surplus(k, nd, p, share, w, b) if sender < 0 else take_sent(k, nd, p, share, w, b)
    if got < share - WISH_W:
        w[k].fixed = 1.0
        return got, share - got
    return got, 0.0


@inside
def _room_open(k, nd, w):
    return 0.0 if w[k].fixed > 0.0 else room_wh(k, nd, w)


@inside
def _share_charge(shape, sender, group, ask, nd, p, w, b):
    """Share `ask` AC watts among the nodes of a group by room; from node `sender`, or from AC surplus (-1)."""
    n = len(shape)
    weight = _may_take(FIRST, nd, group, sender, w)
    if n > 1:
        weight += _may_take(SECOND, nd, group, sender, w)
    if n > 2:
        weight += _may_take(THIRD, nd, group, sender, w)
    if n > 3:
        weight += _may_take(FOURTH, nd, group, sender, w)
    asked = ask
    for _round in range(n):
        if weight <= 0.0 or asked <= WISH_W:
            break
        got, short = _take_share(FIRST, nd, p, sender, asked, weight, w, b)
        if n > 1:
            more, lacks = _take_share(SECOND, nd, p, sender, asked, weight, w, b)
            got, short = got + more, short + lacks
        if n > 2:
            more, lacks = _take_share(THIRD, nd, p, sender, asked, weight, w, b)
            got, short = got + more, short + lacks
        if n > 3:
            more, lacks = _take_share(FOURTH, nd, p, sender, asked, weight, w, b)
            got, short = got + more, short + lacks
        if short == 0.0:
            break
        asked -= got
        weight = _room_open(FIRST, nd, w)
        if n > 1:
            weight += _room_open(SECOND, nd, w)
        if n > 2:
            weight += _room_open(THIRD, nd, w)
        if n > 3:
            weight += _room_open(FOURTH, nd, w)


@inside
def _ready_to_send(shape, sender, nd, p, w, b):
    n = len(shape)
    if n > 1 and sender == 1:
        return ready_to_send(SECOND, nd, p, w, b)
    if n > 2 and sender == 2:
        return ready_to_send(THIRD, nd, p, w, b)
    if n > 3 and sender == 3:
        return ready_to_send(FOURTH, nd, p, w, b)
    return ready_to_send(FIRST, nd, p, w, b)


@inside
def _after_sending(shape, sender, nd, w, b):
    n = len(shape)
    if n > 1 and sender == 1:
        after_sending(SECOND, nd, w, b)
    elif n > 2 and sender == 2:
        after_sending(THIRD, nd, w, b)
    elif n > 3 and sender == 3:
        after_sending(FOURTH, nd, w, b)
    else:
        after_sending(FIRST, nd, w, b)


@inside
def charge_from_others(shape, nd, p, w, b):
    """(4): the AC surplus charges batteries, group by group; (5): then what each node sends through its own inverter."""
    n = len(shape)
    for sender in range(-1, n if n > 1 else 0):
        ready = b[0].demand < -WISH_W if sender < 0 else _ready_to_send(shape, sender, nd, p, w, b)
        if ready:
            for group in range(n):
                offer = -b[0].demand if sender < 0 else b[0].best - b[0].sent - b[0].house
                if offer > WISH_W:
                    _share_charge(shape, sender, group, offer, nd, p, w, b)
            if sender >= 0:
                _after_sending(shape, sender, nd, w, b)
        if sender < 0:
            trapped = trapped_w(p, b)
            if trapped > 0.0:
                cut_trapped(trapped, b)
    if n == 1:
        relieve(FIRST, nd, p, w, b)


@inside
def _may_give(k, nd, group, w):
    left = usable_wh(k, nd, w)
    able = nd[k].give_turn == group and w[k].give > 0.0 and w[k].taken == 0.0 and left > 0.0
    w[k].fixed = 0.0 if able else 1.0
    return left if able else 0.0


@inside
def _usable_open(k, nd, w):
    return 0.0 if w[k].fixed > 0.0 else usable_wh(k, nd, w)


@inside
def _give_share(k, nd, p, asked, weight, w, b):
    """Let node k give its share of `asked`; returns what it gave and what it lacks. [W]"""
    if w[k].fixed > 0.0:
        return 0.0, 0.0
    share = asked * usable_wh(k, nd, w) / weight
    got = give(k, nd, p, share, w, b)
    if got < share - WISH_W:
        w[k].fixed = 1.0
        return got, share - got
    return got, 0.0


@inside
def _share_discharge(shape, group, ask, nd, p, w, b):
    """Share `ask` AC watts among the batteries of a group by usable energy left; returns what they gave. [W]"""
    n = len(shape)
    total = 0.0
    weight = _may_give(FIRST, nd, group, w)
    if n > 1:
        weight += _may_give(SECOND, nd, group, w)
    if n > 2:
        weight += _may_give(THIRD, nd, group, w)
    if n > 3:
        weight += _may_give(FOURTH, nd, group, w)
    for _round in range(n):
        asked = ask - total
        if weight <= 0.0 or asked <= WISH_W:
            break
        got, short = _give_share(FIRST, nd, p, asked, weight, w, b)
        if n > 1:
            more, lacks = _give_share(SECOND, nd, p, asked, weight, w, b)
            got, short = got + more, short + lacks
        if n > 2:
            more, lacks = _give_share(THIRD, nd, p, asked, weight, w, b)
            got, short = got + more, short + lacks
        if n > 3:
            more, lacks = _give_share(FOURTH, nd, p, asked, weight, w, b)
            got, short = got + more, short + lacks
        total += got
        if short == 0.0:
            break
        weight = _usable_open(FIRST, nd, w)
        if n > 1:
            weight += _usable_open(SECOND, nd, w)
        if n > 2:
            weight += _usable_open(THIRD, nd, w)
        if n > 3:
            weight += _usable_open(FOURTH, nd, w)
    return total


@inside
def _open_hold(shape, w):
    n = len(shape)
    if n > 0:
        open_hold(FIRST, w)
    if n > 1:
        open_hold(SECOND, w)
    if n > 2:
        open_hold(THIRD, w)
    if n > 3:
        open_hold(FOURTH, w)


@inside
def _close_hold(shape, w):
    n = len(shape)
    if n > 0:
        close_hold(FIRST, w)
    if n > 1:
        close_hold(SECOND, w)
    if n > 2:
        close_hold(THIRD, w)
    if n > 3:
        close_hold(FOURTH, w)


@inside
def discharge(shape, never, nd, p, w, b):
    """(7): batteries serve what is left, never loads and the meter's bias apart, group by group, the best round trip first.

    With a peak target, what is above it is then served from below the peak-hold too (D9).
    """
    kept = p.bias_w
    for stage in range(2 if p.target_w < np.inf else 1):
        ask = b[0].demand - max(kept, min(never, b[0].demand))
        if stage > 0 and ask > WISH_W:
            _open_hold(shape, w)
        for group in range(len(shape)):
            if ask <= WISH_W:
                break
            ask -= _share_discharge(shape, group, ask, nd, p, w, b)
        kept = p.target_w
    if p.target_w < np.inf:
        _close_hold(shape, w)


@inside
def feed_grid(shape, cap, never, nd, p, w, b):
    """Slots that discharge to the grid, by priority (D9)."""
    n = len(shape)
    if n > 0:
        discharge_to_grid(FIRST, nd, p, cap, never, w, b)
    if n > 1:
        discharge_to_grid(SECOND, nd, p, cap, never, w, b)
    if n > 2:
        discharge_to_grid(THIRD, nd, p, cap, never, w, b)
    if n > 3:
        discharge_to_grid(FOURTH, nd, p, cap, never, w, b)
