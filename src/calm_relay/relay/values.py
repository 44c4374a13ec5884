"""What flows through each station, at a moment of the year or at each one's own peak; watts, with their origin."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from calm_relay.simulation.columns import AC_LOAD_B, AC_LOAD_G, NODE, SYSTEM

if TYPE_CHECKING:
    from calm_relay.relay.graph import PlanGraph
    from calm_relay.year.drill import Drill
    from calm_relay.year.lines import LineFlows
    from calm_relay.year.plan_flow import PlanFlow

Parts = tuple[tuple[str, float], ...]  # (origin: sun, battery, grid; watts)


@dataclass(frozen=True)
class NodeValues:
    """Flows of one row. `out` and `into` are AC parts by origin; `spill` is what its limits could not pass, by name. [W]"""

    pv_w: float = 0.0
    trackers_w: tuple[float, ...] = ()
    out: Parts = ()
    into: Parts = ()
    charge: Parts = ()
    discharge_w: float = 0.0
    soc_frac: float | None = None
    energy_wh: float = 0.0
    spill_w: float = 0.0


@dataclass(frozen=True)
class LineLoad:
    """What one phase or leg carries, whichever way. [W]"""

    name: str
    watts: float


@dataclass(frozen=True)
class RelayValues:
    """Flows of the whole line. `transfer` > 0 runs towards the backup side; the lines are empty on a single phase.

    With the grid gone: what a generator gives, whether all is dark, and which inverters are off.
    """

    moment: str
    nodes: dict[str, NodeValues] = field(default_factory=dict)
    backup_load_w: float = 0.0
    other_load_w: float = 0.0
    load_parts: Parts = ()
    transfer_w: float = 0.0
    import_w: float = 0.0
    export: Parts = ()
    held_w: float = 0.0
    unserved_w: float = 0.0
    meter_lines: tuple[LineLoad, ...] = ()
    device_lines: tuple[LineLoad, ...] = ()
    generator_w: float = 0.0
    dark: bool = False
    off: frozenset[str] = frozenset()

    @property
    def export_w(self) -> float:
        """What leaves at the meter. [W]"""
        return sum(watts for _, watts in self.export)

    @property
    def pv_flows(self) -> bool:
        """Whether any inverter puts out PV power."""
        return any(origin == "sun" for node in self.nodes.values() for origin, _ in node.out)


def _parts(*rows: tuple[str, float]) -> Parts:
    return tuple((name, float(watts)) for name, watts in rows if watts > 0.5)


def values_at(graph: PlanGraph, made: PlanFlow, step: int, moment: str, lines: LineFlows | None = None) -> RelayValues:
    """Return the flows of one step; with `lines`, also what each phase or leg carries."""
    packed, here = made.packed, slice(step, step + 1)
    now = made.flow.part(here)
    s = {name: float(now.column(name)[0]) for name in _SYSTEM_NEEDED}
    charge_ac = s["charge_ac_w"]
    mix = {
        "sun": s["pv_to_battery_w"] / charge_ac if charge_ac > 0 else 0.0,
        "battery": s["battery_to_battery_w"] / charge_ac if charge_ac > 0 else 0.0,
        "grid": s["grid_to_battery_w"] / charge_ac if charge_ac > 0 else 0.0,
    }
    nodes = {}
    for node in graph.nodes:
        shares = _shares(node.trackers)
        if node.id in made.pv_only:
            out = made.pv_only[node.id]
            dc = float(out.dc_available_w[step])
            ac = float(made.pv_only_ac_w(node.id, here)[0])
            lost = float(out.clipped_ac_w[step])
            nodes[node.id] = NodeValues(dc, tuple(dc * x for x in shares), _parts(("sun", ac)), spill_w=lost)
            continue
        c = {name: float(now.node_column(node.id, name)[0]) for name in _NODE_NEEDED}
        from_pv = c["pv_to_inverter_w"] / max(1e-9, c["pv_to_inverter_w"] + c["discharge_w"])
        record = packed.nodes[packed.node_ids.index(node.id)]
        capacity = float(record["capacity_wh"])
        from_ac = c["charge_from_ac_w"]
        nodes[node.id] = NodeValues(
            pv_w=c["pv_available_w"],
            trackers_w=tuple(c["pv_available_w"] * x for x in shares),
            out=_parts(("sun", c["ac_out_w"] * from_pv), ("battery", c["ac_out_w"] * (1 - from_pv))),
            into=_parts(*((name, c["ac_in_w"] * share) for name, share in mix.items())),
            charge=_parts(("sun", c["pv_to_battery_w"] + from_ac * mix["sun"]), ("grid", from_ac * (mix["grid"] + mix["battery"]))),
            discharge_w=c["discharge_w"],
            soc_frac=c["energy_wh"] / capacity if capacity > 0 else None,
            energy_wh=c["energy_wh"],
            spill_w=c["lost_ac_limit_w"],
        )
    held = float(now.lost_w("cap")[0])
    at_lines = _lines(lines, lambda each_w: np.abs(each_w[step]))
    return RelayValues(
        moment=moment,
        nodes=nodes,
        backup_load_w=float(packed.ac[step, AC_LOAD_B]),
        other_load_w=float(packed.ac[step, AC_LOAD_G]),
        load_parts=_parts(("sun", s["pv_to_house_w"]), ("battery", s["battery_to_house_w"]), ("grid", s["grid_to_house_w"])),
        transfer_w=s["transfer_w"],
        import_w=s["import_w"],
        export=_parts(("sun", s["pv_to_grid_w"]), ("battery", s["battery_to_grid_w"])),
        held_w=held,
        unserved_w=s["unserved_w"],
        meter_lines=at_lines[0],
        device_lines=at_lines[1],
    )


def _lines(lines: LineFlows | None, pick: Callable[[np.ndarray], np.ndarray]) -> tuple[tuple[LineLoad, ...], tuple[LineLoad, ...]]:
    """Return what each line carries at the meter and at the device; nothing on a single phase."""
    if lines is None or len(lines.names) < 2:
        return (), ()
    meter, device = (
        tuple(LineLoad(line, float(w)) for line, w in zip(lines.names, pick(each_w), strict=True))
        for each_w in (lines.meter_w, lines.device_w)
    )
    return meter, device


def peak_values(graph: PlanGraph, made: PlanFlow, lines: LineFlows | None = None) -> RelayValues:
    """Return each flow's own peak over the year, that of each phase or leg too; the peaks do not fall together."""
    flow, packed = made.flow, made.packed
    nodes = {}
    for node in graph.nodes:
        shares = _shares(node.trackers)
        if node.id in made.pv_only:
            out = made.pv_only[node.id]
            dc = float(out.dc_available_w.max())
            nodes[node.id] = NodeValues(
                dc,
                tuple(dc * x for x in shares),
                _parts(("sun", float(made.pv_only_ac_w(node.id).max()))),
                spill_w=float(out.clipped_ac_w.max()),
            )
            continue
        place = packed.node_ids.index(node.id)
        peak = {name: float(flow.node_column(node.id, name).max()) for name in ("ac_out_w", "energy_wh", "lost_ac_limit_w")}
        offered = float(packed.pv_dc[:, place].max())
        top = int(np.argmax(flow.node_column(node.id, "ac_out_w")))
        then = flow.part(slice(top, top + 1))
        pv, battery = (float(then.node_column(node.id, n)[0]) for n in ("pv_to_inverter_w", "discharge_w"))
        share = pv / max(1e-9, pv + battery)
        capacity = float(packed.nodes[place]["capacity_wh"])
        charge = flow.node_column(node.id, "pv_to_battery_w") + flow.node_column(node.id, "charge_from_ac_w")
        nodes[node.id] = NodeValues(
            pv_w=offered,
            trackers_w=tuple(offered * x for x in shares),
            out=_parts(("sun", peak["ac_out_w"] * share), ("battery", peak["ac_out_w"] * (1 - share))),
            into=(),
            charge=_parts(("sun", float(charge.max()))),
            discharge_w=0.0,
            soc_frac=peak["energy_wh"] / capacity if capacity > 0 else None,
            energy_wh=peak["energy_wh"],
            spill_w=peak["lost_ac_limit_w"],
        )
    through = flow.column("transfer_w")
    top = int(np.argmax(np.abs(through)))
    out_sum = float(flow.column("export_w").max())
    at_lines = _lines(lines, lambda each_w: np.abs(each_w).max(axis=0))
    return RelayValues(
        moment="each one's peak in the year",
        nodes=nodes,
        backup_load_w=float(packed.ac_column("load_b_w").max()),
        other_load_w=float(packed.ac_column("load_g_w").max()),
        load_parts=_parts(("grid", float(packed.load_w.max()))),
        transfer_w=float(through[top]),
        import_w=float(flow.column("import_w").max()),
        export=_parts(("sun", out_sum)),
        held_w=float(flow.lost_w("cap").max()),
        unserved_w=float(flow.column("unserved_w").max()),
        meter_lines=at_lines[0],
        device_lines=at_lines[1],
    )


def lost_by_station(graph: PlanGraph, made: PlanFlow) -> dict[str, float]:
    """Return what each station's limit lost in the year, by the station's id of the relay line. [Wh]"""
    flow, h = made.flow, made.flow.step_h
    out: dict[str, float] = {}
    for node in graph.nodes:
        if node.id in made.pv_only:
            out[f"inverter:{node.id}"] = float(made.pv_only[node.id].clipped_ac_w.sum()) * h
        elif node.id in flow.node_ids:
            out[f"inverter:{node.id}"] = flow.node_wh(node.id, "lost_ac_limit_w")
    out["transfer"], out["grid"], out["panel"] = flow.lost_wh("device"), flow.lost_wh("cap"), flow.lost_wh("island")
    return out


def grid_down_values(graph: PlanGraph, backup_peak_w: float) -> RelayValues:
    """Return what the backup side's peak asks of the forming inverters; no drill, only the limits side by side."""
    nodes = {}
    ratings = {n.id: n.ac_rated_w if n.offgrid_va is None else n.offgrid_va for n in graph.forming}
    ratings = ratings if sum(ratings.values()) > 0 else {n.id: n.ac_rated_w for n in graph.forming}
    total = sum(ratings.values())
    for node in graph.forming:
        share = backup_peak_w * ratings[node.id] / total
        nodes[node.id] = NodeValues(out=_parts(("battery", share)), discharge_w=share)
    live = backup_peak_w if graph.forming else 0.0
    return RelayValues("grid down, the backup side at its peak of the year", nodes, live, 0.0, _parts(("battery", live)))


def generator_values(graph: PlanGraph, backup_peak_w: float) -> RelayValues:
    """Return what the backup side's peak asks of a generator, which locks AC-coupled PV out; what it lacks the inverters give."""
    given = min(backup_peak_w, graph.generator_va)
    lacking = backup_peak_w - given
    down = grid_down_values(graph, lacking)
    off = frozenset(n.id for n in graph.nodes if not n.forms_grid)
    parts = _parts(("grid", given), *(down.load_parts if graph.forming else ()))
    moment = "generator, the backup side at its peak of the year"
    return RelayValues(moment, down.nodes, given + down.backup_load_w, 0.0, parts, generator_w=given, off=off)


def drill_values(graph: PlanGraph, drill: Drill, minute: int, clock: str) -> RelayValues:
    """Return the flows of a minute of an outage."""
    course, capacity = drill.course, drill.capacity_wh
    s = dict(zip(SYSTEM, course.system[minute].tolist(), strict=True))
    served, given = float(drill.served_w[minute]), float(drill.generator_w[minute])
    nodes, off = {}, set()
    sun = given_sun = float(course.pv_w[minute])
    charge_ac = s["charge_ac_w"]
    from_set = min(1.0, given / max(1e-9, given + sun)) if given > 0 else 0.0
    for node in graph.nodes:
        shares = _shares(node.trackers)
        if node.id in drill.pv_only_w:
            ac = float(drill.pv_only_w[node.id][minute])
            nodes[node.id] = NodeValues(ac, tuple(ac * x for x in shares), _parts(("sun", ac)))
            off |= {node.id} if ac <= 0.5 else set()
            continue
        if node.id not in drill.node_ids:
            off.add(node.id)
            continue
        k = drill.node_ids.index(node.id)
        c = dict(zip(NODE, course.nodes[minute, k].tolist(), strict=True))
        from_pv = c["pv_to_inverter_w"] / max(1e-9, c["pv_to_inverter_w"] + c["discharge_w"])
        given_sun += c["ac_out_w"] * from_pv
        mix = (("grid", from_set), ("sun", (1 - from_set) if sun > 0 or given > 0 else 0.0), ("battery", 0.0))
        nodes[node.id] = NodeValues(
            pv_w=c["pv_available_w"],
            trackers_w=tuple(c["pv_available_w"] * x for x in shares),
            out=_parts(("sun", c["ac_out_w"] * from_pv), ("battery", c["ac_out_w"] * (1 - from_pv))),
            into=_parts(*((name, c["ac_in_w"] * share) for name, share in mix)),
            charge=_parts(
                ("sun", c["pv_to_battery_w"] + c["charge_from_ac_w"] * (1 - from_set)), ("grid", c["charge_from_ac_w"] * from_set)
            ),
            discharge_w=c["discharge_w"],
            soc_frac=c["energy_wh"] / capacity[k] if capacity[k] > 0 else None,
            energy_wh=c["energy_wh"],
        )
    from_generator = max(0.0, min(served, given - charge_ac * from_set))
    from_sun = max(0.0, min(served - from_generator, given_sun - charge_ac * (1 - from_set)))
    parts = _parts(("grid", from_generator), ("sun", from_sun), ("battery", served - from_generator - from_sun))
    lacking = float(drill.asked_w[minute] - drill.shed_w[minute] - served)
    return RelayValues(
        moment=clock, nodes=nodes, backup_load_w=served, load_parts=parts, unserved_w=lacking, generator_w=given,
        dark=served <= 0.5 and lacking > 1.0, off=frozenset(off),
    )  # fmt: skip


def notable_steps(made: PlanFlow, steps_per_day: int, evening: np.ndarray) -> dict[str, int]:
    """Return moments worth a look: most sun, highest evening, most clipped, most charged from the grid; by step."""
    flow, packed = made.flow, made.packed
    load = packed.load_w
    pv = packed.pv_dc.sum(axis=1) + packed.pv_only_w
    out = {"most sun": int(np.argmax(pv)), "highest evening": int(np.argmax(np.where(evening, load, 0.0)))}
    clipped = sum((o.clipped_ac_w for o in made.pv_only.values()), np.zeros(len(load)))
    for node_id in flow.node_ids:
        clipped = clipped + flow.node_column(node_id, "lost_ac_limit_w")
    if float(clipped.max()) > 1.0:
        day = int(np.argmax(clipped.reshape(-1, steps_per_day).sum(axis=1)))
        out["most clipped"] = day * steps_per_day + int(np.argmax(clipped[day * steps_per_day : (day + 1) * steps_per_day]))
    grid = flow.column("grid_to_battery_w")
    if float(grid.max()) > 1.0:
        out["grid charge"] = int(np.argmax(grid))
    return out


def _shares(trackers: tuple) -> list[float]:  # type: ignore[type-arg]
    total = sum(t.stc_w for t in trackers) or 1.0
    return [t.stc_w / total for t in trackers]


_SYSTEM_NEEDED = (
    "charge_ac_w", "pv_to_battery_w", "battery_to_battery_w", "grid_to_battery_w", "pv_to_house_w", "battery_to_house_w",
    "grid_to_house_w", "transfer_w", "import_w", "pv_to_grid_w", "battery_to_grid_w", "pv_only_lost_cap_w", "unserved_w",
)  # fmt: skip
_NODE_NEEDED = (
    "pv_available_w", "pv_to_inverter_w", "pv_to_battery_w", "charge_from_ac_w", "discharge_w", "ac_out_w", "ac_in_w",
    "energy_wh", "lost_ac_limit_w",
)  # fmt: skip
