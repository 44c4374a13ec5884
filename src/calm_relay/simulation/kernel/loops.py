# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The thin loop of a year around the step."""

from __future__ import annotations

from calm_relay.simulation.kernel.jit import bus_table, compiled, inside, plant_table, terms_table, work_table
from calm_relay.simulation.kernel.records import ONE, ZERO
from calm_relay.simulation.kernel.rows import finish_step
from calm_relay.simulation.kernel.step import settle, take_inputs, take_nodes_inputs


@inside
def load_energies(shape, energy, energy_pv, w):
    """Take each node's energy and its PV part into its work."""
    n = len(shape)
    if n > 0:
        w[0].energy, w[0].energy_pv = energy[0], energy_pv[0]
    if n > 1:
        w[1].energy, w[1].energy_pv = energy[1], energy_pv[1]
    if n > 2:
        w[2].energy, w[2].energy_pv = energy[2], energy_pv[2]
    if n > 3:
        w[3].energy, w[3].energy_pv = energy[3], energy_pv[3]


@inside
def store_energies(shape, energy, energy_pv, w):
    """Give each node's energy and its PV part back."""
    n = len(shape)
    if n > 0:
        energy[0], energy_pv[0] = w[0].energy, w[0].energy_pv
    if n > 1:
        energy[1], energy_pv[1] = w[1].energy, w[1].energy_pv
    if n > 2:
        energy[2], energy_pv[2] = w[2].energy, w[2].energy_pv
    if n > 3:
        energy[3], energy_pv[3] = w[3].energy, w[3].energy_pv


@compiled
def run_steps(
    shape,
    passes,
    keep,
    terms,
    rules,
    plant,
    codes,
    pv_dc,
    bank,
    ac,
    first,
    last,
    energy,
    energy_pv,
    system,
    node_series,
    sums,
    node_sums,
):
    """Run steps `first` to `last` (not included); with `keep` each has its row of the series, else all share one; summed always.

    `shape` is a tuple as long as there are nodes, `passes` the most passes over a step. `terms` (n,) TERMS_DTYPE, `rules` (n, s)
    RULE_DTYPE, `codes` (T, n) int8, `pv_dc` (T, n), `bank` (T or 1, n, BANK), `ac` (T, AC); `system` (steps or 1,
    N_SYSTEM) and `node_series` (steps or 1, n, N_NODE) begin with step `first`. `node_sums` (n · N_NODE,). `energy` and
    `energy_pv` (n,) Wh are changed in place. Sums are of W over steps, energies excepted.
    """
    w, b = work_table(), bus_table()
    table, plants = terms_table(), plant_table()
    for k in range(len(shape)):
        table[k] = terms[k]
    plants[0] = plant
    nd, p = (table[0], table[1], table[2], table[3]), plants[0]
    load_energies(shape, energy, energy_pv, w)
    at = ZERO, ONE, ZERO
    for t in range(first, last):
        take_inputs(ac, t, b)
        take_nodes_inputs(shape, rules, codes, pv_dc, bank, t, w)
        settle(shape, passes, nd, p, w, b)
        row = t - first if keep else 0
        finish_step(shape, (0,), True, nd, p, row, w, b, system, node_series, sums, node_sums, at, at)
    store_energies(shape, energy, energy_pv, w)


@compiled
def put_columns(rows, first, table, touched):
    """Put rows (steps, columns) into columns (columns, all steps), from step `first` on.

    `touched` (columns,) tells which columns hold anything: those that never do are not written, so that they take no memory.
    """
    steps, columns = rows.shape
    for t in range(steps):
        for column in range(columns):
            if rows[t, column] != 0.0:
                touched[column] = True
    for begin in range(0, steps, 32):  # a few at a time: what is read is then still nearest to the processor
        for column in range(columns):
            if touched[column]:
                for t in range(begin, min(begin + 32, steps)):
                    table[column, first + t] = rows[t, column]
