"""The plan as a graph of stations, derived from its flat lists; ratings only, no flows, no pixels."""

from __future__ import annotations

import math
from dataclasses import dataclass

from calm_relay.job.models import Job, Node, Plan
from calm_relay.job.rows import BatteryRow
from calm_relay.library.book import CardBook
from calm_relay.pv.roof import export_cap_w, group_stc_w
from calm_relay.simulation import chain
from calm_relay.simulation.controllers import controllers_of
from calm_relay.simulation.offgrid import continuous_va
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.line_shares import line_volts


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


def plan_graph(job: Job, plan: Plan) -> PlanGraph:
    """Derive the graph of a plan."""
    cards = job.cards()
    supply = job.site.supply
    nodes = [_node(job, node, cards) for node in plan.nodes]
    nodes.sort(key=lambda n: n.side != "backup")
    amps = cards.transfer(plan.transfer.card).pass_through_a if plan.transfer else None
    volts = supply.voltage_v * supply.phases
    generator = cards.generator(plan.generator.card) if plan.generator else None
    listed = plan.backed_up
    total = len(job.house.appliances) + 1
    if listed is None:
        backup, other = "whole house", ""
    elif listed:
        backup, other = count_words(len(listed), "load"), count_words(total - len(listed), "load")
    else:
        backup, other = "", "house"
    cap = export_cap_w(job, plan, job.cards())
    return PlanGraph(
        nodes=tuple(nodes),
        has_transfer=plan.transfer is not None,
        transfer_w=math.inf if amps is None else amps * volts,
        transfer_a=amps,
        backup_loads=backup,
        other_loads=other,
        service_w=supply.service_a * volts,
        service_a=supply.service_a,
        export_w=math.inf if cap is None else cap,
        import_w=math.inf if job.site.import_limit_w is None else job.site.import_limit_w,
        line_w_per_a=line_volts(supply),
        off_grid=plan.off_grid,
        generator="" if generator is None else generator.name,
        generator_va=0.0 if generator is None else generator.rated_va,
    )


def _node(job: Job, node: Node, cards: CardBook) -> NodeStation:
    card = cards.station(node)
    battery = None
    unit = cards.battery_station(node) if card.battery_terminals else None
    if node.battery is not None and unit is not None:
        module = cards.battery(node.battery.card)
        charge = chain.terminals_limit_w(chain.charge_chain(unit, module, node.battery)) or unit.ac_rated_w
        give = chain.terminals_limit_w(chain.discharge_chain(unit, module, node.battery)) or unit.ac_rated_w
        usable = chain.usable_wh(module, node.battery)
        noun = "module" if node.battery.modules == 1 else "modules"
        battery = BatteryStation(f"{node.id}/battery", f"{node.battery.modules} {noun}", usable, charge, give)
    return NodeStation(
        id=node.id,
        name=node.name,
        kind=cards[node.card].kind,
        side=node.side,
        count=node.count,
        ac_rated_w=card.ac_rated_w * node.count,
        trackers=_trackers(job, node, cards),
        battery=battery,
        forms_grid=bool(unit and unit.grid_forming),
        offgrid_va=continuous_va(BatteryRow(node, unit, cards.battery(node.battery.card), node.battery))
        if unit and node.battery
        else None,
    )


def _trackers(job: Job, node: Node, cards: CardBook) -> tuple[TrackerStation, ...]:
    card = cards.station(node)
    out = []
    units, controllers = card.unit_count(node.count), controllers_of(node, cards)
    for number in sorted({g.tracker for g in node.strings}):
        groups = [g for g in node.strings if g.tracker == number]
        tracker = card.trackers[number - 1]
        stc, volts, texts = 0.0, 0.0, []
        for group in groups:
            module = cards.module(group.module)
            stc += group_stc_w(group, cards)
            volts = max(volts, group.modules_per_string * module.vmp_stc_v)
            times = f"{group.parallel_strings} × " if group.parallel_strings > 1 else ""
            texts.append(f"{times}{group.modules_per_string} × {module.power_stc_w:g} W")
        limit = tracker.working_current_a * volts
        if tracker.power_max_w is not None:
            limit = min(limit, tracker.power_max_w)
        if controllers is not None:  # its output holds back what all its trackers give
            limit = min(limit, controllers[1] / controllers[0])
        names = list(dict.fromkeys(job.face(g.face).name for g in groups))
        prefix = f"{units} × " if units > 1 else ""
        out.append(
            TrackerStation(
                id=f"{node.id}/{number}",
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
