"""Checks of the battery against inverter, cheap window, evening and array."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from calm_relay.calendar import in_window, season_of_months, window_hours
from calm_relay.job.control_models import GRID_CHARGING, Slot
from calm_relay.job.edits import Edit
from calm_relay.job.models import Node
from calm_relay.library.cards import InverterCard
from calm_relay.money.wear import wear_of
from calm_relay.plant import chain
from calm_relay.plant.bank import Bank, cells_of
from calm_relay.plant.resolve import with_bank
from calm_relay.plant.station import BatteryRow, Station
from calm_relay.plant.unit import Unit, unit_of
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.simulation.quick import ac_round_trip
from calm_relay.tariff.prices import cheap_window
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.year.facts import FillFacts

NO_CURRENT = "the battery card gives no discharge current: see the data sheet"


def swap_card(
    c: CheckContext,
    at: Node | Station,
    wanted: Callable[[InverterCard], bool],
    rank: Callable[[InverterCard], float],
    *,
    same_battery: bool = True,
    any_phases: bool = False,
) -> InverterCard | None:
    """Return the fitting card of the node's own kind that ranks lowest, of those offered: same phases, trackers enough.

    `same_battery`: it carries the node's battery as it stands.
    """
    if not c.advise:
        return None
    node = c.plan.node(at.id)
    now = c.cards.inverter(node.card)
    trackers = 0 if node.controller else max((group.tracker for group in node.strings), default=0)
    choice = node.battery if same_battery else None
    battery = None if choice is None else c.cards.battery(choice.card)

    def carries(card: InverterCard) -> bool:
        return (
            battery is None
            or choice is None
            or chain.modules_fit(unit_of(card), cells_of(battery), choice.modules, battery.soc_min_frac)
        )

    fitting = [
        card
        for card in c.offered.inverters().values()
        if card.kind == now.kind
        and (any_phases or card.phases == now.phases)
        and trackers <= len(card.trackers)
        and carries(card)
        and wanted(card)
    ]
    return min(fitting, key=rank, default=None)


def swap_edits(c: CheckContext, node: Node | Station, card: InverterCard) -> tuple[Edit, ...]:
    """Return the edits that put another card on a node, bringing the card into the job where it is new."""
    return (Edit("library[+]", card.model_dump()), Edit(c.path(f"nodes[{node.id}].card"), card.id))


@check(
    "battery.charge-chain",
    "Charge limit chain",
    page="plans",
    needs={"plan"},
    short="Charge chain",
    source="the lowest of module, bank, converter and charger; cards",
)
def charge_chain(c: CheckContext) -> Iterator[Finding]:
    """What the charge slots ask, in DC watts, against the weakest link of the chain; the link is named."""
    for row in c.plant.banked:
        links = chain.charge_chain(row.unit, row.bank)
        least = chain.weakest(links)
        named = "; ".join(f"{link.name} {show(link.dc_w, 'power_w')} ({link.how})" for link in links if link.dc_w is not None)
        if row.bank.cells.charge_max_a is None or least.dc_w is None:
            yield unknown(
                c, "battery.charge-chain", row.station.name, "the battery card gives no charge current: see the data sheet"
            )
            continue
        asks = [s.power_w for _, s in _grid_slots(c) if s.holds_for(row.station.id)]
        if not asks:
            text = f"weakest link: {least.name}, {show(least.dc_w, 'power_w')} DC. {named}"
            yield note(c, "battery.charge-chain", row.station.name, text)
            continue
        asked = row.unit.charger_dc_w(max(asks))
        line = (
            f"slot {show(max(asks), 'power_w')} at AC = {show(asked, 'power_w')} DC; weakest link: {least.name}, "
            f"{show(least.dc_w, 'power_w')}. {named}"
        )
        ac = row.unit.charger_ac_w(least.dc_w)
        fits = math.floor(min(ac, row.unit.charger_in_max_w) / 10) * 10.0
        edits = tuple(
            Edit(c.path(f"controls.slots[{i}].power_w"), fits)
            for i, s in enumerate(c.plan.controls.slots)
            if s.kind == "charge_from_grid" and s.power_w > fits and s.holds_for(row.station.id)
        )
        remedy = Remedy(f"charge at {show(fits, 'power_w')} AC, which the chain carries", edits)
        yield finding(
            c, "battery.charge-chain", row.station.name, "power_w", asked, least.dc_w, "most", line, remedies=[remedy],
            cost=c.cost(f"charge:{row.station.id}"),
        )  # fmt: skip


@check(
    "battery.evening-peak",
    "Evening peak",
    page="plans",
    needs={"plan", "year"},
    source="simulated year, 16–22 h by the clock; hours let pass are in the pack",
)
def evening_peak(c: CheckContext) -> Iterator[Finding]:
    """Evening demand on the batteries, passed in all but the allowed hours, against inverter and discharge limits."""
    assert c.facts is not None
    evening = c.facts.evening
    rows = list(c.plant.banked)
    if evening is None or not rows:
        return
    names = " and ".join(row.station.name for row in rows)
    unnamed = [row for row in rows if row.bank.cells.discharge_max_a is None]
    if unnamed:
        yield unknown(c, "battery.evening-peak", names, NO_CURRENT)
        return
    allowed = c.pack.value("evening_allowed_h")
    index = min(len(evening.largest_w) - 1, int(allowed / c.facts.step_h))
    value = evening.largest_w[index]
    most = c.facts.at_least(show(evening.peak_w, "power_w"))
    lack = "are not served" if c.plan.off_grid else "come from the grid"
    line = (
        f"{show(value, 'power_w')} is passed in {allowed:g} evening hours a year (peak {most}); "
        f"the limit {show(evening.limit_w, 'power_w')} ({evening.weakest}) is passed in {evening.hours_over_h:.0f} h, "
        f"{show(evening.over_wh, 'energy_wh')} a year {lack} for it"
    )
    cost = f"{evening.hours_over_h:.0f} h over · {show(evening.over_wh, 'energy_wh')} a year"
    yield finding(
        c, "battery.evening-peak", names, "power_w", value, evening.limit_w, "most", line,
        remedies=_more_output(c, rows, value, evening.limit_w), cost=cost, soft=True,
    )  # fmt: skip


def _more_output(c: CheckContext, rows: Sequence[BatteryRow], value_w: float, limit_w: float) -> list[Remedy]:
    """Return a larger inverter for the first node, with enough battery modules behind it, that carries the value."""
    row = rows[0]
    others = limit_w - _out_limit_w(row.unit, row.bank)

    def modules_for(card: InverterCard) -> int | None:
        unit = unit_of(card)
        for modules in range(max(row.bank.modules, row.bank.cells.modules_min), row.bank.cells.modules_max + 1):
            bank = with_bank(row, modules=modules).bank
            if chain.modules_fit(unit, row.bank.cells, modules) and others + _out_limit_w(unit, bank) >= value_w:
                return modules
        return None

    best = swap_card(c, row.station, lambda card: modules_for(card) is not None, lambda card: card.ac_rated_w, same_battery=False)
    if best is None:
        return [Remedy(f"a second battery with its own inverter, or {show(value_w - limit_w, 'power_w')} less at once")]
    modules = modules_for(best) or row.bank.modules
    edits = swap_edits(c, row.station, best) if best.id != row.station.model.id else ()
    words = [best.name] if edits else []
    if modules != row.bank.modules:
        edits = (*edits, Edit(c.path(f"nodes[{row.station.id}].battery.modules"), modules))
        words.append(f"{modules} battery modules instead of {row.bank.modules}")
    return [Remedy(" with ".join(words), edits)]


def _out_limit_w(unit: Unit, bank: Bank) -> float:
    dc = chain.terminals_limit_w(chain.discharge_chain(unit, bank))
    return unit.ac_rated_w if dc is None else unit.output_w(dc)


@check(
    "battery.array-fills",
    "Array fills the battery by season",
    page="plans",
    needs={"plan", "year"},
    short="Array fills battery",
    source="simulated year; the median day, since a mean hides dull days",
)
def array_fills(c: CheckContext) -> Iterator[Finding]:
    """What the array offers on the median day of the dullest season that no grid slot covers, over usable energy."""
    assert c.facts is not None
    limit = c.pack.value("fill_median_ratio")
    for row in c.plant.banked:
        seasons = c.facts.fill.get(row.station.id, {})
        if not any(node.strings for node in c.plan.nodes):
            yield unknown(c, "battery.array-fills", row.station.name, "there is no array in this plan: add strings")
            continue
        if not seasons:
            yield unknown(c, "battery.array-fills", row.station.name, "the year holds no day of this battery")
            continue
        covered = _covered_seasons(c, row.station.id)
        open_seasons = {name: facts for name, facts in seasons.items() if name not in covered}
        usable = chain.usable_wh(row.bank)
        by_season = "; ".join(f"{name} {facts.share_of_days_frac * 100:.0f} % of days" for name, facts in seasons.items())
        if not open_seasons:
            text = f"every season has a grid charge slot. The array alone fills {show(usable, 'energy_wh')} in: {by_season}"
            yield note(c, "battery.array-fills", row.station.name, text)
            continue
        season, worst = min(open_seasons.items(), key=lambda item: item[1].median_ratio)
        line = (
            f"median {season} day offers {show(worst.median_offer_wh, 'energy_wh')} to {show(usable, 'energy_wh')} usable = "
            f"{worst.median_ratio:.2f}; filled by the array alone: {by_season}"
        )
        if covered:
            line += f"; {' and '.join(sorted(covered))} left to the grid slot"
        remedies = _fewer_modules(c, row, worst, limit)
        yield finding(
            c, "battery.array-fills", row.station.name, "ratio", worst.median_ratio, limit, "least", line, remedies=remedies,
            tight="fill", soft=True,
        )  # fmt: skip


def _covered_seasons(c: CheckContext, node_id: str) -> set[str]:
    covered = set()
    for slot in c.plan.controls.slots:
        if slot.kind == "charge_from_grid" and slot.days == "every" and slot.holds_for(node_id):
            for name, months in season_of_months(c.job.site.place.latitude_deg).items():
                if not slot.months or set(months) <= set(slot.months):
                    covered.add(name)
    return covered


def _fewer_modules(c: CheckContext, row: BatteryRow, worst: FillFacts, limit: float) -> list[Remedy]:
    """Return a smaller battery; a tenth is kept back since a smaller bank also charges more slowly."""
    per_module = chain.usable_wh(row.bank) / row.bank.modules
    fits = int(0.9 * worst.median_offer_wh / (limit * per_module))
    out = []
    if row.bank.cells.modules_min <= fits < row.bank.modules:
        edit = Edit(c.path(f"nodes[{row.station.id}].battery.modules"), fits)
        out.append(Remedy(f"{fits} battery modules instead of {row.bank.modules}", (edit,)))
    out.append(Remedy("more array, or a grid charge slot for the dull months"))
    return out


@check(
    "battery.voltage", "Battery volts on the inverter", page="plans", needs={"plan"}, short="Battery volts",
    source="the cards: full and empty volts of the bank against the battery input's window; by chemistry where a card is silent",
)  # fmt: skip
def battery_voltage(c: CheckContext) -> Iterator[Finding]:
    """The bank full against the most the input stands, and at the lowest charge in use against the least it works with."""
    for row in c.plant.banked:
        low, _ = chain.soc_window(row.bank)
        n, unit = row.bank.modules, row.unit
        v = chain.stack_volts(row.bank, low)
        inside = f"{unit.battery_voltage_min_v:g} to {unit.battery_voltage_max_v:g} V"
        assumed = ", by chemistry (assumed)" if row.bank.cells.volts_assumed else ""
        loaded = chain.under_load_v(unit, row.bank)
        working = v.floor_v if loaded is None else loaded[0]
        line = (
            f"{n} modules: {v.full_v:.0f} V full, {v.floor_v:.0f} V at {low * 100:.0f} %, {v.empty_v:.0f} V empty{assumed}; "
            f"the input works from {inside}"
        )
        sag = "the card's internal resistance is not known" if loaded is None else f"{working:.1f} V at {loaded[1]:.1f} A"
        line += f"; under load at {low * 100:.0f} %: {sag}"
        high_gap = (unit.battery_voltage_max_v - v.full_v) / unit.battery_voltage_max_v
        low_gap = (working - unit.battery_voltage_min_v) / max(1.0, unit.battery_voltage_min_v)
        if high_gap <= low_gap:
            value, limit = v.full_v, unit.battery_voltage_max_v
        else:
            value, limit = working, unit.battery_voltage_min_v
        yield finding(
            c, "battery.voltage", row.station.name, "voltage_v", value, limit, "most" if high_gap <= low_gap else "least", line,
            remedies=_other_count(c, row, low),
        )  # fmt: skip


def _other_count(c: CheckContext, row: BatteryRow, low: float) -> Iterator[Remedy]:
    """Yield the nearest number of modules that the input carries, or where there is none what else."""
    n = row.bank.modules
    best = min((m for m in range(1, 65) if _works_under_load(row, m, low)), key=lambda m: abs(m - n), default=None)
    if best is None:
        yield Remedy("a battery whose volts this inverter takes")
    else:
        yield Remedy(f"{best} battery modules instead of {n}", (Edit(c.path(f"nodes[{row.station.id}].battery.modules"), best),))


def _works_under_load(row: BatteryRow, modules: int, low: float) -> bool:
    """Return whether so many modules are a bank the input carries, its volts under load included where they are known."""
    if not chain.modules_fit(row.unit, row.bank.cells, modules, low):
        return False
    loaded = chain.under_load_v(row.unit, with_bank(row, modules=modules, leads_ohm=()).bank)
    return loaded is None or loaded[0] >= row.unit.battery_voltage_min_v


@check(
    "battery.count", "Number of battery modules", page="plans", needs={"plan"}, short="Battery count",
    source="the battery's card: fewest and most modules of one bank",
)  # fmt: skip
def battery_count(c: CheckContext) -> Iterator[Finding]:
    """Modules of a bank against the fewest and the most its card allows."""
    for row in c.plant.banked:
        n, least, most = row.bank.modules, row.bank.cells.modules_min, row.bank.cells.modules_max
        few = n < least
        limit = least if few else most
        edit = Edit(c.path(f"nodes[{row.station.id}].battery.modules"), limit)
        yield finding(
            c, "battery.count", row.station.name, "count", n, limit, "least" if few else "most",
            f"{n} modules, the card allows {least} to {most}", tight="ratio-within",
            remedies=[Remedy(f"{limit} battery modules instead of {n}", (edit,))],
        )  # fmt: skip


def _grid_slots(c: CheckContext) -> Iterator[tuple[int, Slot]]:
    for i, slot in enumerate(c.plan.controls.slots):
        if slot.kind in GRID_CHARGING and slot.power_w > 0:
            yield i, slot


@check(
    "battery.slot-price", "Charging in cheap hours", page="plans", needs={"grid", "plan"}, short="Slot and price",
    source="the plan's charge slots against the tariff's cheap window, by clock hours; arithmetic",
)  # fmt: skip
def slot_price(c: CheckContext) -> Iterator[Finding]:
    """Hours of a grid charge slot that lie outside the cheap window: it buys at the dear price, or where no price is cheaper."""
    tariff = c.job.tariff
    if tariff.seasons or tariff.hourly_import is not None or not any(True for _ in c.plant.banked):
        return
    window = cheap_window(tariff)
    for i, slot in _grid_slots(c):
        hours = window_hours(slot.start_h, slot.end_h)
        inside = 0.0 if window is None else _overlap_h((slot.start_h, slot.end_h), window)
        outside = hours - inside
        subject = slot.title
        where = "there is no cheaper hour" if window is None else f"the cheap window is {window[0]:g}–{window[1]:g} h"
        line = (
            f"{outside:g} of {hours:g} h buy at {tariff.import_price_per_kwh:g} a kWh, {where}; below its target the slot draws "
            f"{show(slot.power_w, 'power_w')} whatever the sun does"
        )
        at = c.path(f"controls.slots[{i}]")
        remedies = [Remedy("keep the charge, take no grid energy for it", (Edit(f"{at}.kind", "surplus_only"),))]
        if window is not None:
            edits = (Edit(f"{at}.start_h", window[0]), Edit(f"{at}.end_h", window[1]))
            remedies.insert(0, Remedy(f"charge from {window[0]:g} to {window[1]:g} h, the cheap window", edits))
        yield finding(
            c,
            "battery.slot-price",
            subject,
            "hours_h",
            outside,
            0.0,
            "most",
            line,
            soft=True,
            remedies=remedies,
            tight="ratio-within",
        )


def _overlap_h(slot: tuple[float, float], window: tuple[float, float]) -> float:
    """Return the hours that two clock windows share, past midnight allowed. [h]"""
    minutes = np.arange(1440) / 60.0
    return float(np.count_nonzero(in_window(minutes, *slot) & in_window(minutes, *window))) / 60.0


def paid_in_slot(c: CheckContext, slot: Slot) -> float:
    """Return the mean import price of a slot's hours, at two prices. [money/kWh]"""
    tariff, window = c.job.tariff, cheap_window(c.job.tariff)
    inside = 0.0 if window is None else _overlap_h((slot.start_h, slot.end_h), window)
    share = inside / window_hours(slot.start_h, slot.end_h)
    return share * tariff.cheap_price_per_kwh + (1.0 - share) * tariff.import_price_per_kwh


@check(
    "battery.round-trip", "Whether a round trip pays", page="plans", needs={"grid", "plan"}, short="Round trip pays",
    source="the program's definitions, D18: price avoided − price paid ÷ AC round trip − wear",
)  # fmt: skip
def round_trip(c: CheckContext) -> Iterator[Finding]:
    """What a kWh delivered saves against what charging it in a slot costs, losses counted, and wear where the battery is priced."""
    tariff = c.job.tariff
    if tariff.seasons or tariff.hourly_import is not None:
        return
    wear = None if c.facts is None else wear_of(c.job, c.plan, c.facts)
    for row in c.plant.banked:
        for _, slot in ((i, s) for i, s in _grid_slots(c) if s.holds_for(row.station.id)):
            trip = ac_round_trip(row, slot.power_w)
            if trip <= 0:
                continue
            paid = paid_in_slot(c, slot)
            gain = tariff.import_price_per_kwh - paid / trip - (0.0 if wear is None else wear.per_kwh)
            subject = f"{row.station.name}, {slot.title}"
            worn = "wear not counted" if wear is None else f"wear of {wear.per_kwh:.3f} taken off"
            line = (
                f"{tariff.import_price_per_kwh:g} avoided − {paid:.4g} paid ÷ {trip:.2f} round trip at AC = {gain:.3g} a kWh "
                f"delivered, {worn}"
            )
            yield finding(
                c, "battery.round-trip", subject, "money", gain, 0.0, "least", line, soft=True, tight="ratio-within",
                remedies=[Remedy("no grid charging at these prices", (Edit(c.path("controls.slots"), _without_grid(c)),))],
            )  # fmt: skip


def _without_grid(c: CheckContext) -> list[dict[str, object]]:
    return [slot.model_dump() for slot in c.plan.controls.slots if slot.kind != "charge_from_grid"]
