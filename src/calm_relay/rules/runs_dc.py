"""Runs on the DC side of a plan: from strings and batteries to their inverters, with amps, size and volts lost."""

from __future__ import annotations

from calm_relay.job.models import Job
from calm_relay.packs.conductors import ConductorTable, conductor_table
from calm_relay.packs.pack import Pack
from calm_relay.plant import chain
from calm_relay.plant.chain import full_power_a
from calm_relay.plant.runs import RunRow, run_row
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.whole import Plant
from calm_relay.pv.limits import extremes_of, string_amps

FLEXIBLE = "flexible"  # PV and battery cable is of fine strands, whatever the place


def flexible(pack: Pack) -> ConductorTable:
    """Return the table in which PV and battery cable stands."""
    return conductor_table(FLEXIBLE, pack.own_tables)


def battery_run_row(row: BatteryRow, pack: Pack) -> RunRow:
    """Return the run from a bank to its inverter, at full AC power and the lowest charge in use."""
    low, _ = chain.soc_window(row.bank)
    volts = chain.stack_volts(row.bank, low).floor_v
    amps, factor = full_power_a(row.unit, row.bank), pack.value("battery_cable_factor")
    name, table = f"the battery to {row.station.name}", flexible(pack)
    return run_row(f"{row.station.id}:battery", name, "dc", volts, amps, factor * amps, row.station.battery_run, table)


def string_run_rows(job: Job, plant: Plant, pack: Pack) -> tuple[RunRow, ...]:
    """Return the run of one string of each group, at its working current; what it has to carry is its short-circuit current by the
    pack's factors.
    """
    at, out = extremes_of(job.site), []
    factor = pack.value("short_circuit_factor") * pack.value("continuous_factor")
    for station in plant.stations:
        for strings in () if station.each.per_module else station.strings:
            row, module, optimizer = strings.row, strings.row.module, strings.row.optimizer
            amps = string_amps(row, module, job.face(row.face), optimizer, at)
            volts, flows = row.modules_per_string * module.vmp_stc_v, module.imp_stc_a
            if optimizer is not None and optimizer.string_voltage_v is not None:
                volts = optimizer.string_voltage_v
                flows = row.modules_per_string * module.power_stc_w / volts
            name = f"{row.modules_per_string} × {strings.model.name} to {station.name}"
            run_id, carried = f"{station.id}:strings:{strings.id}", factor * amps.short_circuit_a
            out.append(run_row(run_id, name, "dc", volts, flows, carried, station.string_run, flexible(pack)))
    return tuple(out)


def dc_rows(job: Job, plant: Plant, pack: Pack) -> tuple[RunRow, ...]:
    """Return every run of the DC side: strings first, then batteries."""
    return (*string_run_rows(job, plant, pack), *(battery_run_row(row, pack) for row in plant.banked))
