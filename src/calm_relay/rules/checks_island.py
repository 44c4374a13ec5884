"""Checks of plans without a grid, and of generators beside AC-coupled PV."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from calm_relay.calendar import MONTHS
from calm_relay.job.edits import Edit
from calm_relay.job.field_words import CHOICES
from calm_relay.rules.checks_service import running_va
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.units import count_words, hours_a_year
from calm_relay.units import format_quantity as show
from calm_relay.year.generator_figures import derated_va

if TYPE_CHECKING:
    from calm_relay.library.other_cards import GeneratorCard

USUAL_AIR_C = 25.0  # round a generator
SPARE_WH = 1000.0  # a year's loss below it says that the array is used up


@check(
    "island.formed", "Something forms the grid", page="plans", needs={"plan"}, short="Grid formed",
    source="a grid-following inverter runs only if something forms voltage and frequency; the inverters' cards",
)  # fmt: skip
def formed(c: CheckContext) -> Iterator[Finding]:
    """Whether a plan without a grid has an inverter that forms one, with a battery."""
    if not c.plan.off_grid:
        return
    forming = c.plant.forming
    able = [station.name for station in c.plant.stations if station.unit.grid_forming]
    names = ", ".join(row.station.name for row in forming)
    line = f"{count_words(len(forming), 'inverter')} on a battery {'forms' if len(forming) == 1 else 'form'} the grid"
    line += f": {names}" if names else f"; {', '.join(able)} could, with a battery" if able else ": all of it stays dark"
    remedies = [Remedy("a battery inverter or hybrid that forms the grid, with a battery")]
    yield finding(c, "island.formed", "plan", YES_NO, float(bool(forming)), 1.0, "least", line, tight=COUNTS, remedies=remedies)


@check(
    "island.served", "Served all year without a grid", page="plans", needs={"plan", "year"}, short="Served all year",
    source="simulated year, the house as it is without shedding; what a generator would add is not in it",
)  # fmt: skip
def served(c: CheckContext) -> Iterator[Finding]:
    """Energy of the house that could not be served in the year, against none."""
    assert c.facts is not None
    e = c.facts.exceeded.get("unserved")
    if e is None:
        return
    house = c.facts.system_wh["load_w"]
    lost = c.facts.lost_wh("island")
    if house <= 0:
        yield note(c, "island.served", "house", "the house asks for nothing")
        return
    line = f"{show(e.over_wh, 'energy_wh', 0)} of {show(house, 'energy_wh', 0)} a year not served, in {hours_a_year(e.hours_h)}"
    by_month = c.facts.by_month_wh["unserved_w"]
    if e.over_wh > 0:
        worst = max(range(12), key=lambda month: by_month[month])
        line += f", most in {MONTHS[worst]} ({show(by_month[worst], 'energy_wh', 0)})"
    line += f"; {show(lost, 'energy_wh', 0)} of sun found no use"
    never = [a.name for a in c.job.house.counted if a.never_from_battery]
    if e.over_wh > 0 and never:
        line += f"; {', '.join(never)}: never from the battery, so only while the sun gives it"
    if e.over_wh > 0 and not any(row.station.strings for row in c.plant.forming):
        line += "; at its floor a bank with AC-coupled PV alone stays dark until someone starts it"
    yield finding(
        c, "island.served", "house", "energy_wh", e.over_wh, 0.0, "most", line, remedies=_more(lost),
        cost=f"{e.hours_h:.0f} h not served" if e.hours_h > 0 else "",
    )  # fmt: skip


def _more(lost_wh: float) -> list[Remedy]:
    """Return what would serve more: where sun is left over a larger bank, else more array; a generator for the rest."""
    if lost_wh > SPARE_WH:
        return [Remedy("more battery: sun is left over in the year; more array where it lacks in the dull months"), Remedy(_SET)]
    return [Remedy("more array: no sun is left over"), Remedy(_SET)]


_SET = "a generator for the dull weeks, or loads that wait for the sun"


@check(
    "generator.lock-out", "Generator and AC-coupled PV", page="plans", needs={"plan"}, short="Generator lock-out",
    source="reverse power damages a generator: PV inverters on its bus are locked out, or it is held loaded (common practice)",
)  # fmt: skip
def lock_out(c: CheckContext) -> Iterator[Finding]:
    """Whether AC-coupled PV on the backup side is kept off the generator's bus, as declared."""
    if c.plan.generator is None:
        return
    pv = [station.name for station in c.plant.pv_only if station.side == "backup"]
    name = c.cards.generator(c.plan.generator.card).name
    declared = c.plan.generator.pv_locked_out
    if not pv:
        yield note(c, "generator.lock-out", name, "no AC-coupled PV stands on its bus")
    elif declared == "not_known":
        missing = f"whether {', '.join(pv)} is locked out while it runs: see the device's manual"
        yield unknown(c, "generator.lock-out", name, missing)
    else:
        words = "locked out while it runs, or it is held loaded" if declared == "yes" else "left on the bus it runs on"
        edit = Edit(c.path("generator.pv_locked_out"), "yes")
        line = f"{count_words(len(pv), 'PV inverter')} ({', '.join(pv)}) {words}, as declared"
        yield finding(
            c, "generator.lock-out", name, YES_NO, float(declared == "yes"), 1.0, "least", line, tight=COUNTS,
            remedies=[Remedy("a device that locks the PV out, then declare it", (edit,))],
        )  # fmt: skip


def swap_generator(c: CheckContext, fits: Callable[[GeneratorCard], bool], otherwise: str) -> Remedy:
    """Return the smallest offered generator for this supply that fits, in place of the plan's; in words where none does."""
    supply = c.job.site.supply.kind
    fitting = [g for g in c.offered.generators().values() if supply in g.supplies and fits(g)]
    best = min(fitting, key=lambda g: g.rated_va, default=None)
    if best is None:
        return Remedy(otherwise)
    return Remedy(f"{best.name} in its place", (Edit("library[+]", best.model_dump()), Edit(c.path("generator.card"), best.id)))


@check(
    "generator.supply", "Generator connects to this supply", page="plans", needs={"plan"}, short="Generator's supply",
    source="the generator's card",
)  # fmt: skip
def generator_supply(c: CheckContext) -> Iterator[Finding]:
    """Whether the generator is made for the supply's phases."""
    if c.plan.generator is None:
        return
    card, kind = c.cards.generator(c.plan.generator.card), c.job.site.supply.kind
    if not card.supplies:
        yield unknown(c, "generator.supply", card.name, "the supplies it is made for: see its data sheet")
        return
    said = f"{count_words(len(card.supplies), 'kind')} of supply on the card: {', '.join(CHOICES[s] for s in card.supplies)}"
    good = kind in card.supplies
    remedy = swap_generator(c, lambda g: g.rated_va >= card.rated_va, "a generator made for this supply")
    yield finding(
        c, "generator.supply", card.name, YES_NO, float(good), 1.0, "least",
        f"{said}; here it is {CHOICES[kind]}", tight=COUNTS, remedies=[remedy],
    )  # fmt: skip


@check(
    "generator.bypass", "Bypass round the inverter", page="plans", needs={"plan"}, short="Manual bypass",
    source="the house can be fed while the inverter is out (common practice); as declared",
)  # fmt: skip
def bypass(c: CheckContext) -> Iterator[Finding]:
    """Whether a generator can feed the house past the inverter, as declared; without it a fault of the inverter is a dark house."""
    if c.plan.generator is None:
        return
    name, declared = c.cards.generator(c.plan.generator.card).name, c.plan.generator.bypass
    if declared == "not_known":
        yield unknown(c, "generator.bypass", name, "whether a manual bypass feeds the house: ask for it on site")
        return
    line = (
        "1 way round the inverter: a manual bypass, as declared"
        if declared == "yes"
        else "0 ways round the inverter: without it the house is dark"
    )
    yield finding(c, "generator.bypass", name, YES_NO, float(declared == "yes"), 1.0, "least", line, tight=COUNTS, soft=True)


@check(
    "backup.black-start", "Comes back after an empty battery", page="blackout", needs={"grid", "plan"}, short="Black start",
    source="the program's definitions, D16: at its floor a bank with AC-coupled PV only stays dead, DC strings wake it",
)  # fmt: skip
def black_start(c: CheckContext) -> Iterator[Finding]:
    """Whether sun alone brings the backup side back once the battery ran empty in an outage."""
    rows = c.plant.forming
    if c.plan.transfer is None or not rows:
        return
    waking = [row.station.name for row in rows if row.station.strings]
    beside = [station.name for station in c.plant.pv_only if station.side == "backup"]
    if waking:
        line = f"strings on {count_words(len(waking), 'unit')} that forms the grid ({', '.join(waking)}): the morning wakes it"
    else:
        pv = f"{', '.join(beside)} is AC-coupled and waits for a grid" if beside else "no PV stands behind the transfer device"
        units = count_words(len(rows), "unit")
        line = f"strings on 0 of {units} that form the grid: {pv}; empty, it stays dark until the grid is back"
    remedies = [Remedy("strings on the inverter that forms the grid, or a generator with automatic start")]
    yield finding(
        c, "backup.black-start", "backup side", YES_NO, float(bool(waking)), 1.0, "least", line, tight=COUNTS, soft=True,
        remedies=remedies,
    )  # fmt: skip


@check(
    "generator.size", "Generator carries what must stay on", page="blackout", needs={"plan"}, short="Generator's size",
    source="rating less 3.5 % per 300 m above 300 m, against the running kVA of what must stay on; common practice",
)  # fmt: skip
def generator_size(c: CheckContext) -> Iterator[Finding]:
    """The set's rating at the site's height against all that must stay on, running together."""
    if c.plan.generator is None:
        return
    card = c.cards.generator(c.plan.generator.card)
    need = sum(running_va(load) for load in c.job.house.counted if load.essential)
    if need <= 0:
        return
    height = c.job.site.place.altitude_m
    gives = derated_va(card, height, USUAL_AIR_C)
    line = (
        f"{show(card.rated_va, 'apparent_va')} at {height:.0f} m give {show(gives, 'apparent_va')}; what must stay on runs at "
        f"{show(need, 'apparent_va')}"
    )
    remedy = swap_generator(c, lambda g: derated_va(g, height, USUAL_AIR_C) >= need, "a larger generator")
    yield finding(c, "generator.size", card.name, "apparent_va", gives, need, "least", line, remedies=[remedy])
