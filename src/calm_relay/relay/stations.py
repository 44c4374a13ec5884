"""What a station of the relay line rests on: how its limit comes about, what is assumed of it, and its worst moment of the year."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from calm_relay.plant import chain
from calm_relay.plant.chain import controllers_of
from calm_relay.plant.offgrid import continuous_va
from calm_relay.plant.station import BatteryRow, Station
from calm_relay.plant.whole import Plant
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.relay.graph import PlanGraph
    from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]
LOSSES_W = 1.0  # what is lost below it is rounding


def how_words(plant: Plant, typed_export_w: float | None, station_id: str) -> str:
    """Return how the limit of a station comes about, with its figures; empty for what has none. `typed_export_w`: as typed. [W]"""
    kind, _, where = station_id.partition(":")
    node_id = where.split("/")[0]
    station = next((s for s in plant.stations if s.id == node_id), None)
    if station is not None:
        of_node = {"tracker": _tracker, "inverter": _inverter, "node": _inverter, "battery": _battery}
        return of_node[kind](station, where)
    if kind == "grid":
        return _grid(plant, typed_export_w)
    return {"transfer": _transfer, "generator": _generator}[kind](plant) if kind in ("transfer", "generator") else ""


def _tracker(station: Station, where: str) -> str:
    number = int(where.rpartition("/")[2])
    tracker, controllers = station.unit.trackers[number - 1], controllers_of(station.unit, station.bank)
    rows = [strings.row for strings in station.strings if strings.row.tracker == number]
    volts = max((row.modules_per_string * row.module.vmp_stc_v for row in rows), default=0.0)
    watts = show(tracker.working_current_a * volts, "power_w")
    out = [f"{tracker.working_current_a:g} A × {volts:.0f} V of the strings at work = {watts}"]
    if tracker.power_max_w is not None:
        out.append(f"at most {show(tracker.power_max_w, 'power_w')} on the card")
    if controllers is not None and station.unit.controllers is not None:
        most, eta = controllers[1], controllers[2]
        out.append(f"its output, {station.unit.controllers.out_a:g} A at the bank ÷ {eta:.3g}, takes {show(most, 'power_w')} in")
    return "; ".join(out)


def _inverter(station: Station, _where: str) -> str:
    times = f"{station.count} × " if station.count > 1 else ""
    out = [f"{times}{show(station.each.ac_rated_w, 'power_w')} at AC on the card"]
    if station.bank is not None and station.battery is not None:
        unit = station.unit
        made = continuous_va(BatteryRow(station, unit, station.bank, station.battery))
        if unit.grid_forming and made is not None and unit.offgrid_continuous_va is not None:
            rated = show(unit.offgrid_continuous_va, "apparent_va")
            out.append(f"off grid the lesser of {rated} and what the battery gives = {show(made, 'apparent_va')}")
    return "; ".join(out)


def _battery(station: Station, _where: str) -> str:
    if station.bank is None:
        return ""
    out = []
    for word, links in (("in", chain.charge_chain), ("out", chain.discharge_chain)):
        weakest = chain.weakest(links(station.unit, station.bank)[:-1])  # at its terminals: the AC end has its own gate
        figure = "not known" if weakest.dc_w is None else show(weakest.dc_w, "power_w")
        out.append(f"{word}: {weakest.name}, {weakest.how} = {figure}")
    return "; ".join(out)


def _transfer(plant: Plant) -> str:
    if plant.transfer is None:
        return ""
    amps = plant.transfer.pass_through_a
    if amps is None:
        return "its card says no amps"
    return f"{amps:g} A × {_volts_words(plant)} = {show(plant.transfer.limit_w, 'power_w')}"


def _volts_words(plant: Plant) -> str:
    return f"{plant.lines.supply_v:g} V" + (f" × {plant.lines.count} phases" if plant.lines.count == 3 else "")


def _grid(plant: Plant, typed_export_w: float | None) -> str:
    if plant.off_grid:
        return "there is none"
    amps, caps = plant.service.service_a, plant.caps
    out = [f"service {amps:g} A × {_volts_words(plant)} = {show(plant.lines.watts_of(amps), 'power_w')}"]
    how = "as typed" if caps.export_w == typed_export_w else "by the array"
    for word, limit, said in (("export", caps.export_w, how), ("import", caps.import_w, "as typed")):
        if limit is not None:
            out.append(f"{word} limit {show(limit, 'power_w')} {said}")
    return "; ".join(out)


def _generator(plant: Plant) -> str:
    return "" if plant.generator is None else f"{show(plant.generator.rated_va, 'apparent_va')} on the card"


def assumed_by_station(assumed: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """Return what a year took as assumed of each station, by the station's id; what belongs to none is left out."""
    out: dict[str, list[str]] = {}
    for line in sorted(assumed):
        place, _, what = line.partition(": ")
        if not (place.startswith("nodes[") and place.endswith("]")):
            continue
        node = place[6:-1]
        of_bank = what.startswith(("battery", "the cells"))
        kind = "battery" if of_bank else "inverter"
        out.setdefault(f"{kind}:{node}", []).append(what)
    return {station: tuple(lines) for station, lines in out.items()}


@dataclass(frozen=True)
class Worst:
    """The moment of the year at which a station stands worst: its step, and what is worst then, in words."""

    step: int
    words: str


def worst_moment(made: PlanFlow, station_id: str) -> Worst | None:
    """Return where a station's limit loses most, or where most flows through it if it loses nothing; None where nothing flows."""
    kind, _, where = station_id.partition(":")
    node = where.split("/")[0]
    flow = made.flow
    rows: list[tuple[Array, str]] = []
    if kind in ("tracker", "inverter", "node", "battery"):
        rows = _of_node(made, kind, node)
    elif kind == "transfer":
        rows = [(flow.lost_w("device"), "held back by the device"), (np.abs(flow.column("transfer_w")), "through the device")]
    elif kind == "grid":
        meter = np.maximum(flow.column("import_w"), flow.column("export_w"))
        rows = [(flow.lost_w("cap"), "held back by the export cap"), (meter, "at the meter")]
    elif kind in ("panel", "backup"):
        rows = [
            (flow.column("unserved_w"), "not served"),
            (flow.lost_w("island"), "without a use"),
            (flow.column("load_w"), "of house"),
        ]
    for watts, words in rows:
        if watts.max(initial=0.0) > LOSSES_W:
            step = int(np.argmax(watts))
            return Worst(step, f"{show(float(watts[step]), 'power_w')} {words}")
    return None


def _of_node(made: PlanFlow, kind: str, node: str) -> list[tuple[Array, str]]:
    flow = made.flow
    if kind == "tracker":
        dc = made.dc.get(node)
        return (
            []
            if dc is None
            else [(dc.offered_w - dc.available_w, "lost at the trackers"), (dc.available_w, "from all its strings")]
        )
    if node in made.pv_only:
        out = made.pv_only[node]
        return [(out.clipped_ac_w, "clipped"), (out.ac_w, "out")]
    if node not in flow.node_ids:
        return []
    if kind == "battery":
        charge = flow.node_column(node, "pv_to_battery_w") + flow.node_column(node, "charge_from_ac_w")
        return [(np.maximum(charge, flow.node_column(node, "discharge_w")), "at the battery, DC")]
    both = np.maximum(flow.node_column(node, "ac_out_w"), flow.node_column(node, "ac_in_w"))
    return [(flow.node_column(node, "lost_ac_limit_w"), "clipped, DC"), (both, "at AC")]


def station_names(graph: PlanGraph) -> list[tuple[str, str]]:
    """Return every station of a plan as (id, name), from the roof to the grid."""
    out = []
    for node in graph.nodes:
        out += [(f"tracker:{t.id}", f"{node.name}, {t.word} {t.number}") for t in node.trackers]
        out += [(f"inverter:{node.id}", f"{node.name}, AC side")]
        out += [(f"battery:{node.id}", f"{node.name}, battery")] if node.battery else []
    out += [("transfer", "Transfer device")] if graph.has_transfer else []
    out += [("panel", "House and main panel")]
    out += [("generator", graph.generator)] if graph.generator else []
    return [*out, ("grid", "No grid" if graph.off_grid else "Grid connection")]
