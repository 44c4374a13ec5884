# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The thin loop of a year around the step."""

from __future__ import annotations

from calm_relay.simulation.kernel.jit import bus_table, compiled, terms_table, work_table
from calm_relay.simulation.kernel.rows import finish_step
from calm_relay.simulation.kernel.step import settle


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
    """Run steps `first` to `last` (not included); rows go to the series with `keep`, else all into their one row; summed always.

    `shape` is a tuple as long as there are nodes, `passes` the most passes over a step. `terms` (n,) TERMS_DTYPE, `rules` (n, s)
    RULE_DTYPE, `codes` (T, n) int8, `pv_dc` (T, n), `bank` (T or 1, n, BANK), `ac` (T, AC); `system` (T or 1, N_SYSTEM),
    `node_series` (T or 1, n, N_NODE). `energy`, `energy_pv` (n,) Wh are changed in place. Sums are of W over steps, energies
    excepted.
    """
    nd, w, b = terms_table(), work_table(), bus_table()
    for k in range(len(shape)):
        nd[k] = terms[k]
    for t in range(first, last):
        settle(shape, passes, nd, rules, plant, codes, pv_dc, bank, ac, t, energy, w, b)
        row = t if keep else 0
        finish_step(shape, nd, plant, ac, t, row, energy, energy_pv, w, b, system, node_series, sums, node_sums)
