"""Checks of cables, their breakers, the volts at the inverters and the busbar with two sources."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.plant.runs import TO_SUPPLY, Rise, RunRow, rises, run_rows, table_of
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.rules.runs_dc import flexible, string_run_rows
from calm_relay.wiring.sums import breaker_for, busbar_rules, most_breaker_a


def run_path(c: CheckContext, row: RunRow, field: str) -> str:
    """Return the path of a figure of a run: of the supply's, of an inverter's own, or of the old circuit that it uses again."""
    if row.id == TO_SUPPLY:
        return f"site.supply_run.{field}"
    reused = c.plan.node(row.id).reuses
    return c.path(f"nodes[{row.id}].run.{field}") if reused is None else f"site.circuits[{reused}].run.{field}"


def breaker_sizes(c: CheckContext) -> tuple[float, ...]:
    """Return the pack's standard breakers. [A]"""
    return tuple(float(size) for size in c.pack.items("breaker_sizes_a"))


@check(
    "cable.ampacity", "Cable carries its current", page="plans", needs={"plan"}, short="Cable",
    source="the pack's table of conductors, corrected for air and grouping; aids for planning, the electrician designs",
)  # fmt: skip
def ampacity(c: CheckContext) -> Iterator[Finding]:
    """The most that flows in each run, with the pack's continuous-duty factor, against what its size carries where it lies."""
    table = table_of(c.pack)
    for row in run_rows(c.plant, c.pack):
        if row.held is None or row.run is None:
            continue
        line = f"{row.amps:.1f} A × {c.pack.value('continuous_factor'):g} = {row.design_a:.1f} A; {row.held.words} ({table.name})"
        fit = row.carrying(table)
        remedies = [Remedy(f"{fit[0].name} instead", (Edit(run_path(c, row, "size"), fit[0].name),))] if fit else []
        remedies.append(Remedy("a larger size, cooler air, or cables apart"))
        source = f"{table.source}; the electrician designs"
        yield finding(
            c, "cable.ampacity", row.name, "current_a", row.design_a, row.held.amps, "most", line, remedies=remedies, source=source
        )


@check(
    "cable.breaker", "Breaker between current and cable", page="plans", needs={"plan"}, short="Breaker",
    source="Ib ≤ In ≤ Iz, IEC 60364-4-43 and NEC 240.4, from memory; the pack's standard sizes",
)  # fmt: skip
def breaker(c: CheckContext) -> Iterator[Finding]:
    """Each run's breaker: no less than what flows, no more than its cable carries; small conductors by their own cap."""
    table, sizes = table_of(c.pack), breaker_sizes(c)
    for row in run_rows(c.plant, c.pack):
        if row.run is None or row.held is None or row.run.protected_a is None:
            continue
        amps, most = row.run.protected_a, most_breaker_a(table, row.run.size, row.held.amps, sizes) or 0.0
        best = breaker_for(row.design_a, sizes)
        edits = (Edit(run_path(c, row, "protected_a"), best),) if best is not None and best <= most else ()
        words = f"a breaker of {best:g} A" if edits else "a larger size with its breaker"
        if amps < row.design_a:
            line = f"a breaker of {amps:g} A against {row.design_a:.1f} A that flow"
            yield finding(
                c, "cable.breaker", row.name, "current_a", amps, row.design_a, "least", line, remedies=[Remedy(words, edits)]
            )
        else:
            line = f"a breaker of {amps:g} A; {row.run.size} is protected by at most {most:g} A: {row.held.words}"
            yield finding(c, "cable.breaker", row.name, "current_a", amps, most, "most", line, remedies=[Remedy(words, edits)])


def _wider(c: CheckContext, row: RunRow, rise: Rise, most_v: float) -> list[Remedy]:
    """Return the smallest size to the board with which the whole rise is at most so much; nothing where none does it. [V]"""
    fit = row.within(table_of(c.pack), most_v - (rise.volts_v - (row.change_v or 0.0)))
    return [Remedy(f"{fit[0].name} to the board", (Edit(run_path(c, row, "size"), fit[0].name),))] if fit else []


@check(
    "cable.rise", "Voltage rise to the supply", page="plans", needs={"grid", "plan"}, short="Voltage rise",
    source="each run at its current, copper as hot as its table allows (definitions D21); the pack's limit",
)  # fmt: skip
def rise(c: CheckContext) -> Iterator[Finding]:
    """The rise from the supply terminals to each inverter, as a share of the nominal volts, against the pack's limit."""
    rows = run_rows(c.plant, c.pack)
    if len(rows) < 2:
        return
    limit = c.pack.value("rise_most_frac")
    found = rises(rows)
    missing = [row.missing for row in rows if row.missing]
    if missing:
        yield unknown(c, "cable.rise", "runs", f"{'; '.join(missing)}: measure on site")
    for one in found:
        row = next(r for r in rows if r.name == one.name)
        remedies = [*_wider(c, row, one, limit * one.volts), Remedy("larger sizes, a shorter way, or less power")]
        yield finding(
            c, "cable.rise", row.name, "fraction", one.frac, limit, "most", one.words, soft=True, remedies=remedies,
            source=c.pack.source("rise_most_frac"),
        )  # fmt: skip


@check(
    "cable.volts", "Volts at the inverter on the worst noon", page="plans", needs={"grid", "plan"}, short="Volts at noon",
    source="highest volts measured at the supply plus the rise (definitions D21); the pack's sustained limit",
)  # fmt: skip
def volts(c: CheckContext) -> Iterator[Finding]:
    """The highest no-load volts at the supply plus the rise to each inverter, against the sustained limit."""
    rows = run_rows(c.plant, c.pack)
    found, highest = rises(rows), c.job.site.board.highest_supply_v
    if not found:
        return
    limit = c.pack.value("sustained_volts_most_v")
    if highest is None:
        yield unknown(c, "cable.volts", "supply", "the highest volts at the supply with little load: measure on site")
        return
    for one in found:
        row = next(r for r in rows if r.name == one.name)
        lines = 3.0**0.5 if row.way == "three" else 1.0  # measured against the neutral
        at_noon = highest + one.volts_v / lines
        line = f"{highest:g} V measured + {one.words} = {at_noon:.1f} V at the inverter"
        remedies = [
            *_wider(c, row, one, lines * (limit - highest)),
            Remedy("larger sizes, less export, or ask the network to lower its volts"),
        ]  # fmt: skip
        yield finding(
            c, "cable.volts", row.name, "voltage_v", at_noon, limit, "most", line, remedies=remedies,
            source=c.pack.source("sustained_volts_most_v"),
        )  # fmt: skip


@check(
    "service.busbar", "Busbar with two sources", page="tariff", needs={"grid", "plan"}, short="Busbar",
    source="the pack's rules for a busbar fed by main and inverters; one that passes is enough",
)  # fmt: skip
def busbar(c: CheckContext) -> Iterator[Finding]:
    """Main breaker and inverters on the board's busbar by each rule of the pack; the one with most room counts."""
    board, names = c.job.site.board, tuple(str(name) for name in c.pack.items("busbar_rules"))
    rows = [row for row in run_rows(c.plant, c.pack) if row.id != TO_SUPPLY]
    if not rows:
        return
    if board.busbar_a is None or board.main_breaker_a is None:
        if "far_end" in names:
            yield unknown(c, "service.busbar", "board", "busbar and main breaker: read them on the board")
        return
    amps = sum(row.amps for row in rows)
    factor = c.pack.value("continuous_factor")
    far_end = c.pack.get("busbar_far_end_factor") or 1.2
    found = busbar_rules(names, board.busbar_a, board.main_breaker_a, amps, board.breakers_a, factor=factor, far_end=far_end)
    if not found:
        return
    best = max(found, key=lambda rule: (rule.limit_a - rule.value_a) / rule.limit_a)
    others = "; ".join(f"{rule.name}: {rule.words}, {'within' if rule.passes else 'over'}" for rule in found if rule is not best)
    line = f"{best.name}: {best.words}" + (f"; {others}" if others else "")
    room = best.limit_a - factor * amps if best.id in ("plain", "far_end") else best.limit_a - amps
    smaller = max((size for size in breaker_sizes(c) if size <= room), default=None)
    remedies = []
    if smaller is not None and best.id != "sum_of_breakers":
        edit = Edit("site.board.main_breaker_a", smaller)
        remedies.append(Remedy(f"a main breaker of {smaller:g} A, where the load calculation allows it", (edit,)))
    remedies.append(Remedy("a larger busbar, a supply-side connection, or inverters held by their control"))
    yield finding(
        c, "service.busbar", "board", "current_a", best.value_a, best.limit_a, "most", line, remedies=remedies,
        source=c.pack.list_["busbar_rules"][1],
    )  # fmt: skip


@check(
    "cable.strings", "String cable carries its current", page="site", needs={"plan"}, short="String cable",
    source="short-circuit current of one string by the pack's factors; class 5 cable of the tables in force",
)  # fmt: skip
def strings(c: CheckContext) -> Iterator[Finding]:
    """One string's short-circuit current by the pack's factors against what its cable carries where it lies."""
    factor = c.pack.value("short_circuit_factor") * c.pack.value("continuous_factor")
    table = flexible(c.pack)
    for row in string_run_rows(c.job, c.plant, c.pack):
        if row.run is None or row.held is None:
            continue
        at = c.path(f"nodes[{row.id.partition(':')[0]}].string_run.size")
        line = f"{row.design_a / factor:.2f} A × {factor:g} = {row.design_a:.1f} A; {row.held.words}"
        fit = row.carrying(table)
        remedies = [Remedy(f"{fit[0].name} instead", (Edit(at, fit[0].name),))] if fit else []
        yield finding(
            c, "cable.strings", row.name, "current_a", row.design_a, row.held.amps, "most", line, source=table.source,
            remedies=[*remedies, Remedy("a larger size, cooler air, or cables apart")],
        )  # fmt: skip


@check(
    "cable.strings-drop", "Volts lost on the string cable", page="site", needs={"plan"}, short="String cable drop",
    source="2·I·R·L of one string at its working current on its working volts; the pack's limit",
)  # fmt: skip
def strings_drop(c: CheckContext) -> Iterator[Finding]:
    """Volts along the cable of one string as a share of its working volts."""
    limit, table = c.pack.value("dc_drop_most_frac"), flexible(c.pack)
    for row in string_run_rows(c.job, c.plant, c.pack):
        if row.run is None or row.held is None:
            continue
        if row.change_v is None or row.run.length_m is None:
            yield unknown(c, "cable.strings-drop", row.name, "the length of the string cable: measure on the roof")
            continue
        length, at = row.run.length_m, c.path(f"nodes[{row.id.partition(':')[0]}].string_run.size")
        fit = row.within(table, limit * row.volts)
        remedies = [Remedy(f"{fit[0].name} instead", (Edit(at, fit[0].name),))] if fit else []
        each = 1000 * table.ohm_per_m(row.held.conductor)
        line = f"2 × {row.amps:.2f} A × {each:.3f} mΩ/m × {length:g} m = {row.change_v:.2f} of {row.volts:.1f} V"
        yield finding(
            c, "cable.strings-drop", row.name, "fraction", row.change_v / row.volts, limit, "most", line, soft=True,
            remedies=[*remedies, Remedy("a shorter way or a larger size")], source=c.pack.source("dc_drop_most_frac"),
        )  # fmt: skip
