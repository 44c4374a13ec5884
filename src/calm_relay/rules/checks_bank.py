"""Checks of where a battery stands and how long it lives: place, temperature, charging in the cold, lead's full charge, cycles."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from calm_relay.job.edits import Edit
from calm_relay.plant import chain
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_pairing import LIST, battery_remedy, modules_remedy
from calm_relay.rules.registry import YES_NO, CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.simulation.ageing import CycleCount, damage_per_year
from calm_relay.simulation.columns import given_wh
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.cells import place_range_c

PLACES = {"indoors": "indoors", "garage": "in a garage", "outdoors_sheltered": "outdoors covered", "outdoors": "outdoors"}
NO_PLACE = "where the bank stands: choose its place"


def _moves(c: CheckContext, row: BatteryRow, good: Sequence[str]) -> list[Remedy]:
    """Return a remedy for each place that is good, indoors first."""
    at = c.path(f"nodes[{row.station.id}].battery.place")
    return [Remedy(f"stand it {PLACES[place]}", (Edit(at, place),)) for place in good]


@check(
    "battery.place", "Battery may stand there", page="plans", needs={"plan"}, short="Battery's place",
    source="the battery's card: places its maker allows; local rules on rooms are checked by the electrician",
)  # fmt: skip
def place(c: CheckContext) -> Iterator[Finding]:
    """Whether the card allows the place that was chosen."""
    for row in c.plant.banked:
        chosen, allowed = row.bank.place, row.battery.box.places
        if chosen is None:
            yield unknown(c, "battery.place", row.station.name, NO_PLACE)
        elif not allowed:
            yield unknown(c, "battery.place", row.station.name, "the card does not say where it may stand: see its manual")
        else:
            good = chosen in allowed
            words = ", ".join(PLACES[p] for p in allowed)
            yield finding(
                c, "battery.place", row.station.name, YES_NO, float(good), 1.0, "least",
                f"it stands {PLACES[chosen]}; the card allows {count_words(len(allowed), 'place')}: {words}", tight=LIST,
                remedies=_moves(c, row, list(allowed)),
            )  # fmt: skip


@check(
    "battery.temperature", "Temperature at the battery's place", page="plans", needs={"plan"}, short="Temperature",
    source="the site's extremes, moved by place as the pack says (common practice); the battery's card",
)  # fmt: skip
def temperature(c: CheckContext) -> Iterator[Finding]:
    """Lowest and highest air temperature at the place against what the battery's card allows."""
    for row in c.plant.banked:
        if row.bank.place is None:
            yield unknown(c, "battery.temperature", row.station.name, NO_PLACE)
            continue
        low, high = place_range_c(c.job.site, row.bank.place, c.pack)
        ends = (
            ("lowest", low, row.battery.box.temperature_min_c, "least"),
            ("highest", high, row.battery.box.temperature_max_c, "most"),
        )
        for word, value, limit, sense in ends:
            subject = f"{row.station.name}, {word}"
            if value is None or limit is None:
                missing = "the site's record low or design high" if value is None else "the card's range of temperature"
                yield unknown(c, "battery.temperature", subject, missing)
                continue
            better = [p for p in row.battery.box.places if p != row.bank.place and _inside(c, row, p)]
            bound = f"{'from' if sense == 'least' else 'up to'} {show(limit, 'temperature_c')}"
            line = f"{word} {show(value, 'temperature_c')}, standing {PLACES[row.bank.place]}; the card works {bound}"
            yield finding(
                c, "battery.temperature", subject, "temperature_c", value, limit, "most" if sense == "most" else "least", line,
                remedies=[*_moves(c, row, better), Remedy("a battery made for it, or heating and shade")],
            )  # fmt: skip


def _inside(c: CheckContext, row: BatteryRow, there: str) -> bool:
    low, high = place_range_c(c.job.site, there, c.pack)
    least, most = row.battery.box.temperature_min_c, row.battery.box.temperature_max_c
    return (low is None or least is None or low >= least) and (high is None or most is None or high <= most)


@check(
    "battery.cold-charge", "Charging on the coldest day", page="plans", needs={"plan"}, short="Cold charging",
    source="the battery's card, for LFP without one common practice: none at 0 °C, reduced to 10 °C; least share in the pack",
)  # fmt: skip
def cold_charge(c: CheckContext) -> Iterator[Finding]:
    """The share of its charge current that the battery allows at the lowest temperature of its place."""
    limit = c.pack.value("cold_charge_least")
    for row in c.plant.banked:
        if row.bank.place is None:
            yield unknown(c, "battery.cold-charge", row.station.name, NO_PLACE)
            continue
        low, _ = place_range_c(c.job.site, row.bank.place, c.pack)
        share = None if low is None else row.bank.cells.charge_share_at(low)
        if low is None or share is None:
            missing = "the site's record low" if low is None else "the card's charge current by temperature"
            yield unknown(c, "battery.cold-charge", row.station.name, missing)
            continue
        assumed = "" if row.bank.cells.charge_over_temperature else " (LFP common practice, assumed)"
        where = f"at {show(low, 'temperature_c')}, standing {PLACES[row.bank.place]}"
        line = f"{where}, it charges at {share * 100:.0f} % of its current{assumed}"
        warm = [p for p in row.battery.box.places if (row.bank.cells.charge_share_at(_low(c, p)) or 0.0) >= limit]
        yield finding(
            c,
            "battery.cold-charge",
            row.station.name,
            "fraction",
            share,
            limit,
            "least",
            line,
            soft=True,
            remedies=_moves(c, row, warm),
        )


def _low(c: CheckContext, there: str) -> float:
    low, _ = place_range_c(c.job.site, there, c.pack)
    return -40.0 if low is None else low


@check(
    "battery.lead-recharge", "Lead-acid fully recharged", page="plans", needs={"plan", "year"}, short="Full recharge",
    source="simulated year, days on which the bank is full; at least so often, common practice",
)  # fmt: skip
def lead_recharge(c: CheckContext) -> Iterator[Finding]:
    """Share of days of the dullest season on which a lead bank becomes full; left partly charged it sulphates."""
    assert c.facts is not None
    limit = c.pack.value("lead_full_days_least")
    for row in c.plant.banked:
        if not row.bank.cells.is_lead:
            continue
        seasons = c.facts.fill.get(row.station.id, {})
        if not seasons:
            yield unknown(c, "battery.lead-recharge", row.station.name, "the year holds no day of this battery")
            continue
        season, worst = min(seasons.items(), key=lambda item: item[1].days_full_frac)
        line = f"full on {worst.days_full_frac * 100:.0f} % of the days in {season}; at least {limit * 100:.0f} % keep it healthy"
        swap = battery_remedy(c, row, lambda other: not other.bank.cells.is_lead)
        yield finding(
            c, "battery.lead-recharge", row.station.name, "fraction", worst.days_full_frac, limit, "least", line,
            remedies=[*swap, Remedy("a charge slot that fills it, more array, or fewer modules")],
        )  # fmt: skip


@check(
    "battery.cycle-life", "Years until the cycles are used", page="plans", needs={"plan", "year"}, short="Cycle life",
    source="simulated year's cycles by rainflow (ASTM E1049), the card's life by depth, Miner's rule; least years in the pack",
)  # fmt: skip
def cycle_life(c: CheckContext) -> Iterator[Finding]:
    """Years until the cycles of the simulated year use up the card's life by depth, the calendar left out."""
    assert c.facts is not None
    limit = c.pack.value("battery_life_years_least")
    for row in c.plant.banked:
        cycles = c.facts.cycles.get(row.station.id, ())
        if not cycles:
            yield note(
                c, "battery.cycle-life", row.station.name, "its charge goes neither up nor down in the year: 0 cycles are used"
            )
            continue
        used = damage_per_year(row.battery.life, cycles)
        if not used:
            yield unknown(c, "battery.cycle-life", row.station.name, "the card's cycles by depth: see the data sheet")
            continue
        most = max(cycles, key=lambda cycle: cycle.depth_frac * cycle.count)
        line = (
            f"{sum(cycle.count for cycle in cycles):.0f} cycles a year, most of the energy in {most.count:.0f} of "
            f"{most.depth_frac * 100:.0f} %: "
            f"{used * 100:.1f} % of the card's cycles = {1.0 / used:.1f} years; ageing by the calendar comes on top"
        )
        holds = chain.capacity_wh(row.bank)

        def lasts(
            other: BatteryRow, counted: tuple[CycleCount, ...] = cycles, now: float = holds, least: float = 1.05 * limit
        ) -> bool:
            wears = damage_per_year(other.battery.life, counted, now / chain.capacity_wh(other.bank))
            return wears is not None and wears > 0 and 1.0 / wears >= least

        remedies = [*modules_remedy(c, row, lasts), *battery_remedy(c, row, lasts)] if 1.0 / used < limit else []
        yield finding(
            c, "battery.cycle-life", row.station.name, "years", 1.0 / used, limit, "least", line, soft=True, remedies=remedies
        )


@check(
    "battery.warranty-throughput", "Warranted throughput", page="plans", needs={"plan", "year"}, short="Throughput",
    source="the card's warranted throughput over what the simulated year delivers, against its warranted years",
)  # fmt: skip
def warranty_throughput(c: CheckContext) -> Iterator[Finding]:
    """Years until the warranted throughput is used, against the warranty's years: whichever ends first."""
    assert c.facts is not None
    for row in c.plant.banked:
        total, years = row.battery.life.warranty_throughput_wh, row.battery.life.warranty_years
        if total is None or years is None:
            yield unknown(
                c, "battery.warranty-throughput", row.station.name, "the card's warranted years or throughput: see the warranty"
            )
            continue
        delivered = given_wh(c.facts.nodes_wh[row.station.id])
        if delivered <= 0:
            yield note(c, "battery.warranty-throughput", row.station.name, "it delivered 0 kWh in the year: no throughput is used")
            continue
        whole = total * row.bank.modules
        end = row.battery.life.warranty_end_frac
        left = "" if end is None else f", with {end * 100:.0f} % of the capacity left at its end"
        sums = f"{show(whole, 'energy_wh', 0)} ÷ {show(delivered, 'energy_wh', 0)} a year = {whole / delivered:.1f} years"
        line = f"{sums} of {years:g}{left}"

        def lasts(other: BatteryRow, wh: float = delivered) -> bool:
            most, least = other.battery.life.warranty_throughput_wh, other.battery.life.warranty_years
            return most is not None and least is not None and most * other.bank.modules / wh >= 1.05 * least

        remedies = [*modules_remedy(c, row, lasts), *battery_remedy(c, row, lasts)] if whole / delivered < years else []
        yield finding(
            c, "battery.warranty-throughput", row.station.name, "years", whole / delivered, years, "least", line, soft=True,
            remedies=remedies,
        )  # fmt: skip
