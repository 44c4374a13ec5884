"""The year run to a steady end (definitions D11), and the flow table with its sums."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.blocks import Blocks
from calm_relay.simulation.columns import (
    ENERGY_COLUMNS,
    KEPT_NODE,
    KEPT_SYSTEM,
    LOSS_COLUMNS,
    NODE,
    PV_ONLY_LOSS_NAMES,
    SYSTEM,
)
from calm_relay.simulation.kept import Columns
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.storing import loss_of

Array = NDArray[np.float64]
N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)
_WHOLES = 1  # whole tables held beside what years keep


@dataclass(frozen=True, eq=False)
class Rows:
    """Steps of a plan with all their columns: `system` (steps, len(SYSTEM)), `nodes` (steps, nodes, len(NODE)). [W], [Wh]"""

    system: Array
    nodes: Array
    node_ids: tuple[str, ...]

    def column(self, name: str) -> Array:
        """Return one system column. (steps,) [W]"""
        return self.system[:, SYSTEM.index(name)]

    def node_column(self, node_id: str, name: str) -> Array:
        """Return one column of one node. (steps,) [W or Wh]"""
        return self.nodes[:, self.node_ids.index(node_id), NODE.index(name)]

    def lost_w(self, name: str) -> Array:
        """Return what one limit lost per step, by its name of `columns.LOSS_NAMES`: AC of PV-only inverters, DC of nodes. [W]"""
        return lost_w(self, name)


@dataclass(frozen=True, eq=False)
class FlowTable:
    """A plan's year, step by step. Column names: ``columns.py``.

    A few columns are kept as they were run; all others, and single days, are run again when somebody asks, from the energies that
    each block of days began with: bit for bit what was run.

    Attributes
    ----------
    node_ids : tuple of str
    start_energy_wh, start_energy_pv_wh : ndarray (nodes,)
    step_h : float
    runs : int
        Walks through the year until its end equalled the start; this table is what the last one left.
    steady : bool
    sums : ndarray (len(SYSTEM),), node_sums : ndarray (nodes, len(NODE))
        Columns summed over the steps; of the energies at the end of steps they mean nothing.
    steps_run : int
        Steps really computed, spin-up included.
    """

    node_ids: tuple[str, ...]
    start_energy_wh: Array
    start_energy_pv_wh: Array
    step_h: float
    runs: int
    steady: bool
    sums: Array
    node_sums: Array
    blocks: Blocks
    steps_run: int = 0
    assumed: frozenset[str] = field(default=frozenset())

    @property
    def steps(self) -> int:
        """How many steps the table has."""
        return self.blocks.steps.count

    @property
    def whole(self) -> Rows:
        """All steps with all columns; the last few such tables are held, whoever asked for them."""
        return _recent.get(self)

    @property
    def system(self) -> Array:
        """All system columns. (steps, len(SYSTEM)) [W]"""
        return self.whole.system

    @property
    def nodes(self) -> Array:
        """All columns of all nodes, the energies in Wh at the end of the step. (steps, nodes, len(NODE)) [W]"""
        return self.whole.nodes

    def part(self, steps: slice) -> Rows:
        """Return some steps with all their columns, for a day or a moment: run again from where their block began."""
        return Rows(*self.blocks.rows(steps), self.node_ids)

    def column(self, name: str) -> Array:
        """Return one system column. (steps,) [W]"""
        kept = self.blocks.columns
        if kept is not None and name in kept.system_names:
            found: Array = kept.table[kept.system_names.index(name)]
            return found
        return self.whole.column(name)

    def node_column(self, node_id: str, name: str) -> Array:
        """Return one column of one node. (steps,) [W or Wh]"""
        kept = self.blocks.columns
        if kept is not None and name in kept.node_names:
            place = self.node_ids.index(node_id) * len(kept.node_names) + kept.node_names.index(name)
            found: Array = kept.node_table[place]
            return found
        return self.whole.node_column(node_id, name)

    def has(self, name: str, node_id: str | None = None) -> bool:
        """Return whether a column that is never below nothing holds anything, of the plan or of a node: by the sums. [bool]"""
        if node_id is None:
            return bool(self.sums[SYSTEM.index(name)])
        return bool(self.node_sums[self.node_ids.index(node_id), NODE.index(name)])

    def lost_w(self, name: str, steps: slice = slice(None)) -> Array:
        """Return what one limit lost per step, by its name of `columns.LOSS_NAMES`: AC of PV-only inverters, DC of nodes. [W]"""
        return lost_w(self, name, steps)

    def node_wh(self, node_id: str, name: str) -> float:
        """Return the energy of one node over the run, by its column of watts, from the sums. [Wh]"""
        return float(self.node_sums[self.node_ids.index(node_id), NODE.index(name)]) * self.step_h

    def lost_wh(self, name: str) -> float:
        """Return what one limit lost in the run, by its name: from the sums, without a look at the series. [Wh]"""
        lost = float(self.node_sums[:, NODE.index(f"lost_{name}_w")].sum())
        lost += float(self.sums[SYSTEM.index(f"pv_only_lost_{name}_w")]) if name in PV_ONLY_LOSS_NAMES else 0.0
        return lost * self.step_h

    @property
    def nbytes(self) -> int:
        """Bytes held: columns that are zero all year take none."""
        return 0 if self.blocks.columns is None else self.blocks.columns.nbytes


def lost_w(table: FlowTable | Rows, name: str, steps: slice = slice(None)) -> Array:
    """Return what one limit lost in each step of a table; see `FlowTable.lost_w`. [W]"""
    total = np.zeros(len(table.column("load_w")[steps]))
    whole = table if isinstance(table, FlowTable) else None  # whose sums tell which columns are nothing
    for node_id in table.node_ids:
        if whole is None or whole.has(f"lost_{name}_w", node_id):
            total += table.node_column(node_id, f"lost_{name}_w")[steps]
    if name in PV_ONLY_LOSS_NAMES and (whole is None or whole.has(f"pv_only_lost_{name}_w")):
        total += table.column(f"pv_only_lost_{name}_w")[steps]
    return total


class _Recent:
    """The whole tables that were asked for last."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held: list[tuple[weakref.ref[FlowTable], Rows]] = []

    def get(self, flow: FlowTable) -> Rows:
        """Return a table's rows, run again where they are not held; two threads that ask at once run them once."""
        with self._lock:
            for held in self._held:
                if held[0]() is flow:
                    return held[1]
            rows = Rows(*self._of(flow), flow.node_ids)
            self._held = [*self._held[1 - _WHOLES :], (weakref.ref(flow, self._forget), rows)]
            return rows

    def _forget(self, gone: weakref.ref[FlowTable]) -> None:
        self._held = [held for held in self._held if held[0] is not gone]

    @staticmethod
    def _of(flow: FlowTable) -> tuple[Array, Array]:
        columns = Columns(flow.steps, len(flow.node_ids), SYSTEM, NODE, anew=True)
        flow.blocks.repeat(columns)
        return columns.table.T, columns.node_table.reshape(len(flow.node_ids), N_NODE, flow.steps).transpose(2, 0, 1)


_recent = _Recent()


def run_year(packed: Packed, cancelled: Callable[[], bool] = lambda: False, *, series: bool = True, threads: int = 2) -> FlowTable:
    """Run the packed steps until end energy and mix equal the start within 0.1 % of capacity; see `walks`. Raises Cancelled."""
    blocks = Blocks(packed, Columns(len(packed.ac), len(packed.nodes), KEPT_SYSTEM, KEPT_NODE) if series else None)
    runs, steady, ran = blocks.year(cancelled, threads)
    return _table(packed, blocks, runs, ran, steady=steady)


def run_case(packed: Packed, energy_wh: Array, energy_pv_wh: Array) -> FlowTable:
    """Run the packed steps once from a stated start (definitions D11)."""
    blocks = Blocks(packed, Columns(len(packed.ac), len(packed.nodes), KEPT_SYSTEM, KEPT_NODE))
    blocks.case((energy_wh, energy_pv_wh))
    return _table(packed, blocks, 1, len(packed.ac), steady=False)


def _table(packed: Packed, blocks: Blocks, runs: int, steps_run: int, *, steady: bool) -> FlowTable:
    sums, node_sums = blocks.sums()
    return FlowTable(
        node_ids=packed.node_ids,
        start_energy_wh=blocks.begins[0, 0].copy(),
        start_energy_pv_wh=blocks.begins[0, 1].copy(),
        step_h=float(packed.plant["step_h"]),
        runs=runs,
        steady=steady,
        sums=sums,
        node_sums=node_sums,
        blocks=blocks,
        steps_run=steps_run,
        assumed=packed.assumed,
    )


def year_sums_wh(flow: FlowTable) -> tuple[dict[str, float], dict[str, dict[str, float]]]:
    """Return yearly sums by column, for the plan and by node: Wh for powers; for energies the change over the year."""
    system = {name: float(v) for name, v in zip(SYSTEM, flow.sums * flow.step_h, strict=True)}
    totals = flow.node_sums * flow.step_h
    by_node: dict[str, dict[str, float]] = {}
    for k, node_id in enumerate(flow.node_ids):
        row = {name: float(v) for name, v in zip(NODE, totals[k], strict=True)}
        for name, start, end in zip(ENERGY_COLUMNS, flow.blocks.begins[0], flow.blocks.end, strict=True):
            row[name] = float(end[k] - start[k])
        by_node[node_id] = row
    return system, by_node


@dataclass(frozen=True)
class Balances:
    """Largest open balance of any step, as a share of the energy moved in that step (at least 1 W)."""

    bus: float
    battery: float
    pv: float
    origin: float

    @property
    def worst(self) -> float:
        """The largest of the four. [W/W]"""
        return max(self.bus, self.battery, self.pv, self.origin)


def open_balances(flow: FlowTable, packed: Packed) -> Balances:
    """Recompute the balances from the series: AC bus, every battery, every node's PV, and the traced flows."""
    s = {name: flow.system[:, i] for i, name in enumerate(SYSTEM)}
    node = {name: flow.nodes[:, :, i] for i, name in enumerate(NODE)}
    moved = np.maximum(1.0, s["load_w"] + s["own_draw_w"] + s["charge_ac_w"] + s["export_w"])
    out = node["ac_out_w"].sum(axis=1)
    served = s["load_w"] - s["unserved_w"]
    bus = s["pv_only_w"] + out + s["import_w"] - served - s["own_draw_w"] - s["export_w"] - node["ac_in_w"].sum(axis=1)
    traced = [
        s["pv_ac_w"] - s["pv_to_house_w"] - s["pv_to_own_w"] - s["pv_to_battery_w"] - s["pv_to_grid_w"],
        served - s["pv_to_house_w"] - s["battery_to_house_w"] - s["grid_to_house_w"],
        s["import_w"] - s["grid_to_house_w"] - s["grid_to_own_w"] - s["grid_to_battery_w"],
        s["export_w"] - s["pv_to_grid_w"] - s["battery_to_grid_w"],
        s["charge_ac_w"] - s["pv_to_battery_w"] - s["battery_to_battery_w"] - s["grid_to_battery_w"],
    ]
    origin = max(float(np.max(np.abs(t) / moved)) for t in traced)
    battery = pv = 0.0
    if flow.node_ids:
        before = np.vstack((flow.start_energy_wh[None, :], node["energy_wh"][:-1]))
        taken = node["pv_to_battery_w"] + node["charge_from_ac_w"]
        beside = node["battery_standby_w"] + node["auxiliary_w"]
        given = node["discharge_w"] + beside
        loss = loss_of(packed.nodes)
        moved_cells = loss.arrives_w(taken) - loss.leaves_w(node["discharge_w"], beside)
        change = flow.step_h * moved_cells
        held = np.where(packed.nodes["capacity_wh"] > 0, node["energy_wh"] - before - change, 0.0)
        battery = float(np.max(np.abs(held) / flow.step_h / np.maximum(1.0, taken + given)))
        used = sum(node[name] for name in ("pv_to_inverter_w", "pv_to_battery_w", "pv_standby_w", "pv_to_car_w", *LOSS_COLUMNS))
        pv = float(np.max(np.abs(node["pv_available_w"] - used) / np.maximum(1.0, node["pv_available_w"])))
    return Balances(float(np.max(np.abs(bus) / moved)), battery, pv, origin)
