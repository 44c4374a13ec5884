"""Checks of energy: the night, idle and standby, export against own use, what stands beside the battery, the battery grown old."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.library.cards import InverterCard
from calm_relay.plant import chain
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.checks_pairing import modules_remedy
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.simulation.quick import ac_round_trip
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

HOURS_A_DAY = 24.0


def _usable_wh(c: CheckContext) -> float:
    """Return the usable energy of all banks. [Wh]"""
    return sum(chain.usable_wh(row.bank) for row in c.plant.banked)


def _more_modules(c: CheckContext, wanted_wh: float) -> list[Remedy]:
    """Return more modules of the one bank there is that make so much usable; none where there are several banks. [Wh]"""
    rows = list(c.plant.banked)
    if len(rows) != 1:
        return []
    return modules_remedy(c, rows[0], lambda row: chain.usable_wh(row.bank) >= wanted_wh)


@check(
    "energy.night-use", "Night's use from the battery", page="plans", needs={"plan", "year"}, short="Night's use",
    source="simulated house while no string offers anything, on a mean day; least share in the pack, ours",
)  # fmt: skip
def night_use(c: CheckContext) -> Iterator[Finding]:
    """Usable energy of the batteries against the pack's share of what the house draws on a mean night."""
    assert c.facts is not None
    usable = _usable_wh(c)
    if c.facts.night_wh is None or usable <= 0:
        return
    share = c.pack.value("night_use_least")
    limit = share * c.facts.night_wh
    line = (
        f"{show(usable, 'energy_wh')} usable; a mean night draws {show(c.facts.night_wh, 'energy_wh')}, {share * 100:g} % of it is "
        f"{show(limit, 'energy_wh')}"
    )
    yield finding(
        c, "energy.night-use", "batteries", "energy_wh", usable, limit, "least", line, soft=True, tight="fill",
        remedies=[*_more_modules(c, limit), Remedy("more battery, or use moved into the day")],
        source=c.pack.source("night_use_least"),
    )  # fmt: skip


@check(
    "energy.idle", "Idle draw of a battery inverter", page="plans", needs={"plan"}, short="Idle draw",
    source="the card's idle loss over a day against the usable energy of its bank; most share in the pack, ours",
)  # fmt: skip
def idle(c: CheckContext) -> Iterator[Finding]:
    """What an inverter's idle loss takes in a day, as a share of the usable energy of its bank."""
    limit = c.pack.value("idle_share_most")
    for row in c.plant.banked:
        usable, idle_w = chain.usable_wh(row.bank), row.unit.loss.p_self_w
        if usable <= 0:
            continue
        day = idle_w * HOURS_A_DAY
        line = (
            f"{idle_w:g} W × 24 h = {show(day, 'energy_wh', 2)} of {show(usable, 'energy_wh')} usable = "
            f"{day / usable * 100:.1f} %; {limit * 100:g} % is worth a look"
        )
        best = _with_less(c, row, limit * usable / HOURS_A_DAY)
        yield finding(
            c, "energy.idle", row.station.name, "fraction", day / usable, limit, "most", line, soft=True, remedies=best,
            source=c.pack.source("idle_share_most"),
        )  # fmt: skip


def _with_less(c: CheckContext, row: BatteryRow, most_w: float) -> list[Remedy]:
    """Return an inverter of the same kind and no less power that idles with so little, and what else helps. [W]"""

    def thrifty(card: InverterCard) -> bool:
        return card.loss.p_self_w * row.station.count <= most_w and card.ac_rated_w >= row.station.each.ac_rated_w

    best = swap_card(c, row.station, thrifty, lambda card: card.ac_rated_w)
    out = (
        []
        if best is None or best.id == row.station.model.id
        else [Remedy(f"{best.name} instead", swap_edits(c, row.station, best))]
    )
    return [*out, Remedy("a smaller inverter, or a mode in which it sleeps while nothing is asked of it")]


@check(
    "energy.standby", "Standby of all boxes", page="plans", needs={"plan", "year"}, short="Standby",
    source="simulated year: idle nights, auxiliaries and heaters of every box; most share in the pack, ours",
)  # fmt: skip
def standby(c: CheckContext) -> Iterator[Finding]:
    """What the boxes draw for themselves in a year, from sun, battery and grid, as a share of the house's energy."""
    assert c.facts is not None
    f, limit = c.facts, c.pack.value("standby_share_most")
    own = f.system_wh["own_draw_w"]
    own += sum(row["battery_standby_w"] + row["auxiliary_w"] + row["pv_standby_w"] for row in f.nodes_wh.values())
    own += sum(row["standby_from_pv_w"] for row in f.pv_only_wh.values())
    house = f.system_wh["load_w"]
    if house <= 0 or not c.plan.nodes:
        return
    line = f"{show(own, 'energy_wh', 0)} of {show(house, 'energy_wh', 0)} = {own / house * 100:.1f} %"
    yield finding(
        c, "energy.standby", "all boxes", "fraction", own / house, limit, "most", line, soft=True,
        remedies=[Remedy("fewer boxes, or such with less standby")], source=c.pack.source("standby_share_most"),
        cost=f"{own / 1000:.0f} kWh a year",
    )  # fmt: skip


@check(
    "energy.export-price", "Own use against the export price", page="plans", needs={"grid", "plan"}, short="Export price",
    source="the program's definitions, D18: storing sun pays while price avoided × round trip is above the export price",
)  # fmt: skip
def export_price(c: CheckContext) -> Iterator[Finding]:
    """The export price against what a kWh of surplus is worth once it went through the battery."""
    tariff = c.job.tariff
    if tariff.seasons or tariff.hourly_import is not None or tariff.hourly_export is not None:
        return
    for row in c.plant.banked:
        trip = ac_round_trip(row, 0.5 * row.unit.ac_rated_w)
        if trip <= 0:
            continue
        worth = tariff.import_price_per_kwh * trip
        line = (
            f"{tariff.import_price_per_kwh:g} avoided × {trip:.2f} round trip = {worth:.3g} for a stored kWh; exported it brings "
            f"{tariff.export_price_per_kwh:g}"
        )
        yield finding(
            c, "energy.export-price", row.station.name, "money", tariff.export_price_per_kwh, worth, "most", line, soft=True,
            remedies=[Remedy("export first, and keep the battery for outages and dear hours")],
        )  # fmt: skip


@check(
    "energy.beside-battery", "Surplus loads before the battery", page="house", needs={"plan"}, short="Before the battery",
    source="what loads on surplus take on a mean day before the battery, of its usable energy; most share in the pack, ours",
)  # fmt: skip
def beside_battery(c: CheckContext) -> Iterator[Finding]:
    """What car and diverter may take on a mean day before the battery gets any, as a share of its usable energy."""
    usable = _usable_wh(c)
    loads = [a for a in c.job.house.counted if a.surplus == "before_battery"]
    if usable <= 0 or not loads:
        return
    taken, limit = sum(a.mean_day_wh for a in loads), c.pack.value("surplus_beside_most_frac")
    names = ", ".join(a.name for a in loads)
    line = f"{names}: {show(taken, 'energy_wh')} a mean day before the battery, which holds {show(usable, 'energy_wh')}"
    edits = tuple(Edit(f"house.appliances[{a.id}].surplus", "after_battery") for a in loads)
    yield finding(
        c, "energy.beside-battery", "surplus", "fraction", taken / usable, limit, "most", line, soft=True,
        remedies=[Remedy("the battery first, then these loads", edits)], source=c.pack.source("surplus_beside_most_frac"),
    )  # fmt: skip


@check(
    "energy.timed-charger", "Charger by the clock within the sun", page="plans", needs={"plan", "year"}, short="Timed charger",
    source="simulated year: a charger on a time switch sees no meter; what sun leaves in its hours, on the mean",
)  # fmt: skip
def timed_charger(c: CheckContext) -> Iterator[Finding]:
    """The power of a charger on a time switch against the sun that is left over in its hours on a mean day."""
    assert c.facts is not None
    for i, slot in enumerate(c.plan.controls.slots):
        found = c.facts.windows.get(i)
        if slot.kind != "timer" or found is None or slot.power_w <= 0 or not found.nodes:
            continue
        spare = found.spare_w
        line = (
            f"{show(slot.power_w, 'power_w', 2)} by the clock; in its hours {show(spare, 'power_w', 2)} of sun are left on the mean"
        )
        yield finding(
            c, "energy.timed-charger", slot.title, "power_w", slot.power_w, spare, "most", line, soft=True,
            remedies=[Remedy("less power, brighter hours, or a charger that sees the meter; the rest is bought")],
        )  # fmt: skip


@check(
    "energy.large-load", "Largest load on the battery", page="house", needs={"plan"}, short="Largest load",
    source="running watts of the largest load that batteries feed against the inverters behind them; arithmetic",
)  # fmt: skip
def large_load(c: CheckContext) -> Iterator[Finding]:
    """The largest load that the battery may feed, against what the battery inverters give: above it the rest is bought."""
    rows, loads = list(c.plant.banked), [a for a in c.job.house.counted if a.fed_by_batteries]
    if not rows or not loads or c.plan.off_grid:
        return
    limit = sum(row.unit.ac_rated_w for row in rows)
    worst = max(loads, key=lambda a: a.running_w)
    line = f"{worst.name} runs at {show(worst.running_w, 'power_w', 2)}; the battery inverters give {show(limit, 'power_w', 2)}"
    edits = tuple(Edit(f"house.appliances[{a.id}].never_from_battery", value=True) for a in loads if a.running_w > limit)
    yield finding(
        c, "energy.large-load", worst.name, "power_w", worst.running_w, limit, "most", line, soft=True,
        remedies=[Remedy(f"{count_words(len(edits), 'load')} never from the battery", edits)],
    )  # fmt: skip


def _kept_frac(row: BatteryRow) -> float:
    """Return the part of a bank's present usable energy that is left at the end of its warranty, which counts from new. [0 to 1]"""
    return min(1.0, (row.battery.life.warranty_end_frac or 0.0) / row.bank.state_of_health_frac)


@check(
    "energy.end-of-life", "The brief's outage with an old battery", page="plans", needs={"plan"}, short="Old battery",
    source="usable energy at the end of the warranty against what must stay on over the brief's outage; the card, arithmetic",
)  # fmt: skip
def end_of_life(c: CheckContext) -> Iterator[Finding]:
    """What is left of the batteries at the end of their warranty, against what must stay on for the brief's longest outage."""
    hours, rows = c.job.brief.longest_h, list(c.plant.banked)
    loads = [a for a in c.job.house.counted if a.essential]
    if not rows or hours <= 0 or not loads:
        return
    asked = sum(a.mean_day_wh for a in loads) * hours / HOURS_A_DAY
    silent = [row.battery.model.name for row in rows if row.battery.life.warranty_end_frac is None]
    if silent:
        yield unknown(c, "energy.end-of-life", "batteries", f"what {', '.join(silent)} is warranted to hold at the end: its papers")
        return
    kept = [(chain.usable_wh(row.bank), _kept_frac(row)) for row in rows]
    left = sum(usable * part for usable, part in kept)
    parts = " + ".join(f"{show(usable, 'energy_wh')} × {part:.3g}" for usable, part in kept)
    line = (
        f"{parts} = {show(left, 'energy_wh')} at the end of the warranty; {count_words(len(loads), 'load')} that must stay on "
        f"take {show(asked, 'energy_wh')} in {hours:g} h, sun not counted"
    )
    end = min(part for _, part in kept)
    yield finding(
        c, "energy.end-of-life", "batteries", "energy_wh", left, asked, "least", line, soft=True, tight="fill",
        remedies=[*_more_modules(c, asked / end), Remedy("more battery, sun behind the device, or fewer loads that must stay on")],
    )  # fmt: skip


@check(
    "settings.firmware", "Firmware noted", page="plans", needs={"plan"}, short="Firmware",
    source="what the cards say of firmware: read it off the boxes at commissioning",
)  # fmt: skip
def firmware(c: CheckContext) -> Iterator[Finding]:
    """What the cards of the plan say of firmware."""
    said = {s.model.name: s.box.firmware_note for s in c.plant.stations if s.box.firmware_note}
    said |= {row.battery.model.name: row.battery.box.firmware_note for row in c.plant.banked if row.battery.box.firmware_note}
    if said:
        words = "; ".join(f"{name}: {text.rstrip('.')}" for name, text in said.items())
        yield note(c, "settings.firmware", "boxes", words)
