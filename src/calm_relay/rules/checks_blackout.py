"""Checks of the backup side in an outage: how long, what is in the parts list, where the PV stands, what frequency and frost do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from calm_relay.job.edits import Edit
from calm_relay.plant.chain import capacity_wh, charge_chain, module_counts, terminals_limit_w
from calm_relay.plant.resolve import with_bank
from calm_relay.plant.station import BatteryRow
from calm_relay.pv.roof import group_stc_w
from calm_relay.rules.checks_bank import PLACES
from calm_relay.rules.checks_service import backup_appliances
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.cells import place_range_c
from calm_relay.year.curves import left_w

FULL = 1.0


def _behind(c: CheckContext) -> Sequence[BatteryRow]:
    """Return what forms a grid behind the transfer device; nothing where there is no outage to speak of."""
    if c.plan.transfer is None or c.plan.off_grid:
        return []
    return c.plant.forming


def _ac_pv_w(c: CheckContext) -> float:
    """Return the AC ratings of PV-only inverters behind the transfer device. [W]"""
    return sum(s.each.ac_rated_w * s.strings_units for s in c.plant.pv_behind)


@check(
    "backup.ride-through", "The brief's outage is survived", page="blackout", needs={"grid", "plan", "outage"},
    short="Ride-through",
    source="simulated year, every hour of the brief's season as a start (definitions D16); least share in the pack",
)  # fmt: skip
def ride_through(c: CheckContext) -> Iterator[Finding]:
    """The share of the season's hours from which what must stay on lasts the brief's longest outage."""
    if c.survived is None:
        return
    share, length, season = c.survived
    when = "of the year" if season == "any" else f"in {season}"
    limit = c.pack.value("survived_share_least")
    line = f"what must stay on lasts {length:g} h from {share * 100:.0f} % of the hours {when}, with the year's charge then"
    kept = c.plan.controls.reserve_soc_frac
    remedies = [Remedy("a larger reserve, more battery, or fewer loads that must stay on: Blackout, 'What would survive more?'")]
    if kept < FULL:
        line += f"; {show(kept, 'fraction')} are held in reserve"
    yield finding(c, "backup.ride-through", "backup side", "fraction", share, limit, "least", line, soft=True, remedies=remedies)


@check(
    "backup.parts", "What a backup takes is in the parts list", page="plans", needs={"grid", "plan"}, short="Backup's parts",
    source="isolating device, an inverter that forms a grid, a battery on it, all behind the device; common practice",
)  # fmt: skip
def parts(c: CheckContext) -> Iterator[Finding]:
    """Whether a plan with a battery, for a brief that speaks of outages, holds all that a backup takes."""
    banks = list(c.plant.banked)
    if not banks or not c.job.brief.longest_h or not any(load.essential for load in c.job.house.counted):
        return
    has = {
        "a transfer device": c.plan.transfer is not None,
        "an inverter that forms a grid": any(row.unit.grid_forming for row in banks),
        "it stands on the backup side": bool(_behind(c)),
    }
    lacking = [name for name, there in has.items() if not there]
    line = f"{len(has) - len(lacking)} of {len(has)} are there" + (f"; missing: {', '.join(lacking)}" if lacking else "")
    remedies = [Remedy(f"add {', '.join(lacking)}")]
    yield finding(
        c, "backup.parts", "backup side", "count", len(has) - len(lacking), len(has), "least", line, tight=COUNTS, remedies=remedies
    )


@check(
    "backup.pv-side", "PV behind the transfer device", page="plans", needs={"grid", "plan"}, short="PV's side",
    source="PV on the grid side is dead in an outage, on the backup side it can be used and throttled; common practice",
)  # fmt: skip
def pv_side(c: CheckContext) -> Iterator[Finding]:
    """How much of the array stands where it works with the grid gone."""
    if not _behind(c):
        return
    every = {node.id: sum(group_stc_w(g, c.cards) for g in node.strings) for node in c.plan.nodes}
    total = sum(every.values())
    if total <= 0:
        return
    here = sum(wp for node in c.plan.nodes if node.side == "backup" for wp in (every[node.id],))
    dead = [node for node in c.plan.nodes if node.side != "backup" and every[node.id] > 0]
    line = f"{show(here, 'power_w')}p of {show(total, 'power_w')}p stand behind the transfer device"
    if dead:
        line += f"; {', '.join(node.name for node in dead)} before it is off in an outage; to move it is labour for the quote"
    edits = tuple(Edit(c.path(f"nodes[{node.id}].side"), "backup") for node in dead)
    remedies = [Remedy("connect it behind the transfer device", edits)]
    yield finding(c, "backup.pv-side", "array", "power_w", here, total, "least", line, soft=True, tight=COUNTS, remedies=remedies)


@check(
    "backup.absorb-energy", "Battery large enough for AC-coupled PV", page="plans", needs={"grid", "plan"},
    short="Energy to absorb",
    source="2 kWh per kW of AC-coupled PV for lithium, 5 for lead-acid, common practice",
)  # fmt: skip
def absorb_energy(c: CheckContext) -> Iterator[Finding]:
    """The bank behind the device against what AC-coupled PV asks of it, so that its charge does not jump with every cloud."""
    rows, watts = _behind(c), _ac_pv_w(c)
    if not rows or watts <= 0:
        return
    lead = any(row.bank.cells.is_lead for row in rows)
    ratio = c.pack.value("absorb_wh_per_w_lead") if lead else c.pack.value("absorb_wh_per_w_lithium")
    have, need = sum(capacity_wh(row.bank) for row in rows), ratio * watts
    line = f"{show(have, 'energy_wh')} of battery beside {show(watts, 'power_w')} of AC-coupled PV × {ratio:g} kWh/kW"
    remedies = [*_more_modules(c, rows, need), Remedy(f"{show(need, 'energy_wh')} of battery, or the PV inverter on the grid side")]
    yield finding(c, "backup.absorb-energy", "backup side", "energy_wh", have, need, "least", line, soft=True, remedies=remedies)


def _more_modules(c: CheckContext, rows: Sequence[BatteryRow], need_wh: float) -> list[Remedy]:
    """Return so many modules on the one bank there is that it holds the energy, where they fit. [Wh]"""
    if len(rows) != 1:
        return []
    row = rows[0]
    for n in module_counts(row.unit, row.bank.cells):
        if n > row.bank.modules and capacity_wh(with_bank(row, modules=n).bank) >= need_wh:
            edit = Edit(c.path(f"nodes[{row.station.id}].battery.modules"), n)
            return [Remedy(f"{n} battery modules instead of {row.bank.modules}", (edit,))]
    return []


@check(
    "backup.frequency", "AC-coupled PV held at a full battery", page="blackout", needs={"grid", "plan"}, short="Frequency",
    source="the inverter's frequency curve with its trips (definitions D17)",
)  # fmt: skip
def frequency(c: CheckContext) -> Iterator[Finding]:
    """What a PV inverter's curve leaves of its power where it trips, against what always runs: with more it drops out."""
    if not _behind(c):
        return
    least_w = sum(a.running_w for a in backup_appliances(c) if a.essential and a.day_run_h >= 23.0)
    for node in c.plant.pv_behind:
        record = node.fitting.frequency
        if record is None:
            yield unknown(
                c, "backup.frequency", node.name, "its frequency curve: ask its maker; until then it counts as one that only trips"
            )
            continue
        rated = node.each.ac_rated_w * node.strings_units
        first = min(trip.frequency_hz for trip in record.trips)
        left = left_w(record, first, rated, rated)
        line = (
            f"at {first:g} Hz, where it trips, its curve leaves {show(left, 'power_w')} of {show(rated, 'power_w')}; what always "
            f"runs takes {show(least_w, 'power_w')}"
        )
        line += "; with a full battery it drops out and comes back" if left > least_w else "; it is held, however full the battery"
        remedies = [
            Remedy("a PV inverter whose power goes to nothing below its trip, or its strings on the inverter that forms the grid")
        ]
        yield finding(
            c, "backup.frequency", node.name, "power_w", left, least_w, "most", line, soft=True, tight=COUNTS, remedies=remedies
        )


@check(
    "backup.thresholds", "Thresholds of an outage in order", page="blackout", needs={"plan"}, short="Thresholds",
    source="what stops charging lies above what starts it, what switches off below what switches on, with a gap; gap in the pack",
)  # fmt: skip
def thresholds(c: CheckContext) -> Iterator[Finding]:
    """Charge at which AC-coupled PV, loads and a generator go off and on: in their order, and far enough apart."""
    gap, controls = c.pack.value("threshold_gap_least"), c.plan.controls
    rows: list[tuple[str, float, float, str, str]] = []
    if _behind(c) and _ac_pv_w(c) > 0:
        rows.append((
            "AC-coupled PV", controls.island_start_soc_frac, controls.island_stop_soc_frac, "starts charging below", "stops at",
        ))  # fmt: skip
    for load in backup_appliances(c) if c.plan.has_backup_side else ():
        if load.off_below_soc_frac is not None and load.outage_charge_frac is not None:
            rows.append((load.name, *load.outage_charge_frac, "is off below", "on again at"))
    generator = c.plan.generator
    if generator is not None and c.cards.generator(generator.card).auto_start:
        rows.append(("Generator", generator.start_soc_frac, generator.stop_soc_frac, "starts below", "stops at"))
    for name, low, high, below, above in rows:
        line = f"{name} {below} {show(low, 'fraction')}, {above} {show(high, 'fraction')}: {show(high - low, 'fraction')} apart"
        if high - low <= 0:
            line += "; the wrong way round, it would chatter"
        remedies = _apart(c, name, low, gap)
        yield finding(c, "backup.thresholds", name, "fraction", high - low, gap, "least", line, tight=COUNTS, remedies=remedies)


def _apart(c: CheckContext, name: str, low: float, gap: float) -> list[Remedy]:
    """Return the upper threshold put a tenth above the lower, or both put to the usual ones where there is no room."""
    high = round(min(1.0, low + max(0.1, gap)), 2)
    lower = round(min(low, high - max(0.1, gap)), 2)
    if name == "AC-coupled PV":
        paths = (c.path("controls.island_start_soc_frac"), c.path("controls.island_stop_soc_frac"))
    elif name == "Generator":
        paths = (c.path("generator.start_soc_frac"), c.path("generator.stop_soc_frac"))
    else:
        load = next(a for a in c.job.house.counted if a.name == name and a.off_below_soc_frac is not None)
        paths = (f"house.appliances[{load.id}].off_below_soc_frac", f"house.appliances[{load.id}].on_above_soc_frac")
    words = f"{show(lower, 'fraction')} and {show(high, 'fraction')}"
    return [Remedy(words, (Edit(paths[0], lower), Edit(paths[1], high)))]


@check(
    "backup.frosty-dawn", "AC-coupled PV on a frosty dawn", page="blackout", needs={"grid", "plan"}, short="Frosty dawn",
    source="the battery's charge limit at its place's lowest temperature; LFP takes nothing at 0 °C, common practice",
)  # fmt: skip
def frosty_dawn(c: CheckContext) -> Iterator[Finding]:
    """What the battery takes on the coldest morning against AC-coupled PV less what always runs: the island loses its PV else."""
    rows, watts = _behind(c), _ac_pv_w(c)
    if not rows or watts <= 0:
        return
    always = sum(a.running_w for a in backup_appliances(c) if a.essential and a.day_run_h >= 23.0)
    for row in rows:
        if row.bank.place is None:
            yield unknown(c, "backup.frosty-dawn", row.station.name, "where the bank stands: choose its place")
            return
        if _takes_w(c, row, row.bank.place) is None:
            what = "the site's record low, what the battery takes in the cold, or its charge limit"
            yield unknown(c, "backup.frosty-dawn", row.station.name, what)
            return
    takes = sum(_takes_w(c, row, row.bank.place or "") or 0.0 for row in rows)
    need = max(0.0, watts - always)
    line = (
        f"{show(watts, 'power_w')} of AC-coupled PV less {show(always, 'power_w')} that always runs; on the coldest morning the "
        f"battery takes {show(takes, 'power_w')} at AC"
    )
    remedies = []
    if len(rows) == 1:
        at, fit = c.path(f"nodes[{rows[0].station.id}].battery.place"), rows[0].battery.box.places
        good = [p for p in PLACES if p in fit and p != rows[0].bank.place and (_takes_w(c, rows[0], p) or 0.0) >= need]
        remedies = [Remedy(f"stand it {PLACES[p]}", (Edit(at, p),)) for p in good]
    remedies.append(Remedy("stand the battery where it stays warm, heat it, or put strings on the inverter that forms the grid"))
    yield finding(
        c, "backup.frosty-dawn", "backup side", "power_w", need, takes, "most", line, soft=True, tight=COUNTS, remedies=remedies
    )


def _takes_w(c: CheckContext, row: BatteryRow, place: str) -> float | None:
    """Return what a bank takes at AC on the coldest morning of a place; None where a figure is silent. [W]"""
    low, _ = place_range_c(c.job.site, place, c.pack)
    share = None if low is None else row.bank.cells.charge_share_at(low)
    dc = terminals_limit_w(charge_chain(row.unit, row.bank))
    return None if share is None or dc is None else float(row.unit.charger_ac_w(share * dc))


@check(
    "backup.no-return", "What must stay on comes back by itself", page="blackout", needs={"grid", "plan"}, short="Comes back",
    source="circuits with no automatic return stay off after a trip until someone switches them on",
)  # fmt: skip
def no_return(c: CheckContext) -> Iterator[Finding]:
    """Whether a load that must stay on would wait for a hand after the inverters tripped."""
    if not _behind(c):
        return
    waiting = [a for a in backup_appliances(c) if a.no_auto_return]
    vital = [a for a in waiting if a.essential]
    line = f"{count_words(len(waiting), 'load')} would wait to be switched on after a trip"
    line += f": {', '.join(a.name for a in waiting)}" if waiting else ""
    line += f"; {', '.join(a.name for a in vital)} must stay on" if vital else ""
    edits = tuple(Edit(f"house.appliances[{a.id}].no_auto_return", value=False) for a in vital)
    remedies = [Remedy("circuits that come back by themselves", edits)]
    yield finding(
        c, "backup.no-return", "backup side", YES_NO, float(not vital), 1.0, "least", line, tight=COUNTS, soft=True,
        remedies=remedies,
    )  # fmt: skip
