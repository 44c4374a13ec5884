"""The plan as a graph of stations, derived from its flat lists; ratings only, no flows, no pixels."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from calm_relay.job.house_models import House
from calm_relay.job.sky_models import Face
from calm_relay.plant import chain
from calm_relay.plant.chain import controllers_of
from calm_relay.plant.offgrid import continuous_va
from calm_relay.plant.station import BatteryRow, Station
from calm_relay.plant.whole import Plant
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


@dataclass(frozen=True)
class TrackerStation:
    """One tracker with what hangs on it. `limit_w` is its working current at the strings' working voltage, or its power."""

    id: str
    number: int
    face_names: str
    strings_text: str
    string_ids: tuple[str, ...]
    stc_w: float
    limit_w: float
    word: str = "tracker"


@dataclass(frozen=True)
class BatteryStation:
    """A battery on a node."""

    id: str
    text: str
    usable_wh: float
    charge_w: float
    discharge_w: float


@dataclass(frozen=True)
class NodeStation:
    """One inverter row of the relay line."""

    id: str
    name: str
    kind: str
    side: str
    count: int
    ac_rated_w: float
    trackers: tuple[TrackerStation, ...]
    battery: BatteryStation | None
    forms_grid: bool
    offgrid_va: float | None

    @property
    def each_w(self) -> float:
        """AC rating of one of its units. [W]"""
        return self.ac_rated_w / self.count


@dataclass(frozen=True)
class PlanGraph:
    """The plan as the program understands it, rows ordered by bus side, then priority. Infinity: no limit.

    `service_a` and `transfer_a` hold for each phase or leg; `line_w_per_a` is what an amp carries on one of them. Without a grid
    everything stands on the one bus there is.
    """

    nodes: tuple[NodeStation, ...]
    has_transfer: bool
    transfer_w: float
    transfer_a: float | None
    backup_loads: str
    other_loads: str
    service_w: float
    service_a: float
    export_w: float
    import_w: float
    line_w_per_a: float
    off_grid: bool = False
    generator: str = ""
    generator_va: float = 0.0

    def bus_of(self, node: NodeStation) -> str:
        """Return the column of the bus that a node stands on."""
        return "backup" if node.side == "backup" and self.has_transfer else "panel"

    @property
    def forming(self) -> tuple[NodeStation, ...]:
        """Nodes that keep the backup side alive when the grid is gone."""
        return tuple(n for n in self.nodes if n.forms_grid and n.side == "backup" and n.battery is not None)


def plan_graph(plant: Plant, house: House, faces: Iterable[Face]) -> PlanGraph:
    """Derive the graph of a plan; of the house it tells how many loads there are, of the faces their names."""
    transfer, generator, called = plant.transfer, plant.generator, {face.id: face.name for face in faces}
    nodes = [_node(station, called) for station in plant.stations]
    nodes.sort(key=lambda n: n.side != "backup")
    listed = plant.backed_up
    total = len(house.appliances) + 1
    if listed is None:
        backup, other = "whole house", ""
    elif listed:
        backup, other = count_words(len(listed), "load"), count_words(total - len(listed), "load")
    else:
        backup, other = "", "house"
    caps = plant.caps
    return PlanGraph(
        nodes=tuple(nodes),
        has_transfer=transfer is not None,
        transfer_w=math.inf if transfer is None else transfer.limit_w,
        transfer_a=None if transfer is None else transfer.pass_through_a,
        backup_loads=backup,
        other_loads=other,
        service_w=plant.lines.watts_of(plant.service.service_a),
        service_a=plant.service.service_a,
        export_w=math.inf if caps.export_w is None else caps.export_w,
        import_w=math.inf if caps.import_w is None else caps.import_w,
        line_w_per_a=plant.lines.volts_v,
        off_grid=plant.off_grid,
        generator="" if generator is None else generator.model.name,
        generator_va=0.0 if generator is None else generator.rated_va,
    )


def _node(station: Station, called: Mapping[str, str]) -> NodeStation:
    unit, bank, battery, made = station.unit, station.bank, None, None
    if bank is not None and station.battery is not None:
        charge = chain.terminals_limit_w(chain.charge_chain(unit, bank)) or unit.ac_rated_w
        give = chain.terminals_limit_w(chain.discharge_chain(unit, bank)) or unit.ac_rated_w
        noun = "module" if bank.modules == 1 else "modules"
        battery = BatteryStation(f"{station.id}/battery", f"{bank.modules} {noun}", chain.usable_wh(bank), charge, give)
        made = continuous_va(BatteryRow(station, unit, bank, station.battery))
    return NodeStation(
        id=station.id,
        name=station.name,
        kind=station.model.kind,
        side=station.side,
        count=station.count,
        ac_rated_w=unit.ac_rated_w,
        trackers=_trackers(station, called),
        battery=battery,
        forms_grid=unit.grid_forming,
        offgrid_va=made,
    )


def _trackers(station: Station, called: Mapping[str, str]) -> tuple[TrackerStation, ...]:
    out = []
    units, controllers = station.strings_units, controllers_of(station.unit, station.bank)
    for number in sorted({strings.row.tracker for strings in station.strings}):
        groups = [strings for strings in station.strings if strings.row.tracker == number]
        tracker = station.unit.trackers[number - 1]
        stc, volts, texts = 0.0, 0.0, []
        for row in (strings.row for strings in groups):
            stc += row.stc_w
            volts = max(volts, row.modules_per_string * row.module.vmp_stc_v)
            times = f"{row.parallel_strings} × " if row.parallel_strings > 1 else ""
            texts.append(f"{times}{row.modules_per_string} × {row.module.power_stc_w:g} W")
        limit = tracker.working_current_a * volts
        if tracker.power_max_w is not None:
            limit = min(limit, tracker.power_max_w)
        if controllers is not None:  # its output holds back what all its trackers give
            limit = min(limit, controllers[1] / controllers[0])
        names = list(dict.fromkeys(called[g.row.face] for g in groups))
        prefix = f"{units} × " if units > 1 else ""
        out.append(
            TrackerStation(
                id=f"{station.id}/{number}",
                number=number,
                face_names=" + ".join(names),
                strings_text=prefix + " + ".join(texts),
                string_ids=tuple(g.id for g in groups),
                stc_w=stc * units,
                limit_w=limit * units,
                word="tracker" if controllers is None else "controller",
            )
        )
    return tuple(out)


def summary(graph: PlanGraph) -> str:
    """Return the plan in one line of words."""
    parts = []
    for node in graph.nodes:
        text = node.name
        if node.trackers:
            text += f" with {show(sum(t.stc_w for t in node.trackers), 'power_w', 1)}p"
        if node.battery:
            text += f" and {show(node.battery.usable_wh, 'energy_wh')} usable"
        parts.append(text)
    if graph.generator:
        parts.append(graph.generator)
    if graph.off_grid:
        parts.append("no grid")
    return "; ".join(parts) or "no inverter"
