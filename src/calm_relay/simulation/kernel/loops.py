# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""The thin loop of a year around the step."""

from __future__ import annotations

from calm_relay.simulation.columns import SYS_UNSERVED
from calm_relay.simulation.kernel.jit import bus_table, compiled, inside, plant_table, terms_table, work_table
from calm_relay.simulation.kernel.records import ALL_KINDS, ONE, ZERO
from calm_relay.simulation.kernel.rows import finish_step
from calm_relay.simulation.kernel.shares import count_groups
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
def add_rows(rows, steps, sums):
    """Add the first `steps` rows (steps, columns) to sums (columns,), one after the other: as lanes add, to the last bit."""
    for t in range(steps):
        for column in range(len(sums)):
            sums[column] += rows[t, column]


@compiled
def put_columns(rows, steps, sums, which, first, table, touched):
    """Put the columns `which` of rows (steps, all columns) into a table (columns, all steps), from step `first` on.

    `touched` (columns,) tells which of them hold anything, by the sums: those that never do are not written, so that they take no
    memory. Two threads tell it of one table, so it is only ever set: whoever wrote what it was would take back what the other has
    found, whose figures would then be left out.
    """
    columns = len(which)
    for i in range(columns):
        if sums[which[i]] != 0.0 and not touched[i]:
            touched[i] = True
    for begin in range(0, steps, 32):  # a few at a time: what is read is then still nearest to the processor
        for i in range(columns):
            if touched[i]:
                column = which[i]
                for t in range(begin, min(begin + 32, steps)):
                    table[i, first + t] = rows[t, column]


@compiled
def run_steps(
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
    last,
    energy,
    energy_pv,
    system,
    node_series,
    node_rows,
    sums,
    which,
    node_which,
    table,
    node_table,
    touched,
    node_touched,
):
    """Run steps `first` to `last` (not included), so many at a time as there are rows.

    `shape` is a tuple as long as there are nodes, `passes` the most passes over a step. `terms` (n,) TERMS_DTYPE, `rules` (n, s)
    RULE_DTYPE, `codes` (T, n) int8, `pv_dc` (T, n), `bank` (T or 1, n, BANK), `ac` (AC, T). Rows of `system` (rows, N_SYSTEM) and
    `node_series` (rows, n, N_NODE) are filled again and again; `node_rows` (rows, n · N_NODE) are the same rows. `sums` are two
    arrays that rows are added to, of W over steps, or none. Columns `which` and `node_which` of the rows go into tables (columns,
    T). `energy` and `energy_pv` (n,) Wh are changed in place.
    """
    w, b = work_table(), bus_table()
    terms_here, plants = terms_table(), plant_table()
    for k in range(len(shape)):
        terms_here[k] = terms[k]
    plants[0] = plant
    nd, p = (terms_here[0], terms_here[1], terms_here[2], terms_here[3]), plants[0]
    load_energies(shape, energy, energy_pv, w)
    b.groups = count_groups(shape, nd)
    at = ZERO, ONE, ZERO
    plan_sums, node_sums = sums
    for begin in range(first, last, system.shape[0]):
        end = min(begin + system.shape[0], last)
        for t in range(begin, end):
            take_inputs(ac, t, b)
            take_nodes_inputs(shape, rules, codes, pv_dc, bank, t, w)
            settle(shape, passes, nd, p, w, b)
            finish_step(shape, ALL_KINDS, (0,), True, nd, p, t - begin, w, b, system, node_series, energy, energy, at, at)
        if len(plan_sums) > 0:
            add_rows(system, end - begin, plan_sums)
            add_rows(node_rows, end - begin, node_sums)
        if len(which) > 0:
            put_columns(system, end - begin, plan_sums, which, begin, table, touched)
            put_columns(node_rows, end - begin, node_sums, node_which, begin, node_table, node_touched)
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
    system,
    node_series,
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
    b.groups = count_groups(shape, nd)
    at = ZERO, ONE, ZERO
    total, found, count = ac.shape[1], need, 0
    t = first
    for done in range(need):
        take_inputs(ac, t, b)
        take_nodes_inputs(shape, rules, codes, pv_dc, bank, t, w)
        settle(shape, passes, nd, p, w, b)
        finish_step(shape, ALL_KINDS, (0,), True, nd, p, 0, w, b, system, node_series, energy, energy, at, at)
        if system[0, SYS_UNSERVED] > NOT_SERVED_W:
            found = done
            break
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
    system,
    node_series,
):
    """Run `outlast` from each of `hours`, falling, with the energies `starts` (8760, n); `lasts` (8760,) is filled in."""
    energy, energy_pv = starts[0].copy(), starts[0].copy()
    for hour in hours:
        for k in range(len(shape)):
            energy[k] = starts[hour, k]
            energy_pv[k] = starts[hour, k]
        lasts[hour] = outlast(
            shape, passes, terms, rules, plant, codes, pv_dc, bank, ac, hour * per_hour, need, per_hour, energy, energy_pv, full,
            fails, alive, begins, lasts, met, system, node_series,
        )  # fmt: skip
