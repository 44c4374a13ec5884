"""What the year says of each charge window: what was stored in it, what the battery began it with, what the house drew."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from calm_relay.calendar import YearCalendar, in_window
from calm_relay.job.control_models import GRID_CHARGING, Controls
from calm_relay.simulation.pack import on_days
from calm_relay.simulation.storing import loss_of
from calm_relay.simulation.tallies import add_by
from calm_relay.year.plan_flow import PlanFlow


@dataclass(frozen=True)
class NodeWindow:
    """A battery in a window on a mean day of its own: energy put into the cells, and charge when it begins. [Wh], [0 to 1]"""

    stored_wh: float
    begins_frac: float


@dataclass(frozen=True)
class WindowFacts:
    """A charge window's year.

    `house_w` is what the house draws beside PV at AC in each clock hour of the slot's days, on the mean; `import_w` the import
    limit, None where there is none; `spare_w` what PV-only inverters make beyond the house in the slot's hours, on the mean.
    """

    house_w: tuple[float, ...]
    import_w: float | None
    nodes: dict[str, NodeWindow]
    spare_w: float = 0.0

    def room_w(self, taken_w: float = 0.0) -> tuple[float, ...] | None:
        """Return what the import limit leaves for charging in each clock hour, less what others take; None: no limit. [W]"""
        return None if self.import_w is None else tuple(max(0.0, self.import_w - w - taken_w) for w in self.house_w)


def window_facts(controls: Controls, calendar: YearCalendar, made: PlanFlow) -> dict[int, WindowFacts]:
    """Return the year of every charge slot, by its place in the plan's list; steps that a later slot takes are left out."""
    flow, packed, h = made.flow, made.packed, calendar.step_h
    limit = None if math.isinf(packed.plant["import_w"]) else float(packed.plant["import_w"])
    if not any(slot.kind in GRID_CHARGING for slot in controls.slots):
        return {}
    net = flow.column("load_w") - flow.column("pv_only_w") if flow.has("pv_only_w") else flow.column("load_w")
    drawn = np.maximum(0.0, net) if flow.has("pv_only_w") else net
    hour = calendar.hour_of_clock
    out = {}
    for index, slot in enumerate(controls.slots):
        if slot.kind not in GRID_CHARGING:
            continue
        here = on_days(slot, calendar)
        house, count = np.zeros(24), np.zeros(24, np.int64)
        add_by(hour, drawn, here, house, count)
        house /= np.maximum(1, count)
        inside = here & in_window(calendar.clock_hour, slot.start_h, slot.end_h)
        begins = inside & ~np.roll(inside, 1)
        days = max(1, round(float(np.count_nonzero(here)) * h / 24.0))
        nodes = {}
        for k, node_id in enumerate(flow.node_ids):
            record = packed.nodes[k]
            if record["capacity_wh"] <= 0 or not slot.holds_for(node_id):
                continue
            here_k = packed.follows(k, index)
            steps = np.flatnonzero(here_k)
            taken = flow.node_column(node_id, "pv_to_battery_w")[steps] + flow.node_column(node_id, "charge_from_ac_w")[steps]
            before = flow.node_column(node_id, "energy_wh")[np.flatnonzero(begins & here_k) - 1]
            nodes[node_id] = NodeWindow(
                stored_wh=float(loss_of(record).arrives_w(taken).sum()) * h / days,
                begins_frac=float(before.mean()) / float(record["capacity_wh"]) if len(before) else 0.0,
            )
        spare = float(np.maximum(0.0, -net[inside]).mean()) if inside.any() else 0.0
        out[index] = WindowFacts(tuple(float(v) for v in house), limit, nodes, spare)
    return out
