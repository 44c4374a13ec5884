"""Runs on the DC side of a plan: from strings and batteries to their inverters, with amps, size and volts lost."""

from __future__ import annotations

from calm_relay.job.models import Job, Plan
from calm_relay.packs.conductors import ConductorTable, conductor_table
from calm_relay.packs.pack import Pack
from calm_relay.plant import chain
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.rows import string_rows
from calm_relay.plant.station import BatteryRow
from calm_relay.pv.limits import extremes_of, string_amps
from calm_relay.rules.checks_match import full_power_a
from calm_relay.rules.runs import RunRow, run_row

FLEXIBLE = "flexible"  # PV and battery cable is of fine strands, whatever the place


def flexible(pack: Pack) -> ConductorTable:
    """Return the table in which PV and battery cable stands."""
    return conductor_table(FLEXIBLE, pack.own_tables)


def battery_run_row(row: BatteryRow, pack: Pack) -> RunRow:
    """Return the run from a bank to its inverter, at full AC power and the lowest charge in use."""
    low, _ = chain.soc_window(row.bank)
    volts = chain.stack_volts(row.bank, low).floor_v
    amps, factor = full_power_a(row), pack.value("battery_cable_factor")
    name, table = f"the battery to {row.station.name}", flexible(pack)
    return run_row(f"{row.station.id}:battery", name, "dc", volts, amps, factor * amps, row.station.battery_run, table)


def string_run_rows(job: Job, plan: Plan, pack: Pack) -> tuple[RunRow, ...]:
    """Return the run of one string of each group, at its working current; what it has to carry is its short-circuit current by the
    pack's factors.
    """
    cards, out = job.cards(), []
    factor = pack.value("short_circuit_factor") * pack.value("continuous_factor")
    for node, card, group, module in string_rows(plan, cards):
        if card.per_module:
            continue
        optimizer = cards.optimizer(group.optimizer)
        amps = string_amps(group, module, job.face(group.face), optimizer, extremes_of(job.site))
        volts = group.modules_per_string * module.vmp_stc_v
        flows = module.imp_stc_a
        if optimizer is not None and optimizer.string_voltage_v is not None:
            volts = optimizer.string_voltage_v
            flows = group.modules_per_string * module.power_stc_w / volts
        name = f"{group.modules_per_string} × {module.name} to {node.name}"
        run_id = f"{node.id}:strings:{group.id}"
        out.append(run_row(run_id, name, "dc", volts, flows, factor * amps.short_circuit_a, node.string_run, flexible(pack)))
    return tuple(out)


def dc_rows(job: Job, plan: Plan, pack: Pack) -> tuple[RunRow, ...]:
    """Return every run of the DC side: strings first, then batteries."""
    return (*string_run_rows(job, plan, pack), *(battery_run_row(row, pack) for row in plant_of(job, plan).banked))
