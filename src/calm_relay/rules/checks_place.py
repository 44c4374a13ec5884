"""Checks of the battery's cable, fuse and terminals, and of the energy that a place may hold."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.site_models import CableRun
from calm_relay.packs.conductors import ConductorTable
from calm_relay.plant import chain
from calm_relay.plant.runs import RunRow
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_bank import PLACES
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.rules.runs_dc import battery_run_row, flexible
from calm_relay.units import format_quantity as show
from calm_relay.wiring.sums import Carries, Terminals


def _runs(c: CheckContext) -> Iterator[tuple[BatteryRow, CableRun, RunRow, Carries, ConductorTable]]:
    """Yield each bank whose cable is known, with what it carries and the table it stands in."""
    table = flexible(c.pack)
    for row in c.plant.banked:
        run = battery_run_row(row, c.pack)
        if run.run is not None and run.held is not None:
            yield row, run.run, run, run.held, table


@check(
    "battery.cable", "Battery cable carries its current", page="plans", needs={"plan"}, short="Battery cable",
    source="current at full power and the lowest charge in use, by the pack's factor; class 5 cable of the shipped tables",
)  # fmt: skip
def cable(c: CheckContext) -> Iterator[Finding]:
    """The battery's current with its factor against what the cable carries; its fuse between the two."""
    factor = c.pack.value("battery_cable_factor")
    for row, run, flow, held, table in _runs(c):
        amps, design, fit = flow.amps, flow.design_a, flow.carrying(table)
        at = c.path(f"nodes[{row.station.id}].battery_run.size")
        remedies = [Remedy(f"{fit[0].name} instead", (Edit(at, fit[0].name),))] if fit else []
        remedies.append(Remedy("a larger size, two in parallel, or more battery volts"))
        line = f"{amps:.1f} A × {factor:g} = {design:.1f} A; {held.words}"
        source = f"{c.pack.source('battery_cable_factor')}; {table.source}"
        yield finding(
            c, "battery.cable", row.station.name, "current_a", design, held.amps, "most", line, remedies=remedies, source=source
        )
        if run.protected_a is None:
            yield unknown(c, "battery.cable", f"{row.station.name}, fuse", "the battery's DC fuse: see its manual")
            continue
        words = f"a fuse of {run.protected_a:g} A for {design:.1f} A on a cable of {held.amps:.1f} A"
        if run.protected_a < design:
            yield finding(
                c, "battery.cable", f"{row.station.name}, fuse", "current_a", run.protected_a, design, "least", words,
                remedies=[Remedy(f"a DC fuse of at least {design:.0f} A, with a cable that it protects")],
            )  # fmt: skip
        else:
            yield finding(
                c, "battery.cable", f"{row.station.name}, fuse", "current_a", run.protected_a, held.amps, "most", words,
                remedies=[Remedy(f"a DC fuse of at most {held.amps:.0f} A, or a larger cable")],
            )  # fmt: skip


@check(
    "battery.cable-drop", "Volts lost on the battery cable", page="plans", needs={"plan"}, short="Battery cable drop",
    source="2·I·R·L at full power on the lowest volts in use; the pack's limit",
)  # fmt: skip
def drop(c: CheckContext) -> Iterator[Finding]:
    """Volts along the battery cable as a share of the bank's lowest volts in use."""
    limit = c.pack.value("dc_drop_most_frac")
    for row, run, flow, held, table in _runs(c):
        lost = flow.change_v
        if run.length_m is None or lost is None:
            yield unknown(c, "battery.cable-drop", row.station.name, "the length of the battery cable: measure on site")
            continue
        volts, amps = flow.volts, flow.amps
        fit = flow.within(table, limit * volts)
        at = c.path(f"nodes[{row.station.id}].battery_run.size")
        remedies = [Remedy(f"{fit[0].name} instead", (Edit(at, fit[0].name),))] if fit else []
        remedies.append(Remedy("a shorter way or a larger size"))
        each = 1000 * table.ohm_per_m(held.conductor)
        line = f"2 × {amps:.1f} A × {each:.3f} mΩ/m × {run.length_m:g} m = {lost:.2f} of {volts:.1f} V"
        yield finding(
            c, "battery.cable-drop", row.station.name, "fraction", lost / volts, limit, "most", line, soft=True, remedies=remedies,
            source=c.pack.source("dc_drop_most_frac"),
        )  # fmt: skip


@check(
    "battery.lug", "Battery cable fits the terminals", page="plans", needs={"plan"}, short="Battery lug",
    source="the cards of inverter and battery: sizes that their terminals take",
)  # fmt: skip
def lug(c: CheckContext) -> Iterator[Finding]:
    """Whether the battery cable's size lies in the range that the inverter's terminals take."""
    for row, _, _, held, table in _runs(c):
        ends = (
            (row.station.fitting.battery_lug_min_mm2, row.station.fitting.battery_lug_max_mm2),
            (row.battery.fitting.lug_min_mm2, row.battery.fitting.lug_max_mm2),
        )
        low = max((least for least, _ in ends if least is not None), default=None)
        terminals = Terminals(low, min((most for _, most in ends if most is not None), default=None))
        if not terminals.known:
            yield unknown(c, "battery.lug", row.station.name, "the sizes its battery terminals take: see the manuals")
            continue
        good, fit = terminals.take(held.conductor), [size for size in table.rows if terminals.take(size)]
        at = c.path(f"nodes[{row.station.id}].battery_run.size")
        remedies = [Remedy(f"{fit[-1].name} with its lug", (Edit(at, fit[-1].name),))] if fit else []
        remedies.append(Remedy("a reducer made for these terminals, or the next device"))
        line = f"{held.conductor.area_mm2:g} mm² of cable; the terminals of inverter and battery take {terminals.words}"
        yield finding(c, "battery.lug", row.station.name, YES_NO, float(good), 1.0, "least", line, tight=COUNTS, remedies=remedies)


@check(
    "place.energy", "Energy that a place may hold", page="plans", needs={"plan"}, short="Energy at its place",
    source="the pack's siting limits by place; local rules on rooms are checked by the electrician",
)  # fmt: skip
def energy(c: CheckContext) -> Iterator[Finding]:
    """The energy of all batteries at one place, and of one unit, against what the pack allows there."""
    pack = c.pack
    unit = pack.get("energy_unit_most_wh")
    indoors, garage = pack.get("energy_indoors_most_wh"), pack.get("energy_garage_most_wh")
    outdoors = pack.get("energy_outdoors_most_wh")
    limits = {"indoors": indoors, "garage": garage, "outdoors_sheltered": outdoors, "outdoors": outdoors}
    names = {
        "indoors": "energy_indoors_most_wh", "garage": "energy_garage_most_wh", "outdoors_sheltered": "energy_outdoors_most_wh",
        "outdoors": "energy_outdoors_most_wh",
    }  # fmt: skip
    by_place: dict[str, float] = {}
    for row in c.plant.banked:
        wh = chain.capacity_wh(row.bank)
        if unit is not None:
            each = wh / row.bank.modules
            line = f"a module of {show(each, 'energy_wh')} against {show(unit, 'energy_wh')} a unit"
            yield finding(
                c, "place.energy", f"{row.station.name}, one unit", "energy_wh", each, unit, "most", line, tight=COUNTS,
                source=pack.source("energy_unit_most_wh"), remedies=[Remedy("smaller units")],
            )  # fmt: skip
        if row.bank.place is not None:
            by_place[row.bank.place] = by_place.get(row.bank.place, 0.0) + wh
        elif unit is not None:
            yield unknown(c, "place.energy", row.station.name, "where the bank stands: choose its place")
    for place, wh in by_place.items():
        limit = limits[place]
        if limit is None:
            continue
        line = f"{show(wh, 'energy_wh')} {PLACES[place]} against {show(limit, 'energy_wh')}"
        yield finding(
            c, "place.energy", PLACES[place], "energy_wh", wh, limit, "most", line, tight=COUNTS, source=pack.source(names[place]),
            remedies=[Remedy(f"at most {show(limit, 'energy_wh')} {PLACES[place]}, the rest elsewhere")],
        )  # fmt: skip
