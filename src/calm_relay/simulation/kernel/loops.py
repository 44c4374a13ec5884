# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The thin loop of a year around the step."""

from __future__ import annotations

from calm_relay.simulation.columns import SYS_UNSERVED
from calm_relay.simulation.kernel.jit import bus_table, compiled, inside, plant_table, terms_table, work_table
from calm_relay.simulation.kernel.records import ONE, ZERO
from calm_relay.simulation.kernel.rows import finish_step
from calm_relay.simulation.kernel.step import settle, take_inputs, take_nodes_inputs

ENDLESS = 2**61
NOT_SERVED_W = 1e-3  # less is rounding


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
def outlast(
    shape,
    passes,
    terms,
    rules,
    plant,
    codes,
    pv_dc,
    bank,
    ac,
    first,
    need,
    per_hour,
    energy,
    energy_pv,
    full,
    fails,
    alive,
    begins,
    lasts,
    met,
    nothing,
    nothing_nodes,
    sums,
    node_sums,
):
    """Run an island from step `first` on, the year wrapping round; returns the steps until house is not served, or `need`.

    `fails` (T,) holds for each step how long an island lasts that begins it with a full bank (`ENDLESS`: at least as long as
    `alive` says, which is -1 where nothing is known); a way that meets such a step ends there. `full` (n,) are the energies taken
    as full. With one node, whose energy orders its ways, `begins` (hours,) and `lasts` (hours,) of starts that were run tell that
    a way which comes to that hour with no less energy lasts no less. `met` (need,) is room for the steps met with a full bank.
    """
    w, b = work_table(), bus_table()
    table, plants = terms_table(), plant_table()
    for k in range(len(shape)):
        table[k] = terms[k]
    plants[0] = plant
    nd, p = (table[0], table[1], table[2], table[3]), plants[0]
    load_energies(shape, energy, energy_pv, w)
    at = ZERO, ONE, ZERO
    total, found, count = ac.shape[0], need, 0
    t = first
    for done in range(need):
        take_inputs(ac, t, b)
        take_nodes_inputs(shape, rules, codes, pv_dc, bank, t, w)
        settle(shape, passes, nd, p, w, b)
        before = sums[SYS_UNSERVED]
        finish_step(shape, (), True, nd, p, 0, w, b, nothing, nothing_nodes, sums, node_sums, at, at)
        if sums[SYS_UNSERVED] - before > NOT_SERVED_W:
            found = done
            break
        sums[SYS_UNSERVED] = 0.0
        t += 1
        if t == total:
            t = 0
        topped = w[0].energy >= full[0]
        if len(shape) > 1:
            topped = topped and w[1].energy >= full[1]
        if topped:
            left = need - done - 1
            if alive[t] >= 0 and (fails[t] < ENDLESS or alive[t] >= left):
                found = min(need, done + 1 + fails[t]) if fails[t] < ENDLESS else need
                break
            met[count] = done + 1
            count += 1
        if len(shape) == 1 and t % per_hour == 0:
            hour = t // per_hour
            if lasts[hour] >= need - done - 1 and w[0].energy >= begins[hour]:
                found = need
                break
    for i in range(count):
        place = first + met[i]
        if place >= total:
            place -= total
        if found < need:
            fails[place] = found - met[i]
        else:
            fails[place] = ENDLESS
        alive[place] = need - met[i]
    return found


@compiled
def outlast_many(
    shape,
    passes,
    terms,
    rules,
    plant,
    codes,
    pv_dc,
    bank,
    ac,
    hours,
    need,
    per_hour,
    starts,
    full,
    fails,
    alive,
    begins,
    lasts,
    met,
    nothing,
    nothing_nodes,
    sums,
    node_sums,
):
    """Run `outlast` from each of `hours`, falling, with the energies `starts` (8760, n); `lasts` (8760,) is filled in."""
    energy, energy_pv = starts[0].copy(), starts[0].copy()
    for hour in hours:
        for k in range(len(shape)):
            energy[k] = starts[hour, k]
            energy_pv[k] = starts[hour, k]
        lasts[hour] = outlast(
            shape, passes, terms, rules, plant, codes, pv_dc, bank, ac, hour * per_hour, need, per_hour, energy, energy_pv, full,
            fails, alive, begins, lasts, met, nothing, nothing_nodes, sums, node_sums,
        )  # fmt: skip


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
