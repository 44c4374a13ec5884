"""Checks of limits that the year passed: export and import, main fuse and transfer device by phase; what is not backed up."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from calm_relay.job.edits import Edit
from calm_relay.library.cards import InverterCard
from calm_relay.plant.unit import Unit
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show
from calm_relay.units import hours_a_year

if TYPE_CHECKING:
    from calm_relay.year.facts import Exceeded
    from calm_relay.year.lines import LineAmps


def _words(e: Exceeded) -> str:
    """Return how far and how often a limit was passed."""
    if e.hours_h <= 0:
        return "never passed"
    return f"passed for {hours_a_year(e.hours_h)}, by up to {show(e.peak_w, 'power_w')} and {show(e.over_wh, 'energy_wh')} a year"


def _highest_w(e: Exceeded, limit_w: float) -> float:
    """Return the highest power of the year that counts against a limit. [W]"""
    return limit_w + e.peak_w if e.hours_h > 0 else min(e.highest_w, limit_w)


def _cost(e: Exceeded) -> str:
    return f"{e.hours_h:.0f} h over · {show(e.over_wh, 'energy_wh')} a year" if e.hours_h > 0 else ""


@check(
    "network.export-cap", "Export against its cap", page="tariff", needs={"grid", "plan", "year"}, short="Export cap",
    source="simulated year; the network's export limit as typed. PV that nobody can throttle passes it",
)  # fmt: skip
def export_cap(c: CheckContext) -> Iterator[Finding]:
    """The highest export of the year against the cap, after all that can be cut was cut."""
    assert c.facts is not None
    limit, e = c.plant.caps.export_w, c.facts.exceeded.get("export_cap")
    if limit is None or e is None:
        return
    line = f"up to {show(e.highest_w, 'power_w')} exported, the cap is {show(limit, 'power_w')}: {_words(e)}"
    yield finding(
        c, "network.export-cap", "meter", "power_w", _highest_w(e, limit), limit, "most", line, remedies=_throttled(c),
        cost=_cost(e), tight="ratio-within",
    )  # fmt: skip


def _throttled(c: CheckContext) -> Iterator[Remedy]:
    """Return inverters that can be throttled in place of those that cannot."""
    for node in c.plant.pv_only:
        unit = node.each
        if unit.controllable or not node.strings:
            continue

        def can(other: InverterCard, now: Unit = unit) -> bool:
            return other.controllable and len(other.trackers) >= len(now.trackers)

        best = swap_card(c, node, can, lambda other, now=unit: abs(other.ac_rated_w - now.ac_rated_w))  # type: ignore[misc]
        if best is not None:
            yield Remedy(f"{best.name}, which can be throttled, in place of {node.model.name}", swap_edits(c, node, best))
    yield Remedy("inverters that can be throttled, fewer modules, or a permission for more export")


@check(
    "network.import-limit", "Import against its limit", page="tariff", needs={"grid", "plan", "year"}, short="Import limit",
    source="simulated year; the import limit as typed. Charging is cut first, the house is not",
)  # fmt: skip
def import_limit(c: CheckContext) -> Iterator[Finding]:
    """The highest import of the year against the limit, after charging was cut."""
    assert c.facts is not None
    limit, e = c.job.site.import_limit_w, c.facts.exceeded.get("import")
    if limit is None or e is None:
        return
    line = f"up to {show(e.highest_w, 'power_w')} imported, the limit is {show(limit, 'power_w')}: {_words(e)}"
    value = _highest_w(e, limit)
    remedy = Remedy(f"a supply of {show(value, 'power_w')}, or loads that do not run together")
    yield finding(c, "network.import-limit", "meter", "power_w", value, limit, "most", line, remedies=[remedy], cost=_cost(e))


@check(
    "service.main-fuse", "Main fuse, each phase", page="tariff", needs={"grid", "plan", "year"}, short="Main fuse",
    source="simulated year, real power over the volts of the line; means over a step, so shorter peaks are higher",
)  # fmt: skip
def main_fuse(c: CheckContext) -> Iterator[Finding]:
    """What each phase or leg carries at the meter against the service's rating."""
    assert c.facts is not None
    limit = c.job.site.supply.service_a
    for row in c.facts.amps:
        most = c.facts.at_least(f"{row.meter_a:.1f} A")
        line = f"{row.name} carries up to {most} of {limit:g} A: {hours_a_year(row.fuse_hours_h)} above"
        yield finding(
            c, "service.main-fuse", row.name, "current_a", row.meter_a, limit, "most", line, remedies=_less_at_once(row),
            cost=_hours_over(row.fuse_hours_h),
        )  # fmt: skip


def _hours_over(hours_h: float) -> str:
    return f"{hours_h:.0f} h over" if hours_h > 0 else ""


def _less_at_once(row: LineAmps) -> Iterator[Remedy]:
    """Return a larger service, which is what is asked for when nothing can be shifted, and charging that asks for less."""
    sizes = (16.0, 20.0, 25.0, 32.0, 35.0, 40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 150.0, 200.0)
    larger = next((size for size in sizes if size >= row.meter_a), None)
    if larger is not None:
        yield Remedy(f"a service of {larger:g} A, if the operator grants it", (Edit("site.supply.service_a", larger),))
    yield Remedy("loads that do not run together, or lie on other phases; an import limit for the chargers")


@check(
    "backup.pass-through", "Transfer device, each phase", page="plans", needs={"grid", "plan", "year"}, short="Pass-through",
    source="simulated year with the grid up, real power over the volts of the line; the device's card",
)  # fmt: skip
def pass_through(c: CheckContext) -> Iterator[Finding]:
    """What flows through the transfer device on each phase or leg against its rating."""
    assert c.facts is not None
    if c.plan.transfer is None:
        return
    limit = c.cards.transfer(c.plan.transfer.card).pass_through_a
    if limit is None:
        yield unknown(c, "backup.pass-through", "transfer device", "the amps it passes: see the data sheet")
        return
    known = c.offered.transfers().values()
    for row in c.facts.amps:
        hours = row.device_hours_h or 0.0
        line = f"{row.name}: up to {row.device_a:.1f} A through a device of {limit:g} A: {hours_a_year(hours)} above"
        large = [device for device in known if (device.pass_through_a or 0.0) >= row.device_a]
        best = min(large, key=lambda device: device.pass_through_a or 0.0, default=None)
        remedies = []
        if best is not None:
            edits = (Edit("library[+]", best.model_dump()), Edit(c.path("transfer.card"), best.id))
            remedies.append(Remedy(f"{best.name} in its place", edits))
        yield finding(
            c, "backup.pass-through", row.name, "current_a", row.device_a, limit, "most", line,
            remedies=[*remedies, Remedy("fewer loads behind it")], cost=_hours_over(hours),
        )  # fmt: skip


@check(
    "backup.unit-pass", "What passes through an inverter", page="plans", needs={"plan", "year"}, short="Inverter pass-through",
    source="the inverter's card; its AC input and output in the simulated year",
)  # fmt: skip
def unit_pass(c: CheckContext) -> Iterator[Finding]:
    """AC current of each battery inverter, in or out, against what its own terminals pass."""
    assert c.facts is not None
    for node in c.plant.battery_side:
        unit = node.unit
        limit, peak_w = unit.pass_through_a, c.facts.unit_peak_w.get(node.id)
        if limit is None or peak_w is None:
            continue
        lines = 3 if unit.phases == 3 and c.plant.lines.count == 3 else 1
        amps = peak_w / (c.plant.lines.supply_v * lines)
        line = f"up to {show(peak_w, 'power_w')} in or out = {amps:.1f} A of {limit:g} A"
        remedies = [Remedy("an inverter whose terminals carry it")]
        yield finding(c, "backup.unit-pass", node.name, "current_a", amps, limit, "most", line, remedies=remedies)


@check(
    "backup.stays-on", "What must stay on is backed up", page="plans", needs={"plan"}, short="Backed up",
    source="what is ticked on House as staying on, against the list behind the transfer device",
)  # fmt: skip
def stays_on(c: CheckContext) -> Iterator[Finding]:
    """Loads that must stay on but are not behind the transfer device, where there is one that is fed in an outage."""
    listed = c.plan.backed_up
    if c.plan.transfer is None or listed is None or not c.plant.forming:
        return
    essential = [a for a in c.job.house.counted if a.essential]
    if not essential:
        return
    dark = [a for a in essential if a.id not in listed]
    names = ", ".join(a.name for a in dark)
    line = f"{len(essential) - len(dark)} of {len(essential)} that must stay on are backed up" + (
        f"; dark: {names}" if dark else ""
    )
    edits = (Edit(c.path("transfer.listed"), [*c.plan.transfer.listed, *(a.id for a in dark)]),)
    yield finding(
        c, "backup.stays-on", "backup side", "count", float(len(dark)), 0.0, "most", line, tight="ratio-within",
        remedies=[Remedy(f"back up {names}", edits)] if dark else [],
    )  # fmt: skip


@check(
    "car.dc-side", "Car on the DC side gets what it asks", page="plans", needs={"plan", "year"}, short="Car on DC",
    source="simulated year; the charger's AC input, its losses and the inverter's own sun",
)  # fmt: skip
def dc_car(c: CheckContext) -> Iterator[Finding]:
    """Energy that a car on an inverter's DC side asked for and did not get in the year, against none."""
    assert c.facts is not None
    loads = {a.id: a.name for a in c.job.house.counted}
    for node in c.plan.nodes:
        row = c.facts.nodes_wh.get(node.id)
        if node.dc_car not in loads or row is None:
            continue
        got, short = row["pv_to_car_w"] + row["car_from_ac_w"], row["car_short_w"]
        line = (
            f"{loads[node.dc_car]} at {node.name}: {show(got, 'energy_wh', 0)} of {show(got + short, 'energy_wh', 0)} a year, "
            f"{show(row['pv_to_car_w'], 'energy_wh', 0)} of it from its own sun"
        )
        edit = Edit(c.path(f"nodes[{node.id}].dc_car"), None)
        yield finding(
            c, "car.dc-side", node.name, "energy_wh", short, 0.0, "most", line, soft=True,
            remedies=[Remedy("charge it at AC, or a charger with more watts", (edit,))],
        )  # fmt: skip
