# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""Shares among the batteries of a group (D6): who gets less than its share drops out, the rest is shared by the same weights.

`shape` is a tuple as long as the plan has nodes: its length is a constant to the compiler, and lines for more nodes vanish.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import inside
from calm_relay.simulation.kernel.records import (
    DEVICE,
    FIRST,
    FOURTH,
    GIVES,
    LANE,
    PEAKS,
    PV,
    SECOND,
    TAKES,
    THIRD,
    TURNS,
    WISH_W,
)
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

GIVING, SURPLUS, SENT = np.int64(0), np.int64(1), np.int64(2)  # what is shared
NOBODY = np.int64(-1)  # sends


@inside
def count_groups(shape, nd):
    """Return how many groups of batteries take turns in charging or in giving. [number]"""
    n = len(shape)
    last = 0.0
    if n > 0:
        last = max(last, nd[0].take_turn, nd[0].give_turn)
    if n > 1:
        last = max(last, nd[1].take_turn, nd[1].give_turn)
    if n > 2:
        last = max(last, nd[2].take_turn, nd[2].give_turn)
    if n > 3:
        last = max(last, nd[3].take_turn, nd[3].give_turn)
    return last + 1.0


@inside
def _has_turn(kinds, before, turn, group):
    """Return whether a node is of a group: as many stand `before` it as its kinds say, or as its terms do. [bool]"""
    if len(kinds[TURNS]) > 0:
        return turn == group
    return len(before) == group


@inside
def _weigh_taking(kinds, k, before, nd, group, sender, w):
    """Weigh the node in a charging group by its room, or not at all where it takes no part. [Wh]"""
    able = _has_turn(kinds, before, nd.take_turn, group) and k != sender and may_take(nd, w)
    w.weight = room_wh(nd, w) if able else 0.0


@inside
def _weigh_giving(kinds, before, nd, group, w):
    """Weigh the node in a giving group by its usable energy, or not at all where it takes no part. [Wh]"""
    able = _has_turn(kinds, before, nd.give_turn, group) and w.give > 0.0 and w.taken == 0.0
    w.weight = max(0.0, usable_wh(nd, w)) if able else 0.0


@inside
def _grant(kinds, nd, p, what, asked, weight, w, b):
    """Let the node take or give its share of `asked`; returns what it did and what it lacks: then it drops out. [W]"""
    if w.weight <= 0.0:
        return 0.0, 0.0
    share = asked * w.weight / weight
    if what == GIVING:
        got = give(kinds, nd, p, share, w, b)
    elif what == SURPLUS:
        got = take_surplus(kinds, nd, p, share, w, b)
    else:
        got = take_sent(kinds, nd, p, share, w, b)
    if got < share - WISH_W:
        w.weight = 0.0
        return got, share - got
    return got, 0.0


@inside
def _weight_left(shape, w):
    """Return the weight of all nodes that are weighed still. [Wh]"""
    n = len(shape)
    weight = w[0].weight
    if n > 1:
        weight += w[1].weight
    if n > 2:
        weight += w[2].weight
    if n > 3:
        weight += w[3].weight
    return weight


@inside
def _share_once(shape, kinds, what, ask, total, nd, p, w, b):
    """Share what is left of `ask` after `total` among the nodes still weighed; returns the total now, and whether that is all."""
    n = len(shape)
    weight = _weight_left(shape, w)
    asked = ask - total
    if weight <= 0.0 or asked <= WISH_W:
        return total, True
    got, short = _grant(kinds, nd[0], p, what, asked, weight, w[0], b)
    if n > 1:
        more, lacks = _grant(kinds, nd[1], p, what, asked, weight, w[1], b)
        got, short = got + more, short + lacks
    if n > 2:
        more, lacks = _grant(kinds, nd[2], p, what, asked, weight, w[2], b)
        got, short = got + more, short + lacks
    if n > 3:
        more, lacks = _grant(kinds, nd[3], p, what, asked, weight, w[3], b)
        got, short = got + more, short + lacks
    return total + got, short == 0.0


@inside
def _share_alone(kinds, what, ask, nd, p, w, b):
    """Let the only node have all of `ask`; returns what it took or gave. [W]"""
    if w.weight <= 0.0 or ask <= WISH_W:
        return 0.0
    if what == GIVING:
        return give(kinds, nd, p, ask, w, b)
    return take_surplus(kinds, nd, p, ask, w, b)


@inside
def _share(shape, kinds, what, ask, nd, p, w, b):
    """Share `ask` AC watts among the nodes that were weighed; returns what they took or gave. [W]

    `what` is GIVING, SURPLUS, or SENT, the DC PV of a node that others take. A lane shares without a loop; of more than two nodes
    it shares once, and is left open where somebody could have what others lack.
    """
    n = len(shape)
    if n == 1:
        return _share_alone(kinds, what, ask, nd[0], p, w[0], b)
    total, done = 0.0, False
    if len(kinds[LANE]) > 0:
        total, done = _share_once(shape, kinds, what, ask, total, nd, p, w, b)
        if n == 2 and not done:
            total, done = _share_once(shape, kinds, what, ask, total, nd, p, w, b)
        if n > 2 and not done and _weight_left(shape, w) > 0.0 and ask - total > WISH_W:
            b.open = 1.0
        return total
    for _round in range(n):
        total, done = _share_once(shape, kinds, what, ask, total, nd, p, w, b)
        if done:
            break
    return total


@inside
def _share_charge(shape, kinds, what, sender, group, ask, nd, p, w, b):
    """Share `ask` AC watts among the nodes of a group by room: SURPLUS at AC, or what node `sender` has SENT."""
    n = len(shape)
    _weigh_taking(kinds, FIRST, kinds[TAKES][0], nd[0], group, sender, w[0])
    if n > 1:
        _weigh_taking(kinds, SECOND, kinds[TAKES][1], nd[1], group, sender, w[1])
    if n > 2:
        _weigh_taking(kinds, THIRD, kinds[TAKES][2], nd[2], group, sender, w[2])
    if n > 3:
        _weigh_taking(kinds, FOURTH, kinds[TAKES][3], nd[3], group, sender, w[3])
    _share(shape, kinds, what, ask, nd, p, w, b)


@inside
def _share_discharge(shape, kinds, group, ask, nd, p, w, b):
    """Share `ask` AC watts among the batteries of a group by usable energy left; returns what they gave. [W]"""
    n = len(shape)
    _weigh_giving(kinds, kinds[GIVES][0], nd[0], group, w[0])
    if n > 1:
        _weigh_giving(kinds, kinds[GIVES][1], nd[1], group, w[1])
    if n > 2:
        _weigh_giving(kinds, kinds[GIVES][2], nd[2], group, w[2])
    if n > 3:
        _weigh_giving(kinds, kinds[GIVES][3], nd[3], group, w[3])
    return _share(shape, kinds, GIVING, ask, nd, p, w, b)


@inside
def _ready_to_send(shape, kinds, sender, nd, p, w, b):
    n = len(shape)
    if n > 1 and sender == 1:
        return ready_to_send(kinds, nd[1], p, w[1], b)
    if n > 2 and sender == 2:
        return ready_to_send(kinds, nd[2], p, w[2], b)
    if n > 3 and sender == 3:
        return ready_to_send(kinds, nd[3], p, w[3], b)
    return ready_to_send(kinds, nd[0], p, w[0], b)


@inside
def _after_sending(shape, sender, nd, w, b):
    n = len(shape)
    if n > 1 and sender == 1:
        after_sending(nd[1], w[1], b)
    elif n > 2 and sender == 2:
        after_sending(nd[2], w[2], b)
    elif n > 3 and sender == 3:
        after_sending(nd[3], w[3], b)
    else:
        after_sending(nd[0], w[0], b)


@inside
def _surplus_once(shape, kinds, group, nd, p, w, b):
    """(4) for one group: its batteries share the AC surplus."""
    if -b.demand > WISH_W:
        _share_charge(shape, kinds, SURPLUS, NOBODY, group, -b.demand, nd, p, w, b)


@inside
def _after_surplus(kinds, p, b):
    if len(kinds[DEVICE]) > 0:
        trapped = trapped_w(p, b)
        if trapped > 0.0:
            cut_trapped(trapped, b)


@inside
def _send_once(shape, kinds, sender, group, nd, p, w, b):
    """(5) for one group: its batteries share what node `sender` can send."""
    offer = b.best - b.sent - b.house
    if offer > WISH_W:
        _share_charge(shape, kinds, SENT, sender, group, offer, nd, p, w, b)


@inside
def _more_turns(shape, kinds):
    """Return whether a lane goes on to a third group: one whose turns are in its kinds; what no node belongs to vanishes. [bool]"""
    return len(shape) > 2 and len(kinds[TURNS]) == 0


@inside
def _send(shape, kinds, sender, own, mine, nd, p, w, b):
    """(5) in a lane: node `sender`, of terms `own` and work `mine`, sends of its DC PV to others."""
    if ready_to_send(kinds, own, p, mine, b):
        _send_once(shape, kinds, sender, FIRST, nd, p, w, b)
        _send_once(shape, kinds, sender, SECOND, nd, p, w, b)
        if _more_turns(shape, kinds):
            _send_once(shape, kinds, sender, THIRD, nd, p, w, b)
            _send_once(shape, kinds, sender, FOURTH, nd, p, w, b)
        after_sending(own, mine, b)


@inside
def _charge_lane(shape, kinds, nd, p, w, b):
    """(4), (5) in a lane, without a loop."""
    n = len(shape)
    _surplus_once(shape, kinds, FIRST, nd, p, w, b)
    if n > 1:
        _surplus_once(shape, kinds, SECOND, nd, p, w, b)
    if _more_turns(shape, kinds):
        _surplus_once(shape, kinds, THIRD, nd, p, w, b)
        _surplus_once(shape, kinds, FOURTH, nd, p, w, b)
    _after_surplus(kinds, p, b)
    if n > 1 and len(kinds[PV][0]) > 0:
        _send(shape, kinds, FIRST, nd[0], w[0], nd, p, w, b)
    if n > 1 and len(kinds[PV][1]) > 0:
        _send(shape, kinds, SECOND, nd[1], w[1], nd, p, w, b)
    if n > 2 and len(kinds[PV][2]) > 0:
        _send(shape, kinds, THIRD, nd[2], w[2], nd, p, w, b)
    if n > 3 and len(kinds[PV][3]) > 0:
        _send(shape, kinds, FOURTH, nd[3], w[3], nd, p, w, b)


@inside
def charge_from_others(shape, kinds, nd, p, w, b):
    """(4): the AC surplus charges batteries, group by group; (5): then what each node sends through its own inverter."""
    n = len(shape)
    if n == 0:
        _after_surplus(kinds, p, b)
    elif len(kinds[LANE]) > 0:
        _charge_lane(shape, kinds, nd, p, w, b)
    else:
        for group in range(n):
            if group < b.groups:
                _surplus_once(shape, kinds, group, nd, p, w, b)
        _after_surplus(kinds, p, b)
        if n > 1:
            for sender in range(n):
                if _ready_to_send(shape, kinds, sender, nd, p, w, b):
                    for group in range(n):
                        if group < b.groups:
                            _send_once(shape, kinds, sender, group, nd, p, w, b)
                    _after_sending(shape, sender, nd, w, b)
    if n == 1 and len(kinds[DEVICE]) > 0:
        relieve(kinds, nd[0], p, w[0], b)


@inside
def _open_hold(shape, w):
    n = len(shape)
    if n > 0:
        open_hold(w[0])
    if n > 1:
        open_hold(w[1])
    if n > 2:
        open_hold(w[2])
    if n > 3:
        open_hold(w[3])


@inside
def _close_hold(shape, w):
    n = len(shape)
    if n > 0:
        close_hold(w[0])
    if n > 1:
        close_hold(w[1])
    if n > 2:
        close_hold(w[2])
    if n > 3:
        close_hold(w[3])


@inside
def _serve_once(shape, kinds, group, ask, nd, p, w, b):
    """(7) for one group; returns what is still asked. [W]"""
    if ask > WISH_W:
        ask -= _share_discharge(shape, kinds, group, ask, nd, p, w, b)
    return ask


@inside
def _serve(shape, kinds, ask, nd, p, w, b):
    """(7): batteries give what is asked, group by group."""
    n = len(shape)
    if len(kinds[LANE]) > 0:
        ask = _serve_once(shape, kinds, FIRST, ask, nd, p, w, b)
        if n > 1:
            ask = _serve_once(shape, kinds, SECOND, ask, nd, p, w, b)
        if _more_turns(shape, kinds):
            ask = _serve_once(shape, kinds, THIRD, ask, nd, p, w, b)
            ask = _serve_once(shape, kinds, FOURTH, ask, nd, p, w, b)
    else:
        for group in range(n):
            if group < b.groups:
                ask = _serve_once(shape, kinds, group, ask, nd, p, w, b)


@inside
def discharge(shape, kinds, nd, p, w, b):
    """(7): batteries serve what is left, never loads and the meter's bias apart, group by group, the best round trip first.

    With a peak target, what is above it is then served from below the peak-hold too (D9).
    """
    if len(kinds[LANE]) > 0:
        _serve(shape, kinds, b.demand - max(p.bias_w, min(b.never, b.demand)), nd, p, w, b)
        if len(kinds[PEAKS]) > 0:
            ask = b.demand - max(p.target_w, min(b.never, b.demand))
            if ask > WISH_W:
                _open_hold(shape, w)
                _serve(shape, kinds, ask, nd, p, w, b)
    else:  # one loop: written twice, the rules of four nodes take longer to compile
        kept = p.bias_w
        for stage in range(1 + len(kinds[PEAKS])):
            ask = b.demand - max(kept, min(b.never, b.demand))
            if stage > 0 and ask > WISH_W:
                _open_hold(shape, w)
            _serve(shape, kinds, ask, nd, p, w, b)
            kept = p.target_w
    if len(kinds[PEAKS]) > 0:
        _close_hold(shape, w)


@inside
def feed_grid(shape, kinds, cap, nd, p, w, b):
    """Slots that discharge to the grid, by priority (D9)."""
    n = len(shape)
    if n > 0:
        discharge_to_grid(kinds, nd[0], p, cap, w[0], b)
    if n > 1:
        discharge_to_grid(kinds, nd[1], p, cap, w[1], b)
    if n > 2:
        discharge_to_grid(kinds, nd[2], p, cap, w[2], b)
    if n > 3:
        discharge_to_grid(kinds, nd[3], p, cap, w[3], b)
