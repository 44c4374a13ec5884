# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""Many variants of a plan side by side: the same step in a loop over lanes that the compiler turns into vectors.

A lane is committed by the pass over a step that settles it; what a few passes leave open is done by the ordinary settling.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.jit import bus_table, compiled, inside, plant_table, terms_table, work_table
from calm_relay.simulation.kernel.lane_rows import (
    LANES_MORE,
    LANES_ONE,
    LANES_TWO,
    ROW_AGAIN,
    ROW_NODES,
    ROW_SYSTEM,
    begin,
    count_asking,
    go_on,
    keep_on,
    load_nodes,
    store_nodes,
    trades,
)
from calm_relay.simulation.kernel.records import PEAKS, SENDS, SLOTS
from calm_relay.simulation.kernel.rows import finish_step, place
from calm_relay.simulation.kernel.shares import count_groups
from calm_relay.simulation.kernel.step import one_pass, prepare_all, settle, take_inputs

# Passes over a step in which slots charge from the grid or discharge to it: a charger that starts asks for a second one. One more
# for all lanes is worth it where more than this part of a block asks.
PASSES, PART = 2, 0.25


@inside
def _lane(shape, kinds, sun, more_passes, stride, p, t, pv_dc, bank, const, rule, table, nothing, v, nd, w, b):
    """One pass over one step of one lane: the only one, or one of `more_passes`, which changes a lane only where it asks for it."""
    load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, nd, w)
    prepare_all(shape, kinds, nd, p, w, b)
    asked = True
    if more_passes:
        asked = table[place((ROW_AGAIN, stride, v), 0)] > 0.0
        go_on(shape, stride, table, v, w)
    more = one_pass(shape, kinds, sun, nd, p, w, b)
    ok = asked and not more
    if more_passes:
        keep_on(shape, stride, table, v, w)
    finish_step(
        shape, kinds, (), ok, nd, p, 0, w, b, nothing, nothing, table, table, (ROW_SYSTEM, stride, v), (ROW_NODES, stride, v)
    )
    store_nodes(shape, stride, ok, table, v, w)
    table[place((ROW_AGAIN, stride, v), 0)] = 1.0 if asked and more else 0.0


@compiled
def run_lanes(shape, kinds, passes, lanes, plant, const, rules, rule, codes, pv_dc, bank, ac, first, last, table, nothing):
    """Run steps `first` to `last` of `lanes` variants of a plan, a multiple of VECTOR, at most LANES_ONE, LANES_TWO or LANES_MORE.

    `shape` is a tuple as long as there are nodes. `const` holds each node's terms and the factor of its PV lane by lane, `rules`
    (nodes, slots, 4 · lanes of a block) each slot's kind, floor, target and power, `rule` (nodes · 4 · lanes,) is room for those
    in force; `codes`, `pv_dc` (T, nodes), `bank` (T or 1, nodes, BANK), `ac` (AC, T) are shared. `table` holds energies and sums,
    and is changed in place; `nothing` is an empty series. `kinds` leave out what no variant asks for: its rules must ask for no
    more.
    """
    # Lanes that are settled by themselves have records of their own: of more than two nodes, who sends is a record chosen by number
    # there, and the compiler would keep those of all lanes in memory.
    w, b, w_alone, b_alone = work_table(), bus_table(), work_table(), bus_table()
    terms, terms_alone, plants = terms_table(), terms_table(), plant_table()
    plants[0] = plant
    nd, p = (terms[0], terms[1], terms[2], terms[3]), plants[0]
    alone = terms_alone[0], terms_alone[1], terms_alone[2], terms_alone[3]
    n = len(shape)
    stride = LANES_ONE if n == 1 else LANES_TWO if n == 2 else LANES_MORE
    width, few = rules.shape[2], PART * stride
    # While no slot trades with the grid, a step goes through lanes that leave out all that trading needs.
    can_trade, trading = len(kinds[SLOTS]) + len(kinds[SENDS]) > 0, False
    no_trade = (), (), *kinds[PEAKS:]
    for t in range(first, last):
        sun, turned = 0.0, False
        for k in range(n):
            sun += pv_dc[t, k]
            if t == first or codes[t, k] != codes[t - 1, k]:
                turned = True
                for i in range(width):
                    rule[k * width + i] = rules[k, codes[t, k], i]
        take_inputs(ac, t, b)
        if can_trade and turned:
            trading = trades(shape, lanes, stride, rule)
        if can_trade and trading:
            for v in range(lanes):
                begin(shape, stride, table, np.uint64(v))
            for _pass in range(PASSES):
                for v in range(lanes):
                    _lane(shape, kinds, True, True, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
                if count_asking(lanes, stride, table) <= few:
                    break
        elif sun + b.in_pv_b + b.in_pv_g + b.pv_b_fixed + b.pv_g_fixed > 0.0:
            for v in range(lanes):
                _lane(shape, no_trade, True, False, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
        else:
            for v in range(lanes):
                _lane(shape, no_trade, False, False, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
        if count_asking(lanes, stride, table) > 0.0:
            for i in range(lanes):
                v = np.uint64(i)
                if table[place((ROW_AGAIN, stride, v), 0)] > 0.0:
                    take_inputs(ac, t, b_alone)
                    load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, alone, w_alone)
                    b_alone.groups = count_groups(shape, alone)
                    settle(shape, passes, alone, p, w_alone, b_alone)
                    finish_step(
                        shape, kinds, (), True, alone, p, 0, w_alone, b_alone, nothing, nothing, table, table,
                        (ROW_SYSTEM, stride, v), (ROW_NODES, stride, v),
                    )  # fmt: skip
                    store_nodes(shape, stride, True, table, v, w_alone)
