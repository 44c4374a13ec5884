"""Checks of battery against inverter in figures: chains, feeding and using, growth, the sheet's floors, DC current, sharing."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.rows import BatteryRow
from calm_relay.library.cards import BatterySideUnit, InverterCard
from calm_relay.rules.checks_battery import NO_CURRENT, battery_rows, swap_card, swap_edits, unit_of
from calm_relay.rules.checks_pairing import LIST, battery_remedy, modules_remedy
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.simulation import chain
from calm_relay.simulation.chain import Link
from calm_relay.simulation.sharing import branch_currents
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


@check(
    "battery.discharge-chain", "Discharge limit chain", page="plans", needs={"plan"}, short="Discharge chain",
    source="the lowest of module, bank and inverter against the AC rating; cards",
)  # fmt: skip
def discharge_chain(c: CheckContext) -> Iterator[Finding]:
    """What the AC rating takes in DC watts against the weakest link before it; the link is named."""
    for row in battery_rows(c):
        links = chain.discharge_chain(row.unit, row.battery, row.choice)
        if row.battery.discharge_max_a is None:
            yield unknown(c, "battery.discharge-chain", row.node.name, NO_CURRENT)
            continue
        need, least = links[-1].dc_w or 0.0, chain.weakest(links[:-1])
        assert least.dc_w is not None
        named = "; ".join(f"{link.name} {show(link.dc_w, 'power_w')} ({link.how})" for link in links[:-1] if link.dc_w is not None)
        line = (
            f"{show(row.unit.ac_rated_w, 'power_w')} at AC takes {show(need, 'power_w')} DC; weakest link: {least.name}, "
            f"{show(least.dc_w, 'power_w')}. {named}"
        )

        def carries(other: BatteryRow, watts: float = need) -> bool:
            found = chain.terminals_limit_w(chain.discharge_chain(other.unit, other.battery, other.choice))
            return found is not None and found >= watts

        yield finding(
            c, "battery.discharge-chain", row.node.name, "power_w", need, least.dc_w, "most", line, soft=True,
            remedies=modules_remedy(c, row, carries), cost=c.cost(f"discharge:{row.node.id}"),
        )  # fmt: skip


def battery_gives_w(row: BatteryRow) -> float | None:
    """Return what the battery alone can give at its terminals; None where its card does not say. [W]"""
    if row.battery.discharge_max_a is None:
        return None
    return chain.weakest(chain.battery_links(row.battery, row.choice, charging=False)).dc_w


@check(
    "battery.feeds", "Battery can feed the inverter", page="plans", needs={"plan"}, short="Feeds the inverter",
    source="the battery's own discharge limit against the inverter's need at its AC rating; cards",
)  # fmt: skip
def feeds(c: CheckContext) -> Iterator[Finding]:
    """An inverter bigger than its battery can feed: what the battery alone gives against what the AC rating takes."""
    for row in battery_rows(c):
        gives, need = battery_gives_w(row), row.unit.dc_w(row.unit.ac_rated_w)
        if gives is None:
            yield unknown(c, "battery.feeds", row.node.name, NO_CURRENT)
            continue
        line = (
            f"{count_words(row.choice.modules, 'module')} give {show(gives, 'power_w')} at the terminals; "
            f"{show(row.unit.ac_rated_w, 'power_w')} at AC takes {show(need, 'power_w')}"
        )

        def carries(other: BatteryRow, watts: float = need) -> bool:
            return (battery_gives_w(other) or 0.0) >= watts

        remedies = modules_remedy(c, row, carries)
        yield finding(c, "battery.feeds", row.node.name, "power_w", gives, need, "least", line, soft=True, remedies=remedies)


@check(
    "battery.used", "Inverter can use the battery", page="plans", needs={"plan"}, short="Uses the battery",
    source="the inverter's side of the discharge chain over the battery's; least share in the pack",
)  # fmt: skip
def used(c: CheckContext) -> Iterator[Finding]:
    """A battery that could deliver more than its inverter: the share of its power that the inverter takes."""
    limit = c.pack.value("battery_used_least")
    for row in battery_rows(c):
        gives = battery_gives_w(row)
        if gives is None:
            yield unknown(c, "battery.used", row.node.name, NO_CURRENT)
            continue
        takes = _takes(row.unit, row)
        assert takes.dc_w is not None
        value = min(1.0, takes.dc_w / gives)
        line = (
            f"{takes.name} takes {show(takes.dc_w, 'power_w')} of {show(gives, 'power_w')} that the battery could give = "
            f"{value * 100:.0f} %"
        )

        def takes_enough(card: InverterCard, r: BatteryRow = row, wanted: float = limit * gives) -> bool:
            return (_takes(unit_of(card), r).dc_w or 0.0) >= wanted

        best = swap_card(c, row.node, takes_enough, lambda card: card.ac_rated_w) if value < limit else None
        remedies = [] if best is None else [Remedy(best.name, swap_edits(c, row.node, best))]
        yield finding(c, "battery.used", row.node.name, "fraction", value, limit, "least", line, soft=True, remedies=remedies)


def _takes(unit: BatterySideUnit, row: BatteryRow) -> Link:
    """Return the link that decides what an inverter could take of the row's battery: its own limits and its AC rating."""
    links = chain.unit_links(unit, chain.stack_voltage_v(row.battery, row.choice.modules), charging=False)
    return chain.weakest([*links, chain.discharge_chain(unit, row.battery, row.choice)[-1]])


@check(
    "battery.growth", "Room for more battery modules", page="plans", needs={"plan"}, short="Growth left",
    source="the battery's card and the inverter's voltage window; modules wanted free are in the pack",
)  # fmt: skip
def growth(c: CheckContext) -> Iterator[Finding]:
    """Modules that can still be added before the card or the inverter's window ends it."""
    limit = c.pack.value("growth_modules_least")
    for row in battery_rows(c):
        low, _ = chain.soc_window(row.battery, row.choice)
        n = row.choice.modules
        most = chain.most_modules(row.unit, row.battery, n, low)
        ends = "its card ends it" if most >= row.battery.modules_max else "the inverter's window ends it"
        left = most - n
        yield finding(
            c, "battery.growth", row.node.name, "count", float(left), limit, "least",
            f"{n} of at most {count_words(most, 'module')}: {left} more can be added, {ends}", soft=True, tight=LIST,
        )  # fmt: skip


@check(
    "battery.sheet-round-trip", "Round trip on the sheet", page="plans", needs={"plan"}, short="Sheet round trip",
    source="what practitioners ask of a battery, common practice; the card's own figure at its own ends",
)  # fmt: skip
def sheet_round_trip(c: CheckContext) -> Iterator[Finding]:
    """The battery's DC round trip against the trade's floor."""
    limit = c.pack.value("battery_round_trip_least")
    for row in battery_rows(c):
        value = row.battery.dc_round_trip_frac
        line = f"{value * 100:.1f} % from terminals to terminals at the card's rate; asked for: {limit * 100:.0f} %"
        remedies = battery_remedy(c, row, lambda other: other.battery.dc_round_trip_frac >= limit) if value < limit else []
        yield finding(
            c, "battery.sheet-round-trip", row.node.name, "fraction", value, limit, "least", line, soft=True, remedies=remedies
        )


@check(
    "battery.sheet-depth", "Usable depth on the sheet", page="plans", needs={"plan"}, short="Sheet depth",
    source="what practitioners ask of a battery, common practice; the card's own window",
)  # fmt: skip
def sheet_depth(c: CheckContext) -> Iterator[Finding]:
    """The share of the capacity that the card lets be used, against the trade's floor."""
    limit = c.pack.value("battery_depth_least")
    for row in battery_rows(c):
        value = row.battery.soc_max_frac - row.battery.soc_min_frac
        line = (
            f"{row.battery.soc_min_frac * 100:.0f} to {row.battery.soc_max_frac * 100:.0f} % = {value * 100:.0f} % of the capacity"
        )
        deep = battery_remedy(c, row, lambda o: o.battery.soc_max_frac - o.battery.soc_min_frac >= limit) if value < limit else []
        yield finding(c, "battery.sheet-depth", row.node.name, "fraction", value, limit, "least", line, soft=True, remedies=deep)


@check(
    "battery.dc-current", "DC current at the lowest volts", page="plans", needs={"plan"}, short="DC current",
    source="AC rating over inverter efficiency over the bank's lowest working volts; cards",
)  # fmt: skip
def dc_current(c: CheckContext) -> Iterator[Finding]:
    """Amps at full power and the lowest charge in use, against what battery and inverter carry."""
    for row in battery_rows(c):
        if row.battery.discharge_max_a is None:
            yield unknown(c, "battery.dc-current", row.node.name, NO_CURRENT)
            continue
        value, limit = full_power_a(row), min(_limits_a(row))
        low, _ = chain.soc_window(row.battery, row.choice)
        volts = chain.stack_volts(row.battery, row.choice.modules, low).floor_v
        lug = row.unit.battery_lug_max_mm2
        line = (
            f"{show(row.unit.dc_w(row.unit.ac_rated_w), 'power_w')} DC ÷ {volts:.1f} V at {low * 100:.0f} % = {value:.1f} A; "
            f"cable and fuse carry 1.25 × that, {1.25 * value:.1f} A"
        )
        line += f"; the inverter's terminals take up to {lug:g} mm²" if lug is not None else ""
        remedies = modules_remedy(c, row, lambda o: full_power_a(o) <= min(_limits_a(o), default=0.0))
        yield finding(c, "battery.dc-current", row.node.name, "current_a", value, limit, "most", line, soft=True, remedies=remedies)


def full_power_a(row: BatteryRow) -> float:
    """Return the amps at full AC power and the lowest charge in use. [A]"""
    low, _ = chain.soc_window(row.battery, row.choice)
    return row.unit.dc_w(row.unit.ac_rated_w) / chain.stack_volts(row.battery, row.choice.modules, low).floor_v


def _limits_a(row: BatteryRow) -> list[float]:
    known = (row.unit.discharge_max_a, chain.bank_amps(row.battery, row.choice, row.battery.discharge_max_a))
    return [a for a in known if a is not None]


@check(
    "battery.sharing", "Batteries in parallel share alike", page="plans", needs={"plan"}, short="Parallel sharing",
    source="the program's definitions, D20: branches by resistance; cards and leads",
)  # fmt: skip
def sharing(c: CheckContext) -> Iterator[Finding]:
    """The current of the branch that takes most, at what the inverter asks, against its module's own limit."""
    for row in battery_rows(c):
        n, limit = row.choice.modules, row.battery.discharge_max_a
        if row.battery.stacking != "parallel" or n < 2:
            continue
        if limit is None:
            yield unknown(c, "battery.sharing", row.node.name, NO_CURRENT)
            continue
        if row.choice.leads_ohm and len(row.choice.leads_ohm) != n:
            yield unknown(
                c, "battery.sharing", row.node.name, f"the leads of {len(row.choice.leads_ohm)} of {n} branches are typed: type all"
            )
            continue
        ohms = chain.branch_ohms(row.battery, row.choice)
        if ohms is None and row.choice.leads_ohm:
            yield unknown(
                c, "battery.sharing", row.node.name, "the card does not say a module's internal resistance: see the data sheet"
            )
            continue
        asked = min([full_power_a(row), *([row.unit.discharge_max_a] if row.unit.discharge_max_a is not None else [])])
        currents = branch_currents([0.0] * n, ohms or (1.0,) * n, asked)
        value = float(currents.max())
        how = "by resistance and leads" if row.choice.leads_ohm else "leads alike (assumed)"
        line = f"{asked:.1f} A over {n} branches, {how}: from {currents.min():.1f} to {value:.1f} A; a module carries {limit:g} A"
        remedies = []
        if row.choice.leads_ohm:
            remedies.append(
                Remedy(
                    "leads of like length and size to every branch", (Edit(c.path(f"nodes[{row.node.id}].battery.leads_ohm"), []),)
                )
            )

        def shares(other: BatteryRow, amps: float = asked, most: float = limit) -> bool:
            return amps / other.choice.modules <= most

        remedies = [r for r in remedies if asked / n <= limit] + modules_remedy(c, row, shares)
        yield finding(
            c, "battery.sharing", row.node.name, "current_a", value, limit, "most", line,
            remedies=[*remedies, Remedy("a smaller inverter, or a discharge limit set on it")],
        )  # fmt: skip
