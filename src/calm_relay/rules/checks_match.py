"""Checks of battery against inverter in figures: chains, feeding and using, growth, the sheet's floors, DC current, sharing."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.library.cards import InverterCard
from calm_relay.plant import chain
from calm_relay.plant.chain import Link, full_power_a
from calm_relay.plant.sharing import branch_currents
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.unit import Unit, unit_of
from calm_relay.rules.checks_battery import NO_CURRENT, swap_card, swap_edits
from calm_relay.rules.checks_pairing import LIST, battery_remedy, modules_remedy
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


@check(
    "battery.discharge-chain", "Discharge limit chain", page="plans", needs={"plan"}, short="Discharge chain",
    source="the lowest of module, bank and inverter against the AC rating; cards",
)  # fmt: skip
def discharge_chain(c: CheckContext) -> Iterator[Finding]:
    """What the AC rating takes in DC watts against the weakest link before it; the link is named."""
    for row in c.plant.banked:
        links = chain.discharge_chain(row.unit, row.bank)
        if row.bank.cells.discharge_max_a is None:
            yield unknown(c, "battery.discharge-chain", row.station.name, NO_CURRENT)
            continue
        need, least = links[-1].dc_w or 0.0, chain.weakest(links[:-1])
        assert least.dc_w is not None
        named = "; ".join(f"{link.name} {show(link.dc_w, 'power_w')} ({link.how})" for link in links[:-1] if link.dc_w is not None)
        line = (
            f"{show(row.unit.ac_rated_w, 'power_w')} at AC takes {show(need, 'power_w')} DC; weakest link: {least.name}, "
            f"{show(least.dc_w, 'power_w')}. {named}"
        )

        def carries(other: BatteryRow, watts: float = need) -> bool:
            found = chain.terminals_limit_w(chain.discharge_chain(other.unit, other.bank))
            return found is not None and found >= watts

        yield finding(
            c, "battery.discharge-chain", row.station.name, "power_w", need, least.dc_w, "most", line, soft=True,
            remedies=modules_remedy(c, row, carries), cost=c.cost(f"discharge:{row.station.id}"),
        )  # fmt: skip


def battery_gives_w(row: BatteryRow) -> float | None:
    """Return what the battery alone can give at its terminals; None where its card does not say. [W]"""
    if row.bank.cells.discharge_max_a is None:
        return None
    return chain.weakest(chain.battery_links(row.bank, charging=False)).dc_w


@check(
    "battery.feeds", "Battery can feed the inverter", page="plans", needs={"plan"}, short="Feeds the inverter",
    source="the battery's own discharge limit against the inverter's need at its AC rating; cards",
)  # fmt: skip
def feeds(c: CheckContext) -> Iterator[Finding]:
    """An inverter bigger than its battery can feed: what the battery alone gives against what the AC rating takes."""
    for row in c.plant.banked:
        gives, need = battery_gives_w(row), row.unit.dc_w(row.unit.ac_rated_w)
        if gives is None:
            yield unknown(c, "battery.feeds", row.station.name, NO_CURRENT)
            continue
        line = (
            f"{count_words(row.bank.modules, 'module')} give {show(gives, 'power_w')} at the terminals; "
            f"{show(row.unit.ac_rated_w, 'power_w')} at AC takes {show(need, 'power_w')}"
        )

        def carries(other: BatteryRow, watts: float = need) -> bool:
            return (battery_gives_w(other) or 0.0) >= watts

        remedies = modules_remedy(c, row, carries)
        yield finding(c, "battery.feeds", row.station.name, "power_w", gives, need, "least", line, soft=True, remedies=remedies)


@check(
    "battery.used", "Inverter can use the battery", page="plans", needs={"plan"}, short="Uses the battery",
    source="the inverter's side of the discharge chain over the battery's; least share in the pack",
)  # fmt: skip
def used(c: CheckContext) -> Iterator[Finding]:
    """A battery that could deliver more than its inverter: the share of its power that the inverter takes."""
    limit = c.pack.value("battery_used_least")
    for row in c.plant.banked:
        gives = battery_gives_w(row)
        if gives is None:
            yield unknown(c, "battery.used", row.station.name, NO_CURRENT)
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

        best = swap_card(c, row.station, takes_enough, lambda card: card.ac_rated_w) if value < limit else None
        remedies = [] if best is None else [Remedy(best.name, swap_edits(c, row.station, best))]
        yield finding(c, "battery.used", row.station.name, "fraction", value, limit, "least", line, soft=True, remedies=remedies)


def _takes(unit: Unit, row: BatteryRow) -> Link:
    """Return the link that decides what an inverter could take of the row's battery: its own limits and its AC rating."""
    links = chain.unit_links(unit, chain.stack_voltage_v(row.bank), charging=False)
    return chain.weakest([*links, chain.discharge_chain(unit, row.bank)[-1]])


@check(
    "battery.growth", "Room for more battery modules", page="plans", needs={"plan"}, short="Growth left",
    source="the battery's card and the inverter's voltage window; modules wanted free are in the pack",
)  # fmt: skip
def growth(c: CheckContext) -> Iterator[Finding]:
    """Modules that can still be added before the card or the inverter's window ends it."""
    limit = c.pack.value("growth_modules_least")
    for row in c.plant.banked:
        low, _ = chain.soc_window(row.bank)
        n = row.bank.modules
        most = chain.most_modules(row.unit, row.bank.cells, n, low)
        ends = "its card ends it" if most >= row.bank.cells.modules_max else "the inverter's window ends it"
        left = most - n
        yield finding(
            c, "battery.growth", row.station.name, "count", float(left), limit, "least",
            f"{n} of at most {count_words(most, 'module')}: {left} more can be added, {ends}", soft=True, tight=LIST,
        )  # fmt: skip


@check(
    "battery.sheet-round-trip", "Round trip on the sheet", page="plans", needs={"plan"}, short="Sheet round trip",
    source="what practitioners ask of a battery, common practice; the card's own figure at its own ends",
)  # fmt: skip
def sheet_round_trip(c: CheckContext) -> Iterator[Finding]:
    """The battery's DC round trip against the trade's floor."""
    limit = c.pack.value("battery_round_trip_least")
    for row in c.plant.banked:
        value = row.bank.cells.dc_round_trip_frac
        line = f"{value * 100:.1f} % from terminals to terminals at the card's rate; asked for: {limit * 100:.0f} %"
        remedies = battery_remedy(c, row, lambda other: other.bank.cells.dc_round_trip_frac >= limit) if value < limit else []
        yield finding(
            c, "battery.sheet-round-trip", row.station.name, "fraction", value, limit, "least", line, soft=True, remedies=remedies
        )


@check(
    "battery.sheet-depth", "Usable depth on the sheet", page="plans", needs={"plan"}, short="Sheet depth",
    source="what practitioners ask of a battery, common practice; the card's own window",
)  # fmt: skip
def sheet_depth(c: CheckContext) -> Iterator[Finding]:
    """The share of the capacity that the card lets be used, against the trade's floor."""
    limit = c.pack.value("battery_depth_least")
    for row in c.plant.banked:
        low, high, value = row.bank.cells.soc_min_frac, row.bank.cells.soc_max_frac, row.battery.life.window_frac
        line = f"{low * 100:.0f} to {high * 100:.0f} % = {value * 100:.0f} % of the capacity"
        deep = battery_remedy(c, row, lambda other: other.battery.life.window_frac >= limit) if value < limit else []
        yield finding(c, "battery.sheet-depth", row.station.name, "fraction", value, limit, "least", line, soft=True, remedies=deep)


@check(
    "battery.dc-current", "DC current at the lowest volts", page="plans", needs={"plan"}, short="DC current",
    source="AC rating over inverter efficiency over the bank's lowest working volts; cards",
)  # fmt: skip
def dc_current(c: CheckContext) -> Iterator[Finding]:
    """Amps at full power and the lowest charge in use, against what battery and inverter carry."""
    for row in c.plant.banked:
        if row.bank.cells.discharge_max_a is None:
            yield unknown(c, "battery.dc-current", row.station.name, NO_CURRENT)
            continue
        value, limit = full_power_a(row.unit, row.bank), min(_limits_a(row))
        low, _ = chain.soc_window(row.bank)
        volts = chain.stack_volts(row.bank, low).floor_v
        lug = row.station.fitting.battery_lug_max_mm2
        line = (
            f"{show(row.unit.dc_w(row.unit.ac_rated_w), 'power_w')} DC ÷ {volts:.1f} V at {low * 100:.0f} % = {value:.1f} A; "
            f"cable and fuse carry 1.25 × that, {1.25 * value:.1f} A"
        )
        line += f"; the inverter's terminals take up to {lug:g} mm²" if lug is not None else ""
        remedies = modules_remedy(c, row, lambda o: full_power_a(o.unit, o.bank) <= min(_limits_a(o), default=0.0))
        yield finding(
            c, "battery.dc-current", row.station.name, "current_a", value, limit, "most", line, soft=True, remedies=remedies
        )


def _limits_a(row: BatteryRow) -> list[float]:
    known = (row.unit.discharge_max_a, chain.bank_amps(row.bank, row.bank.cells.discharge_max_a))
    return [a for a in known if a is not None]


@check(
    "battery.sharing", "Batteries in parallel share alike", page="plans", needs={"plan"}, short="Parallel sharing",
    source="the program's definitions, D20: branches by resistance; cards and leads",
)  # fmt: skip
def sharing(c: CheckContext) -> Iterator[Finding]:
    """The current of the branch that takes most, at what the inverter asks, against its module's own limit."""
    for row in c.plant.banked:
        n, limit = row.bank.modules, row.bank.cells.discharge_max_a
        if row.bank.cells.stacking != "parallel" or n < 2:
            continue
        if limit is None:
            yield unknown(c, "battery.sharing", row.station.name, NO_CURRENT)
            continue
        if row.bank.leads_ohm and len(row.bank.leads_ohm) != n:
            yield unknown(
                c,
                "battery.sharing",
                row.station.name,
                f"the leads of {len(row.bank.leads_ohm)} of {n} branches are typed: type all",
            )
            continue
        ohms = chain.branch_ohms(row.bank)
        if ohms is None and row.bank.leads_ohm:
            yield unknown(
                c, "battery.sharing", row.station.name, "the card does not say a module's internal resistance: see the data sheet"
            )
            continue
        asked = min(
            [full_power_a(row.unit, row.bank), *([row.unit.discharge_max_a] if row.unit.discharge_max_a is not None else [])]
        )
        currents = branch_currents([0.0] * n, ohms or (1.0,) * n, asked)
        value = max(currents)
        how = "by resistance and leads" if row.bank.leads_ohm else "leads alike (assumed)"
        line = f"{asked:.1f} A over {n} branches, {how}: from {min(currents):.1f} to {value:.1f} A; a module carries {limit:g} A"
        remedies = []
        if row.bank.leads_ohm:
            remedies.append(
                Remedy(
                    "leads of like length and size to every branch",
                    (Edit(c.path(f"nodes[{row.station.id}].battery.leads_ohm"), []),),
                )
            )

        def shares(other: BatteryRow, amps: float = asked, most: float = limit) -> bool:
            return amps / other.bank.modules <= most

        remedies = [r for r in remedies if asked / n <= limit] + modules_remedy(c, row, shares)
        yield finding(
            c, "battery.sharing", row.station.name, "current_a", value, limit, "most", line,
            remedies=[*remedies, Remedy("a smaller inverter, or a discharge limit set on it")],
        )  # fmt: skip
