"""Checks of service and board: supply, free ways, fault level, devices and breakers, charging beside the house, old circuits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np

from calm_relay.job.control_models import GRID_CHARGING
from calm_relay.job.edits import Edit
from calm_relay.job.models import Node
from calm_relay.packs.pack import SHIPPED, pack_named
from calm_relay.plant.rows import inverter_rows
from calm_relay.plant.runs import TO_SUPPLY, RunRow, rises, run_rows, table_of
from calm_relay.plant.station import Station
from calm_relay.rules.checks_wiring import breaker_sizes, run_path
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.wiring.sums import Terminals, breaker_for, most_breaker_a


def added_nodes(c: CheckContext) -> list[Node]:
    """Return the inverters that a plan adds to today's system or puts in place of another: cards that today has fewer of."""
    left = Counter[str]()
    for node in c.job.plans[0].nodes:
        left[node.card] += node.count
    out = []
    for node in c.plan.nodes:
        left[node.card] -= node.count
        if left[node.card] < 0:
            out.append(node)
    return out


@check(
    "service.supply-volts", "Supply of the rules that were chosen", page="tariff", needs={"grid", "plan"}, short="Supply volts",
    source="volts of a line against the neutral, as typed, against those of the pack; the pack",
)  # fmt: skip
def supply_volts(c: CheckContext) -> Iterator[Finding]:
    """How far the supply's volts are from those that the pack's rules are made for."""
    nominal, limit = c.pack.value("supply_line_v"), c.pack.value("supply_off_most_frac")
    volts = c.plant.lines.volts_v
    off = abs(volts - nominal) / nominal
    line = f"{volts:g} V of a line against {nominal:g} V: {off * 100:.1f} % apart, {limit * 100:g} % are allowed for"
    others = [
        pack for pack in (map(pack_named, SHIPPED) if off > limit else ())
        if abs(volts - pack.value("supply_line_v")) <= pack.value("supply_off_most_frac") * pack.value("supply_line_v")
    ]  # fmt: skip
    remedies = [Remedy(f"the rules of {pack.name}", (Edit("pack", pack.id),)) for pack in others[:1]]
    yield finding(
        c, "service.supply-volts", "supply", "fraction", off, limit, "most", line, source=c.pack.source("supply_line_v"),
        remedies=[*remedies, Remedy("the rules of the place, or the volts read once more")],
    )  # fmt: skip


@check(
    "service.free-ways", "Breakers that the plan adds", page="site", needs={"plan"}, short="New breakers",
    source="ways free on the board against the inverters that are wired to it anew; the pack's standard sizes",
)  # fmt: skip
def free_ways(c: CheckContext) -> Iterator[Finding]:
    """Ways that the added inverters take on the board against those that are free, with the size of each new breaker."""
    sizes = breaker_sizes(c)
    rows = {row.id: row for row in run_rows(c.plant, c.pack)}
    wired = [node for node in added_nodes(c) if not node.plugged_in and node.reuses is None]
    if not wired:
        return
    said, taken = [], 0
    for node in wired:
        per_module = c.cards.inverter(node.card).per_module
        ways = node.branches if per_module else node.count
        taken += ways
        size = node.branch_breaker_a if per_module else breaker_for(rows[node.id].design_a / node.count, sizes)
        size_words = "of a size not typed" if size is None else f"of {size:g} A"
        said.append(f"{node.name} {f'{ways} × ' if ways > 1 else ''}a breaker {size_words}")
    free, words = c.job.site.board.free_ways, "; ".join(said)
    if free is None:
        yield unknown(c, "service.free-ways", "board", f"free ways on the board; the plan adds: {words}")
        return
    line = f"{words}: {count_words(taken, 'way')} of {free} free"
    yield finding(
        c, "service.free-ways", "board", "count", float(taken), float(free), "most", line, soft=True, tight=COUNTS,
        remedies=[Remedy("a larger board, a sub-board, or an old circuit used again")],
    )  # fmt: skip


@check(
    "service.fault-level", "Board interrupts the fault current", page="site", needs={"grid", "plan"}, short="Fault level",
    source="prospective short-circuit current at the board against what its breakers interrupt; measured and read on site",
)  # fmt: skip
def fault_level(c: CheckContext) -> Iterator[Finding]:
    """The supply's prospective short-circuit current against what the board's breakers can interrupt."""
    board = c.job.site.board
    if not c.plan.nodes:
        return
    lacking = [
        words for words, value in (("the supply's short-circuit current: measure it or ask the operator", board.fault_level_a),
                                   ("what the board's breakers interrupt: read them", board.breaks_a)) if value is None
    ]  # fmt: skip
    if board.fault_level_a is None or board.breaks_a is None:
        yield unknown(c, "service.fault-level", "board", " and ".join(lacking))
        return
    line = f"{board.fault_level_a:g} A may flow in a short circuit; the breakers interrupt {board.breaks_a:g} A"
    yield finding(
        c, "service.fault-level", "board", "current_a", board.fault_level_a, board.breaks_a, "most", line, tight=COUNTS,
        remedies=[Remedy("breakers that interrupt more, or back-up protection before them, by the electrician")],
    )  # fmt: skip


@check(
    "backup.device-rating", "Device against the breaker before it", page="plans", needs={"grid", "plan"}, short="Device rating",
    source="the transfer device of a whole house passes what the main breaker lets through; the card",
)  # fmt: skip
def device_rating(c: CheckContext) -> Iterator[Finding]:
    """The breaker before a transfer device of the whole house, against what the device passes."""
    transfer = c.plan.transfer
    if transfer is None or transfer.backed_up != "whole_house":
        return
    card, board = c.cards.transfer(transfer.card), c.job.site.board
    before = c.job.site.supply.service_a if board.main_breaker_a is None else board.main_breaker_a
    named = "the service" if board.main_breaker_a is None else "the main breaker"
    if card.pass_through_a is None:
        yield unknown(c, "backup.device-rating", card.name, "what the device passes: see its data sheet")
        return
    line = f"{named} lets {before:g} A through, {card.name} passes {card.pass_through_a:g} A"
    fit = max((size for size in breaker_sizes(c) if size <= card.pass_through_a), default=None)
    edits = () if fit is None else (Edit("site.board.main_breaker_a", fit),)
    words = "a device that passes more" if fit is None else f"a main breaker of {fit:g} A before it, or a larger device"
    yield finding(
        c, "backup.device-rating", card.name, "current_a", before, card.pass_through_a, "most", line, tight=COUNTS,
        remedies=[Remedy(words, edits)],
    )  # fmt: skip


@check(
    "backup.largest-breaker", "Largest breaker of the backup side", page="plans", needs={"plan"}, short="Backup breaker",
    source="the inverter's card: the largest breaker that so many units carry, read and never multiplied",
)  # fmt: skip
def largest_breaker(c: CheckContext) -> Iterator[Finding]:
    """The largest breaker of a backup circuit against what the card's table allows for so many units."""
    if c.plan.transfer is None:
        return
    for row in c.plant.forming:
        table = {one.units: one.breaker_a for one in row.station.fitting.backup_breakers}
        if not table:
            continue
        limit, largest = table.get(row.station.count), c.plan.transfer.largest_breaker_a
        if limit is None or largest is None:
            rows = f"its table has no row for {count_words(row.station.count, 'unit')}: ask its maker"
            yield unknown(
                c, "backup.largest-breaker", row.station.name, rows if limit is None else "the largest breaker of a backup circuit"
            )
            continue
        line = f"{largest:g} A; {row.station.model.name} allows {limit:g} A with {count_words(row.station.count, 'unit')}"
        yield finding(
            c, "backup.largest-breaker", row.station.name, "current_a", largest, limit, "most", line, tight=COUNTS,
            remedies=[Remedy(f"no breaker above {limit:g} A behind it", (Edit(c.path("transfer.largest_breaker_a"), limit),))],
        )  # fmt: skip


@check(
    "cable.lug", "Cable fits the AC terminals", page="site", needs={"plan"}, short="AC lug",
    source="the cards: sizes that the terminals of inverters and transfer devices take",
)  # fmt: skip
def lug(c: CheckContext) -> Iterator[Finding]:
    """Whether each run's size lies in the range that the terminals at its end take."""
    table = table_of(c.pack)
    for row in run_rows(c.plant, c.pack):
        if row.run is None or row.held is None:
            continue
        if row.id != TO_SUPPLY:
            card = c.cards.inverter(c.plan.node(row.id).card)
            name, ends = card.name, Terminals(card.lug_min_mm2, card.lug_max_mm2)
        elif c.plan.transfer is not None and c.plan.transfer.backed_up == "whole_house":
            device = c.cards.transfer(c.plan.transfer.card)
            name, ends = device.name, Terminals(device.lug_min_mm2, device.lug_max_mm2)
        else:
            continue
        if not ends.known:
            yield unknown(c, "cable.lug", row.name, f"the sizes that the terminals of {name} take: see its manual")
            continue
        good, fit = ends.take(row.held.conductor), [size for size in table.rows if ends.take(size)]
        remedies = [Remedy(fit[-1].name, (Edit(run_path(c, row, "size"), fit[-1].name),))] if fit else []
        remedies.append(Remedy("a reducer made for these terminals, or the next device"))
        line = f"{row.held.conductor.area_mm2:g} mm² of cable; the terminals of {name} take {ends.words}"
        yield finding(c, "cable.lug", row.name, YES_NO, float(good), 1.0, "least", line, tight=COUNTS, remedies=remedies)


@check(
    "service.reuse", "Old circuit used again", page="site", needs={"plan"}, short="Old circuit",
    source="Ib ≤ In ≤ Iz of the old cable and breaker for the new inverter, and the rise along it; the pack's tables",
)  # fmt: skip
def reuse(c: CheckContext) -> Iterator[Finding]:
    """The new inverter's current against what an old circuit carries: keep it, or replace it and why."""
    table, sizes = table_of(c.pack), breaker_sizes(c)
    rows = {row.id: row for row in run_rows(c.plant, c.pack)}
    limit_frac, all_rises = c.pack.value("rise_most_frac"), rises(tuple(rows.values()))
    for node in c.plan.nodes:
        circuit = next((one for one in c.job.site.circuits if one.id == node.reuses), None)
        if circuit is None:
            continue
        row, subject = rows[node.id], f"{circuit.name} for {node.name}"
        if row.held is None or circuit.run.protected_a is None:
            what = "size of its cable" if row.held is None else "breaker"
            yield unknown(c, "service.reuse", subject, f"the {what} of {circuit.name}: read it on site")
            continue
        most = most_breaker_a(table, circuit.run.size, row.held.amps, sizes) or 0.0
        breaker = circuit.run.protected_a
        why = _why_replaced(row, breaker, most, limit_frac)
        line = f"{row.design_a:.1f} A on {row.held.words}, a breaker of {breaker:g} A: {f'replace, {why}' if why else 'keep'}"
        mine = next((one for one in all_rises if one.name == row.name), None)
        if not why and mine is not None and mine.frac > limit_frac:
            line += f"; {mine.frac * 100:.1f} % of rise in all is above {limit_frac * 100:g} %"
        cable_first = row.design_a <= row.held.amps and breaker > most  # the breaker itself is what the cable does not stand
        value, limit = (breaker, most) if cable_first else (row.design_a, min(row.held.amps, breaker))
        yield finding(
            c, "service.reuse", subject, "current_a", value, limit, "most", line,
            remedies=[Remedy("a new cable and breaker", (Edit(c.path(f"nodes[{node.id}].reuses"), None),))],
        )  # fmt: skip


def _why_replaced(row: RunRow, breaker: float, most: float, limit_frac: float) -> str:
    assert row.held is not None
    if row.design_a > row.held.amps:
        return "its cable carries too little"
    if breaker > most:
        return f"its cable is protected by at most {most:g} A"
    if row.design_a > breaker:
        return "its breaker trips below what flows"
    if row.change_v is not None and row.change_v > limit_frac * row.volts:
        return f"the rise along it alone is {row.change_v / row.volts * 100:.1f} %"
    return ""


def _charging_w(c: CheckContext) -> list[tuple[Station, float]]:
    """Return the AC watts that each battery may draw in charge slots, the most of them that lie together. [W]"""
    out = []
    for row in c.plant.banked:
        slots = [s for s in c.plan.controls.slots if s.kind in GRID_CHARGING and s.holds_for(row.station.id)]
        watts = max((slot.power_w for slot in slots), default=0.0)
        if watts > 0:
            out.append((row.station, min(watts, row.unit.charger_in_max_w)))
    return out


@check(
    "service.charging", "Service while charging", page="tariff", needs={"grid", "plan", "year"}, short="While charging",
    source="the house's peak in the year and the chargers together, continuous part by the pack's factor; arithmetic",
)  # fmt: skip
def charging(c: CheckContext) -> Iterator[Finding]:
    """The house's peak with the batteries charging at once, on each phase or leg, against the main breaker."""
    assert c.facts is not None
    supply, board = c.job.site.supply, c.job.site.board
    drawn = _charging_w(c)
    if not drawn:
        return
    count, factor, volts = c.plant.lines.count, c.pack.value("continuous_factor"), c.plant.lines.volts_v
    limit = min(supply.service_a, board.main_breaker_a or supply.service_a)
    charge = np.zeros(count)
    for node, watts in drawn:
        charge += watts * np.array(c.plant.station(node.id).shares)
    cap = c.job.site.import_limit_w
    peaks = [row.peak_w for row in c.facts.lines] or [c.facts.house_peak_w]
    for i, (peak, chargers) in enumerate(zip(peaks, charge, strict=True)):
        if chargers <= 0:
            continue
        name = c.facts.lines[i].name if count > 1 else "supply"
        held = "" if cap is None else f"; the import limit of {show(cap, 'power_w')} cuts charging first"
        whole = (peak + factor * chargers) / volts
        value = whole if cap is None else min(whole, max(peak, cap / count) / volts)
        times = f" × {factor:g}" if factor != 1.0 else ""
        line = (
            f"{c.facts.at_least(show(peak, 'power_w', 2))} of house and {show(float(chargers), 'power_w', 2)}{times} of charging "
            f"at {volts:g} V = {whole:.1f} A of {limit:g} A{held}"
        )
        most = limit * volts * count
        edits = (Edit("site.import_limit_w", most),) if peak <= limit * volts else ()
        yield finding(
            c, "service.charging", name, "current_a", value, limit, "most", line, soft=True,
            remedies=[Remedy(f"an import limit of {show(most, 'power_w', 1)}", edits)],
        )  # fmt: skip


@check(
    "service.kva", "Apparent power at the service", page="tariff", needs={"grid", "plan", "year"}, short="Service in kVA",
    source="the program's definitions, D14: S = P ÷ power factor of each load, against the service's amps",
)  # fmt: skip
def kva(c: CheckContext) -> Iterator[Finding]:
    """The house's highest apparent power in the year, against the service; inverters at a fixed power factor are named."""
    assert c.facts is not None
    supply, factor = c.job.site.supply, c.job.site.network.power_factor
    limit = supply.service_a * supply.voltage_v * supply.phases
    peak = c.facts.house_peak_va
    line = (
        f"{c.facts.at_least(show(peak, 'apparent_va'))} ({show(c.facts.house_peak_w, 'power_w')}) of {show(limit, 'apparent_va')}"
    )
    yield finding(
        c, "service.kva", "house", "apparent_va", peak, limit, "most", line,
        remedies=[Remedy("loads that do not run together, correction of the power factor, or a larger service")],
    )  # fmt: skip
    rated = sum(card.ac_rated_w for _, card in inverter_rows(c.plan, c.cards))
    if factor < 1.0 and rated > 0:
        other = rated * float(np.sqrt(1.0 - factor**2))
        words = (
            f"at the power factor of {factor:g} {show(rated, 'apparent_va', 2)} of inverters give "
            f"{show(rated * factor, 'power_w', 2)} and {other / 1000:.2f} kvar"
        )
        yield note(c, "service.kva", "inverters", words)


@check(
    "service.existing-load", "Smallest main breaker for the load", page="tariff", needs={"grid", "plan", "year"},
    short="Load and main", source="highest demand of twelve months by the pack's factor, and what is new; NEC 220.87, from memory",
)  # fmt: skip
def existing_load(c: CheckContext) -> Iterator[Finding]:
    """The highest demand of the year by the pack's factor, with loads to come and charging, against the main breaker."""
    assert c.facts is not None
    supply, board = c.job.site.supply, c.job.site.board
    if not any(not node.plugged_in for node in added_nodes(c)) and board.main_breaker_a is None:
        return
    if board.main_breaker_a is None:
        yield unknown(c, "service.existing-load", "board", "the main breaker: read it on the board")
        return
    volts = supply.voltage_v * (3.0 if supply.kind == "three_phase" else 1.0)
    factor, duty = c.pack.value("existing_load_factor"), c.pack.value("continuous_factor")
    new = sum(a.running_w for a in c.job.house.later if a not in c.job.house.counted)
    charge = sum(watts for _, watts in _charging_w(c))
    amps = (factor * c.facts.house_peak_w + duty * (new + charge)) / volts
    least = breaker_for(amps, breaker_sizes(c))
    parts = [f"{factor:g} × {c.facts.at_least(show(c.facts.house_peak_w, 'power_w', 2))}"]
    parts += [
        f"{duty:g} × {show(watts, 'power_w', 2)} {name}" for name, watts in (("to come", new), ("of charging", charge)) if watts
    ]
    line = f"({' + '.join(parts)}) / {volts:g} V = {amps:.1f} A of {board.main_breaker_a:g} A"
    line += "" if least is None else f"; {least:g} A is the smallest that does"
    remedies = []
    if least is not None:
        words = f"a main breaker of {least:g} A, where service and board allow it"
        remedies = [Remedy(words, (Edit("site.board.main_breaker_a", least),))]
    yield finding(
        c, "service.existing-load", "board", "current_a", amps, board.main_breaker_a, "most", line, soft=True, remedies=remedies,
        source=c.pack.source("existing_load_factor"),
    )  # fmt: skip


@check(
    "service.balance", "Loads even on the phases", page="house", needs={"grid", "plan", "year"}, short="Phases even",
    source="simulated year: mean load of the fullest phase or leg over that of the mean one; the pack, ours",
)  # fmt: skip
def balance(c: CheckContext) -> Iterator[Finding]:
    """The house's energy on the fullest phase or leg, over that of the mean one."""
    assert c.facts is not None
    rows = c.facts.lines
    mean = sum(row.energy_wh for row in rows) / max(1, len(rows))
    if len(rows) < 2 or mean <= 0:
        return
    worst, least = max(rows, key=lambda r: r.energy_wh), min(rows, key=lambda r: r.energy_wh)
    limit = c.pack.value("line_share_most")
    means = f"{show(mean, 'energy_wh', 0)} on the mean: {worst.energy_wh / mean:.2f}"
    line = f"{worst.name} {show(worst.energy_wh, 'energy_wh', 0)}, {means}"
    yield finding(
        c, "service.balance", worst.name, "ratio", worst.energy_wh / mean, limit, "most", line, soft=True,
        remedies=[Remedy(f"circuits moved from {worst.name} to {least.name}")], source=c.pack.source("line_share_most"),
    )  # fmt: skip


@check(
    "service.one-phase-battery", "Battery on one of three phases", page="plans", needs={"grid", "plan", "year"},
    short="One-phase battery",
    source="simulated year: where each phase is counted by itself, a battery on one phase saves only what that phase draws",
)  # fmt: skip
def one_phase_battery(c: CheckContext) -> Iterator[Finding]:
    """The share of the house's energy that lies on the phases of the batteries, where each phase is counted by itself."""
    assert c.facts is not None
    supply, rows = c.job.site.supply, list(c.plant.banked)
    if supply.kind != "three_phase" or not rows or len(c.facts.lines) != 3:
        return
    on = np.zeros(3)
    for row in rows:
        on = np.maximum(on, np.array(c.plant.station(row.station.id).shares) > 0)
    whole = sum(line.energy_wh for line in c.facts.lines)
    share = sum(line.energy_wh for line, there in zip(c.facts.lines, on, strict=True) if there) / whole if whole > 0 else 1.0
    if c.job.tariff.netting == "summed" or on.all():
        words = "the meter sums 3 phases: it serves them all" if not on.all() else "it stands on all 3 phases"
        yield finding(c, "service.one-phase-battery", "batteries", YES_NO, 1.0, 1.0, "least", words, tight=COUNTS)
        return
    line = f"{share * 100:.0f} % of the house's energy lies on the phases of the batteries, and each phase is counted by itself"
    yield finding(
        c, "service.one-phase-battery", "batteries", "fraction", share, 1.0, "least", line, soft=True,
        remedies=[Remedy("a three-phase inverter, the large loads on its phase, or a meter that sums the phases")],
    )  # fmt: skip
