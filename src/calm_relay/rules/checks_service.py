"""Checks of the backup side and of the network's counting."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.house_models import Appliance
from calm_relay.library.cards import InverterCard
from calm_relay.plant import chain
from calm_relay.plant.offgrid import continuous_va, plan_continuous_va
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.unit import Unit, unit_of
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.units import format_quantity as show


def backup_appliances(c: CheckContext) -> list[Appliance]:
    """Return the appliances behind the transfer device."""
    listed = c.plan.backed_up
    return [a for a in c.job.house.counted if listed is None or a.id in listed]


@check(
    "backup.offgrid-power",
    "Pass-through against off-grid power",
    page="plans",
    needs={"plan", "year"},
    short="Off-grid power",
    source="definitions of grid-up and grid-down limits; simulated load of the backup side",
)
def offgrid_power(c: CheckContext) -> Iterator[Finding]:
    """The backup side's peak against what the inverters make with the grid gone, beside what passes with the grid up."""
    assert c.facts is not None
    if not c.plan.has_backup_side:
        return
    forming = c.plant.forming
    amps = c.cards.transfer(c.plan.transfer.card).pass_through_a if c.plan.transfer else None
    supply = c.job.site.supply
    subject = "house" if c.plan.off_grid else "backup side"
    if not forming:
        yield note(
            c,
            "backup.offgrid-power",
            subject,
            "nothing on the backup side forms the grid: all of it is dark in an outage",
        )
        return
    limit = plan_continuous_va(c.plant)
    if limit is None:
        silent = [row.station.name for row in forming if continuous_va(row) is None]
        what = f"off-grid continuous power of {', '.join(silent)}, or its battery's discharge limit: see the data sheets"
        yield unknown(c, "backup.offgrid-power", subject, what)
        return
    peak = c.facts.backup_peak_va
    passes = (
        "not on the card"
        if amps is None
        else f"{amps:g} A × {supply.voltage_v:g} V = {supply.voltage_v * amps * supply.phases / 1000:.1f} kVA"
    )
    grid_up = "" if c.plan.off_grid else f"grid up {passes} passes through; grid down "
    line = (
        f"{grid_up}{show(limit, 'apparent_va')} is made, battery limit included; "
        f"the {'house' if c.plan.off_grid else 'backup side'}'s peak in the year is {c.facts.at_least(show(peak, 'apparent_va'))} "
        f"({show(c.facts.backup_peak_w, 'power_w')})"
    )
    connected = _connected_va(c) if c.facts.coarse_step_s is not None else 0.0
    worse = connected > peak and peak <= limit
    if connected > peak:
        line += f"; its listed loads, all at once, are {show(connected, 'apparent_va')}"
    yield finding(
        c, "backup.offgrid-power", subject, "apparent_va", connected if worse else peak, limit, "most", line,
        remedies=_shed(c, limit), soft=worse,
    )  # fmt: skip


def _connected_va(c: CheckContext) -> float:
    """Return the apparent power of a listed backup side with all its appliances on at once; 0 for a whole house. [VA]"""
    listed = c.plan.transfer is not None and c.plan.transfer.backed_up == "listed"
    return sum(running_va(load) for load in backup_appliances(c)) if listed else 0.0


def running_va(load: Appliance) -> float:
    """Return an appliance's running apparent power. [VA]"""
    return load.running_w / load.power_factor


def _shed(c: CheckContext, limit_va: float) -> list[Remedy]:
    """Return the essential-loads list that fits by the sum of running VA, largest left out first."""
    if c.plan.transfer is None:
        return [Remedy(f"inverters and batteries that make more than {show(limit_va, 'apparent_va')}, or loads that take turns")]
    essential = [a for a in c.job.house.counted if a.essential]
    kept = sorted(essential, key=running_va)
    while kept and sum(running_va(load) for load in kept) > limit_va:
        kept.pop()
    if not kept:
        return [Remedy("a larger inverter, or fewer loads on the backup side")]
    ids = [a.id for a in c.job.house.appliances if a in kept]
    left_out = [a.name for a in essential if a not in kept]
    words = f"an essential-loads panel with {len(ids)} loads, {show(sum(a.running_w for a in kept), 'power_w')} together"
    if left_out:
        words += f"; left out: {', '.join(left_out)}"
    edits = (Edit(c.path("transfer.backed_up"), "listed"), Edit(c.path("transfer.listed"), ids))
    return [Remedy(words, edits)]


def _absorbs_w(row: BatteryRow, unit: Unit) -> float:
    """Return the AC watts a unit takes in beside its own strings, which charge first, with the row's battery behind it. [W]"""
    takes, dc = unit.absorb_max_w or 0.0, chain.terminals_limit_w(chain.charge_chain(unit, row.bank))
    return takes if dc is None else min(takes, unit.charger_ac_w(max(0.0, dc - row.station.array_stc_w)))


@check(
    "backup.ac-pv-absorb",
    "AC-coupled PV against what the battery side absorbs",
    page="plans",
    needs={"plan"},
    short="AC PV to absorb",
    source="1:1 rule on the charge rating, common practice; the card's ratio where it gives one",
)
def ac_pv_absorb(c: CheckContext) -> Iterator[Finding]:
    """Sum of PV-only inverters on the backup side against what the forming inverters and their batteries take in."""
    forming = c.plant.forming
    pv = [station for station in c.plant.pv_only if station.side == "backup"]
    if not forming or not pv:
        return
    subject = " + ".join(station.name for station in pv)
    limit, words = 0.0, []
    for row in forming:
        node, unit = row.station, row.unit
        if unit.absorb_max_w is None:
            yield unknown(
                c,
                "backup.ac-pv-absorb",
                subject,
                f"what {node.name} absorbs off grid: ask its maker (keeps the plan from being recommended)",
            )
            return
        takes, own = _absorbs_w(row, unit), node.array_stc_w
        limit += takes * unit.absorb_ratio
        beside = f" beside {show(own, 'power_w')} of its own DC PV" if own else ""
        words.append(f"{node.name} {show(takes, 'power_w')}{beside} × {unit.absorb_ratio:g}")
    value = sum(station.unit.ac_rated_w for station in pv)
    line = f"{show(value, 'power_w')} of PV inverters on the backup side; absorbs {' + '.join(words)} = {show(limit, 'power_w')}"
    edits = tuple(Edit(c.path(f"nodes[{station.id}].side"), "grid") for station in pv)
    remedies = [Remedy("put the PV inverter on the grid side: it is then off in an outage", edits)]
    node = forming[0].station
    if len(forming) == 1:

        def takes_all(card: InverterCard) -> bool:
            unit = unit_of(card)
            return _absorbs_w(forming[0], unit) * unit.absorb_ratio >= value

        best = swap_card(c, node, takes_all, lambda card: card.ac_rated_w)
        if best is not None and best.id != node.model.id:
            remedies.append(Remedy(f"{best.name} in place of {node.model.name}", swap_edits(c, node, best)))
    yield finding(c, "backup.ac-pv-absorb", subject, "power_w", value, limit, "most", line, remedies=remedies)
