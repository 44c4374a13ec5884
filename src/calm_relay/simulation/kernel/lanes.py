# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""Many variants of a plan side by side: the same step in a loop over lanes that the compiler turns into vectors.

A lane is committed where its first pass over a step settles it; else it is marked, and done by the ordinary settling.
"""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.kernel.jit import bus_table, compiled, inside, plant_table, terms_table, work_table
from calm_relay.simulation.kernel.records import FIRST, FOURTH, MOST_NODES, PV, SECOND, SLOTS, TERMS_DTYPE, THIRD
from calm_relay.simulation.kernel.rows import finish_step, place
from calm_relay.simulation.kernel.shares import count_groups
from calm_relay.simulation.kernel.step import one_pass, prepare_all, settle, take_inputs

# Lanes of one block, for one node, for two and for more: constants, so that rows of the table are known to lie apart. As many as
# a processor's nearest cache holds; a vector has eight at most.
LANES_ONE, LANES_TWO, LANES_MORE, VECTOR = np.uint64(32), np.uint64(16), np.uint64(8), 8
N_SYSTEM, N_NODE, N_TERMS = len(SYSTEM), len(NODE), len(TERMS_DTYPE.names or ())
# Rows of the table of a block: energies, each node's on and usual order as the last pass left them, whether a lane asks for more
# passes, sums of the plan, sums of each node.
ROW_ON, ROW_AGAIN = np.uint64(2 * MOST_NODES), np.uint64(4 * MOST_NODES)
ROW_SYSTEM, ROW_NODES = np.uint64(4 * MOST_NODES + 1), np.uint64(4 * MOST_NODES + 1 + N_SYSTEM)
FEW = 6.0  # lanes that ask for more passes and are done one by one
N_OWN = np.uint64(N_TERMS + 1)  # terms of a node, and the factor of its PV
TWO, FOUR = np.uint64(2), np.uint64(4)


@inside
def _load_terms(const, at, nd):
    """Take the terms of a lane's node."""
    nd.backup = const[place(at, 0)]
    nd.ac_out = const[place(at, 1)]
    nd.ac_in = const[place(at, 2)]
    nd.p_self = const[place(at, 3)]
    nd.slope = const[place(at, 4)]
    nd.curve = const[place(at, 5)]
    nd.charge_p_self = const[place(at, 6)]
    nd.charge_slope = const[place(at, 7)]
    nd.charge_curve = const[place(at, 8)]
    nd.night = const[place(at, 9)]
    nd.grid_port = const[place(at, 10)]
    nd.backup_port = const[place(at, 11)]
    nd.pv_to_battery = const[place(at, 12)]
    nd.capacity = const[place(at, 13)]
    nd.full = const[place(at, 14)]
    nd.charge = const[place(at, 15)]
    nd.discharge = const[place(at, 16)]
    nd.eta_c = const[place(at, 17)]
    nd.eta_d = const[place(at, 18)]
    nd.auxiliary = const[place(at, 19)]
    nd.taper_from = const[place(at, 20)]
    nd.taper_slope = const[place(at, 21)]
    nd.give_per_wh = const[place(at, 22)]
    nd.wh_per_give = const[place(at, 23)]
    nd.take_per_wh = const[place(at, 24)]
    nd.wh_per_take = const[place(at, 25)]
    nd.take_turn = const[place(at, 26)]
    nd.give_turn = const[place(at, 27)]
    nd.hold = const[place(at, 28)]
    nd.charge_empty = const[place(at, 29)]
    nd.charge_more = const[place(at, 30)]
    nd.discharge_empty = const[place(at, 31)]
    nd.discharge_more = const[place(at, 32)]
    nd.take_square = const[place(at, 33)]
    nd.give_square = const[place(at, 34)]
    nd.store_self = const[place(at, 35)]
    nd.give_less = const[place(at, 36)]
    nd.spare_per_wh = const[place(at, 37)]
    nd.forms = const[place(at, 38)]


@inside
def _load_node(k, sunny, stride, const, t, pv_dc, bank, rule, table, v, nd, w):
    """Take a lane's node in step `t`: its terms, its energies, the slot in force and its PV, as it is scaled."""
    place_k, row = np.uint64(k), t if bank.shape[0] > 1 else 0
    own, energies, slot = (place_k * N_OWN, stride, v), (place_k * TWO, stride, v), (place_k * FOUR, stride, v)
    _load_terms(const, own, nd)
    w.energy, w.energy_pv = table[place(energies, 0)], table[place(energies, 1)]
    w.kind, w.floor = rule[place(slot, 0)], rule[place(slot, 1)]
    w.target, w.power = rule[place(slot, 2)], rule[place(slot, 3)]
    w.pv = pv_dc[t, k] * const[place(own, N_TERMS)] if len(sunny) > 0 else 0.0
    w.keep, w.charge_part, w.discharge_part, w.heat = bank[row, k, 0], bank[row, k, 1], bank[row, k, 2], bank[row, k, 3]
    w.car, w.car_pv, w.car_in, w.car_dc, w.busy = 0.0, 0.0, 0.0, 0.0, 0.0  # plans with cars on a DC side take no lanes


@inside
def _load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, nd, w):
    _load_node(FIRST, kinds[PV][0], stride, const, t, pv_dc, bank, rule, table, v, nd[0], w[0])
    if len(shape) > 1:
        _load_node(SECOND, kinds[PV][1], stride, const, t, pv_dc, bank, rule, table, v, nd[1], w[1])
    if len(shape) > 2:
        _load_node(THIRD, kinds[PV][2], stride, const, t, pv_dc, bank, rule, table, v, nd[2], w[2])
    if len(shape) > 3:
        _load_node(FOURTH, kinds[PV][3], stride, const, t, pv_dc, bank, rule, table, v, nd[3], w[3])


@inside
def _store_node(k, stride, ok, table, v, w):
    energies = np.uint64(k) * TWO, stride, v
    # Read before the choice: a load that hangs on it would keep the record in memory.
    before, before_pv = table[place(energies, 0)], table[place(energies, 1)]
    now, now_pv = w.energy, w.energy_pv
    table[place(energies, 0)] = now if ok else before
    table[place(energies, 1)] = now_pv if ok else before_pv


@inside
def _store_nodes(shape, stride, ok, table, v, w):
    _store_node(FIRST, stride, ok, table, v, w[0])
    if len(shape) > 1:
        _store_node(SECOND, stride, ok, table, v, w[1])
    if len(shape) > 2:
        _store_node(THIRD, stride, ok, table, v, w[2])
    if len(shape) > 3:
        _store_node(FOURTH, stride, ok, table, v, w[3])


@inside
def _go_on(k, stride, table, v, w):
    """Take who was on, and who followed the usual order, from the first pass."""
    at = ROW_ON + np.uint64(k) * TWO, stride, v
    w.on, w.usual = table[place(at, 0)], table[place(at, 1)]


@inside
def _keep_on(k, stride, table, v, w):
    at = ROW_ON + np.uint64(k) * TWO, stride, v
    table[place(at, 0)], table[place(at, 1)] = w.on, w.usual


@inside
def _lane(shape, kinds, sun, second, stride, p, t, pv_dc, bank, const, rule, table, nothing, v, nd, w, b):
    """One pass over one step of one lane: the first, or the `second` where the first asked for it."""
    _load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, nd, w)
    prepare_all(shape, kinds, nd, p, w, b)
    asked = True
    if second:
        asked = table[place((ROW_AGAIN, stride, v), 0)] > 0.0
        _go_on(FIRST, stride, table, v, w[0])
    more = one_pass(shape, kinds, sun, nd, p, w, b)
    ok = asked and not more
    if not second:
        _keep_on(FIRST, stride, table, v, w[0])
    finish_step(
        shape, kinds, (), ok, nd, p, 0, w, b, nothing, nothing, table, table, (ROW_SYSTEM, stride, v), (ROW_NODES, stride, v)
    )
    _store_nodes(shape, stride, ok, table, v, w)
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
    width = rules.shape[2]
    for t in range(first, last):
        sun = 0.0
        for k in range(n):
            sun += pv_dc[t, k]
            if t == first or codes[t, k] != codes[t - 1, k]:
                for i in range(width):
                    rule[k * width + i] = rules[k, codes[t, k], i]
        take_inputs(ac, t, b)
        if sun + b.in_pv_b + b.in_pv_g + b.pv_b_fixed + b.pv_g_fixed > 0.0:
            for v in range(lanes):
                _lane(shape, kinds, True, False, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
        else:
            for v in range(lanes):
                _lane(shape, kinds, False, False, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
        asked = 0.0
        for v in range(lanes):
            asked += table[place((ROW_AGAIN, stride, np.uint64(v)), 0)]
        if n == 1 and len(kinds[SLOTS]) > 0 and asked > FEW:
            for v in range(lanes):
                _lane(shape, kinds, True, True, stride, p, t, pv_dc, bank, const, rule, table, nothing, np.uint64(v), nd, w, b)
        if asked > 0.0:
            for i in range(lanes):
                v = np.uint64(i)
                if table[place((ROW_AGAIN, stride, v), 0)] > 0.0:
                    take_inputs(ac, t, b_alone)
                    _load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, alone, w_alone)
                    b_alone.groups = count_groups(shape, alone)
                    settle(shape, passes, alone, p, w_alone, b_alone)
                    finish_step(
                        shape, kinds, (), True, alone, p, 0, w_alone, b_alone, nothing, nothing, table, table,
                        (ROW_SYSTEM, stride, v), (ROW_NODES, stride, v),
                    )  # fmt: skip
                    _store_nodes(shape, stride, True, table, v, w_alone)
