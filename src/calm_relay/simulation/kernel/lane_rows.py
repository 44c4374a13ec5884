# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""What a lane reads and leaves, in tables lane by lane: terms, energies, slots, and between two passes over a step who is on."""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.kernel.jit import inside
from calm_relay.simulation.kernel.records import (
    CHARGE_FROM_GRID,
    DISCHARGE_TO_GRID,
    FIRST,
    FOURTH,
    MOST_NODES,
    PV,
    SECOND,
    TERMS_DTYPE,
    THIRD,
    TIMER,
)
from calm_relay.simulation.kernel.rows import place

# Lanes of one block, for one node, for two and for more: constants, so that rows of the table are known to lie apart. As many as
# a processor's nearest cache holds; a vector has eight at most.
LANES_ONE, LANES_TWO, LANES_MORE, VECTOR = np.uint64(32), np.uint64(16), np.uint64(8), 8
N_SYSTEM, N_NODE, N_TERMS = len(SYSTEM), len(NODE), len(TERMS_DTYPE.names or ())
# Rows of the table of a block: energies, each node's on and usual order as the last pass left them, whether a lane asks for one
# more, sums of the plan, sums of each node.
ROW_ON, ROW_AGAIN = np.uint64(2 * MOST_NODES), np.uint64(4 * MOST_NODES)
ROW_SYSTEM, ROW_NODES = np.uint64(4 * MOST_NODES + 1), np.uint64(4 * MOST_NODES + 1 + N_SYSTEM)
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
def load_nodes(shape, kinds, stride, const, t, pv_dc, bank, rule, table, v, nd, w):
    """Fill the terms and the work of a lane's nodes with what step `t` gives them."""
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
def store_nodes(shape, stride, ok, table, v, w):
    """Put the lane's energies after the step into the table, where `ok`."""
    _store_node(FIRST, stride, ok, table, v, w[0])
    if len(shape) > 1:
        _store_node(SECOND, stride, ok, table, v, w[1])
    if len(shape) > 2:
        _store_node(THIRD, stride, ok, table, v, w[2])
    if len(shape) > 3:
        _store_node(FOURTH, stride, ok, table, v, w[3])


@inside
def begin(shape, stride, table, v):
    """Let the lane ask for a pass over the step, with no node on yet."""
    table[place((ROW_AGAIN, stride, v), 0)] = 1.0
    for row in range(2 * len(shape)):
        table[place((ROW_ON, stride, v), row)] = 0.0


@inside
def count_asking(lanes, stride, table):
    """Return how many lanes ask for one more pass. [number]"""
    asking = 0.0
    for v in range(lanes):
        asking += table[place((ROW_AGAIN, stride, np.uint64(v)), 0)]
    return asking


@inside
def _go_on(k, stride, table, v, w):
    at = ROW_ON + np.uint64(k) * TWO, stride, v
    w.on, w.usual = table[place(at, 0)], table[place(at, 1)]


@inside
def go_on(shape, stride, table, v, w):
    """Take which nodes are on, and follow the usual order, from the pass before."""
    _go_on(FIRST, stride, table, v, w[0])
    if len(shape) > 1:
        _go_on(SECOND, stride, table, v, w[1])
    if len(shape) > 2:
        _go_on(THIRD, stride, table, v, w[2])
    if len(shape) > 3:
        _go_on(FOURTH, stride, table, v, w[3])


@inside
def _keep_on(k, stride, table, v, w):
    at = ROW_ON + np.uint64(k) * TWO, stride, v
    table[place(at, 0)], table[place(at, 1)] = w.on, w.usual


@inside
def keep_on(shape, stride, table, v, w):
    """Put down which nodes are on, and follow the usual order, for the next pass."""
    _keep_on(FIRST, stride, table, v, w[0])
    if len(shape) > 1:
        _keep_on(SECOND, stride, table, v, w[1])
    if len(shape) > 2:
        _keep_on(THIRD, stride, table, v, w[2])
    if len(shape) > 3:
        _keep_on(FOURTH, stride, table, v, w[3])


@inside
def trades(shape, lanes, stride, rule):
    """Return whether a slot in force, of any lane, charges from the grid or discharges to it. [bool]"""
    found = False
    for k in range(len(shape)):
        for v in range(lanes):
            kind = rule[place((np.uint64(k) * FOUR, stride, np.uint64(v)), 0)]
            found = found or kind == CHARGE_FROM_GRID or kind == TIMER or kind == DISCHARGE_TO_GRID
    return found
